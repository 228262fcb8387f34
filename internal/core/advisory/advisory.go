// Package advisory reads vulnerability records in the open OSV format (schema
// 1.x, https://ossf.github.io/osv-schema/) and tells which versions they affect.
package advisory

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Record is one vulnerability.
type Record struct {
	ID       string
	File     string
	Aliases  []string
	Summary  string
	Severity string // as the record states it, "HIGH" or a CVSS vector; may be empty
	affected []affected
}

// affected is what a record says of one package.
type affected struct {
	subject  model.Subject
	versions map[string]bool
	ranges   [][]event
}

// event is a version at which a package becomes affected, or no longer is.
type event struct{ introduced, fixed, last string }

// document is a record in the form of the schema, as far as it is read here.
type document struct {
	ID        string    `json:"id"`
	Withdrawn time.Time `json:"withdrawn"`
	Aliases   []string  `json:"aliases"`
	Summary   string    `json:"summary"`
	Details   string    `json:"details"`
	Severity  []struct {
		Score string `json:"score"`
	} `json:"severity"`
	DatabaseSpecific struct {
		Severity string `json:"severity"`
	} `json:"database_specific"`
	Affected []struct {
		Package struct {
			Ecosystem string `json:"ecosystem"`
			Name      string `json:"name"`
		} `json:"package"`
		Versions []string `json:"versions"`
		Ranges   []struct {
			Type   string `json:"type"`
			Events []struct {
				Introduced   string `json:"introduced"`
				Fixed        string `json:"fixed"`
				LastAffected string `json:"last_affected"`
			} `json:"events"`
		} `json:"ranges"`
	} `json:"affected"`
}

// Ecosystem is one of the schema's ecosystems in our words.
type Ecosystem struct {
	Kind    string                   // of the subjects of its packages
	Name    func(name string) string // of a package, as subjects have it
	Version func(text string) string // as the ecosystem writes it
}

// Read reads a record. Known are the ecosystems by their names in the schema; what a record says
// of others is passed over. A withdrawn record is nil.
func Read(file string, src []byte, known map[string]Ecosystem) (*Record, error) {
	var d document
	if err := json.Unmarshal(src, &d); err != nil {
		return nil, &model.Fault{Doing: "reading an advisory", File: file, Wrong: strings.TrimPrefix(err.Error(), "json: ")}
	}
	if d.ID == "" {
		return nil, &model.Fault{
			Doing: "reading an advisory", File: file, Wrong: "it has no id",
			Next: "the folder is to hold records in the OSV format, one a file",
		}
	}
	if !d.Withdrawn.IsZero() {
		return nil, nil
	}
	r := &Record{ID: d.ID, File: file, Aliases: d.Aliases, Summary: d.Summary, Severity: d.DatabaseSpecific.Severity}
	if r.Summary == "" {
		r.Summary, _, _ = strings.Cut(strings.TrimSpace(d.Details), "\n")
	}
	if r.Severity == "" && len(d.Severity) > 0 {
		r.Severity = d.Severity[0].Score
	}
	for _, a := range d.Affected {
		eco, ok := known[a.Package.Ecosystem]
		if !ok {
			continue
		}
		of := affected{subject: model.Subject{Kind: eco.Kind, Name: eco.Name(a.Package.Name)}, versions: map[string]bool{}}
		for _, v := range a.Versions {
			of.versions[eco.Version(v)] = true
		}
		for _, rng := range a.Ranges {
			if rng.Type == "GIT" {
				continue // commits are no versions
			}
			var events []event
			for _, e := range rng.Events {
				events = append(events, event{eco.Version(e.Introduced), eco.Version(e.Fixed), eco.Version(e.LastAffected)})
			}
			of.ranges = append(of.ranges, events)
		}
		r.affected = append(r.affected, of)
	}
	return r, nil
}

// Affects tells whether a version of a package is affected, after the schema's
// evaluation algorithm.
func (r *Record) Affects(s model.Subject, text string, order version.Order) (bool, error) {
	for _, a := range r.affected {
		if a.subject != s {
			continue
		}
		if a.versions[text] {
			return true, nil
		}
		v, err := order.Parse(text)
		if err != nil {
			return false, nil // a version that no range can speak of
		}
		for _, events := range a.ranges {
			in, err := within(events, v, order)
			if err != nil {
				return false, fmt.Errorf("%s: %w", r.File, err)
			}
			if in {
				return true, nil
			}
		}
	}
	return false, nil
}

// within follows the events in the order of their versions up to v.
func within(events []event, v version.Version, order version.Order) (bool, error) {
	type point struct {
		at    version.Version // nil for before all
		opens bool
		after bool // it counts for versions after it only
	}
	var points []point
	for _, e := range events {
		p := point{opens: e.introduced != ""}
		text := e.introduced
		switch {
		case e.fixed != "":
			text = e.fixed
		case e.last != "":
			text, p.after = e.last, true
		}
		if text != "0" && text != "" {
			at, err := order.Parse(text)
			if err != nil {
				return false, err
			}
			p.at = at
		}
		points = append(points, p)
	}
	slices.SortStableFunc(points, func(a, b point) int {
		switch {
		case a.at == nil && b.at == nil:
			return 0
		case a.at == nil:
			return -1
		case b.at == nil:
			return 1
		}
		return a.at.Compare(b.at)
	})
	in := false
	for _, p := range points {
		c := 1
		if p.at != nil {
			c = v.Compare(p.at)
		}
		if c > 0 || c == 0 && !p.after {
			in = p.opens
		}
	}
	return in, nil
}

// Fixed are the versions in which a package is no longer affected, as the record
// states them.
func (r *Record) Fixed(s model.Subject) []string {
	var all []string
	for _, a := range r.affected {
		if a.subject != s {
			continue
		}
		for _, events := range a.ranges {
			for _, e := range events {
				if e.fixed != "" && !slices.Contains(all, e.fixed) {
					all = append(all, e.fixed)
				}
			}
		}
	}
	return all
}

// Subjects are the packages that a record is about.
func (r *Record) Subjects() []model.Subject {
	var all []model.Subject
	for _, a := range r.affected {
		if !slices.Contains(all, a.subject) {
			all = append(all, a.subject)
		}
	}
	return all
}
