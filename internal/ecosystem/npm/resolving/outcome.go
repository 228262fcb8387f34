package resolving

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
	"bellwether/internal/ecosystem/npm/lockwriter"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// restated is the range that a dependency gets when it is at a version: the
// one it has if that contains the version. A range for peers is widened, not
// moved, since others rely on what it admits.
// With anew, a range that has the version says so, too.
func restated(d packagejson.Dependency, to string, anew bool) string {
	v, err := packagejson.ParseVersion(to)
	if err != nil || d.Spec.Range == nil || d.Spec.Range.Contains(v) && (!anew || d.Kind.IsPeer()) {
		return d.Spec.Text
	}
	if d.Kind.IsPeer() {
		return widened(d.Spec.Text, v)
	}
	return version.NPM{}.Restate(d.Spec.Text, v)
}

// widened is a range of peers that admits a version's line, too, written like its last
// alternative.
func widened(rng string, v version.Version) string {
	last := rng[strings.LastIndex(rng, "|")+1:]
	more := "^" + v.String()
	if first, err := packagejson.ParseVersion(lineStart(v)); err == nil {
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
	splices := map[*packagejson.Manifest][]model.Splice{}
	write := func(m *packagejson.Manifest, site model.Site, text string) (first bool) {
		if slices.ContainsFunc(splices[m], func(s model.Splice) bool { return s.Site == site }) {
			return false // it is asked for in several places
		}
		splices[m] = append(splices[m], model.Splice{Site: site, New: jsondoc.Inside(text)})
		return true
	}
	var moves []model.Move
	root := s.p.Root
	for _, m := range s.p.Manifests() {
		top := s.Tree.Tops[m.Dir]
		for _, d := range m.Dependencies {
			w := s.seen(top, d.Name)
			versioned := d.Spec.Kind == packagejson.SpecRange || d.Spec.Kind == packagejson.SpecGit
			if w == nil || w.rel == nil || !versioned || s.p.IsMember(d.Name) || s.overruled(top, d) {
				continue
			}
			was := s.was[wishKey{top, d.Name}]
			rng := restated(d, w.rel.Text, s.p.Foreign != nil && was != w.rel.Text)
			if rule := s.p.Ruling(d); rule != nil {
				if was == w.rel.Text {
					continue // what is asked for here has no effect
				}
				site := rule.Within(root.File, root.Src)
				if write(root, site, restated(packagejson.Dependency{Spec: packagejson.ReadSpec(d.Name, rule.String())}, w.rel.Text, true)) {
					s.Notices = append(s.Notices, fmt.Sprintf("%s:%d lays down which %s everybody gets, and moves with it", site.File, site.Line, d.Name))
				}
			}
			if rng != d.Spec.Text {
				write(m, d.Site, d.Spec.Glue+rng)
				// npm wants an override of a requirement to say what that says.
				if same := m.Doc.At("overrides", d.Name); m == root && same.String() == d.Spec.Text {
					write(m, same.Within(m.File, m.Src), rng)
				}
			}
			if was == w.rel.Text && rng == d.Spec.Text {
				continue
			}
			key := s.keyOf(d)
			at := slices.IndexFunc(moves, func(o model.Move) bool { return o.Key() == key && o.From == was && o.To == w.rel.Text })
			if at < 0 {
				at = len(moves)
				moves = append(moves, model.Move{
					Subject: model.Subject{Kind: packagejson.Name, Name: d.Spec.Name}, Name: d.Name, From: was, To: w.rel.Text,
				}.At(key))
			}
			if rng != d.Spec.Text {
				moves[at].Sites = append(moves[at].Sites, d.Site)
			}
		}
	}
	texts := map[string][]byte{}
	for _, m := range s.p.Manifests() {
		text, err := model.Apply(m.Src, splices[m])
		if err != nil {
			return nil, nil, err
		}
		if err := jsondoc.Keeps(m.File, m.Src, text, packagejson.AboutRequirements); err != nil {
			return nil, nil, err
		}
		texts[m.File] = text
	}
	model.SortMoves(moves)
	return texts, moves, nil
}

// reread reads the manifests' new texts.
func (s *resolver) reread(texts map[string][]byte) (map[*tree.Node]*packagejson.Manifest, error) {
	tops := map[*tree.Node]*packagejson.Manifest{}
	fsys := overlay.New(nil, texts)
	for _, m := range s.p.Manifests() {
		moved, err := packagejson.ReadManifest(fsys, m.Dir)
		if err != nil {
			return nil, err
		}
		tops[s.Tree.Tops[m.Dir]] = moved
	}
	return tops, nil
}

// foreignOutcome is the manifests alone: the lock is another client's, which finds
// what is below the requirements.
func (s *resolver) foreignOutcome(texts map[string][]byte, moves []model.Move) *contract.State {
	o := &contract.State{Moves: moves, Notices: append(s.HoleNotices(), s.Notices...)}
	for _, m := range s.p.Manifests() {
		if text := texts[m.File]; !bytes.Equal(text, m.Src) {
			o.Edits = append(o.Edits, model.FileEdit{File: m.File, Old: m.Src, New: text})
		}
	}
	f := s.p.Foreign
	if _, err := s.Registry.Around.Ask(s.Ctx, f.Client, "--version"); err != nil && len(o.Edits) > 0 {
		o.Notices = append(o.Notices, f.ByHand())
	}
	return o
}

func (s *resolver) outcome(
	texts map[string][]byte, tops map[*tree.Node]*packagejson.Manifest, moves []model.Move,
) (*contract.State, error) {
	o := &contract.State{Moves: moves, Notices: append(s.HoleNotices(), s.Notices...)}
	writer := lockwriter.Writer{
		Tree: s.Tree, Old: s.p.Lock, Tops: tops, OmitResolved: s.Registry.Settings.On("omit-lockfile-registry-resolved"),
	}
	lock, err := writer.Write()
	if err != nil {
		return nil, err
	}
	for _, m := range s.p.Manifests() {
		if text := texts[m.File]; !bytes.Equal(text, m.Src) {
			o.Edits = append(o.Edits, model.FileEdit{File: m.File, Old: m.Src, New: text})
		}
	}
	switch {
	case s.p.Lock == nil:
		o.Edits = append(o.Edits, model.FileEdit{File: s.p.LockFile, New: lock})
	case !bytes.Equal(lock, s.p.Lock.Src):
		o.Edits = append(o.Edits, model.FileEdit{File: s.p.LockFile, Old: s.p.Lock.Src, New: lock})
	}
	o.AsBefore = s.AsBefore
	o.Carried, o.Notable = s.carried(moves), append(s.notable(), s.overrideNotes()...)
	o.Doubled = s.doubled()
	o.InEffect = func() []model.Package { return s.p.InEffect(s.Tree) }
	if s.ask.Dedupe && s.p.Lock != nil {
		if now, before := copies(s.Tree), copies(s.p.Locked()); now < before {
			o.Notable = append(o.Notable, fmt.Sprintf("copies of packages: %d, and %d before", now, before))
		}
	}
	return o, nil
}

// carried are the changes of packages that only the lock names: versions that
// came, went, or took another's place.
func (s *resolver) carried(moves []model.Move) []model.Move {
	before, after := versions(s.p.Locked()), versions(s.Tree)
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
	for _, name := range packagejson.Collated(names) {
		gone := slices.DeleteFunc(slices.Clone(before[name]), func(v string) bool { return slices.Contains(after[name], v) })
		came := slices.DeleteFunc(slices.Clone(after[name]), func(v string) bool { return slices.Contains(before[name], v) })
		for _, m := range direct[name] {
			gone = slices.DeleteFunc(gone, func(v string) bool { return v == m.From })
			came = slices.DeleteFunc(came, func(v string) bool { return v == m.To })
		}
		for i := range max(len(gone), len(came)) {
			m := model.Move{Subject: model.Subject{Kind: packagejson.Name, Name: name}, Name: name}
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
func copies(t *tree.Tree) (n int) {
	t.Walk(func(k *tree.Node) {
		if !k.IsTop() && k.LinkTo == nil {
			n++
		}
	})
	return n
}

// versions are the versions of each package in the tree, ascending, each once.
func versions(t *tree.Tree) map[string][]string {
	all := map[string][]string{}
	t.Walk(func(n *tree.Node) {
		if !n.IsTop() && n.LinkTo == nil && n.Version != "" && !slices.Contains(all[n.Package], n.Version) {
			all[n.Package] = append(all[n.Package], n.Version)
		}
	})
	for _, list := range all {
		slices.SortFunc(list, func(a, b string) int {
			va, errA := packagejson.ParseVersion(a)
			vb, errB := packagejson.ParseVersion(b)
			if errA != nil || errB != nil {
				return strings.Compare(a, b)
			}
			return va.Compare(vb)
		})
	}
	return all
}
