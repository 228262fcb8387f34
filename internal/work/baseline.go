package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"bellwether/internal/core/finding"
	"bellwether/internal/host/git"
	"bellwether/internal/host/scratch"
)

// contentKey names what is verified: every file of the scratch, and what the
// stages are.
func (p *Project) contentKey(files map[string]scratch.File) string {
	h := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintf(h, "%q %s\n", name, files[name].Sum)
	}
	for _, part := range p.Components {
		fmt.Fprintf(h, "%+v\n", p.stages(part))
	}
	fmt.Fprintf(h, "%+v\n", p.Settings.Watch)
	return hex.EncodeToString(h.Sum(nil))
}

// scratches are those of the project.
func (p *Project) scratches(repo *git.Repo) scratch.Project {
	return scratch.Project{Root: p.Root, Repo: repo, Keep: keepDir, Notes: filepath.Join(stateFolder(), "scratches", p.kept.Checkout())}
}

// drop removes a scratch; where that does not work, it is told.
func (p *Project) drop(s *scratch.Scratch) {
	if err := s.Drop(); err != nil {
		p.aside(err.Error())
	}
}

func (p *Project) keepBaseline(v *finding.Verification) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return p.kept.Write("baseline.json", append(data, '\n'))
}

// keepResult keeps what came of a leg, for the search for a culprit and for reports.
func (p *Project) keepResult(id string, v *finding.Verification) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return p.kept.Write("results/"+id+".json", append(data, '\n'))
}

// baseline is the verification of the untouched project, nil if there is none.
func (p *Project) baseline() *finding.Verification {
	data, err := p.kept.Read("baseline.json")
	if err != nil {
		return nil
	}
	v := &finding.Verification{}
	if json.Unmarshal(data, v) != nil {
		return nil
	}
	return v
}

// ensureBaseline gives the verification of the untouched project: a kept one
// if content, tools and stages are the same, else a new one.
func (a *advance) ensureBaseline(ctx context.Context) (*finding.Verification, error) {
	kept := a.baseline()
	if a.journey.moved() && kept != nil {
		return kept, nil
	}
	if kept != nil {
		same, err := a.sameAs(ctx, kept)
		if err != nil {
			return nil, err
		}
		if same {
			return a.checkBaseline(kept)
		}
	}
	a.tell(Event{Text: "proving the start: the project as it is", Done: true, Good: true})
	v, _, err := a.verify(ctx, verifying{repo: a.repo, label: "baseline"})
	if err != nil {
		return nil, err
	}
	if err := a.keepBaseline(v); err != nil {
		return nil, err
	}
	return a.checkBaseline(v)
}

// sameAs tells whether what was verified then is what is here now.
func (a *advance) sameAs(ctx context.Context, v *finding.Verification) (bool, error) {
	s, err := a.scratches(a.repo).New(ctx, nil)
	if err != nil {
		return false, err
	}
	defer a.drop(s)
	files, err := s.Files()
	if err != nil || a.contentKey(files) != v.Key {
		return false, err
	}
	for tool, version := range a.tools(ctx) {
		if v.Tools[tool] != version {
			return false, nil
		}
	}
	return true, nil
}

func (a *advance) checkBaseline(v *finding.Verification) (*finding.Verification, error) {
	if a.opt.FromRed {
		return v, nil
	}
	for _, s := range v.Stages {
		if s.Red() {
			return nil, &FailedStage{
				Stage: s, What: "the project fails before anything is changed",
				Next: "make it pass first, or go on with --from-red, which then only asks that nothing gets worse",
			}
		}
	}
	return v, nil
}
