package registry

import (
	"encoding/base64"
	"encoding/hex"
)

// shasumIntegrity writes an old registry's hexadecimal SHA-1 in the form of
// Subresource Integrity (W3C), as lock files do.
func shasumIntegrity(shasum string) string {
	sum, err := hex.DecodeString(shasum)
	if err != nil {
		return ""
	}
	return "sha1-" + base64.StdEncoding.EncodeToString(sum)
}
