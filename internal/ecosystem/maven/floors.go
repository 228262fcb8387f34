package maven

import (
	"context"
	"errors"
	"slices"
	"strings"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/mavenrepo"
)

// floors are the versions that a release asks for of packages which the project itself states, or which come with
// one of those at its version: Maven gives it lower ones without a word. What is below already does not count.
func (x index) floors(ctx context.Context, name, release string) (needs []flat.Need, err error) {
	stated := map[string]string{} // of the others, at present
	present := ""
	for _, q := range x.component.Requirements {
		switch {
		case q.Fixed != "" || q.Locked == "":
		case q.Name == name:
			present = q.Locked
		default:
			stated[q.Name] = q.Locked
		}
	}
	if present == release || len(stated) == 0 {
		return nil, nil
	}
	now, err := x.asksFor(ctx, name, release)
	if err != nil {
		return nil, err
	}
	before, err := x.asksFor(ctx, name, present)
	if err != nil {
		return nil, err
	}
	for _, asked := range now.order {
		other := asked
		if _, itself := stated[asked]; !itself {
			other = x.along[asked]
		}
		low, known := stated[other]
		was, before := before.wants[asked]
		if !known || before && mavenrepo.Compare(low, was) < 0 {
			continue
		}
		floor, err := version.Maven{}.Parse(now.wants[asked])
		if err != nil {
			return nil, err
		}
		text := asked + " " + now.wants[asked] + " or newer"
		if other != asked {
			text += ", which comes with " + other
		}
		needs = append(needs, flat.Need{
			Sense:   flat.IfPresent,
			Options: []flat.Option{{Key: flat.Key{Name: other}, Allows: func(v version.Version) bool { return v.Compare(floor) >= 0 }}},
			Text:    text,
		})
	}
	return needs, nil
}

// along tells of packages which the project does not state that they come with one which it does, of the same group
// and at the same version. They are released together, so that the one can be moved by the other. It is remembered, since
// a component is resolved many times.
func (r *registry) along(ctx context.Context, c *model.Component) (map[string]string, error) {
	p := c.Detail.(*project)
	if known, is := r.comeAlong.Load(p); is {
		return known.(map[string]string), nil
	}
	trees, err := r.trees(ctx, p)
	if err != nil {
		return nil, err
	}
	with := map[string]string{}
	for _, t := range trees {
		for _, w := range t.won {
			name, path := w.coords.String(), w.Statement.Path
			if len(path) < 2 || len(c.Find(name)) > 0 {
				continue
			}
			for _, q := range c.Requirements {
				if by, ok := mavenrepo.Read(q.Name); ok && q.Name == path[1].Name && by.Group == w.coords.Group && q.Locked == w.Version {
					with[name] = q.Name
				}
			}
		}
	}
	r.comeAlong.Store(p, with)
	return with, nil
}

// asked are the plain versions that a release asks for, in the order of its statements.
type asked struct {
	order []string
	wants map[string]string
}

// asksFor is what a release asks for besides for its own tests, and what the parts of it ask for: what it needs of its
// own group at its own version.
func (x index) asksFor(ctx context.Context, name, release string) (asked, error) {
	a := asked{wants: map[string]string{}}
	c, ok := mavenrepo.Read(name)
	if !ok || release == "" {
		return a, nil
	}
	if err := x.ask(ctx, c, release, &a); err != nil {
		return a, err
	}
	for _, part := range slices.Clone(a.order) {
		if other, _ := mavenrepo.Read(part); other.Group == c.Group && a.wants[part] == release {
			if err := x.ask(ctx, other, release, &a); err != nil {
				return a, err
			}
		}
	}
	return a, nil
}

// ask adds what one package asks for itself.
func (x index) ask(ctx context.Context, c mavenrepo.Coordinates, release string, a *asked) error {
	e, err := x.poms(x.component.Detail.(*project)).of(ctx, x.repositories(), c, release, 0)
	if errors.Is(err, mavenrepo.ErrMissing) || err == nil && e == nil {
		return nil
	}
	if err != nil {
		return err
	}
	for _, d := range e.dependencies {
		one := *d
		one.coords = e.coordsOf(d)
		scope, text := e.expand(d.scope), e.expand(d.version.text)
		if own := e.byKey[one.key()]; own != nil {
			if text == "" {
				text = e.expand(own.version.text)
			}
			if scope == "" {
				scope = e.expand(own.scope)
			}
		}
		other := one.coords.String()
		if one.key() != other || text == "" || strings.ContainsAny(text, "[($") || !comesAlong(scope, e.expand(d.optional)) {
			continue
		}
		if _, twice := a.wants[other]; !twice {
			a.order = append(a.order, other)
			a.wants[other] = text
		}
	}
	return nil
}
