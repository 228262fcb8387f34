package finding

import (
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// pytestTests read pytest: files and the tests that failed, and with -v all tests.
type pytestTests struct {
	results
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

func (p *pytestTests) take(line string) {
	if strings.Contains(line, "= test session starts =") {
		p.sure, p.names = true, map[string]bool{}
		return
	}
	if !p.sure {
		return
	}
	if m := pytestFile.FindStringSubmatch(line); m != nil {
		p.put(Test{Name: m[1], Passed: !strings.ContainsAny(m[2], "FE"), Whole: true})
	} else if m := pytestTest.FindStringSubmatch(line); m != nil {
		name := joined(m[1], strings.ReplaceAll(m[2], "::", " > "))
		p.names[name] = true
		p.put(Test{Name: name, Passed: m[3] == "PASSED" || m[3] == "XPASS", Skipped: m[3] == "SKIPPED" || m[3] == "XFAIL"})
	} else if m := pytestHead.FindStringSubmatch(line); m != nil {
		p.whose, p.lines = strings.ReplaceAll(m[1], ".", " > "), 0
		if strings.HasSuffix(m[1], ".py") {
			p.whose = m[1]
		}
	} else if m := pytestCause.FindStringSubmatch(line); m != nil {
		p.because(m[1])
	} else if m := pytestShort.FindStringSubmatch(line); m != nil {
		name := joined(m[2], strings.ReplaceAll(m[3], "::", " > "))
		t := Test{Name: name, Whole: m[3] == "", Message: m[4]}
		if !p.names[name] && m[3] != "" {
			t.Within = m[2]
		}
		i := p.put(t)
		if told := p.told(name); told != "" {
			p.tests[i].Message = told
		} else if p.tests[i].Message == "" {
			p.tests[i].Message = m[4]
		}
	} else if m := pytestCount.FindStringSubmatch(line); m != nil {
		p.counted = countedIn(m[1])
	}
}

// because takes a line of a cause, which is told before the file is known.
func (p *pytestTests) because(text string) {
	if p.lines++; p.lines > maxCause || strings.TrimSpace(text) == "" {
		return
	}
	i := p.put(Test{Name: pytestHeld + p.whose})
	if p.lines == 1 {
		p.tests[i].Message = "" // it is told once more
	}
	if p.tests[i].Message != "" {
		p.tests[i].Message += "\n"
	}
	p.tests[i].Message += text
}

// pytestHeld marks what is known of a failure before the test's file is.
const pytestHeld = "\x00"

func (p *pytestTests) told(name string) string {
	for _, t := range p.tests {
		if whose, held := strings.CutPrefix(t.Name, pytestHeld); held && (name == whose || strings.HasSuffix(name, " > "+whose)) {
			return t.Message
		}
	}
	return ""
}

func (p *pytestTests) end() *results {
	p.tests = slices.DeleteFunc(p.tests, func(t Test) bool { return strings.HasPrefix(t.Name, pytestHeld) })
	return p.results.end()
}
