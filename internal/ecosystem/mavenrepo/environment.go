package mavenrepo

import (
	"runtime"
	"strings"

	"bellwether/internal/core/version"
	"bellwether/internal/core/xmldoc"
)

// Environment is what decides which profiles are active (Maven: Introduction to Build Profiles).
type Environment struct {
	Java       string            // the version of the Java that Maven runs on; empty for not known
	Properties map[string]string // those of the call, and of its environment as "env.NAME"
	Chosen     map[string]bool   // profiles that the call names: true for those it wants, false for those it does not
}

// Active are the profiles of a list that are active. What is active by default is so only as long as no other one
// is. Exists tells whether a file is there, nil for nowhere to look.
func (e *Environment) Active(profiles []*xmldoc.Element, exists func(file string) bool) []*xmldoc.Element {
	var active, byDefault []*xmldoc.Element
	for _, p := range profiles {
		wanted, named := e.Chosen[p.Value("id")]
		activation := p.Child("activation")
		switch {
		case named && !wanted:
		case wanted || e.meets(activation, exists):
			active = append(active, p)
		case activation.Value("activeByDefault") == "true":
			byDefault = append(byDefault, p)
		}
	}
	if len(active) == 0 {
		return byDefault
	}
	return active
}

// meets tells whether all that an activation asks for is so; one that asks for nothing is not met.
func (e *Environment) meets(activation *xmldoc.Element, exists func(file string) bool) bool {
	conditions := 0
	holds := func(is bool) bool {
		conditions++
		return is
	}
	if jdk := activation.Value("jdk"); jdk != "" && !holds(e.java(jdk)) {
		return false
	}
	if p := activation.Child("property"); p != nil && !holds(e.property(p.Value("name"), p.Value("value"))) {
		return false
	}
	if s := activation.Child("os"); s != nil && !holds(onSystem(s)) {
		return false
	}
	if f := activation.Child("file"); f != nil {
		there, missing := f.Value("exists"), f.Value("missing")
		if exists == nil || there != "" && !holds(exists(there)) || missing != "" && !holds(!exists(missing)) {
			return false
		}
	}
	return conditions > 0
}

// java tells whether a condition holds for the version of Java: a range, or how it begins.
func (e *Environment) java(want string) bool {
	if e.Java == "" {
		return false
	}
	if strings.ContainsAny(want[:1], "[(") {
		rng, err := version.Maven{}.ParseRange(want)
		is, _ := version.Maven{}.Parse(e.Java)
		return err == nil && rng.Contains(is)
	}
	start, not := strings.CutPrefix(want, "!")
	return strings.HasPrefix(e.Java, start) != not
}

// property tells whether a property is there, or has a value; an exclamation mark turns either round.
func (e *Environment) property(name, value string) bool {
	name, absent := strings.CutPrefix(name, "!")
	is, there := e.Properties[name]
	if value == "" {
		return there != absent
	}
	value, other := strings.CutPrefix(value, "!")
	return (is == value) != other
}

// systems are what Java calls systems, and the families that they are of.
var systems = map[string]struct {
	name     string
	families []string
}{
	"linux": {
		"linux",
		[]string{"unix"},
	}, "darwin": {"mac os x", []string{"unix", "mac"}}, "windows": {"windows", []string{"windows", "dos"}},
}

// onSystem tells whether a condition holds for this machine. What is asked of a system's version never does.
func onSystem(want *xmldoc.Element) bool {
	here := systems[runtime.GOOS]
	holds := func(text string, is ...string) bool {
		text, not := strings.CutPrefix(strings.ToLower(text), "!")
		found := text == ""
		for _, one := range is {
			found = found || text == one || text == "windows" && strings.HasPrefix(one, text)
		}
		return found != not
	}
	arch := runtime.GOARCH
	if arch == "arm64" {
		arch = "aarch64"
	}
	return holds(want.Value("name"), here.name) && holds(want.Value("family"), here.families...) && holds(want.Value("arch"), arch) &&
		want.Value("version") == ""
}
