package pin

import (
	"regexp"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
)

var (
	levelOf      = lazyregexp.New(`<(?:maven\.compiler\.(?:release|source|target)|release|source|target)>\s*\$\{([\w.-]+)\}\s*<`)
	javaOfFlavor = lazyregexp.New(`-(?:jdk|jre|openjdk|temurin|corretto|amazoncorretto|sapmachine|semeru|zulu)-?([0-9]+)(?:[.-]|$)`)
)

// levelByProperty reads the Java that a pom compiles for where a property of its own choosing states it.
func levelByProperty(f *file) {
	for _, m := range levelOf.FindAllSubmatch(f.src, -1) {
		name := string(m[1])
		if name == "java.version" {
			continue // which is known by its name
		}
		stated := regexp.MustCompile(`<` + regexp.QuoteMeta(name) + `>\s*([0-9][0-9.]*)\s*</` + regexp.QuoteMeta(name) + `>`)
		if at := stated.FindSubmatchIndex(f.src); at != nil {
			f.add(model.Subject{Kind: "runtime", Name: "java"}, at[2], at[3], atLeast)
		}
	}
}

// javaOfImage notes the Java that an image of a build tool or server brings, by its tag: "3.9-eclipse-temurin-17".
func (f *file) javaOfImage(t traced, tag int, options ...option) {
	m := javaOfFlavor.FindStringSubmatchIndex(t.text[tag:])
	if m == nil {
		return
	}
	if from, to, ok := t.cut(tag+m[2], tag+m[3]).place(); ok {
		f.add(model.Subject{Kind: "runtime", Name: "java"}, from, to, options...)
	}
}
