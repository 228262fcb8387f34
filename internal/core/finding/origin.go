package finding

import (
	"strings"
	"sync"

	"bellwether/internal/core/lazyregexp"
)

// origin is where a package manager puts the packages that it installs. The first
// group of the pattern is the package's name, the second its version, if the
// path has it.
type origin struct {
	mark string // that a path has in any case
	name *lazyregexp.Regexp
	is   func(name string) string // the name as the ecosystem writes it; nil for as it is
}

// origins are the folders of packages, after the documentation of each client. In
// a path with several, the last one counts: what lies below another package.
var origins = sync.OnceValue(func() []origin {
	return []origin{
		{mark: "node_modules/", name: lazyregexp.New(`.*node_modules/((?:@[^/\s]+/)?[^/\s:@]+)()`)},
		{mark: "/pkg/mod/", name: lazyregexp.New(`.*/pkg/mod/([^@\s]+)@([^/\s]+)`), is: unescaped},
		{mark: "site-packages/", name: lazyregexp.New(`.*site-packages/([^/\s.]+)()`)},
		{mark: "dist-packages/", name: lazyregexp.New(`.*dist-packages/([^/\s.]+)()`)},
		{mark: "/gems/", name: lazyregexp.New(`.*/gems/([\w.-]+?)-(\d[\w.]*)(?:-[\w-]+)?/`)},
		{mark: "/registry/src/", name: lazyregexp.New(`.*/registry/src/[^/]+/([\w-]+?)-(\d[\w.+-]*)/`)},
		{mark: ".m2/repository/", name: lazyregexp.New(`.*\.m2/repository/(?:[\w.-]+/)+?([\w.-]+)/(\d[\w.-]*)/`)},
		{
			mark: "/files-2.1/", name: lazyregexp.New(`.*/files-2\.1/([\w.-]+/[\w.-]+)/([\w.-]+)/`),
			is: func(n string) string { return strings.Replace(n, "/", ":", 1) },
		},
		{mark: ".nuget/packages/", name: lazyregexp.New(`.*\.nuget/packages/([\w.-]+)/(\d[\w.-]*)/`)},
		{mark: "vendor/", name: lazyregexp.New(`(?:.*/|^)vendor/([\w-]+/[\w.-]+)/()\S+\.php`)},
		{mark: "deps/", name: lazyregexp.New(`(?:.*/|^)deps/(\w+)/()\S+\.(?:exs?|erl)`)},
	}
})

// PackageOf is the package that a path lies in, "" for none.
func PackageOf(path string) (name, version string) {
	path = strings.ReplaceAll(path, "\\", "/")
	for _, o := range origins() {
		if !strings.Contains(path, o.mark) {
			continue
		}
		if m := o.name.FindStringSubmatch(path); m != nil {
			if name = m[1]; o.is != nil {
				name = o.is(name)
			}
			return name, m[2]
		}
	}
	return "", ""
}

// capital is how the module cache writes a capital letter (Go Modules Reference,
// "Module cache").
var capital = lazyregexp.New(`!([a-z])`)

func unescaped(module string) string {
	return capital.ReplaceAllStringFunc(module, func(s string) string { return strings.ToUpper(s[1:]) })
}

// InRuntime tells whether a place of a stack lies in a language's runtime, which is
// nobody's package.
func InRuntime(path string) bool {
	for _, mark := range []string{
		"node:", "internal/modules", "/usr/lib/", "/usr/local/go/src/", "/go/src/", "/lib/python", "<internal:", "<frozen", "/rustc/",
		"<anonymous>", "native code", "java.base/", "/usr/local/lib/ruby/3", "evalmachine", "[eval", "<string>", "<stdin>",
	} {
		if strings.Contains(path, mark) {
			return true
		}
	}
	return false
}
