package view

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"html"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/report"
	"bellwether/internal/core/scaffold"
	"bellwether/internal/view/page"
	"bellwether/internal/view/template"
)

// pageOf is a page with all parts that a report may have, and with long names.
func pageOf(t *testing.T) string {
	t.Helper()
	long := strings.Repeat("example.saltmarsh.departures.", 5) + ":board"
	r := &report.Report{
		Destination: []string{"quayside@^4", long + "@[3,4)"}, Left: []string{"bell stays at 1, since " + long + " needs it"},
		Culprits: []output.CulpritResult{{Leg: "1-refresh", Culprits: []output.CulpritSet{{
			Moves: []output.MoveSummary{{Name: long, From: "1", To: "2"}}, Breaks: []string{"board > course"}, Passes: "1.1", Fails: "1.2",
		}}}},
		Bridges: []output.SurveyBridge{
			{Name: "tide-form", Kind: "pre-release", At: "6.0.0-rc.2", Since: "2026-11-01", Waits: "until it is released"},
		},
		ToDos:     []model.ToDoResult{{ID: "t1", Text: "see to the bell", Place: "a.go:3", State: "open"}},
		Checklist: []output.ChecklistItem{{ID: "print", Text: "print the board", State: output.TickOpen}},
		Said: []model.PackageNotes{
			{Name: long, From: "1", To: "2", Entries: []model.NoteEntry{{Kind: "breaking", Version: "2", Text: long}}},
		},
		Fixed:   []output.SurveyAdvisory{{ID: "SF-1", Name: long, Version: "1", Summary: "drips " + long}},
		Unknown: []string{"what came of leg 9 is not known any more"}, Undo: []string{"git revert 0123456789   # leg 1-refresh"},
	}
	for i := range 9 {
		l := report.Leg{
			State: report.Done, Tries: i, At: time.Unix(0, 0), Comparison: &finding.Comparison{},
			LegResult: output.LegResult{
				ID: fmt.Sprintf(
					"%d-refresh",
					i,
				), Component: "board", Title: "refresh " + long, Commit: "0123456789abcdef", Notes: []string{long + " refers to what is gone"},
				Moves: []output.MoveSummary{
					{Name: long, From: "1", To: "2", Because: "asked for"},
					{Name: "runtime/java", From: "11", To: "17"},
				},
				Carried: []output.MoveSummary{{Name: "rope", From: "1", To: "2"}},
				Repairs: []model.RepairResult{
					{Rule: "names", Says: "renames " + long, Files: []string{"a.go"}, Places: []string{"a.go:1"}},
				},
			},
			Verification: &finding.Verification{
				Tools: map[string]string{"node": "v20.20.2"}, Stages: []finding.Stage{
					{
						Component: "board",
						Name:      "test",
						Status:    finding.Passed,
						Command:   []string{"npm", "test"},
						Tests:     []finding.Test{{Name: "a", Passed: true}},
					},
				},
			},
		}
		for k := range 20 {
			l.LegResult.Carried = append(l.LegResult.Carried, output.MoveSummary{
				Name: fmt.Sprintf("rope-%d-%d-%s", i, k, long), From: "1", To: "2", Via: []string{long + " 1", fmt.Sprintf("twine-%d 1.0.0", k%5)},
			})
		}
		r.Legs = append(r.Legs, l)
	}
	r.Legs[8].State = report.Repair
	var b bytes.Buffer
	require.NoError(t, Out{W: &b, Format: HTML}.Report(r))
	return b.String()
}

// TestPageIsSound sees that the page is well-formed and can be used by all: headings in their order, tables with headers,
// links that lead somewhere, names for drawings, and colours that can be told from what they stand on.
func TestPageIsSound(t *testing.T) {
	text := pageOf(t)
	dec := xml.NewDecoder(strings.NewReader(strings.Replace(text, "<!doctype html>", "", 1)))
	dec.Strict, dec.AutoClose, dec.Entity = false, []string{"meta"}, xml.HTMLEntity
	level, ids, links, tables, headers := 0, map[string]bool{}, []string{}, 0, 0
	for {
		token, err := dec.Token()
		if token == nil {
			require.ErrorContains(t, err, "EOF")
			break
		}
		e, is := token.(xml.StartElement)
		if !is {
			continue
		}
		of := map[string]string{}
		for _, a := range e.Attr {
			of[a.Name.Local] = a.Value
		}
		if id := of["id"]; id != "" {
			assert.False(t, ids[id], "two parts are called %s", id)
			ids[id] = true
		}
		switch name := e.Name.Local; name {
		case "h1", "h2", "h3":
			n := int(name[1] - '0')
			assert.LessOrEqual(t, n, level+1, "a heading is left out before %s", name)
			level = n
		case "a":
			links = append(links, of["href"])
		case "table":
			tables++
		case "th":
			headers++
			assert.Equal(t, "col", of["scope"])
		case "svg":
			assert.NotEmpty(t, of["aria-label"])
			assert.NotEmpty(t, of["viewBox"])
		case "img", "iframe", "link", "object":
			t.Errorf("<%s> would ask for something", name)
		case "html":
			assert.Equal(t, "en", of["lang"])
		}
	}
	assert.Greater(t, headers, tables)
	for _, l := range links {
		assert.True(t, strings.HasPrefix(l, "#") && ids[l[1:]], "%s leads nowhere", l)
	}
	for _, theme := range regexp.MustCompile(`(?s)--ink:.*?--link: #[0-9a-f]+`).FindAllString(page.Style, -1) {
		colours := map[string]string{}
		for _, m := range regexp.MustCompile(`--(\w+): #([0-9a-f]{6})`).FindAllStringSubmatch(theme, -1) {
			colours[m[1]] = m[2]
		}
		require.Len(t, colours, 9)
		for _, ink := range []string{"ink", "soft", "good", "warn", "bad", "link"} {
			for _, paper := range []string{"paper", "band"} {
				assert.GreaterOrEqual(t, contrast(colours[ink], colours[paper]), 4.5, "%s on %s", ink, paper)
			}
		}
	}
}

// contrast is that of two colours (Web Content Accessibility Guidelines 2.2, contrast ratio).
func contrast(a, b string) float64 {
	light := func(colour string) (sum float64) {
		for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
			n, _ := strconv.ParseUint(colour[2*i:2*i+2], 16, 8)
			c := float64(n) / 255
			if c <= 0.04045 {
				c /= 12.92
			} else {
				c = math.Pow((c+0.055)/1.055, 2.4)
			}
			sum += weight * c
		}
		return sum + 0.05
	}
	return max(light(a), light(b)) / min(light(a), light(b))
}

// measure tells, when the page is drawn, what is wider than the window and does not scroll by itself, and which parts of the
// drawing lie over each other.
const measure = `<script>
const out = [];
for (const d of document.querySelectorAll('details')) d.open = true;
if (document.documentElement.scrollWidth > window.innerWidth) out.push('the page is ' + document.documentElement.scrollWidth + ' wide');
const boxes = [...document.querySelectorAll('svg rect')].map(r => r.getBoundingClientRect());
for (let i = 0; i < boxes.length; i++) for (let k = 0; k < i; k++) {
  const a = boxes[i], b = boxes[k];
  if (a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom) out.push('boxes ' + k + ' and ' + i);
}
for (const t of document.querySelectorAll('svg text')) {
  const r = t.getBoundingClientRect();
  const within = b => r.left >= b.left && r.right <= b.right + 1 && r.top >= b.top && r.bottom <= b.bottom + 1;
  const whole = t.classList.contains('legend') ? [t.closest('svg').getBoundingClientRect()] : boxes;
  if (!whole.some(within)) out.push('text ' + t.textContent);
}
document.title = 'measured: ' + (out.join('; ') || 'fine');
</script></body>`

// pages are those that commands write.
func pages(t *testing.T) map[string]string {
	var b bytes.Buffer
	require.NoError(t, (&template.Shown{
		From: "create-quayside 3", To: "create-quayside 4", Unfilled: []string{"HARBOUR"},
		Comparison: &scaffold.Comparison{Unchanged: 4, Files: []scaffold.File{
			{Path: "board/quayside.json", State: scaffold.Conflicts, Hunks: []scaffold.Hunk{
				{Number: 1, Line: 3, State: scaffold.Conflicts, Base: "a\n", Ours: "b\n", Theirs: strings.Repeat("quay ", 60) + "\n"},
				{Number: 2, Line: 9, State: scaffold.Takes, Base: "a\n", Ours: "a\n", Theirs: "c\n"},
			}},
			{Path: "board/new.json", State: scaffold.Takes, After: []byte("{}\n")},
		}},
	}).Page(&b))
	return map[string]string{"report": pageOf(t), "scaffold": b.String()}
}

// chromium gives the title that scripts of a page set, in a window; it skips where there is no browser.
func chromium(t *testing.T, page string, flags ...string) string {
	t.Helper()
	title := regexp.MustCompile(`(?s)<title>(.*?)</title>`).FindStringSubmatch(browse(t, page, flags...))
	require.NotNil(t, title)
	return html.UnescapeString(title[1])
}

// browse gives a page as it is once its scripts have run; it skips where there is no browser.
func browse(t *testing.T, page string, flags ...string) string {
	t.Helper()
	if testing.Short() {
		t.Skip("it starts a browser")
	}
	var browser string
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if at, err := exec.LookPath(name); err == nil && browser == "" {
			browser = at
		}
	}
	if browser == "" {
		t.Skip("there is no Chromium")
	}
	file := filepath.Join(t.TempDir(), "page.html")
	require.NoError(t, os.WriteFile(file, []byte(page), 0o644))
	cmd := exec.Command(browser, append(flags, "--headless", "--no-sandbox", "--disable-gpu", "--dump-dom", "file://"+file)...)
	cmd.Env = append(slices.Clone(os.Environ()), "HOME="+t.TempDir())
	out, err := cmd.Output()
	require.NoError(t, err)
	return string(out)
}

// unguarded is a page whose policy lets a test add its script.
func unguarded(t *testing.T, page string) string {
	rest := policy.ReplaceAllString(page, "")
	require.NotEqual(t, page, rest)
	return rest
}

var policy = regexp.MustCompile(`<meta http-equiv="Content-Security-Policy"[^>]*>`)

// TestPagePolicy sees that a page runs its own script, and shows its own style, and no others.
func TestPagePolicy(t *testing.T) {
	for name, page := range pages(t) {
		assert.NotContains(t, page, "unsafe-inline", name)
		assert.NotContains(t, page, " style=", name)
		own := strings.Replace(page, "<main>", "<main><table><thead><tr><th>x</th></tr></thead></table>", 1)
		const harm = "<script>document.title = 'evil'</script><img src=x onerror=\"document.title = 'evil'\">"
		evil := strings.Replace(own, "</main>", harm+"</main>", 1)
		assert.NotEqual(t, "evil", chromium(t, evil), name)
		dom := browse(t, own)
		assert.Contains(t, dom, `<th aria-sort="none" tabindex="0">x</th>`, "%s: its own script ran", name)
	}
}

// TestPageFits draws the pages at several widths.
func TestPageFits(t *testing.T) {
	for name, page := range pages(t) {
		page = strings.Replace(unguarded(t, page), "</body>", measure, 1)
		for _, window := range []string{"1280,800", "500,844", "1920,1080"} {
			assert.Equal(t, "measured: fine", chromium(t, page, "--window-size="+window), name+" "+window)
		}
	}
}

// TestPageForAll has the pages checked by a library that knows what hinders people (testdata/axe), light and dark.
func TestPageForAll(t *testing.T) {
	chromium(t, "<title>there is a browser</title>")
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/axe")))
	install := exec.Command("npm", "ci", "--ignore-scripts", "--no-audit", "--no-fund", "--silent")
	install.Dir = dir
	if out, err := install.CombinedOutput(); err != nil {
		if os.Getenv("CLIENTS_REQUIRED") != "" {
			t.Fatalf("npm ci: %v\n%s", err, out)
		}
		t.Skipf("the library cannot be had: %v", err)
	}
	library, err := os.ReadFile(filepath.Join(dir, "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	check := "<script>" + strings.ReplaceAll(string(library), "</script", "<\\/script") + `</script><script>
for (const d of document.querySelectorAll('details')) d.open = true;
axe.run(document, {resultTypes: ['violations']}).then(r => {
  const wrong = r.violations.map(v => v.id + ': ' + v.nodes[0].html);
  document.title = 'checked: ' + (r.passes.length > 10 ? '' : 'too few rules; ') + wrong.join('; ');
}, e => { document.title = 'failed: ' + e });
</script></body>`
	for name, page := range pages(t) {
		page = strings.Replace(unguarded(t, page), "</body>", check, 1)
		for _, look := range []string{"0", "1"} { // dark, light
			said := chromium(t, page, "--window-size=1280,800", "--virtual-time-budget=20000", "--blink-settings=preferredColorScheme="+look)
			assert.Equal(t, "checked: ", said, name+" "+look)
		}
	}
}
