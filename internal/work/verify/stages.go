package verify

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// Stages are the ecosystem's between clean and start, with the settings' in their
// place.
func Stages(d *desk.Desk, t *tree.Tree, part *tree.Part) []model.Stage {
	stages := append([]model.Stage{{Name: settings.StageClean, Dir: part.Dir}}, part.Eco.Stages(part.Component)...)
	for _, set := range d.Settings.Stages {
		if set.In != "" && !part.Called(set.In) {
			continue
		}
		at := slices.IndexFunc(stages, func(s model.Stage) bool { return s.Name == set.Name })
		if at < 0 && set.Name == settings.StageStart && (set.In != "" || len(t.Parts) == 1) {
			at = len(stages)
			// It runs with what the tests run with: that is where packages are found.
			stages = append(stages, model.Stage{Name: settings.StageStart, Dir: part.Dir, Env: stages[at-1].Env})
		}
		if at < 0 {
			continue // another ecosystem's
		}
		stages[at] = set.Over(stages[at])
	}
	return stages
}

// usualResults are where test runners put files of results, if they write some. Only those
// are read that a stage wrote.
var usualResults = []string{
	"junit.xml", "junit/*.xml", "test-results/**/*.xml", "reports/**/junit*.xml", "coverage/junit.xml", "TestResults/*.trx",
	"*/TestResults/*.trx",
	"target/surefire-reports/*.xml", "*/target/surefire-reports/*.xml", "build/test-results/**/*.xml", "*/build/test-results/**/*.xml",
}

// CheckStages refuses settings for a stage that no component has.
func CheckStages(d *desk.Desk, t *tree.Tree) error {
	known := []string{settings.StageClean}
	for _, part := range t.Parts {
		for _, s := range part.Eco.Stages(part.Component) {
			if !slices.Contains(known, s.Name) {
				known = append(known, s.Name)
			}
		}
	}
	known = append(known, settings.StageStart)
	for _, set := range d.Settings.Stages {
		fault := &model.Fault{Doing: "reading the settings", File: settings.File}
		switch {
		case !slices.Contains(known, set.Name):
			fault.Wrong = fmt.Sprintf("the stage %q is not one of those that there are here: %s", set.Name, strings.Join(known, ", "))
		case set.In != "" && !t.Has(set.In):
			ids := t.IDs()
			fault.Wrong = fmt.Sprintf(
				"the stage %s is set in %q, where there is no component; there are %s", set.Name, set.In, strings.Join(ids, ", "),
			)
			fault.Next = spelling.DidYouMean(set.In, ids)
		case set.Name == settings.StageStart && set.In == "" && len(t.Parts) > 1:
			fault.Wrong = "the stage start does not say which component it starts"
			fault.Next = "write in: with the component's folder, or its manifest where a folder has several"
		default:
			continue
		}
		return fault
	}
	for name := range d.Settings.Reads {
		if !t.Has(name) {
			ids := t.IDs()
			return &model.Fault{
				Doing: "reading the settings", File: settings.File, Wrong: fmt.Sprintf("reads: there is no component in %q; there are "+
					"%s", name, strings.Join(ids, ", ")),
				Next: spelling.DidYouMean(name, ids),
			}
		}
	}
	return nil
}
