// Package need finds what must be true first: which runtimes, tools, platforms and images a
// state of the project needs, and the legs that see to it.
package need

import (
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/machine"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
)

// Asker asks what states of a project need.
type Asker struct {
	Desk   *desk.Desk
	Shelf  *shelf.Shelf
	Prefer compat.Prefer
	Hold   []string // names that stay
}

// Question asks which runtimes, tools, platforms and images meet what all of the
// states need. Where they are stated is taken from the first state.
func (a *Asker) Question(ctx context.Context, states ...*tree.Tree) (*compat.Question, error) {
	stated, err := states[0].Places()
	if err != nil {
		return nil, err
	}
	q := &compat.Question{Orders: states[0].Table.Order, Rules: a.Shelf.Rules, Prefer: a.Prefer}
	q.Ended = func(subject model.Subject, v version.Version) bool {
		on, _ := a.Shelf.Ends(subject, v)
		return !on.IsZero() && on.Before(a.Desk.Today())
	}
	var subjects []model.Subject
	mentioned := map[model.Subject]bool{}
	mention := func(subject model.Subject) {
		if subject.IsPin() && !mentioned[subject] {
			mentioned[subject] = true
			subjects = append(subjects, subject)
		}
	}
	for _, pins := range stated.Groups {
		mention(pins[0].Subject)
	}
	for _, st := range states {
		packages, err := a.Desk.Effective(ctx, st)
		if err != nil {
			return nil, err
		}
		q.Worlds = append(q.Worlds, packages.World())
		for _, d := range packages.Demands() {
			mention(d.Need.Subject)
			q.Demands = append(q.Demands, d)
		}
	}
	for _, r := range a.Shelf.Rules {
		if r.Kind != compat.Needs && r.Kind != compat.Clashes {
			continue
		}
		for _, subject := range r.Mentions() {
			mention(subject)
		}
	}
	for _, subject := range subjects {
		v := &compat.Subject{Subject: subject, Candidates: a.Shelf.Lines(subject), At: stated.Stated(subject)}
		for _, i := range a.Desk.Machine().Versions(ctx, subject) {
			installed, err := version.Plain{}.Parse(i.Version)
			if err != nil {
				continue
			}
			v.Candidates = append(v.Candidates, installed)
			if i.Where == "" {
				v.Ready = installed
			}
		}
		if slices.Contains(a.Hold, subject.String()) && v.At != nil {
			at := v.At
			v.Allow = func(o version.Version) bool { return o.Compare(at) == 0 }
			v.Why = fmt.Sprintf("%s is held at %s", subject, at)
		}
		q.Subjects = append(q.Subjects, v)
	}
	return q, nil
}

// Need is what one state needs of a runtime, tool, platform or image.
type Need struct {
	Subject   model.Subject
	Wants     compat.Wants
	Users     *compat.Wants // those that count for who uses the project; nil for all of them
	Links     []compat.Link
	Pins      []model.Pin
	To        version.Version // what is to be stated
	Installed []machine.Installed
	Raise     bool               // some place is not enough
	Install   bool               // nothing that is installed is enough, where that can be told
	Elsewhere *machine.Installed // what is enough, but is not what a bare command starts; nil for nothing
	Unknown   bool               // nothing states it, and it cannot be asked for
}

// Needs gives what an answer demands of each subject, in the order of the links.
func (a *Asker) Needs(ctx context.Context, t *tree.Tree, answer *compat.Answer) ([]*Need, error) {
	places, err := t.Places()
	if err != nil {
		return nil, err
	}
	var all []*Need
	byName := map[model.Subject]*Need{}
	for _, l := range answer.Links {
		s := l.Need.Subject
		if !s.IsPin() || answer.Chosen[s] == nil {
			continue // what restores a feature need not be there
		}
		n := byName[s]
		if n == nil {
			users := answer.UsersWant(s)
			n = &Need{
				Subject: s, Wants: answer.WantsOf(s), Users: &users, Pins: places.Of(s), To: answer.Chosen[s],
				Installed: a.Desk.Machine().Versions(ctx, s),
			}
			n.judge()
			byName[s] = n
			all = append(all, n)
		}
		n.Links = append(n.Links, l)
	}
	return all, nil
}

// here is the need as it is for the machine: what is asked for.
func (n *Need) here(asked version.Range) (*Need, error) {
	wants, err := compat.ReadWants([]string{asked.String()})
	if err != nil {
		return nil, err
	}
	here := *n
	here.Wants, here.Users, here.Install, here.Elsewhere = wants, nil, false, nil
	here.judge()
	return &here, nil
}

// judge compares what is needed with what is stated and installed.
func (n *Need) judge() {
	known := false
	for _, q := range n.Pins {
		low := pin.Low(q)
		if low == nil {
			continue
		}
		known = true
		n.Raise = n.Raise || !n.wantsAt(q).Hold(low)
	}
	enough := false
	for _, i := range n.Installed {
		v, err := version.Plain{}.Parse(i.Version)
		switch {
		case err != nil || !n.Wants.Hold(v):
		case i.Where == "":
			enough = true
		case !enough && n.Elsewhere == nil:
			n.Elsewhere = &i
		}
	}
	askable := machine.Askable(n.Subject)
	// What a build in an image uses need not be installed beside it.
	n.Install = askable && !enough && (len(n.Installed) > 0 || n.Subject.Kind == "tool" || len(n.Pins) == 0)
	n.Unknown = !askable && !known
}

// wantsAt is what counts at a place.
func (n *Need) wantsAt(q model.Pin) compat.Wants {
	if q.Promise && n.Users != nil {
		return *n.Users
	}
	return n.Wants
}

// Aim is where the places that state the subject are to go.
func (n *Need) Aim() pin.Aim {
	aim := AimOf(n.To, n.Wants)
	if n.Users != nil {
		aim.Promise = n.Users.Lowest(n.To)
	}
	return aim
}

// AimOf is where places are to go that a version is for, with what is wanted of it.
func AimOf(to version.Version, wants compat.Wants) pin.Aim {
	return pin.Aim{To: to, Low: wants.Lowest(to), Enough: wants.Hold}
}
