package scaffold

import (
	"bytes"
	"path"
	"strings"
)

// mostPairs is how many pairs of files that went and files that came are compared with each other; of more, only those that
// are called alike are.
const mostPairs = 100_000

// renames are files of the older template that the newer one has under another name, by their contents.
func renames(old, fresh Tree) map[string]string {
	var gone, come []string
	for _, name := range sorted(old) {
		if fresh[name] == nil && len(old[name]) > 0 {
			gone = append(gone, name)
		}
	}
	for _, name := range sorted(fresh) {
		if old[name] == nil {
			come = append(come, name)
		}
	}
	few := len(gone)*len(come) <= mostPairs
	byTail := newTails(come)
	all := map[string]string{}
	taken := map[string]bool{}
	for _, a := range gone {
		candidates := come
		if !few {
			candidates = byTail.alike(a)
		}
		best, most := "", alike
		for _, b := range candidates {
			if taken[b] || path.Ext(a) != path.Ext(b) {
				continue
			}
			if s := similarity(old[a], fresh[b]); s > most {
				best, most = b, s
			}
		}
		if best != "" {
			all[a], taken[best] = best, true
		}
	}
	return all
}

// places are where a project has what a template has elsewhere.
type places struct {
	files   map[string]string // by their names in the template
	folders map[string]string
}

// locate finds what the project has under other names: files by what is in them, folders by the files that went from one
// to another, and then what is changed so much that only its folder and name tell.
func locate(old Tree, mine func(string) ([]byte, bool), names []string) places {
	p := places{map[string]string{}, map[string]string{}}
	byTail := newTails(names)
	stays := map[string]bool{} // folders in which something is where the template has it
	went := map[[2]string]int{}
	taken := map[string]bool{} // of the project: a file is that of one of the template alone
	for _, name := range sorted(old) {
		if _, there := mine(name); there {
			for dir := path.Dir(name); !stays[dir]; dir = path.Dir(dir) {
				stays[dir] = true
			}
			continue
		}
		if at := moved(old[name], byTail.alike(name), mine); at != "" && old[at] == nil && !taken[at] {
			p.files[name], taken[at] = at, true
			went[fork(path.Dir(name), path.Dir(at))]++
		}
	}
	most := map[string]int{}
	for pair, n := range went {
		from, to := pair[0], pair[1]
		if !stays[from] && (n > most[from] || n == most[from] && to < p.folders[from]) {
			most[from], p.folders[from] = n, to
		}
	}
	for _, name := range sorted(old) {
		_, there := mine(name)
		if at := p.folder(name); !there && at != "" && p.files[name] == "" && old[at] == nil {
			if _, there := mine(at); there && !taken[at] {
				p.files[name], taken[at] = at, true
			}
		}
	}
	return p
}

// The bounds of where a file of a template is looked for: the last parts of names that are compared, and files that are
// looked into.
const (
	mostParts = 3
	mostAlike = 16
)

// tails finds names by their last parts.
type tails map[string][]string

func newTails(names []string) tails {
	t := tails{}
	for _, name := range names {
		for n := range mostParts {
			tail, whole := tailOf(name, n+1)
			if t[tail] = append(t[tail], name); whole {
				break
			}
		}
	}
	return t
}

// alike are the files whose names have the most last parts in common with one: its folder's name, or its own alone.
func (t tails) alike(name string) []string {
	for n := mostParts; n > 0; n-- {
		tail, _ := tailOf(name, n)
		if all := t[tail]; len(all) > 0 {
			return all[:min(len(all), mostAlike)]
		}
	}
	return nil
}

// tailOf is the last parts of a name, and whether these are all.
func tailOf(name string, parts int) (tail string, whole bool) {
	at := len(name)
	for range parts {
		if at = strings.LastIndexByte(name[:at], '/'); at < 0 {
			return name, true
		}
	}
	return name[at+1:], false
}

// fork are two folders without the last parts that they have in common: what was renamed.
func fork(from, to string) [2]string {
	for from != "." && to != "." && path.Base(from) == path.Base(to) {
		from, to = path.Dir(from), path.Dir(to)
	}
	return [2]string{from, to}
}

// folder is the name that a file of the template has in the folder which went elsewhere, "" for one that did not.
func (p places) folder(name string) string {
	for dir := path.Dir(name); ; dir = path.Dir(dir) {
		if to := p.folders[dir]; to != "" {
			return path.Join(to, strings.TrimPrefix(name, dir+"/"))
		}
		if dir == "." || dir == "/" {
			return ""
		}
	}
}

// moved is the file of the project that a file of the template went to, "" for none that is like it.
func moved(data []byte, names []string, mine func(string) ([]byte, bool)) string {
	best, most := "", alike
	for _, n := range names {
		if other, there := mine(n); there {
			if s := similarity(data, other); s > most {
				best, most = n, s
			}
		}
	}
	return best
}

// similarity is how much of the lines of two texts is the same, from 0 to 1.
func similarity(a, b []byte) float64 {
	if bytes.Equal(a, b) {
		return 1
	}
	if Binary(a) || Binary(b) {
		return 0
	}
	counts := map[string]int{}
	n, m, same := 0, 0, 0
	for l := range strings.Lines(string(a)) {
		counts[strings.TrimSpace(l)]++
		n++
	}
	for l := range strings.Lines(string(b)) {
		m++
		if l = strings.TrimSpace(l); counts[l] > 0 {
			counts[l]--
			same++
		}
	}
	if n+m == 0 {
		return 0
	}
	return float64(2*same) / float64(n+m)
}
