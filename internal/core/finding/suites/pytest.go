package suites

import (
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// pytestTests read pytest: files and the tests that failed, and with -v all tests.
type pytestTests struct {
	Results
	names map[string]bool // that were told one by one
	whose string          // the failure that is being told
}

var (
	pytestFile  = lazyregexp.New(`^(\S+\.py) ([.FEsxX]+)\s*(?:\[ *\d+%\])?$`)
	pytestTest  = lazyregexp.New(`^(\S+\.py)::(\S.*?) (PASSED|FAILED|ERROR|SKIPPED|XFAIL|XPASS)(?: \(.*\))?\s*(?:\[ *\d+%\])?$`)
	pytestShort = lazyregexp.New(`^(FAILED|ERROR) (\S+\.py)(?:::(\S.*?))?(?: - (.*))?$`)
	pytestHead  = lazyregexp.New(`^_{3,} (?:ERROR (?:collecting|at \w+ of) )?(.+?) _{3,}$`)
	pytestCount = lazyregexp.New(`^=+ (.*\b(?:passed|failed|errors?|skipped|no tests ran)\b.* in [\d.]+m?s.*?) =+$`)
	pytestCause = lazyregexp.New(`^E\s{2,}(.*)$`)
)

// Take reads a line of what is printed.
func (p *pytestTests) Take(line string) {
	if strings.Contains(line, "= test session starts =") {
		p.sure, p.names = true, map[string]bool{}
		return
	}
	if !p.sure {
		return
	}
	if m := pytestFile.FindStringSubmatch(line); m != nil {
		p.put(finding.Test{Name: m[1], Passed: !strings.ContainsAny(m[2], "FE"), Whole: true})
	} else if m := pytestTest.FindStringSubmatch(line); m != nil {
		name := joined(m[1], strings.ReplaceAll(m[2], "::", " > "))
		p.names[name] = true
		p.put(finding.Test{Name: name, Passed: m[3] == "PASSED" || m[3] == "XPASS", Skipped: m[3] == "SKIPPED" || m[3] == "XFAIL"})
	} else if m := pytestHead.FindStringSubmatch(line); m != nil {
		p.whose, p.lines = strings.ReplaceAll(m[1], ".", " > "), 0
		if strings.HasSuffix(m[1], ".py") {
			p.whose = m[1]
		}
	} else if m := pytestCause.FindStringSubmatch(line); m != nil {
		p.because(m[1])
	} else if m := pytestShort.FindStringSubmatch(line); m != nil {
		name := joined(m[2], strings.ReplaceAll(m[3], "::", " > "))
		t := finding.Test{Name: name, Whole: m[3] == "", Message: m[4]}
		if !p.names[name] && m[3] != "" {
			t.Within = m[2]
		}
		i := p.put(t)
		if told := p.told(name); told != "" {
			p.Tests[i].Message = told
		} else if p.Tests[i].Message == "" {
			p.Tests[i].Message = m[4]
		}
	} else if m := pytestCount.FindStringSubmatch(line); m != nil {
		p.Counted = countedIn(m[1])
	}
}

// because takes a line of a cause, which is told before the file is known.
func (p *pytestTests) because(text string) {
	if p.lines++; p.lines > MaxCause || strings.TrimSpace(text) == "" {
		return
	}
	i := p.put(finding.Test{Name: PytestHeld + p.whose})
	if p.lines == 1 {
		p.Tests[i].Message = "" // it is told once more
	}
	if p.Tests[i].Message != "" {
		p.Tests[i].Message += "\n"
	}
	p.Tests[i].Message += text
}

// PytestHeld marks what is known of a failure before the test's file is.
const PytestHeld = "\x00"

func (p *pytestTests) told(name string) string {
	for _, t := range p.Tests {
		if whose, held := strings.CutPrefix(t.Name, PytestHeld); held && (name == whose || strings.HasSuffix(name, " > "+whose)) {
			return t.Message
		}
	}
	return ""
}

// End gives what was read, once there is no more.
func (p *pytestTests) End() *Results {
	p.Tests = slices.DeleteFunc(p.Tests, func(t finding.Test) bool { return strings.HasPrefix(t.Name, PytestHeld) })
	return p.Results.End()
}
