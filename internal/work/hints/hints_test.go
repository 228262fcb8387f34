package hints

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/ecosystem"
	worknotes "bellwether/internal/work/notes"
)

// TestMentioned finds the names in what runtimes, bundlers and compilers say of what is missing.
func TestMentioned(t *testing.T) {
	for text, want := range map[string]string{
		"TypeError: (0, x.useRouteMatch) is not a function":                          "useRouteMatch",
		"TypeError: quay__WEBPACK_IMPORTED_MODULE_0__.createBoard is not a function": "createBoard",
		"undefined: quay.Read": "Read",
		"error: cannot find symbol\n  symbol:   method openPier()": "openPier",
		"Module not found: Error: Can't resolve './lib/deep'":      "./lib/deep",
		"ReferenceError: openPier is not defined":                  "openPier",
	} {
		got := mentioned(&finding.Comparison{NewlyFailing: []finding.Test{{Message: text}}})
		assert.Contains(t, got, want, text)
	}
}

// TestForetold holds what fails against what the leg told.
func TestForetold(t *testing.T) {
	imports := "src/Quay.java:3, src/Quay.java:14 import old.pier.Board, which pier:quay 1.0 had and nothing has after this leg"
	refers := "pier:crane 1.0 refers to old.pier.LongRope, which pier:quay 1.0 had and nothing has after this leg"
	leg := &model.Leg{Notes: []string{imports, refers, "pier:knot gets 1.0, below the 2.0 that pier:quay asks for"}}
	assert.Equal(t, []string{"told before: " + imports}, foretold(leg, nil, []string{"src/Quay.java:14"}))
	assert.Empty(t, foretold(leg, []string{"Quay"}, []string{"src/Quay.java:1"}))
	assert.Equal(t, []string{"told before: " + refers}, foretold(leg, []string{"LongRope"}, nil))
}

// TestClosed tells of subpaths that a package of the leg exports no more, as runtimes and bundlers say it.
func TestClosed(t *testing.T) {
	leg := &model.Leg{Moves: []model.Move{{Name: "quay", From: "1.0.0", To: "2.0.0"}, {Name: "@pier/quay", From: "1.0.0", To: "2.0.0"}}}
	for text, want := range map[string]string{
		`Package subpath './lib/x' is not defined by "exports" in /n/node_modules/quay/package.json`: "quay 2.0.0 exports no ./lib/x",
		`Package path ./lib/x is not exported from package /n/node_modules/@pier/quay (see exports)`: "@pier/quay 2.0.0 exports no ./lib/x",
		`Missing "./lib/x" specifier in "quay" package`:                                              "quay 2.0.0 exports no ./lib/x",
		`Package subpath './y' is not defined by "exports" in /p/node_modules/other/package.json`:    "",
	} {
		got := closed(&finding.Comparison{NewlyFailing: []finding.Test{{Message: text}}}, leg)
		if want == "" {
			assert.Empty(t, got, text)
		} else if assert.Len(t, got, 1, text) {
			assert.Contains(t, got[0], want)
		}
	}
}

func noted(kind notes.Kind, text string) worknotes.Noted {
	return worknotes.Noted{
		Of: "pier-bell", Entry: notes.Entry{Text: text}, Shown: model.NoteEntry{Kind: string(kind), Version: "2.0.0", Place: "CHANGELOG.md:3"},
	}
}

// TestEchoed finds what says the same as a failure in other words.
func TestEchoed(t *testing.T) {
	said := []worknotes.Noted{
		noted(notes.Breaking, "Bell ropes must be 40 fathoms or longer"), noted(notes.Breaking, "The bell is rung by default"),
		noted(notes.Fixed, "a rope of 40 fathoms rang the bell of the harbour twice"),
	}
	got := echoed([]string{"the rope has a minimum of 40 fathoms for bell ropes"}, said)
	if assert.Len(t, got, 1) {
		assert.Equal(t, "(pier-bell 2.0.0, CHANGELOG.md:3): Bell ropes must be 40 fathoms or longer", entry(got[0]))
	}
	assert.Empty(t, echoed([]string{"the bell must be rung by somebody, invalid options"}, said))
	assert.Equal(t, []string{
		"not named in the failure, but a change of weight (pier-bell 2.0.0, CHANGELOG.md:3): Bell ropes must be 40 fathoms or longer",
		"not named in the failure, but a change of weight (pier-bell 2.0.0, CHANGELOG.md:3): The bell is rung by default",
	}, gravest(said))
}

// archives are manifests of releases, by version.
type archives map[string]string

func (a archives) Archive(_ context.Context, _ model.Subject, version string, w ecosystem.Wanted) ([]ecosystem.ArchiveFile, error) {
	if !w.File("package.json", 1) {
		return nil, nil
	}
	return []ecosystem.ArchiveFile{{Name: "package.json", Data: []byte(a[version])}}, nil
}

func TestIsModule(t *testing.T) {
	for text, want := range map[string]bool{
		`{"type": "module", "exports": "./index.js"}`:                                                  true,
		`{"type": "module", "main": "./index.js"}`:                                                     true,
		`{"main": "./index.js"}`:                                                                       false,
		`{"type": "module", "exports": {"import": "./index.js", "require": "./index.cjs"}}`:            false,
		`{"type": "module", "exports": {".": {"import": "./a.js", "default": "./dist/commonjs.cjs"}}}`: false,
		`{"type": "commonjs"}`:                                                                         false,
		`{`:                                                                                            false,
	} {
		assert.Equal(t, want, isModule(t.Context(), archives{"1.0.0": text}, model.Subject{}, "1.0.0"), text)
	}
}
