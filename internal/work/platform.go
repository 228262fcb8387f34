package work

import (
	"context"
	"fmt"
	"os"
	"slices"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/machine"
)

// machine is what is installed here.
func (p *Project) machine() *machine.Machine {
	home, _ := os.UserHomeDir()
	return &machine.Machine{Ask: p.prober.Ask, Env: os.Getenv, Home: home}
}

// question asks which runtimes, tools, platforms and images meet what all of the
// states need. Where they are stated is taken from the first state.
func (p *Project) question(ctx context.Context, prefer compat.Prefer, hold []string, states ...*state) (*compat.Question, error) {
	s, err := p.shelf(ctx)
	if err != nil {
		return nil, err
	}
	q := &compat.Question{Orders: orders, Rules: s.rules, Prefer: prefer}
	q.Ended = func(subject model.Subject, v version.Version) bool {
		on, _ := s.ends(subject, v)
		return !on.IsZero() && on.Before(p.today())
	}
	var subjects []model.Subject
	mentioned := map[model.Subject]bool{}
	mention := func(subject model.Subject) {
		if subject.IsPin() && !mentioned[subject] {
			mentioned[subject] = true
			subjects = append(subjects, subject)
		}
	}
	for _, pins := range states[0].pins {
		mention(pins[0].Subject)
	}
	for _, st := range states {
		q.Worlds = append(q.Worlds, st.world())
		for _, d := range st.demands() {
			mention(d.Need.Subject)
			q.Demands = append(q.Demands, d)
		}
	}
	for _, r := range s.rules {
		if r.Kind != compat.Needs && r.Kind != compat.Clashes {
			continue
		}
		for _, subject := range r.Mentions() {
			mention(subject)
		}
	}
	for _, subject := range subjects {
		v := &compat.Subject{Subject: subject, Candidates: s.lines(subject), At: stated(states[0].pinsOf(subject))}
		for _, i := range p.machine().Versions(ctx, subject) {
			installed, err := version.Plain{}.Parse(i.Version)
			if err != nil {
				continue
			}
			v.Candidates = append(v.Candidates, installed)
			if i.Where == "" {
				v.Ready = installed
			}
		}
		if slices.Contains(hold, subject.String()) && v.At != nil {
			at := v.At
			v.Allow = func(o version.Version) bool { return o.Compare(at) == 0 }
			v.Why = fmt.Sprintf("%s is held at %s", subject, at)
		}
		q.Subjects = append(q.Subjects, v)
	}
	return q, nil
}

// need is what one state needs of a runtime, tool, platform or image.
type need struct {
	subject   model.Subject
	wants     compat.Wants
	links     []compat.Link
	pins      []model.Pin
	to        version.Version // what is to be stated
	installed []machine.Installed
	raise     bool               // some place is not enough
	install   bool               // nothing that is installed is enough, where that can be told
	elsewhere *machine.Installed // what is enough, but is not what a bare command starts; nil for nothing
	unknown   bool               // nothing states it, and it cannot be asked for
}

// needs gives what an answer demands of each subject, in the order of the links.
func (p *Project) needs(ctx context.Context, st *state, a *compat.Answer) []*need {
	var all []*need
	byName := map[model.Subject]*need{}
	for _, l := range a.Links {
		s := l.Need.Subject
		if !s.IsPin() || a.Chosen[s] == nil {
			continue // what restores a feature need not be there
		}
		n := byName[s]
		if n == nil {
			n = &need{subject: s, wants: a.WantsOf(s), pins: st.pinsOf(s), to: a.Chosen[s], installed: p.machine().Versions(ctx, s)}
			n.judge()
			byName[s] = n
			all = append(all, n)
		}
		n.links = append(n.links, l)
	}
	return all
}

// judge compares what is needed with what is stated and installed.
func (n *need) judge() {
	known := false
	for _, q := range n.pins {
		low := pin.Low(q)
		if low == nil {
			continue
		}
		known = true
		n.raise = n.raise || !n.wants.Hold(low)
	}
	enough := false
	for _, i := range n.installed {
		v, err := version.Plain{}.Parse(i.Version)
		switch {
		case err != nil || !n.wants.Hold(v):
		case i.Where == "":
			enough = true
		case !enough && n.elsewhere == nil:
			n.elsewhere = &i
		}
	}
	askable := machine.Askable(n.subject)
	// What a build in an image uses need not be installed beside it.
	n.install = askable && !enough && (len(n.installed) > 0 || n.subject.Kind == "tool" || len(n.pins) == 0)
	n.unknown = !askable && !known
}

// aim is where the places that state the subject are to go.
func (n *need) aim() pin.Aim { return aimOf(n.to, n.wants) }

func aimOf(to version.Version, wants compat.Wants) pin.Aim {
	return pin.Aim{To: to, Low: wants.Lowest(to), Enough: wants.Hold}
}
