package shorthand

import (
	"fmt"
	"strings"

	"bellwether/internal/standin"
)

// Gems gives the gems that lines describe, one release a line:
//
//	rack 2.0.0 hawser:>=_1,<_3 ruby:>=_2.5 on:x86_64-linux
//
// A blank in a requirement is "_"; "on" names a platform. Lines that begin with "|" are the
// changelog in the archive of the release before them.
func Gems(lines string) (standin.Gems, error) {
	all := standin.Gems{}
	var last *standin.GemRelease
	for line := range strings.Lines(lines) {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "|"); ok && last != nil {
			if last.Files == nil {
				last.Files = map[string]string{}
			}
			last.Files["CHANGELOG.md"] += strings.TrimPrefix(text, " ") + "\n"
			continue
		}
		fields := strings.Fields(line)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		last = &standin.GemRelease{Version: fields[1]}
		for _, field := range fields[2:] {
			name, rng, ok := strings.Cut(field, ":")
			if !ok {
				return nil, fmt.Errorf("%s: %q is not understood", strings.TrimSpace(line), field)
			}
			blank := strings.ReplaceAll(strings.ReplaceAll(rng, "_", " "), ",", ", ")
			switch name {
			case "on":
				last.Platform = rng
			case "ruby":
				last.Ruby = blank
			case "rubygems":
				last.RubyGems = blank
			default:
				last.Deps = append(last.Deps, standin.GemDep{Name: name, Range: spaced(blank)})
			}
		}
		all[fields[0]] = append(all[fields[0]], last)
	}
	return all, all.Pack()
}

// spaced is a requirement with a blank behind each operator: "=1.0" is "= 1.0".
func spaced(rng string) string {
	var parts []string
	for part := range strings.SplitSeq(rng, ", ") {
		bare := strings.TrimLeft(part, "=<>~!")
		if op := part[:len(part)-len(bare)]; op != "" && !strings.HasPrefix(bare, " ") {
			part = op + " " + bare
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, ", ")
}
