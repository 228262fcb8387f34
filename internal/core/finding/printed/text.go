package printed

import (
	"strings"
)

// plain drops terminal control sequences (ECMA-48).
func plain(line string) string {
	if strings.IndexByte(line, 0x1b) < 0 {
		return line
	}
	var b strings.Builder
	for i := 0; i < len(line); i++ {
		if line[i] != 0x1b {
			b.WriteByte(line[i])
			continue
		}
		if i+1 < len(line) && line[i+1] == '[' {
			for i += 2; i < len(line) && (line[i] < 0x40 || line[i] > 0x7e); i++ {
			}
		}
	}
	return b.String()
}
