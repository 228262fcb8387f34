package npm

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/core/version"
)

func parseOwn(src []byte) (*jsondoc.Value, error) { return jsondoc.Parse("package-lock.json", src) }

// restated is the range that a dependency gets when it is at a version: the
// one it has if that contains the version. A range for peers is widened, not
// moved, since others rely on what it admits.
// With anew, a range that has the version says so, too.
func restated(d dependency, to string, anew bool) string {
	v, err := parseVersion(to)
	if err != nil || d.spec.rng == nil || d.spec.rng.Contains(v) && (!anew || d.kind.peer()) {
		return d.spec.text
	}
	if d.kind.peer() {
		return widened(d.spec.text, v)
	}
	return version.NPM{}.Restate(d.spec.text, v)
}

// widened is a range of peers that admits a version's line, too, written like its last
// alternative.
func widened(rng string, v version.Version) string {
	last := rng[strings.LastIndex(rng, "|")+1:]
	more := "^" + v.String()
	if first, err := parseVersion(lineStart(v)); err == nil {
		restated := strings.TrimSpace(version.NPM{}.Restate(strings.TrimSpace(last), first))
		if read, err := (version.NPM{}).ParseRange(restated); err == nil && read.Contains(v) && !v.Preview() {
			more = restated
		}
	}
	return strings.TrimSpace(rng) + " || " + more
}

// lineStart is the first version of the compatible line that v is in.
func lineStart(v version.Version) string {
	line := v.Line()
	for strings.Count(line, ".") < 2 {
		line += ".0"
	}
	return line
}

// arrive gives the manifests' new texts, with the requirements that they move.
func (s *resolver) arrive() (map[string][]byte, []model.Move, error) {
	splices := map[*manifest][]model.Splice{}
	write := func(m *manifest, site model.Site, text string) (first bool) {
		if slices.ContainsFunc(splices[m], func(s model.Splice) bool { return s.Site == site }) {
			return false // it is asked for in several places
		}
		splices[m] = append(splices[m], model.Splice{Site: site, New: jsondoc.Inside(text)})
		return true
	}
	var moves []model.Move
	root := s.p.root
	for _, m := range s.p.manifests() {
		top := s.t.tops[m.dir]
		for _, d := range m.dependencies {
			w := s.seen(top, d.name)
			if w == nil || w.rel == nil || d.spec.kind != specRange && d.spec.kind != specGit || s.p.isMember(d.name) || s.overruled(top, d) {
				continue
			}
			was := s.was[wishKey{top, d.name}]
			rng := restated(d, w.rel.text, s.p.foreign != nil && was != w.rel.text)
			if rule := s.p.ruling(d); rule != nil {
				if was == w.rel.text {
					continue // what is asked for here has no effect
				}
				site := rule.Within(root.file, root.src)
				if write(root, site, restated(dependency{spec: readSpec(d.name, rule.String())}, w.rel.text, true)) {
					s.notices = append(s.notices, fmt.Sprintf("%s:%d lays down which %s everybody gets, and moves with it", site.File, site.Line, d.name))
				}
			}
			if rng != d.spec.text {
				write(m, d.site, d.spec.glue+rng)
				// npm wants an override of a requirement to say what that says.
				if same := m.doc.At("overrides", d.name); m == root && same.String() == d.spec.text {
					write(m, same.Within(m.file, m.src), rng)
				}
			}
			if was == w.rel.text && rng == d.spec.text {
				continue
			}
			key := s.keyOf(d)
			at := slices.IndexFunc(moves, func(o model.Move) bool { return o.Key() == key && o.From == was && o.To == w.rel.text })
			if at < 0 {
				at = len(moves)
				moves = append(moves, model.Move{
					Subject: model.Subject{Kind: Name, Name: d.spec.name}, Name: d.name, From: was, To: w.rel.text,
				}.At(key))
			}
			if rng != d.spec.text {
				moves[at].Sites = append(moves[at].Sites, d.site)
			}
		}
	}
	texts := map[string][]byte{}
	for _, m := range s.p.manifests() {
		text, err := model.Apply(m.src, splices[m])
		if err != nil {
			return nil, nil, err
		}
		if err := jsondoc.Keeps(m.file, m.src, text, aboutRequirements); err != nil {
			return nil, nil, err
		}
		texts[m.file] = text
	}
	model.SortMoves(moves)
	return texts, moves, nil
}

// reread reads the manifests' new texts.
func (s *resolver) reread(texts map[string][]byte) (map[*node]*manifest, error) {
	tops := map[*node]*manifest{}
	fsys := overlay.New(nil, texts)
	for _, m := range s.p.manifests() {
		moved, err := readManifest(fsys, m.dir)
		if err != nil {
			return nil, err
		}
		tops[s.t.tops[m.dir]] = moved
	}
	return tops, nil
}

// foreignOutcome is the manifests alone: the lock is another client's, which finds
// what is below the requirements.
func (s *resolver) foreignOutcome(texts map[string][]byte, moves []model.Move) *contract.State {
	o := &contract.State{Moves: moves, Notices: append(s.holeNotices(), s.notices...)}
	for _, m := range s.p.manifests() {
		if text := texts[m.file]; !bytes.Equal(text, m.src) {
			o.Edits = append(o.Edits, model.FileEdit{File: m.file, Old: m.src, New: text})
		}
	}
	f := s.p.foreign
	if _, err := s.reg.around.Ask(s.ctx, f.client, "--version"); err != nil && len(o.Edits) > 0 {
		o.Notices = append(o.Notices, f.byHand())
	}
	return o
}

func (s *resolver) outcome(texts map[string][]byte, tops map[*node]*manifest, moves []model.Move) (*contract.State, error) {
	o := &contract.State{Moves: moves, Notices: append(s.holeNotices(), s.notices...)}
	writer := lockWriter{t: s.t, old: s.p.lock, tops: tops, omitResolved: s.reg.settings.on("omit-lockfile-registry-resolved")}
	lock, err := writer.write()
	if err != nil {
		return nil, err
	}
	for _, m := range s.p.manifests() {
		if text := texts[m.file]; !bytes.Equal(text, m.src) {
			o.Edits = append(o.Edits, model.FileEdit{File: m.file, Old: m.src, New: text})
		}
	}
	switch {
	case s.p.lock == nil:
		o.Edits = append(o.Edits, model.FileEdit{File: s.p.lockFile, New: lock})
	case !bytes.Equal(lock, s.p.lock.src):
		o.Edits = append(o.Edits, model.FileEdit{File: s.p.lockFile, Old: s.p.lock.src, New: lock})
	}
	o.AsBefore = s.asBefore
	o.Carried, o.Notable = s.carried(moves), append(s.notable(), s.overrideNotes()...)
	if s.ask.Dedupe && s.p.lock != nil {
		if now, before := s.t.copies(), s.p.locked().copies(); now < before {
			o.Notable = append(o.Notable, fmt.Sprintf("copies of packages: %d, and %d before", now, before))
		}
	}
	return o, nil
}

// carried are the changes of packages that only the lock names: versions that
// came, went, or took another's place.
func (s *resolver) carried(moves []model.Move) []model.Move {
	before, after := s.p.locked().versions(), s.t.versions()
	direct := map[string][]model.Move{}
	for _, m := range moves {
		direct[m.Subject.Name] = append(direct[m.Subject.Name], m)
	}
	names := map[string]bool{}
	for name := range before {
		names[name] = true
	}
	for name := range after {
		names[name] = true
	}
	var carried []model.Move
	for _, name := range collated(names) {
		gone := slices.DeleteFunc(slices.Clone(before[name]), func(v string) bool { return slices.Contains(after[name], v) })
		came := slices.DeleteFunc(slices.Clone(after[name]), func(v string) bool { return slices.Contains(before[name], v) })
		for _, m := range direct[name] {
			gone = slices.DeleteFunc(gone, func(v string) bool { return v == m.From })
			came = slices.DeleteFunc(came, func(v string) bool { return v == m.To })
		}
		for i := range max(len(gone), len(came)) {
			m := model.Move{Subject: model.Subject{Kind: Name, Name: name}, Name: name}
			if i < len(gone) {
				m.From = gone[i]
			}
			if i < len(came) {
				m.To = came[i]
			}
			carried = append(carried, m)
		}
	}
	return carried
}

// copies counts the packages in the tree, each copy for itself.
func (t *tree) copies() (n int) {
	t.walk(func(k *node) {
		if !k.isTop() && k.linkTo == nil {
			n++
		}
	})
	return n
}

// versions are the versions of each package in the tree, ascending, each once.
func (t *tree) versions() map[string][]string {
	all := map[string][]string{}
	t.walk(func(n *node) {
		if !n.isTop() && n.linkTo == nil && n.version != "" && !slices.Contains(all[n.pkgName], n.version) {
			all[n.pkgName] = append(all[n.pkgName], n.version)
		}
	})
	for _, list := range all {
		slices.SortFunc(list, func(a, b string) int {
			va, errA := parseVersion(a)
			vb, errB := parseVersion(b)
			if errA != nil || errB != nil {
				return strings.Compare(a, b)
			}
			return va.Compare(vb)
		})
	}
	return all
}
