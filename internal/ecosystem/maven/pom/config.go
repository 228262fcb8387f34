package pom

import (
	"context"
	"io/fs"
	"path"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Config is what a project says to the client each time: the options in .mvn/maven.config and .mvn/jvm.config.
type Config struct {
	folder      string           // the one that .mvn is in
	properties  map[string]Value // with where they stand
	Settings    string           // a file of settings in the project; empty for none
	Environment *mavenrepo.Environment
}

var option = lazyregexp.New(`\S+`)

// ReadConfig reads the options for the project in a folder: those of the nearest folder upwards that has any.
func ReadConfig(files fs.FS, dir string) *Config {
	c := &Config{
		folder: dir, properties: map[string]Value{},
		Environment: &mavenrepo.Environment{Properties: map[string]string{}, Chosen: map[string]bool{}},
	}
	for at := dir; ; at = path.Dir(at) {
		if info, err := fs.Stat(files, path.Join(at, ".mvn")); err == nil && info.IsDir() {
			c.folder = at
			c.read(files, "jvm.config")
			c.read(files, "maven.config")
			return c
		}
		if at == "." {
			return c
		}
	}
}

// read takes the options of a file, as the client splits them.
func (c *Config) read(files fs.FS, name string) {
	name = path.Join(c.folder, ".mvn", name)
	src, err := fs.ReadFile(files, name)
	if err != nil {
		return
	}
	of := &Pom{File: name, Src: src}
	words := option.FindAllIndex(src, -1)
	for i := 0; i < len(words); i++ {
		text := string(src[words[i][0]:words[i][1]])
		// An option's value may be the next word.
		next := func() string {
			if i++; i < len(words) {
				return string(src[words[i][0]:words[i][1]])
			}
			return ""
		}
		switch {
		case strings.HasPrefix(text, "-D"):
			key, is, stated := strings.Cut(text[2:], "=")
			v := Value{Text: is, Of: of}
			if end := words[i][1]; stated && is != "" {
				v.Site = model.Site{File: name, Start: end - len(is), End: end, Text: is, Line: model.LineOf(src, end-len(is))}
			}
			c.properties[key] = v
			c.Environment.Properties[key] = is
		case text == "-P" || text == "--activate-profiles":
			c.choose(next())
		case strings.HasPrefix(text, "-P"):
			c.choose(text[2:])
		case strings.HasPrefix(text, "--activate-profiles="):
			c.choose(strings.TrimPrefix(text, "--activate-profiles="))
		case text == "-s" || text == "--settings":
			c.Settings = path.Join(c.folder, next())
		case strings.HasPrefix(text, "--settings="):
			c.Settings = path.Join(c.folder, strings.TrimPrefix(text, "--settings="))
		}
	}
}

// choose takes the profiles of an option: "a,!b,-c".
func (c *Config) choose(list string) {
	for name := range strings.SplitSeq(list, ",") {
		plain := strings.TrimLeft(name, "+!-")
		c.Environment.Chosen[plain] = plain == strings.TrimPrefix(name, "+")
	}
}

var javaVersion = lazyregexp.New(`version "([^"]+)"`)

// Within adds what the call and the machine bring: variables, and the Java that there is.
func (c *Config) Within(ctx context.Context, s ecosystem.Surroundings) {
	for _, pair := range s.Environ {
		if name, is, ok := strings.Cut(pair, "="); ok {
			c.Environment.Properties["env."+name] = is
		}
	}
	if s.Ask == nil {
		return
	}
	if text, err := s.Ask(ctx, "java", "-version"); err == nil {
		if m := javaVersion.FindStringSubmatch(text); m != nil {
			c.Environment.Java = m[1]
		}
	}
}

// ReadExtensions reads .mvn/extensions.xml; nil for none.
func ReadExtensions(files fs.FS, c *Config) (*Pom, error) {
	name := path.Join(c.folder, ".mvn", "extensions.xml")
	src, err := fs.ReadFile(files, name)
	if err != nil {
		return nil, nil
	}
	root, err := xmldoc.Parse(name, src)
	if err != nil {
		return nil, err
	}
	p := &Pom{File: name, Src: src, Root: root}
	p.Extensions = p.list(root, "extension")
	return p, nil
}
