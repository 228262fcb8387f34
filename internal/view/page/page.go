// Package page writes a document as one HTML file that asks nothing of anywhere.
package page

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"strings"

	"bellwether/internal/view/doc"
	"bellwether/internal/view/drawing"
)

// Style is that of every page: light and dark, narrow and wide, and for paper. Colours have a contrast of at least
// 4.5 to 1 to what they stand on.
const Style = `
:root { color-scheme: light dark; --ink: #1b2530; --paper: #fdfdfb; --soft: #55606b; --line: #d5d9dd; --band: #f1f3f4;
  --good: #1a6b36; --warn: #8a4b00; --bad: #a8201a; --link: #0b5394; }
@media (prefers-color-scheme: dark) { :root { --ink: #e4e8ec; --paper: #14181c; --soft: #a2adb8; --line: #39424b; --band: #1e252b;
  --good: #7ccf97; --warn: #eab676; --bad: #f49a94; --link: #8fc1ee; } }
* { box-sizing: border-box; }
body { margin: 0 auto; padding: 1.5rem; max-width: 72rem; font: 16px/1.5 system-ui, sans-serif; color: var(--ink);
  background: var(--paper); }
h1 { font-size: 1.6rem; line-height: 1.25; margin: 0 0 .5rem; overflow-wrap: anywhere; }
h2 { font-size: 1.2rem; margin: 2rem 0 .5rem; padding-top: .5rem; border-top: 1px solid var(--line); overflow-wrap: anywhere; }
a { color: var(--link); } p, li, summary { overflow-wrap: anywhere; }
nav ul { display: flex; flex-wrap: wrap; gap: .25rem 1rem; list-style: none; padding: 0; }
.wide { overflow-x: auto; margin: .5rem 0; }
table { border-collapse: collapse; width: 100%; font-size: .95rem; }
th, td { text-align: left; vertical-align: top; padding: .3rem .8rem .3rem 0; border-bottom: 1px solid var(--line);
  overflow-wrap: break-word; max-width: 40rem; }
th { color: var(--soft); font-weight: 600; }
th[aria-sort] { cursor: pointer; }
pre { overflow-x: auto; padding: .75rem; background: var(--band); font-size: .9rem; }
figure { margin: 1.5rem 0 0; } figcaption { color: var(--soft); }
details { margin: .5rem 0; } summary { cursor: pointer; color: var(--link); }
.faint { color: var(--soft); } .good { color: var(--good); } .warn { color: var(--warn); } .bad { color: var(--bad); }
.strong { font-weight: 700; }
.hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
svg { width: 100%; min-width: 44rem; height: auto; }
svg text { fill: var(--ink); font: 14px system-ui, sans-serif; } svg .small { fill: var(--soft); font-size: 12px; }
svg rect { fill: var(--band); stroke: var(--line); } svg .done { stroke: var(--good); stroke-width: 2; }
svg .repair { stroke: var(--bad); stroke-width: 2; } svg .unsure { stroke: var(--warn); stroke-width: 2; }
svg path { stroke: var(--soft); fill: none; }
svg .head { fill: var(--soft); } svg .fine { stroke: var(--good); stroke-width: 2; } svg .gone { stroke: var(--bad); stroke-width: 2; }
@media (max-width: 600px) { body { padding: 1rem; } .route { display: none; } .wide:has(> table) { overflow: visible; }
  table, tbody, tr, td { display: block; } thead { display: none; } tr { padding: .4rem 0; border-bottom: 1px solid var(--line); }
  td { border: 0; padding: .1rem 0 .1rem 7.5rem; text-indent: -7.5rem; max-width: none; overflow-wrap: anywhere; }
  td:empty { display: none; }
  td::before { content: attr(data-of); display: inline-block; width: 7.5rem; text-indent: 0; color: var(--soft); } }
@media print { body { max-width: none; padding: 0; font-size: 11pt; } nav { display: none; } .wide { overflow: visible; }
  svg { min-width: 0; }
  h2 { break-after: avoid; } tr { break-inside: avoid; } details > * { display: block; }
  details::details-content { content-visibility: visible; display: block; } }
`

// script sorts tables by a column; without it they stand in their order.
const script = `
for (const th of document.querySelectorAll('th')) {
  th.setAttribute('aria-sort', 'none'); th.tabIndex = 0;
  const sort = () => {
    const body = th.closest('table').tBodies[0], at = th.cellIndex, up = th.getAttribute('aria-sort') !== 'ascending';
    const rows = [...body.rows].sort((a, b) =>
      a.cells[at].textContent.localeCompare(b.cells[at].textContent, undefined, { numeric: true }) * (up ? 1 : -1));
    for (const o of th.parentNode.cells) o.setAttribute('aria-sort', 'none');
    th.setAttribute('aria-sort', up ? 'ascending' : 'descending'); body.append(...rows);
  };
  th.addEventListener('click', sort); th.addEventListener('keydown', e => { if (e.key === 'Enter') sort(); });
}
`

// hashOf is how a content policy names a text that may stand in the page (CSP3, hash-source).
func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// Write writes a document as one file that asks nothing of anywhere. Drawn is a drawing that stands before its parts,
// already as SVG; empty for none.
func Write(w io.Writer, title, summary, drawn string, d *doc.Document) error {
	var b strings.Builder
	style := Style + drawing.Widths()
	fmt.Fprintf(&b, "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"+
		"<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"+
		"<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; "+
		"style-src %s; script-src %s; base-uri 'none'; form-action 'none'\">\n"+
		"<title>%s</title>\n<style>%s</style>\n</head>\n<body>\n<header>\n<h1>%s</h1>\n<p>%s</p>\n</header>\n",
		hashOf(style), hashOf(script), doc.Escaped(title), style, doc.Escaped(title), doc.Escaped(summary))
	b.WriteString("<nav aria-label=\"parts\"><ul>\n")
	for _, part := range d.Blocks {
		if h, is := part.(doc.Heading); is {
			fmt.Fprintf(&b, "<li><a href=\"#%s\">%s</a></li>\n", doc.Slug(h.Title), doc.Escaped(h.Title))
		}
	}
	b.WriteString("</ul></nav>\n<main>\n" + drawn)
	for _, part := range d.Blocks {
		part.HTML(&b)
	}
	fmt.Fprintf(&b, "</main>\n<script>%s</script>\n</body>\n</html>\n", script)
	_, err := io.WriteString(w, b.String())
	return err
}
