package maven

import (
	"context"
	"errors"
	"strings"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/mavenrepo"
)

// floors are the versions that a release asks for of packages which the project itself states: Maven gives it
// lower ones without a word. What is below already does not count.
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
	for _, other := range now.order {
		low, known := stated[other]
		was, asked := before.wants[other]
		if !known || asked && mavenrepo.Compare(low, was) < 0 {
			continue
		}
		floor, err := version.Maven{}.Parse(now.wants[other])
		if err != nil {
			return nil, err
		}
		needs = append(needs, flat.Need{
			Sense:   flat.IfPresent,
			Options: []flat.Option{{Key: flat.Key{Name: other}, Allows: func(v version.Version) bool { return v.Compare(floor) >= 0 }}},
			Text:    other + " " + now.wants[other] + " or newer",
		})
	}
	return needs, nil
}

// asked are the plain versions that a release asks for, in the order of its statements.
type asked struct {
	order []string
	wants map[string]string
}

// asksFor is what a release asks for besides for its own tests.
func (x index) asksFor(ctx context.Context, name, release string) (a asked, err error) {
	a.wants = map[string]string{}
	c, ok := mavenrepo.Read(name)
	if !ok || release == "" {
		return a, nil
	}
	e, err := x.poms(x.component.Detail.(*project)).of(ctx, x.repositories(), c, release, 0)
	if errors.Is(err, mavenrepo.ErrMissing) || err == nil && e == nil {
		return a, nil
	}
	if err != nil {
		return a, err
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
	return a, nil
}
