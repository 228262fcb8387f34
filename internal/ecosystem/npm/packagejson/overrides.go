package packagejson

import (
	"slices"
	"strings"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Overrides are the rules of a root manifest that put another range in the
// place of what packages ask for, after npm's documentation of package.json.
type Overrides struct {
	name  string
	rng   Spec   // the dependency's range that the rule is for; "" for any
	Value string // the range to use; "" for none at this level
	// direct is the requirement of the project whose range is to be used, as
	// "$name" says; "" for none.
	Direct  string
	follows bool // whatever version that requirement will have does
	rules   []*Overrides
	Site    model.Site // of the range to use
}

// Following gives the rules as they are while it is open where the project's own
// requirements will be: what is to have one of those has it, whatever version.
func (o *Overrides) Following() *Overrides {
	if o == nil {
		return nil
	}
	f := *o
	f.follows = f.Direct != ""
	f.rules = nil
	for _, rule := range o.rules {
		f.rules = append(f.rules, rule.Following())
	}
	return &f
}

// anyVersion is the range of all versions, pre-releases among them.
type anyVersion struct{}

// String is the range's text.
func (anyVersion) String() string { return "*" }

// Contains is true.
func (anyVersion) Contains(version.Version) bool { return true }

// ReadOverrides reads "overrides"; nil if there are none.
func ReadOverrides(m *Manifest) *Overrides {
	object := m.Doc.Get("overrides")
	if object == nil || object.Kind != '{' || len(object.Members) == 0 {
		return nil
	}
	direct := map[string]string{}
	for _, d := range m.Dependencies {
		direct[d.Name] = d.Spec.Text
	}
	return m.rules(object, direct)
}

func (m *Manifest) rules(object *jsondoc.Value, direct map[string]string) *Overrides {
	o := &Overrides{}
	for _, member := range object.Members {
		if member.Name == "." {
			o.lay(member.Value.String(), direct)
			o.Site = member.Value.Within(m.File, m.Src)
			continue
		}
		rule := &Overrides{}
		if member.Value.Kind == '{' {
			rule = m.rules(member.Value, direct)
		} else {
			rule.lay(member.Value.String(), direct)
			rule.Site = member.Value.Within(m.File, m.Src)
		}
		name, rng := member.Name, ""
		if at := strings.LastIndex(member.Name, "@"); at > 0 {
			name, rng = member.Name[:at], member.Name[at+1:]
		}
		rule.name, rule.rng = name, ReadSpec(name, rng)
		o.rules = append(o.rules, rule)
	}
	return o
}

// lay sets the range to use; "$name" is that of a direct dependency.
func (o *Overrides) lay(value string, direct map[string]string) {
	o.Value = value
	if name, ok := strings.CutPrefix(value, "$"); ok {
		o.Value, o.Direct = direct[name], name
	}
}

// Scope is the list of rule sets in force at a node, the outermost first.
type Scope []*Overrides

// Rule is the rule that an edge falls under, the innermost first; nil for none.
func (s Scope) Rule(e Edge) *Overrides {
	for i := len(s) - 1; i >= 0; i-- {
		for _, rule := range s[i].rules {
			if rule.matches(e) {
				return rule
			}
		}
	}
	return nil
}

// Apply gives the edge as the rules in force want it, and the scope of what
// it leads to.
func (s Scope) Apply(e Edge) (Edge, Scope) {
	rule := s.Rule(e)
	switch {
	case rule == nil:
		return e, s
	case rule.follows:
		e.Spec = Spec{Kind: SpecRange, Name: e.Name, Text: "$" + rule.Direct, Range: anyVersion{}}
	case rule.Value != "":
		e.Spec = ReadSpec(e.Name, rule.Value)
	}
	if len(rule.rules) > 0 {
		return e, append(slices.Clone(s), rule)
	}
	return e, s
}

// Overrules tells whether the rules in force put something else in the place of what
// an edge asks for.
func (s Scope) Overrules(e Edge) bool {
	applied, _ := s.Apply(e)
	return applied.Spec.Text != e.Spec.Text
}

func (o *Overrides) matches(e Edge) bool {
	if o.name != e.Name {
		return false
	}
	if o.rng.Text == "" || o.rng.Text == e.Spec.Text {
		return true
	}
	return o.rng.Range != nil && e.Spec.Range != nil && version.NPM{}.Intersects(o.rng.Range, e.Spec.Range)
}
