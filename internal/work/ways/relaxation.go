package ways

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/work/world"
)

// The costs of relaxations. Those of several are added. What keeps all that is there and
// reaches all that is asked for is cheapest; going back is dearest.
const (
	costRaise = 10
	// CostRelease is that of something that was held and moves.
	CostRelease = 12 // something that was held moves
	costApart   = 15 // members of a workspace are at several versions
	costWithin  = 18 // a requirement goes whose successor is there already
	costBecome  = 20 // a requirement goes on as another package
	costState   = 22 // a requirement states its version itself, which a list stated for it
	costDrop    = 25 // a requirement goes
	costPreview = 30
	costBranch  = 35 // something is taken that is not released
	costLower   = 40 // a destination is reached only in part
	costWiden   = 42 // a requirement goes outside of what its manifest asks for
	costAgainst = 60 // a package is used with what it says it cannot do with
	costDown    = 70
	costWithout = 80 // a destination is given up
	costFarDown = 90 // over more than a major
)

// relaxation is a change of what was asked for that may make a way.
type relaxation struct {
	text    string // a clause; %s in it stands for where subject goes
	option  string // %s likewise
	risk    string
	cost    int
	about   string // the requirement whose move is told
	from    string // where that is
	tells   string // a requirement whose move is told without its version
	reads   bool   // a source that may not be there, or not be read
	raises  bool   // a runtime, which a route may do by itself
	givesUp bool   // part of what was asked for
	kind    string // the same for changes of which one includes the other; empty for none
	relax   func(g *contract.Goal)
	take    func(r *world.Request, to string)
	low     version.Version // below which it goes down; nil for what cannot
}

// relaxations are the changes that may help against the conflicts so far, in the
// order of their costs.
func (f *finder) relaxations() []relaxation {
	var all []relaxation
	asked := func(name string) bool {
		return slices.ContainsFunc(f.plan.Wishes, func(w route.Wish) bool { return w.Name == name })
	}
	wishes := f.wishes()
	for _, wish := range wishes {
		all = append(all, f.lower(wish)...)
	}
	for _, name := range f.met {
		s := f.subject(name)
		if s != nil && s.At == nil && !asked(name) && !s.Runtime {
			all = append(all, f.widen(s))
		}
		if s != nil && s.At != nil {
			if newest := s.Releases[len(s.Releases)-1]; !s.Previews && newest.Preview() && newest.Compare(s.At) > 0 {
				all = append(all, f.preview(s))
			}
			if s.Held {
				all = append(all, f.release(s))
			}
			if !asked(name) && !s.Held && !s.Runtime {
				if x := f.doWithout(s); x != nil {
					all = append(all, *x)
				}
				all = append(all, f.down(s))
				if len(f.no.Ways) == 0 && f.farther {
					all = append(all, f.farDown(s))
				}
			}
		}
	}
	for _, wish := range wishes {
		s := f.subject(wish.Name)
		if s == nil || s.At == nil {
			continue
		}
		if f.part.Eco.Supports().Apart && len(f.part.Find(nameOf(wish.Name))) > 1 {
			all = append(all, f.apart(wish, s))
		}
		tried := map[string]bool{}
		for _, q := range f.part.Requirements {
			if !tried[q.Name] && f.sharePlace(wish.Name, q.Name) {
				tried[q.Name] = true
				all = append(all, f.byItself(wish, s, q.Name))
			}
		}
	}
	for _, b := range f.branches {
		if s := f.subject(b.name); s != nil && s.At != nil && !asked(b.name) {
			all = append(all, f.branch(b, s.At.String()))
		}
	}
	for _, s := range f.sources {
		if slices.Contains(f.met, s.Of) && !asked(s.Of) {
			all = append(all, f.source(s))
		}
	}
	all = append(all, f.stating...)
	for _, pair := range f.asks {
		if x := f.override(nameOf(pair[0]), nameOf(pair[1])); x != nil {
			all = append(all, *x)
		}
	}
	for _, c := range f.plan.Replaceable {
		if slices.Contains(f.met, c.Old) {
			all = append(all, f.become(c))
		}
	}
	for _, r := range f.part.Requirements {
		if r.Subject.Kind == "runtime" && !asked(r.Name) {
			all = append(all, f.raise(r))
		}
	}
	if len(wishes) > 1 {
		for _, wish := range wishes {
			all = append(all, f.without(wish))
		}
	}
	slices.SortStableFunc(all, func(a, b relaxation) int { return a.cost - b.cost })
	return all
}

// subject is a requirement as it was before the plan moved it, nil if it is none
// that can move.
func (f *finder) subject(name string) *route.Subject {
	for _, s := range f.plan.Subjects {
		if s.Name == name && len(s.Releases) > 0 {
			before := *s
			before.At, _ = f.order.Parse(f.part.LockedAt(name))
			return &before
		}
	}
	return nil
}

// wishes are what was asked for, each once, though it may be about several declarations.
func (f *finder) wishes() (all []route.Wish) {
	for _, w := range f.plan.Wishes {
		if !slices.ContainsFunc(all, func(o route.Wish) bool { return o.Text == w.Text }) {
			all = append(all, w)
		}
	}
	return all
}

// keys are those of the declarations that a wish is about.
func (f *finder) keys(wish route.Wish) (keys []string) {
	for _, w := range f.plan.Wishes {
		if w.Text == wish.Text {
			keys = append(keys, w.Name)
		}
	}
	return keys
}

// asked is how a wish speaks of what it is about: by its key, or by its name where it is about several declarations.
func (f *finder) asked(wish route.Wish) string {
	if len(f.keys(wish)) > 1 {
		return nameOf(wish.Name)
	}
	return wish.Name
}

// nameOf is what manifests call what a key is about.
func nameOf(key string) string {
	_, name := model.Parted(key)
	return name
}

func upFrom(at version.Version) func(version.Version) bool {
	return func(v version.Version) bool { return v.Compare(at) >= 0 && !v.Preview() }
}

func (f *finder) lower(wish route.Wish) []relaxation {
	s := f.subject(wish.Name)
	if s == nil || s.At == nil {
		return nil
	}
	called := f.asked(wish)
	return []relaxation{{
		text: "settle for " + model.Spoken(called) + " %s, the newest that goes with the rest", option: "--to " + called + "@%s", cost: costLower,
		givesUp: true, about: wish.Name, from: s.At.String(),
		relax: func(g *contract.Goal) {
			for _, key := range f.keys(wish) {
				if s := f.subject(key); s != nil && s.At != nil {
					g.Bounds[key] = contract.Bound{Allow: upFrom(s.At), Newest: true, Why: s.String() + " may be at any later version"}
				}
			}
		},
		take: func(o *world.Request, to string) {
			for i, text := range o.To {
				if text == wish.Text {
					o.To[i] = called + "@" + to
				}
			}
		},
	}}
}

func (f *finder) preview(s *route.Subject) relaxation {
	return relaxation{
		text: "allow pre-releases of " + s.String() + ", which goes to %s", option: "--preview " + nameOf(s.Name), cost: costPreview,
		about: s.Name, from: s.At.String(),
		risk:  "a pre-release may change before it is released",
		relax: func(g *contract.Goal) { g.Previews = append(g.Previews, nameOf(s.Name)) },
		take:  func(r *world.Request, _ string) { r.Previews = append(r.Previews, nameOf(s.Name)) },
	}
}

func (f *finder) release(s *route.Subject) relaxation {
	return relaxation{
		text: "let " + s.String() + " move, to %s", option: "without --hold " + s.Name, cost: CostRelease, about: s.Name, from: s.At.String(),
		relax: func(g *contract.Goal) { delete(g.Bounds, s.Name) },
		take: func(o *world.Request, _ string) {
			o.Hold = slices.DeleteFunc(o.Hold, func(name string) bool { return name == s.Name })
		},
	}
}

// down lets a requirement go back in its line, or to the one before it, to what was made
// for what it is to meet: the peers that it wants now it wants there, too.
func (f *finder) down(s *route.Subject) relaxation {
	before := ""
	for _, v := range s.Releases {
		if v.Compare(s.At) < 0 && v.Line() != s.At.Line() && !v.Preview() {
			before = v.Line()
		}
	}
	return f.goingDown(s, costDown, "what was fixed since then is no longer fixed", func(v version.Version) bool {
		return (v.Line() == s.At.Line() || v.Line() == before) && f.meetsAsMuch(s, v)
	})
}

// farDown lets a requirement go back as far as it takes.
func (f *finder) farDown(s *route.Subject) relaxation {
	x := f.goingDown(
		s, costFarDown, "it is a much older one, and nothing says that it was made for this", func(version.Version) bool { return true },
	)
	x.text = "let " + s.String() + " go far down, to %s"
	return x
}

func (f *finder) goingDown(s *route.Subject, cost int, risk string, allow func(version.Version) bool) relaxation {
	return relaxation{
		text: "let " + s.String() + " go down, to %s", option: "--allow-down " + s.Name, cost: cost,
		about: s.Name, from: s.At.String(), risk: risk,
		relax: func(g *contract.Goal) {
			g.Bounds[s.Name] = contract.Bound{
				Allow: func(v version.Version) bool { return !v.Preview() && (v.Compare(s.At) >= 0 || allow(v)) }, Why: s.String() + " may go down",
			}
		},
		take: func(o *world.Request, _ string) { o.AllowDown = append(o.AllowDown, s.Name) },
	}
}

// meetsAsMuch tells whether a release wants to meet all that the present one does and
// conflicts are about. One that wants nothing yet only seems to go with everything.
func (f *finder) meetsAsMuch(s *route.Subject, v version.Version) bool {
	wants := s.PeersAt(v)
	for _, pair := range f.asks {
		if pair[0] == s.Name && slices.Contains(s.PeersAt(s.At), pair[1]) && !slices.Contains(wants, pair[1]) {
			return false
		}
	}
	return true
}

// widen lets a requirement that is not locked go outside of the range that its
// manifest asks for.
func (f *finder) widen(s *route.Subject) relaxation {
	var low version.Version
	var asks model.Requirement
	for _, asks = range slices.Backward(f.part.Find(s.Name)) {
		if rng, err := f.order.ParseRange(asks.Range); err == nil {
			if bounds := version.Bounds(f.order, rng); len(bounds) > 0 {
				low = bounds[0]
			}
		}
	}
	return relaxation{
		low: low,
		text: fmt.Sprintf(
			"ask for another %s than %s, which is then %%s (%s)", nameOf(s.Name), asks.Range, asks.Site,
		), option: "--to " + s.Name + "@%s", cost: costWiden, about: s.Name,
		relax: func(g *contract.Goal) {
			g.Bounds[s.Name] = contract.Bound{
				Allow: func(v version.Version) bool { return !v.Preview() }, Newest: true, Why: s.String() + " may be at any version",
			}
		},
		take: func(o *world.Request, to string) { o.To = append(o.To, s.Name+"@"+to) },
	}
}

// apart leaves members of a workspace behind which cannot go along, with versions of their
// own of what several members have and conflicts are about.
func (f *finder) apart(wish route.Wish, s *route.Subject) relaxation {
	names := []string{nameOf(wish.Name)}
	for _, key := range f.met {
		if name := nameOf(key); !slices.Contains(names, name) && f.subject(key) != nil && len(f.part.Find(name)) > 1 {
			names = append(names, name)
		}
	}
	return relaxation{
		text: "let those stay behind that cannot go along, and have " +
			"a " + names[0] + " of their own; the others go to %s", option: "--apart " + strings.Join(names, ","),
		kind: "apart " + names[0], cost: costApart, about: wish.Name, from: s.At.String(),
		risk:  "two versions of it are in use in one workspace",
		relax: func(g *contract.Goal) { g.Apart = append(g.Apart, names...) },
		take:  func(o *world.Request, _ string) { o.Apart = append(o.Apart, names...) },
	}
}

// sharePlace tells whether one place states the versions of two packages.
func (f *finder) sharePlace(a, b string) bool {
	return a != b && slices.ContainsFunc(f.part.Find(a), func(q model.Requirement) bool {
		return q.Site.End > q.Site.Start && slices.ContainsFunc(f.part.Find(b), func(o model.Requirement) bool {
			return o.Site.File == q.Site.File && o.Site.Start == q.Site.Start
		})
	})
}

// byItself lets a package state its version itself, which one place states for it and others.
func (f *finder) byItself(wish route.Wish, s *route.Subject, name string) relaxation {
	return relaxation{
		text: "have " + name + " state its version by itself; " + model.Spoken(wish.Name) + " goes to %s", option: "--apart " + name,
		kind: "by itself " + name, cost: costApart, about: wish.Name, from: s.At.String(),
		relax: func(g *contract.Goal) { g.Apart = append(g.Apart, name) },
		take:  func(o *world.Request, _ string) { o.Apart = append(o.Apart, name) },
	}
}

// override uses a package with what it says it cannot do with, where a manifest
// can say so.
func (f *finder) override(of, name string) *relaxation {
	inRoot := func(r model.Requirement) bool { return r.Site.File == f.part.Manifest }
	if !f.part.CanOverride() || !slices.ContainsFunc(f.part.Find(name), inRoot) {
		return nil // the project itself has none
	}
	return &relaxation{
		text: fmt.Sprintf(
			"let %s have the project's own %s, whatever it asks for", of, name,
		), option: "--override " + of + ":" + name, cost: costAgainst,
		risk:  "it was not made for that; nothing but your tests tells whether it works",
		relax: func(g *contract.Goal) { g.Overrides = append(g.Overrides, model.Override{Of: of, Name: name}) },
		take:  func(o *world.Request, _ string) { o.Override = append(o.Override, of+":"+name) },
	}
}

// become takes the package that a requirement goes on as.
func (f *finder) become(c contract.Change) relaxation {
	return relaxation{
		text: fmt.Sprintf(
			"go on with %s in the place of %s", c.New, c.Old,
		), option: "--to " + c.New + "@" + c.Range, cost: costBecome, tells: c.Old,
		risk:  "what your code imports has another name then",
		relax: func(g *contract.Goal) { g.Changes = append(g.Changes, c) },
		take:  func(o *world.Request, _ string) { o.To = append(o.To, c.New+"@"+c.Range) },
	}
}

func (f *finder) raise(r model.Requirement) relaxation {
	x := relaxation{
		text: fmt.Sprintf(
			"raise %s from %s to %%s (%s)", r.Name, r.Locked, r.Site,
		), option: "--to " + r.Name + "@%s", cost: costRaise, raises: true, about: r.Name, from: r.Locked,
		risk:  "whoever runs or uses it needs that, too",
		relax: func(*contract.Goal) {},
		take:  func(o *world.Request, to string) { o.To = append(o.To, r.Name+"@"+lineOf(f.order, to)) },
	}
	if at, err := f.order.Parse(r.Locked); err == nil {
		x.relax = func(g *contract.Goal) {
			g.Bounds[r.Name] = contract.Bound{Allow: upFrom(at), Why: r.Name + " may be raised"}
		}
	}
	return x
}

func (f *finder) without(wish route.Wish) relaxation {
	return relaxation{
		text: "give up this destination, and go to the others", option: "without --to " + wish.Text,
		cost: costWithout, givesUp: true,
		relax: func(g *contract.Goal) {
			for _, key := range f.keys(wish) {
				delete(g.Bounds, key)
				g.First = slices.DeleteFunc(g.First, func(name string) bool { return name == key })
			}
		},
		take: func(o *world.Request, _ string) {
			o.To = slices.DeleteFunc(o.To, func(text string) bool { return text == wish.Text })
		},
	}
}
