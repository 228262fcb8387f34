package suites

import (
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// jestTests read Jest: files that passed or failed, the tests of each where it is alone
// or --verbose is given, and the failed ones with their causes.
type jestTests struct {
	Results
	file string
	tree outline
	open bool // the tests of a file are being listed
}

var (
	jestFile = lazyregexp.New(`^(PASS|FAIL)\s+(?:.*\s)?(\S+\.\w+)(?: \([\d.]+ m?s\))?$`)
	jestTest = lazyregexp.New(`^( +)(✓|✕|○|✎|√|×) (?:skipped |todo )?(.+)$`)
	jestFail = lazyregexp.New(`^  ● (.+)$`)
)

// Take reads a line of what is printed.
func (j *jestTests) Take(line string) {
	if !j.sure && !strings.HasPrefix(line, "PASS") && !strings.HasPrefix(line, "FAIL") {
		return
	}
	if m := marked(jestFile, line, "PF"); m != nil {
		j.sure, j.file, j.tree, j.open, j.cause = true, m[2], nil, true, 0
		j.put(finding.Test{Name: j.file, Passed: m[1] == "PASS", Whole: true})
		return
	}
	if m := marked(jestFail, line, "●"); m != nil && j.file != "" {
		j.open = false
		parts := strings.Split(m[1], " › ")
		switch {
		case m[1] == "Test suite failed to run":
			j.fails(finding.Test{Name: j.file, Whole: true})
		case m[1] != "Console":
			name := joined(append([]string{j.file}, parts...)...)
			_, listed := j.at[name]
			within := j.file
			if listed {
				within = ""
			}
			j.fails(finding.Test{Name: name, Within: within})
		}
		return
	}
	if strings.HasPrefix(line, "Tests: ") && strings.HasSuffix(line, " total") {
		j.Counted, j.cause = countedIn(line), 0
		return
	}
	if line == "" {
		j.open = j.open && len(j.tree) == 0
	}
	if m := marked(jestTest, line, "✓✕○✎√×"); m != nil && j.open {
		names := append([]string{j.file}, j.tree.under(len(m[1]))...)
		j.put(
			finding.Test{
				Name: joined(append(names, took.ReplaceAllString(m[3], ""))...), Passed: m[2] == "✓" || m[2] == "√",
				Skipped: m[2] == "○" || m[2] == "✎",
			},
		)
		return
	}
	if j.open && strings.HasPrefix(line, "  ") && !strings.HasPrefix(strings.TrimSpace(line), "●") {
		j.tree.open(indentOf(line), strings.TrimSpace(line))
	}
	j.why(line)
}

// vitestTests read Vitest: files, the tests that failed, and with the verbose reporter all.
type vitestTests struct{ Results }

var (
	vitestBegin = lazyregexp.New(`^ ?(?:RUN|DEV) +v\d`)
	vitestFile  = lazyregexp.New(`^ (✓|❯|×|↓) (?:\|[^|]+\| +)?(\S+) +\((\d+) tests?\b`)
	vitestTest  = lazyregexp.New(`^ +(✓|×|↓|□) (?:\|[^|]+\| +)?(\S+\.\w+ > .+)$`)
	vitestFail  = lazyregexp.New(`^ FAIL +(?:\|[^|]+\| +)?(\S+)(?: > (.+?)| \[ .* \])?$`)
)

// Take reads a line of what is printed.
func (v *vitestTests) Take(line string) {
	if !v.sure && !strings.Contains(line, " v") {
		return
	}
	if vitestBegin.MatchString(line) {
		v.sure = true
		return
	}
	if !v.sure {
		return
	}
	if m := marked(vitestFile, line, "✓❯×↓"); m != nil {
		v.put(finding.Test{Name: m[2], Passed: m[1] == "✓", Skipped: m[1] == "↓", Whole: true})
	} else if m := marked(vitestTest, line, "✓×↓□"); m != nil {
		v.put(finding.Test{Name: took.ReplaceAllString(m[2], ""), Passed: m[1] == "✓", Skipped: m[1] == "↓" || m[1] == "□"})
	} else if m := marked(vitestFail, line, "F"); m != nil {
		t := finding.Test{Name: joined(m[1], m[2]), Whole: m[2] == ""}
		if _, listed := v.at[t.Name]; !listed && m[2] != "" {
			t.Within = m[1]
		}
		v.fails(t)
	} else if strings.HasPrefix(strings.TrimSpace(line), "Tests  ") {
		v.Counted, v.cause = countedIn(line), 0
	} else {
		v.why(line)
	}
}

// mochaTests read Mocha's usual reporter: all tests in their groups, and the causes of
// those that failed, below.
type mochaTests struct {
	Results
	tree  outline
	below bool // the counts were told, and causes follow
	parts []string
}

var (
	mochaTest  = lazyregexp.New(`^( +)(✓|✔|√|-|\d+\)) (.+)$`)
	mochaCount = lazyregexp.New(`^  \d+ (passing|pending|failing)\b`)
	mochaFail  = lazyregexp.New(`^  \d+\) (.+)$`)
)

// Take reads a line of what is printed.
func (m *mochaTests) Take(line string) {
	if !m.below && !strings.HasPrefix(line, "  ") {
		return
	}
	if mochaCount.MatchString(line) {
		if !m.below {
			m.Counted = &finding.Counted{}
		}
		m.sure, m.below = true, true
		more := countedIn(line)
		m.Counted.Passed, m.Counted.Failed = m.Counted.Passed+more.Passed, m.Counted.Failed+more.Failed
		m.Counted.Skipped += more.Skipped
		return
	}
	if m.below {
		m.failure(line)
		return
	}
	if found := marked(mochaTest, line, "✓✔√-0123456789"); found != nil {
		names := m.tree.under(len(found[1]))
		name := took.ReplaceAllString(found[3], "")
		failed := found[2] != "-" && strings.HasSuffix(found[2], ")")
		m.put(finding.Test{Name: joined(append(names, name)...), Passed: !failed && found[2] != "-", Skipped: found[2] == "-"})
		return
	}
	if text := strings.TrimSpace(line); text != "" && strings.HasPrefix(line, "  ") {
		m.tree.open(indentOf(line), text)
	}
}

// failure takes a line of the list of failures: the names, one a line, then the cause.
func (m *mochaTests) failure(line string) {
	if found := mochaFail.FindStringSubmatch(line); found != nil {
		m.parts, m.cause = []string{strings.TrimSuffix(found[1], ":")}, 0
		if strings.HasSuffix(found[1], ":") {
			m.fails(finding.Test{Name: joined(m.parts...)})
			m.parts = nil
		}
		return
	}
	if len(m.parts) > 0 {
		text := strings.TrimSpace(line)
		m.parts = append(m.parts, strings.TrimSuffix(text, ":"))
		if strings.HasSuffix(text, ":") {
			m.fails(finding.Test{Name: joined(m.parts...)})
			m.parts = nil
		}
		return
	}
	m.why(line)
}

// nodeTests read the reporter for people of Node.js's own runner.
type nodeTests struct {
	Results
	tree  []string // headings, by depth
	below bool
}

var nodeLine = lazyregexp.New(`^( *)(▶|✔|✖|﹣|⚠) (.+?)(?: \([\d.]+ms\))?( # (?:SKIP|TODO).*)?$`)

// Take reads a line of what is printed.
func (n *nodeTests) Take(line string) {
	if strings.HasPrefix(line, "ℹ tests ") {
		n.sure = true
	}
	if strings.HasPrefix(line, "✖ failing tests:") {
		n.below, n.cause = true, 0 // what comes tells once more what is known
	}
	m := marked(nodeLine, line, "▶✔✖﹣⚠")
	if m == nil {
		n.why(line)
		return
	}
	if n.below {
		return
	}
	n.cause = 0
	depth := len(m[1]) / 2
	n.tree = n.tree[:min(depth, len(n.tree))]
	switch {
	case m[2] == "▶":
		for len(n.tree) < depth {
			n.tree = append(n.tree, "")
		}
		n.tree = append(n.tree, m[3])
	case n.group(joined(append(slices.Clone(n.tree), m[3])...)): // the end of a group
	case m[2] == "✖":
		n.fails(finding.Test{Name: joined(append(slices.Clone(n.tree), m[3])...)})
	default:
		n.put(finding.Test{Name: joined(append(slices.Clone(n.tree), m[3])...), Passed: m[2] == "✔", Skipped: m[4] != "" || m[2] == "﹣"})
	}
}

// group tells whether there are tests below a name.
func (n *nodeTests) group(name string) bool {
	return slices.ContainsFunc(n.Tests, func(t finding.Test) bool { return strings.HasPrefix(t.Name, name+" > ") })
}
