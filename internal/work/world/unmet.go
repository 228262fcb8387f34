package world

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/machine"
)

// Unmet is what packages that come with a state need of runtimes and the like, and is not stated or not installed. What is there
// already, at any version, and needs what it does not get, says nothing: the project lives with it.
func (w *World) Unmet(ctx context.Context, s *contract.State) (all []route.Unmet, err error) {
	is, requirements, err := w.inEffect(ctx, s)
	if ecosystem.Unreached(err) {
		return nil, nil // then nothing is known of what packages need
	}
	if err != nil {
		return nil, err
	}
	was, err := w.desk.EffectiveIn(ctx, w.Part)
	if err != nil {
		return nil, err
	}
	there, broken := map[presence]bool{}, map[presence]bool{}
	for _, pkg := range was {
		there[presence{pkg.Subject.Name, pkg.Version, pkg.Development}] = true
		name := presence{name: pkg.Subject.Name, development: pkg.Development}
		broken[name] = broken[name] || w.Lacks(ctx, pkg.Needs, pkg.Development) != ""
	}
	for _, pkg := range is {
		at, name := presence{pkg.Subject.Name, pkg.Version, pkg.Development}, presence{name: pkg.Subject.Name, development: pkg.Development}
		if there[at] || broken[name] {
			continue
		}
		lacks := w.Lacks(ctx, pkg.Needs, pkg.Development)
		if lacks == "" {
			continue
		}
		root := pkg.Subject.Name
		by := root + " " + pkg.Version
		if len(pkg.Via) > 0 {
			root = pkg.Via[0][:max(0, strings.LastIndexByte(pkg.Via[0], ' '))] // "name version"
			by += ", which it brings,"
		}
		for _, r := range requirements { // as the manifest calls it
			if r.Subject.Name == root {
				root = r.Name
				break
			}
		}
		all = append(all, route.Unmet{Name: root, Text: by + " needs " + lacks})
	}
	return all, nil
}

// presence is a package that is there: a copy for development alone says nothing of what users get.
type presence struct {
	name, version string
	development   bool
}

// inEffect are the packages in effect in a state, and what the manifests require then.
func (w *World) inEffect(ctx context.Context, s *contract.State) ([]model.Package, []model.Requirement, error) {
	if s.InEffect != nil {
		return s.InEffect(), w.Part.Requirements, nil
	}
	after, err := w.in(s)
	if err != nil {
		return nil, nil, err
	}
	all, err := w.desk.InTrial(ctx, after)
	return all, after.Requirements, err
}

// Lacks tells which of some needs is not met by what files state or by what is installed, as a clause: "node >=20, and
// package.json:9 states >=18". It is empty if all are, and where nothing is known of it. What is promised to who uses the project
// does not count for what is only there to work on it.
func (w *World) Lacks(ctx context.Context, needs []model.Need, development bool) string {
	for _, n := range needs {
		q := asked{n.Subject, n.Range, development}
		if _, ok := w.answers[q]; !ok {
			w.answers[q] = w.lacking(ctx, q)
		}
		if lacks := w.answers[q]; lacks != "" {
			w.lacked[lacks] = n
			return lacks
		}
	}
	return ""
}

// asked is a question about one need. Every package of every state asks one, and few are different.
type asked struct {
	subject     model.Subject
	rng         string
	development bool
}

// lacking tells what one need lacks, "" for nothing.
func (w *World) lacking(ctx context.Context, q asked) string {
	rng, err := version.Plain{}.ParseRange(q.rng)
	if err != nil || !q.subject.IsPin() || slices.Contains(w.Free, q.subject) {
		return ""
	}
	places, err := w.tree.Places()
	if err != nil {
		return "" // it is told where it is asked for
	}
	raised := w.Raised[q.subject]
	for _, p := range places.Of(q.subject) {
		low := pin.Low(p)
		if low != nil && raised != nil && raised.Compare(low) > 0 {
			low = raised
		}
		if low != nil && !rng.Contains(low) && !(p.Promise && q.development) {
			return fmt.Sprintf("%s %s, and %s states %s", q.subject.Name, q.rng, p.Site, p.Range)
		}
	}
	if raised != nil {
		return "" // whether it is installed is asked where it is raised
	}
	installed := w.desk.Machine().Versions(ctx, q.subject)
	enough := slices.ContainsFunc(installed, func(i machine.Installed) bool {
		v, err := version.Plain{}.Parse(i.Version)
		return err == nil && rng.Contains(v)
	})
	if len(installed) > 0 && !enough {
		return fmt.Sprintf("%s %s, and %s is installed", q.subject.Name, q.rng, installed[0].Version)
	}
	return ""
}

// Raising tells which runtimes and the like are to be asked for so that what is told to stay goes, a sentence each: the lowest line
// that meets most of what they are wanted for.
func (w *World) Raising(told []string, lines func(model.Subject) []version.Version) (notices []string) {
	wanted := map[model.Subject][]version.Range{}
	for lacks, n := range w.lacked {
		rng, err := version.Plain{}.ParseRange(n.Range)
		if err == nil && slices.ContainsFunc(told, func(text string) bool { return strings.HasSuffix(text, lacks) }) {
			wanted[n.Subject] = append(wanted[n.Subject], rng)
		}
	}
	for _, subject := range slices.SortedFunc(maps.Keys(wanted), model.Subject.Compare) {
		lowest, most := version.Version(nil), 0
		for _, line := range lines(subject) {
			v, err := version.Plain{}.Newest(line.String())
			if err != nil {
				continue
			}
			met := 0
			for _, rng := range wanted[subject] {
				if rng.Contains(v) {
					met++
				}
			}
			if met > most || met == most && lowest != nil && v.Compare(lowest) < 0 {
				lowest, most = v, met
			}
		}
		if lowest == nil {
			continue
		}
		who := "those"
		if most < len(wanted[subject]) {
			who = "some of those"
		}
		does := fmt.Sprintf("--to %s@%s lets", subject, lowest)
		if places, err := w.tree.Places(); err == nil && len(places.Of(subject)) == 0 {
			does = fmt.Sprintf("%s %s, once it is installed, lets", subject, lowest)
		}
		notices = append(notices, fmt.Sprintf("%s %s go that stay for want of a newer %s", does, who, subject.Name))
	}
	return notices
}
