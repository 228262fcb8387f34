package shorthand

import (
	"fmt"
	"path"
	"strings"
	"time"

	"bellwether/internal/standin"
)

// Modules gives Go modules in a few words, one release a line:
//
//	swell.example/left v1.0.0 swell.example/right@v1.2.0 go:1.21
//
// A release requires each module that follows, and its package imports that
// module's. Other words are
//
//	req:PATH@VERSION   required, and not imported
//	test:PATH@VERSION  imported by the tests
//	sub:NAME[=IMPORT]  another package, and what it imports
//	import:PACKAGE     imported, and not required
//	go:1.20            the go line, "-" for none; 1.21 if nothing is said
//	is:PATH            what it calls itself
//	deprecated:NOTICE  retract:VERSION  nomod  empty
//
// with "_" for spaces. Releases appear one a day from 2024-01-01 on.
func Modules(lines string) (*standin.Modules, error) {
	u := standin.NewModules()
	day := time.Date(2024, 1, 1, 12, 0, 0, 0, time.UTC)
	for line := range strings.Lines(lines) {
		fields := strings.Fields(line)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		m := &shortModule{path: fields[0], name: fields[0], goVersion: "1.21", files: map[string][]byte{}}
		for _, field := range fields[2:] {
			if err := m.put(strings.ReplaceAll(field, "_", " ")); err != nil {
				return nil, fmt.Errorf("%s: %w", strings.TrimSpace(line), err)
			}
		}
		if err := u.Add(m.path, m.release(fields[1], day)); err != nil {
			return nil, err
		}
		day = day.AddDate(0, 0, 1)
	}
	return u, nil
}

type shortModule struct {
	path, name, goVersion string
	requires, retracts    []string
	imports, tests        []string
	deprecated            string
	legacy, empty         bool
	files                 map[string][]byte
}

func (m *shortModule) put(field string) error {
	kind, rest, found := strings.Cut(field, ":")
	if !found {
		switch field {
		case "nomod":
			m.legacy = true
			return nil
		case "empty":
			m.empty = true
			return nil
		}
		kind, rest = "dep", field
	}
	dep, v, _ := strings.Cut(rest, "@")
	switch kind {
	case "dep":
		m.requires, m.imports = append(m.requires, dep+" "+v), append(m.imports, dep)
	case "req":
		m.requires = append(m.requires, dep+" "+v)
	case "test":
		m.requires, m.tests = append(m.requires, dep+" "+v), append(m.tests, dep)
	case "import":
		m.imports = append(m.imports, rest)
	case "sub":
		name, what, _ := strings.Cut(rest, "=")
		m.files[name+"/"+path.Base(name)+".go"] = source(name, strings.Fields(what))
	case "go":
		m.goVersion = rest
	case "is":
		m.name = rest
	case "deprecated":
		m.deprecated = rest
	case "retract":
		m.retracts = append(m.retracts, rest)
	default:
		return fmt.Errorf("%q is not understood", field)
	}
	return nil
}

func (m *shortModule) release(v string, day time.Time) *standin.ModuleRelease {
	r := &standin.ModuleRelease{Version: v, Published: day, Files: m.files}
	if !m.empty {
		r.Files["x.go"] = source(m.path, m.imports)
	}
	if len(m.tests) > 0 {
		r.Files["x_test.go"] = source(m.path, m.tests)
	}
	if m.legacy {
		return r
	}
	var b strings.Builder
	if m.deprecated != "" {
		fmt.Fprintf(&b, "// Deprecated: %s\n", m.deprecated)
	}
	fmt.Fprintf(&b, "module %s\n", m.name)
	if m.goVersion != "-" {
		fmt.Fprintf(&b, "\ngo %s\n", m.goVersion)
	}
	for _, q := range m.requires {
		fmt.Fprintf(&b, "\nrequire %s\n", q)
	}
	for _, q := range m.retracts {
		fmt.Fprintf(&b, "\nretract %s // it leaked\n", q)
	}
	r.Mod = []byte(b.String())
	return r
}

// source is a file of a package that imports others and does nothing.
func source(pkg string, imports []string) []byte {
	var b strings.Builder
	name := path.Base(pkg)
	if strings.HasPrefix(name, "v") && strings.Trim(name[1:], "0123456789") == "" && path.Dir(pkg) != "." {
		name = path.Base(path.Dir(pkg))
	}
	name, _, _ = strings.Cut(name, ".")
	fmt.Fprintf(&b, "package %s\n\n", strings.ReplaceAll(name, "-", ""))
	for _, i := range imports {
		fmt.Fprintf(&b, "import _ %q\n", i)
	}
	return []byte(b.String())
}
