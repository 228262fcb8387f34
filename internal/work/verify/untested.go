package verify

import (
	"fmt"
	"path"
	"slices"

	"bellwether/internal/core/finding"
	"bellwether/internal/work/tree"
)

// testFiles are what files with tests are called.
var testFiles = []string{
	"*_test.rb", "test_*.rb", "*_spec.rb", "*_test.go", "*.test.js", "*.test.ts", "*.spec.js", "*.spec.ts", "*Test.java", "*Tests.java",
	"*Test.kt", "test_*.py", "*_test.py",
}

// testers are the ecosystems whose tests have files of an ending.
var testers = map[string]string{".rb": "gem", ".go": "golang", ".js": "npm", ".ts": "npm", ".java": "maven", ".kt": "maven"}

// untested is a note on a component's test stage of which no test was seen, while there are files that look like tests; "" for none.
// A green build says nothing of those.
func (j Job) untested(part *tree.Part, result finding.Stage) string {
	if result.Name != "test" || len(result.Tests) > 0 || result.Counted != nil || result.Red() || result.Status == finding.NotRun {
		return ""
	}
	var found []string
	for _, name := range j.Tree.Files.Named(testFiles, func(folder string) bool { return folder == "vendor" || folder == "testdata" }) {
		others := func(o *tree.Part) bool {
			return o.Dir == part.Dir && o.Kind != part.Kind && o.Kind == testers[path.Ext(name)]
		}
		if j.partOf(name) == part.Dir && !slices.ContainsFunc(j.Tree.Parts, others) {
			found = append(found, name)
		}
	}
	if len(found) == 0 || j.declined() {
		return ""
	}
	and := ""
	switch n := len(found) - 1; {
	case n == 1:
		and = ", as one other file does"
	case n > 1:
		and = fmt.Sprintf(", as %d other files do", n)
	}
	seen := "no test was seen in what the stage test said"
	if result.Status == finding.Skipped {
		seen = "nothing runs it"
	}
	return fmt.Sprintf("%s looks like a test%s, and %s: name its command in bellwether.yaml, under stages", found[0], and, seen)
}

// declined tells whether the settings say that nothing is tested.
func (j Job) declined() bool {
	for _, s := range j.Desk.Settings.Stages {
		if s.Name == "test" && s.Skip != "" {
			return true
		}
	}
	return false
}

// partOf is the folder of the component that a file belongs to, the nearest one around it.
func (j Job) partOf(name string) string {
	for dir := path.Dir(name); ; dir = path.Dir(dir) {
		if slices.ContainsFunc(j.Tree.Parts, func(p *tree.Part) bool { return p.Dir == dir }) {
			return dir
		}
		if dir == "." {
			return ""
		}
	}
}
