package pin

import (
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
)

// rubyLine is the line of a Gemfile that states the Ruby; literal is one of its requirements.
var (
	rubyLine = lazyregexp.New(`(?m)^[ \t]*ruby[ \t(]+(?P<all>["'][^"'\n]+["'](?:[ \t]*,[ \t]*["'][^"'\n]+["'])*)`)
	literal  = lazyregexp.New(`["'](?P<version>[^"']+)["']`)
)

// gemfileRuby reads the Ruby that a Gemfile asks for: one version or range. Several requirements in one line are told, and left.
func gemfileRuby(f *file) {
	ruby := model.Subject{Kind: "runtime", Name: "ruby"}
	for _, m := range rubyLine.FindAllSubmatchIndex(f.src, -1) {
		start, end := m[2], m[3]
		all := literal.FindAllSubmatchIndex(f.src[start:end], -1)
		if len(all) == 1 {
			f.add(ruby, start+all[0][2], start+all[0][3])
			continue
		}
		f.unknown(ruby, start, end, "several requirements stand there")
	}
}
