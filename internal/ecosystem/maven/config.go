package maven

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

// config is what a project says to the client each time: the options in .mvn/maven.config and .mvn/jvm.config.
type config struct {
	folder      string           // the one that .mvn is in
	properties  map[string]value // with where they stand
	settings    string           // a file of settings in the project; empty for none
	environment *mavenrepo.Environment
}

var option = lazyregexp.New(`\S+`)

// readConfig reads the options for the project in a folder: those of the nearest folder upwards that has any.
func readConfig(files fs.FS, dir string) *config {
	c := &config{
		folder: dir, properties: map[string]value{},
		environment: &mavenrepo.Environment{Properties: map[string]string{}, Chosen: map[string]bool{}},
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
func (c *config) read(files fs.FS, name string) {
	name = path.Join(c.folder, ".mvn", name)
	src, err := fs.ReadFile(files, name)
	if err != nil {
		return
	}
	of := &pom{file: name, src: src}
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
			v := value{text: is, of: of}
			if end := words[i][1]; stated && is != "" {
				v.site = model.Site{File: name, Start: end - len(is), End: end, Text: is, Line: model.LineOf(src, end-len(is))}
			}
			c.properties[key] = v
			c.environment.Properties[key] = is
		case text == "-P" || text == "--activate-profiles":
			c.choose(next())
		case strings.HasPrefix(text, "-P"):
			c.choose(text[2:])
		case strings.HasPrefix(text, "--activate-profiles="):
			c.choose(strings.TrimPrefix(text, "--activate-profiles="))
		case text == "-s" || text == "--settings":
			c.settings = path.Join(c.folder, next())
		case strings.HasPrefix(text, "--settings="):
			c.settings = path.Join(c.folder, strings.TrimPrefix(text, "--settings="))
		}
	}
}

// choose takes the profiles of an option: "a,!b,-c".
func (c *config) choose(list string) {
	for name := range strings.SplitSeq(list, ",") {
		plain := strings.TrimLeft(name, "+!-")
		c.environment.Chosen[plain] = plain == strings.TrimPrefix(name, "+")
	}
}

var javaVersion = lazyregexp.New(`version "([^"]+)"`)

// within adds what the call and the machine bring: variables, and the Java that there is.
func (c *config) within(ctx context.Context, s ecosystem.Surroundings) {
	for _, pair := range s.Environ {
		if name, is, ok := strings.Cut(pair, "="); ok {
			c.environment.Properties["env."+name] = is
		}
	}
	if s.Ask == nil {
		return
	}
	if text, err := s.Ask(ctx, "java", "-version"); err == nil {
		if m := javaVersion.FindStringSubmatch(text); m != nil {
			c.environment.Java = m[1]
		}
	}
}

// readExtensions reads .mvn/extensions.xml; nil for none.
func readExtensions(files fs.FS, c *config) (*pom, error) {
	name := path.Join(c.folder, ".mvn", "extensions.xml")
	src, err := fs.ReadFile(files, name)
	if err != nil {
		return nil, nil
	}
	root, err := xmldoc.Parse(name, src)
	if err != nil {
		return nil, err
	}
	p := &pom{file: name, src: src, root: root}
	p.extensions = p.list(root, "extension")
	return p, nil
}
