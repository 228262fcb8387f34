package shorthand

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"bellwether/internal/standin"
)

// Gems gives the gems that lines describe, one release a line:
//
//	rack 2.0.0 hawser:>=_1,<_3 ruby:>=_2.5 on:x86_64-linux
//
// A blank in a requirement is "_"; "on" names a platform.
func Gems(lines string) (standin.Gems, error) {
	all := standin.Gems{}
	for line := range strings.Lines(lines) {
		fields := strings.Fields(line)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		release, needs := fields[1], ""
		var deps []string
		for _, field := range fields[2:] {
			name, rng, ok := strings.Cut(field, ":")
			if !ok {
				return nil, fmt.Errorf("%s: %q is not understood", strings.TrimSpace(line), field)
			}
			rng = strings.ReplaceAll(strings.ReplaceAll(rng, "_", " "), ",", "&")
			switch name {
			case "on":
				release += "-" + strings.ReplaceAll(rng, " ", "_")
			case "ruby", "rubygems":
				needs += "," + name + ":" + rng
			default:
				deps = append(deps, name+":"+rng)
			}
		}
		sum := sha256.Sum256([]byte(fields[0] + release))
		all[fields[0]] = append(
			all[fields[0]],
			fmt.Sprintf("%s %s|checksum:%s%s", release, strings.Join(deps, ","), hex.EncodeToString(sum[:]), needs),
		)
	}
	return all, nil
}
