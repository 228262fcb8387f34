package work

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/advisory"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/within"
)

// advisories are vulnerability records by the packages that they are about.
type advisories map[model.Subject][]*advisory.Record

// readAdvisories reads all records in a folder, one a file.
func readAdvisories(dir string) (advisories, error) {
	all := advisories{}
	files, err := within.Open(dir, nil)
	if err != nil {
		return nil, &model.Fault{Doing: "reading advisories", File: filepath.ToSlash(dir), Wrong: model.Reason(err)}
	}
	defer files.Close()
	err = fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(name) != ".json" {
			return err
		}
		shown := filepath.ToSlash(filepath.Join(dir, filepath.FromSlash(name)))
		src, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		r, err := advisory.Read(shown, src)
		if err != nil || r == nil {
			return err
		}
		for _, s := range r.Subjects() {
			all[s] = append(all[s], r)
		}
		return nil
	})
	if err != nil {
		return nil, &model.Fault{Doing: "reading advisories", File: filepath.ToSlash(dir), Wrong: model.Reason(err)}
	}
	return all, nil
}

// surveyAdvisories tells which packages in effect are affected by records in a
// folder, the direct ones first.
func (p *Project) surveyAdvisories(now *state, dir string) ([]model.SurveyAdvisory, error) {
	all, err := readAdvisories(dir)
	if err != nil {
		return nil, err
	}
	var found []model.SurveyAdvisory
	for _, subject := range now.order {
		order := orders(subject.Kind)
		for _, record := range all[subject] {
			for _, pkg := range now.packages[subject] {
				in, err := record.Affects(subject, pkg.Version, order)
				if err != nil {
					return nil, &model.Fault{Doing: "reading advisories", Wrong: err.Error()}
				}
				row := model.SurveyAdvisory{
					ID: record.ID, Aliases: record.Aliases, Summary: record.Summary, Severity: record.Severity,
					Name: subject.Name, Version: pkg.Version, PURL: subject.PURL(pkg.Version), Via: pkg.Via, Place: pkg.Site.String(), Fixed: nextFixed(record, subject, pkg.Version),
				}
				if in && !slices.ContainsFunc(found, func(o model.SurveyAdvisory) bool { return o.ID == row.ID && o.PURL == row.PURL }) {
					found = append(found, row)
				}
			}
		}
	}
	slices.SortStableFunc(found, func(a, b model.SurveyAdvisory) int { return len(a.Via) - len(b.Via) })
	return found, nil
}

// avoidVulnerable puts what is affected into a component's plan, with further
// requirements by way of which something affected comes, each with the version
// that it is to go above ("" for the one that it is at).
func (p *Project) avoidVulnerable(part *Part, plan *route.Plan, dir string, also map[string]string) error {
	all, err := readAdvisories(dir)
	if err != nil {
		return err
	}
	order := part.eco.Order()
	// of gives the records that affect a version; one that cannot be read was told
	// when the folder was surveyed, and affects nothing here.
	of := func(s model.Subject, text string) (ids []string) {
		for _, r := range all[s] {
			if in, err := r.Affects(s, text, order); err == nil && in {
				ids = append(ids, r.ID)
			}
		}
		return ids
	}
	plan.Avoid = func(name, text string) bool {
		return len(of(model.Subject{Kind: part.Ecosystem, Name: name}, text)) > 0
	}
	for _, r := range part.Requirements {
		ids := of(r.Subject, r.Locked)
		at, err := order.Parse(r.Locked)
		above, moves := also[r.Name]
		if len(ids) == 0 && !moves || err != nil || r.Fixed != "" {
			continue
		}
		if v, err := order.Parse(above); err == nil {
			at = v
		}
		free := func(v version.Version) bool {
			return v.Compare(at) > 0 && !v.Preview() && len(of(r.Subject, v.String())) == 0
		}
		known := slices.IndexFunc(plan.Subjects, func(s *route.Subject) bool { return s.Name == r.Name })
		if known >= 0 && !slices.ContainsFunc(plan.Subjects[known].Releases, free) {
			continue // there is nowhere to go
		}
		plan.Vulnerable = append(plan.Vulnerable, route.Vulnerable{
			Name: r.Name, Why: cmpOr(strings.Join(ids, ", "), "what is affected comes by way of it"), Free: free,
		})
	}
	return nil
}

// parents are the requirements by way of which something affected comes.
func parents(left []model.SurveyAdvisory) []string {
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
func (p *Project) leftNotices(ctx context.Context, opt RouteOptions, left []model.SurveyAdvisory) []string {
	var notes []string
	for _, a := range left {
		text := fmt.Sprintf("%s %s stays affected by %s", a.Name, a.Version, a.ID)
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
			if other, err := p.planOnce(ctx, more); err == nil && len(other.left) < len(left) {
				text += "; against what that asks for, --override " + override + " would do"
			}
		}
		notes = append(notes, text)
	}
	return notes
}

// overrideFor is the override that would take an affected package to where it is
// fixed, "" where there can be none.
func (p *Project) overrideFor(a model.SurveyAdvisory) string {
	if len(a.Via) == 0 || a.Fixed == "" {
		return ""
	}
	for _, e := range ecosystems {
		if _, can := e.(ecosystem.Rewriter); can && strings.HasPrefix(a.PURL, "pkg:"+e.Name()+"/") {
			parent := a.Via[len(a.Via)-1]
			return parent[:strings.LastIndex(parent, " ")] + ":" + a.Name + "@" + newestOf(e.Order(), a.Fixed)
		}
	}
	return ""
}

// nextFixed is the lowest version above one in which a record's package is fixed,
// "" if the record knows none.
func nextFixed(r *advisory.Record, s model.Subject, text string) string {
	order := orders(s.Kind)
	at, err := order.Parse(text)
	if err != nil {
		return ""
	}
	lowest := ""
	for _, fixed := range r.Fixed(s) {
		v, err := order.Parse(fixed)
		if err != nil || v.Compare(at) <= 0 {
			continue
		}
		if low, err := order.Parse(lowest); err != nil || v.Compare(low) < 0 {
			lowest = fixed
		}
	}
	return lowest
}

// fixFurther moves requirements by way of which something affected comes, as long
// as that leaves less affected: what is fixed only beyond their ranges.
func (p *Project) fixFurther(ctx context.Context, opt RouteOptions, r *planned) (*planned, error) {
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
	r.notices = append(r.notices, p.leftNotices(ctx, opt, r.left)...)
	return r, nil
}

// maxLines bounds how many lines a requirement is tried to go for the sake of what
// comes by way of it.
const maxLines = 12

// moveParent takes a requirement as little further as leaves less affected; nil if
// nothing does.
func (p *Project) moveParent(ctx context.Context, opt *RouteOptions, r *planned, name string) (*planned, error) {
	above := r.arrives(name)
	for range maxLines {
		more := *opt
		more.also = maps.Clone(opt.also)
		if more.also == nil {
			more.also = map[string]string{}
		}
		more.also[name] = above
		other, err := p.planOnce(ctx, more)
		if _, conflict := conflictOf(err); conflict {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		if len(other.left) < len(r.left) {
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
func (r *planned) arrives(name string) string {
	to := ""
	for _, l := range r.route.Legs {
		for _, m := range l.Moves {
			if m.Name == name {
				to = m.To
			}
		}
	}
	return to
}
