package world

import (
	"cmp"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/advisory"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/within"
	"bellwether/internal/work/tree"
)

// Advisories are vulnerability records by the packages that they are about.
type Advisories map[model.Subject][]*advisory.Record

// ReadAdvisories reads all records in a folder, one a file.
func ReadAdvisories(table ecosystem.Table, dir string) (Advisories, error) {
	all := Advisories{}
	known := map[string]advisory.Ecosystem{}
	for _, eco := range table {
		if advised, ok := eco.(ecosystem.Advised); ok {
			name := func(name string) string { return ecosystem.NormalName(eco, name) }
			known[advised.OSVName()] = advisory.Ecosystem{Kind: eco.Type(), Name: name, Version: advised.OSVVersion}
		}
	}
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
		r, err := advisory.Read(shown, src, known)
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

// Affected tells which packages in effect are affected by records in a folder, the direct
// ones first.
func Affected(packages *tree.Packages, dir string) ([]output.SurveyAdvisory, error) {
	all, err := ReadAdvisories(packages.Table, dir)
	if err != nil {
		return nil, err
	}
	var found []output.SurveyAdvisory
	for _, subject := range packages.Subjects {
		order := packages.Table.Order(subject.Kind)
		for _, record := range all[subject] {
			for _, pkg := range packages.Of(subject) {
				in, err := record.Affects(subject, pkg.Version, order)
				if err != nil {
					return nil, &model.Fault{Doing: "reading advisories", Wrong: err.Error()}
				}
				row := output.SurveyAdvisory{
					ID: record.ID, Aliases: record.Aliases, Summary: record.Summary, Severity: record.Severity,
					Rating: advisory.Rating(record.Severity),
					Name:   subject.Name, Version: pkg.Version, PURL: subject.PURL(pkg.Version), Via: pkg.Via, Place: pkg.Site.String(),
					Fixed: nextFixed(record, subject, pkg.Version, order),
				}
				if in && !slices.ContainsFunc(found, func(o output.SurveyAdvisory) bool { return o.ID == row.ID && o.PURL == row.PURL }) {
					found = append(found, row)
				}
			}
		}
	}
	slices.SortStableFunc(found, func(a, b output.SurveyAdvisory) int { return len(a.Via) - len(b.Via) })
	return found, nil
}

// AvoidVulnerable puts what is affected into a component's plan, with further
// requirements by way of which something affected comes, each with the version
// that it is to go above ("" for the one that it is at).
func AvoidVulnerable(table ecosystem.Table, part *tree.Part, plan *route.Plan, dir string, also map[string]string) error {
	all, err := ReadAdvisories(table, dir)
	if err != nil {
		return err
	}
	order := part.Eco.Order()
	// of gives the records that affect a version; one that cannot be read was told
	// when the folder was surveyed, and affects nothing here.
	of := func(s model.Subject, text string) (ids []string) {
		for _, r := range all[s] {
			if in, err := r.Affects(s, text, order); err == nil && in {
				id := r.ID
				if r.Severity != "" {
					id += " (" + advisory.Rating(r.Severity) + ")"
				}
				ids = append(ids, id)
			}
		}
		return ids
	}
	plan.Avoid = func(name, text string) bool {
		return len(of(model.Subject{Kind: part.Type, Name: name}, text)) > 0
	}
	keys := plan.Keys()
	for _, r := range part.Requirements {
		ids := of(r.Subject, r.Locked)
		at, err := order.Parse(r.Locked)
		above, moves := also[r.Name]
		key := keys(r)
		if len(ids) == 0 && !moves || err != nil || r.Fixed != "" {
			continue
		}
		if v, err := order.Parse(above); err == nil {
			at = v
		}
		free := func(v version.Version) bool {
			return v.Compare(at) > 0 && !v.Preview() && len(of(r.Subject, v.String())) == 0
		}
		known := slices.IndexFunc(plan.Subjects, func(s *route.Subject) bool { return s.Name == key })
		if known >= 0 && !slices.ContainsFunc(plan.Subjects[known].Releases, free) {
			continue // there is nowhere to go
		}
		plan.Vulnerable = append(plan.Vulnerable, route.Vulnerable{
			Name: key, Why: cmp.Or(strings.Join(ids, ", "), "what is affected comes by way of it"), Free: free,
		})
	}
	return nil
}

// nextFixed is the lowest version above one in which a record's package is fixed,
// "" if the record knows none.
func nextFixed(r *advisory.Record, s model.Subject, text string, order version.Order) string {
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
