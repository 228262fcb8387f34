package npm

import (
	"slices"
	"strings"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// overrides are the rules of a root manifest that put another range in the
// place of what packages ask for, after npm's documentation of package.json.
type overrides struct {
	name  string
	rng   spec   // the dependency's range that the rule is for; "" for any
	value string // the range to use; "" for none at this level
	// direct is the requirement of the project whose range is to be used, as
	// "$name" says; "" for none.
	direct  string
	follows bool // whatever version that requirement will have does
	rules   []*overrides
	site    model.Site // of the range to use
}

// following gives the rules as they are while it is open where the project's own
// requirements will be: what is to have one of those has it, whatever version.
func (o *overrides) following() *overrides {
	if o == nil {
		return nil
	}
	f := *o
	f.follows = f.direct != ""
	f.rules = nil
	for _, rule := range o.rules {
		f.rules = append(f.rules, rule.following())
	}
	return &f
}

// anyVersion is the range of all versions, pre-releases among them.
type anyVersion struct{}

// String is the range's text.
func (anyVersion) String() string { return "*" }

// Contains is true.
func (anyVersion) Contains(version.Version) bool { return true }

// readOverrides reads "overrides"; nil if there are none.
func readOverrides(m *manifest) *overrides {
	object := m.doc.Get("overrides")
	if object == nil || object.Kind != '{' || len(object.Members) == 0 {
		return nil
	}
	direct := map[string]string{}
	for _, d := range m.dependencies {
		direct[d.name] = d.spec.text
	}
	return m.rules(object, direct)
}

func (m *manifest) rules(object *jsondoc.Value, direct map[string]string) *overrides {
	o := &overrides{}
	for _, member := range object.Members {
		if member.Name == "." {
			o.lay(member.Value.String(), direct)
			o.site = member.Value.Within(m.file, m.src)
			continue
		}
		rule := &overrides{}
		if member.Value.Kind == '{' {
			rule = m.rules(member.Value, direct)
		} else {
			rule.lay(member.Value.String(), direct)
			rule.site = member.Value.Within(m.file, m.src)
		}
		name, rng := member.Name, ""
		if at := strings.LastIndex(member.Name, "@"); at > 0 {
			name, rng = member.Name[:at], member.Name[at+1:]
		}
		rule.name, rule.rng = name, readSpec(name, rng)
		o.rules = append(o.rules, rule)
	}
	return o
}

// lay sets the range to use; "$name" is that of a direct dependency.
func (o *overrides) lay(value string, direct map[string]string) {
	o.value = value
	if name, ok := strings.CutPrefix(value, "$"); ok {
		o.value, o.direct = direct[name], name
	}
}

// scope is the list of rule sets in force at a node, the outermost first.
type scope []*overrides

// rule is the rule that an edge falls under, the innermost first; nil for none.
func (s scope) rule(e edge) *overrides {
	for i := len(s) - 1; i >= 0; i-- {
		for _, rule := range s[i].rules {
			if rule.matches(e) {
				return rule
			}
		}
	}
	return nil
}

// apply gives the edge as the rules in force want it, and the scope of what
// it leads to.
func (s scope) apply(e edge) (edge, scope) {
	rule := s.rule(e)
	switch {
	case rule == nil:
		return e, s
	case rule.follows:
		e.spec = spec{kind: specRange, name: e.name, text: "$" + rule.direct, rng: anyVersion{}}
	case rule.value != "":
		e.spec = readSpec(e.name, rule.value)
	}
	if len(rule.rules) > 0 {
		return e, append(slices.Clone(s), rule)
	}
	return e, s
}

// overrules tells whether the rules in force put something else in the place of what
// an edge asks for.
func (s scope) overrules(e edge) bool {
	applied, _ := s.apply(e)
	return applied.spec.text != e.spec.text
}

func (o *overrides) matches(e edge) bool {
	if o.name != e.name {
		return false
	}
	if o.rng.text == "" || o.rng.text == e.spec.text {
		return true
	}
	return o.rng.rng != nil && e.spec.rng != nil && version.NPM{}.Intersects(o.rng.rng, e.spec.rng)
}
