package plan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/output"
	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/world"
)

// parents are the requirements by way of which something affected comes.
func parents(left []output.SurveyAdvisory) []string {
	var names []string
	for _, a := range left {
		if len(a.Via) == 0 {
			continue
		}
		if name := a.Via[0][:strings.LastIndex(a.Via[0], " ")]; !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// leftNotices tell what stays affected, and where an override would do, which one.
func (p *planner) leftNotices(ctx context.Context, opt world.Request, left []output.SurveyAdvisory) []string {
	var notes []string
	for _, a := range left {
		text := fmt.Sprintf("%s %s stays affected by %s", a.Name, a.Version, a.ID)
		if a.Rating != "" {
			text += " (" + a.Rating + ")"
		}
		if a.Fixed == "" {
			text += ", for which no fixed version is known"
		} else {
			text += ", which is fixed in " + a.Fixed
		}
		if len(a.Via) > 0 {
			text += "; it comes by way of " + strings.Join(a.Via, ", ")
		}
		if override := p.overrideFor(a); override != "" {
			more := opt
			more.Override = append(slices.Clone(opt.Override), override)
			if other, err := p.planOnce(ctx, more); err == nil && affected(other.left) < affected(left) {
				text += "; against what that asks for, --override " + override + " would do"
			}
		}
		notes = append(notes, text)
	}
	return notes
}

// overrideFor is the override that would take an affected package to where it is
// fixed, "" where there can be none.
func (p *planner) overrideFor(a output.SurveyAdvisory) string {
	if len(a.Via) == 0 || a.Fixed == "" {
		return ""
	}
	for _, e := range p.tree.Table {
		if _, can := e.(ecosystem.Overrider); can && strings.HasPrefix(a.PURL, "pkg:"+e.Type()+"/") {
			parent := a.Via[len(a.Via)-1]
			return parent[:strings.LastIndex(parent, " ")] + ":" + a.Name + "@" + onward(e.Order(), a.Fixed)
		}
	}
	return ""
}

// fixFurther moves requirements by way of which something affected comes, as long
// as that leaves less affected: what is fixed only beyond their ranges.
func (p *planner) fixFurther(ctx context.Context, opt world.Request, r *Planned) (*Planned, error) {
	for again := true; again; {
		again = false
		for _, name := range parents(r.left) {
			better, err := p.moveParent(ctx, &opt, r, name)
			if err != nil {
				return nil, err
			}
			if again = better != nil; again {
				r = better
				break
			}
		}
	}
	r.Notices = append(r.Notices, p.leftNotices(ctx, opt, r.left)...)
	return r, nil
}

// affected counts what is affected, by package and record: fewer copies of a package that stays affected cure nothing.
func affected(left []output.SurveyAdvisory) int {
	seen := map[string]bool{}
	for _, a := range left {
		seen[a.Name+" "+a.ID] = true
	}
	return len(seen)
}

// maxLines bounds how many lines further a requirement is tried for what
// comes by way of it.
const maxLines = 12

// moveParent takes a requirement as little further as leaves less affected; nil if
// nothing does.
func (p *planner) moveParent(ctx context.Context, opt *world.Request, r *Planned, name string) (*Planned, error) {
	above := r.arrives(name)
	for range maxLines {
		more := *opt
		more.Also = maps.Clone(opt.Also)
		if more.Also == nil {
			more.Also = map[string]string{}
		}
		more.Also[name] = above
		other, err := p.planOnce(ctx, more)
		if errors.As(err, new(*solve.Conflict)) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		if affected(other.left) < affected(r.left) {
			*opt = more
			return other, nil
		}
		to := other.arrives(name)
		if to == "" || to == above {
			return nil, nil
		}
		above = to
	}
	return nil, nil
}

// arrives is the version that a requirement moves to, "" if it does not move.
func (r *Planned) arrives(name string) string {
	to := ""
	for _, l := range r.Route.Legs {
		for _, m := range l.Moves {
			if m.Name == name {
				to = m.To
			}
		}
	}
	return to
}
