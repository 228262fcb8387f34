package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"

	"bellwether/internal/core/finding"
)

// contentKey names what is verified: every file of the scratch, and what the
// stages are. It gives how the files are, too, by their paths below dir.
func (p *Project) contentKey(dir string) (key string, files map[string]fileState, err error) {
	h := sha256.New()
	files = map[string]fileState{}
	err = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Name() == ".git" {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() {
			return nil
		}
		sum, err := fileSum(name)
		if err != nil {
			return err
		}
		below, err := filepath.Rel(dir, name)
		if err != nil {
			return err
		}
		fmt.Fprintf(h, "%q %s\n", below, sum)
		info, err := d.Info()
		if err == nil {
			files[filepath.ToSlash(below)] = fileState{info.Size(), info.ModTime(), sum}
		}
		return err
	})
	for _, part := range p.Components {
		fmt.Fprintf(h, "%+v\n", p.stages(part))
	}
	fmt.Fprintf(h, "%+v\n", p.Settings.Watch)
	return hex.EncodeToString(h.Sum(nil)), files, err
}

// fileSum is the SHA-256 of a file's content.
func fileSum(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (p *Project) keepBaseline(v *finding.Verification) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return renameio.WriteFile(p.keep("baseline.json"), append(data, '\n'), 0o644)
}

// keepResult keeps what came of a leg, for the search for a culprit and for reports.
func (p *Project) keepResult(id string, v *finding.Verification) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(p.keep("results"), 0o755); err != nil {
		return err
	}
	return renameio.WriteFile(p.keep("results", id+".json"), append(data, '\n'), 0o644)
}

// baseline is the verification of the untouched project, nil if there is none.
func (p *Project) baseline() *finding.Verification {
	data, err := os.ReadFile(p.keep("baseline.json"))
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
	s, err := a.newScratch(ctx, a.repo, nil)
	if err != nil {
		return false, err
	}
	defer s.drop()
	key, _, err := a.contentKey(s.dir)
	if err != nil || key != v.Key {
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
