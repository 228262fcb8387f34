// Package adapt repairs a project's source and configuration by the rules of compat books: those
// of a route, of moves that a call names, or of a leg that is being carried out.
package adapt

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
)

// Options say which rules are applied, and to what.
type Options struct {
	For      []string // moves: "NAME@FROM..TO"; none for those of the route
	Books    []string // files whose rules apply whatever moves
	Only     []string // rules by name; none for all
	Skip     []string
	Also     []string // folders that are rewritten although they look generated
	Commands []string // rules whose command may run
	// Ask asks a person for a yes to one rule, when it is applied; nil for yes to all but
	// commands.
	Ask func(r model.RepairResult) (bool, error)
}

// Plan is rules with what they would do.
type Plan struct {
	Result *model.AdaptResult
	rules  []*rewrite.Rule
	edits  []model.FileEdit
}

// Empty tells whether nothing would change.
func (p *Plan) Empty() bool { return len(p.edits) == 0 }

// job is rules that are applied to a project's files.
type job struct {
	desk  *desk.Desk
	tree  *tree.Tree
	kept  *kept.Store
	opt   Options
	rules []*rewrite.Rule
	moves []string
	books []*compat.Rule // all that apply
	way   []step
	laid  []model.FileEdit // what the tree has over the files as they lie on the disk
}

// Preview tells what the rules would do. Nothing is written, and no command runs.
func Preview(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (*Plan, error) {
	j := &job{desk: d, tree: t, kept: k, opt: opt}
	if err := j.choose(ctx); err != nil {
		return nil, err
	}
	return j.plan(ctx)
}

// Renames say where packages are that own sources import, by the rules of all books.
func Renames(ctx context.Context, d *desk.Desk, t *tree.Tree) ([]contract.Rename, error) {
	books, err := shelf.Read(ctx, d, t)
	if err != nil {
		return nil, err
	}
	return books.Renames(), nil
}

// choose finds the rules.
func (j *job) choose(ctx context.Context) error {
	books, err := shelf.Read(ctx, j.desk, j.tree)
	if err != nil {
		return err
	}
	steps, err := j.steps(ctx)
	if err != nil {
		return err
	}
	j.books, j.way = books.Rules, whole(steps)
	for _, s := range steps {
		j.moves = append(j.moves, s.moves...)
		j.crossing(books.Rules, s)
	}
	for _, name := range j.opt.Books {
		more, err := shelf.Only(j.tree, name)
		if err != nil {
			return err
		}
		for _, r := range more.Rules {
			if r.Repair != nil {
				j.add(r.Repair, nil)
			}
		}
	}
	if len(j.opt.Books) == 0 && len(steps) == 0 {
		return &model.Fault{
			Doing: "looking for rules", Wrong: "there is no route, and no move is named",
			Next: "compute a route, or name a move with --for NAME@FROM..TO, or a file of rules with --rules",
		}
	}
	return j.narrow()
}

// crossing adds the rules that a step's moves are for.
func (j *job) crossing(rules []*compat.Rule, s step) {
	for _, r := range rules {
		if r.Crosses(s.before, s.after) {
			j.add(r.Repair, s.part)
		}
	}
}

// add adds a rule for a component's files; part is nil for all. One that is there already is
// for more files then.
func (j *job) add(r *rewrite.Rule, part *tree.Part) {
	own := func(string) bool { return true }
	if part != nil {
		own = j.belonging(part)
	}
	for _, known := range j.rules {
		if known.ID == r.ID && known.Place == r.Place {
			before := known.Within
			known.Within = func(name string) bool { return before(name) || own(name) }
			return
		}
	}
	one := *r
	one.Within = own
	j.rules = append(j.rules, &one)
}

// belonging tells whether a file belongs to a component: it lies in its folder, and in no other
// component's below, or in the folder of none.
func (j *job) belonging(part *tree.Part) func(name string) bool {
	return func(name string) bool {
		inner := ""
		for _, p := range j.tree.Parts {
			if (p.Dir == "." || strings.HasPrefix(name, p.Dir+"/")) && len(p.Dir) > len(inner) {
				inner = p.Dir
			}
		}
		return inner == "" || inner == part.Dir
	}
}

// narrow keeps the rules that the call asks for.
func (j *job) narrow() error {
	var names []string
	for _, r := range j.rules {
		names = append(names, r.ID)
	}
	for _, id := range slices.Concat(j.opt.Only, j.opt.Skip, j.opt.Commands) {
		if !slices.Contains(names, id) {
			next := spelling.DidYouMean(id, names)
			if next == "" && len(names) > 0 {
				next = "the rules are " + spelling.Few(names, 20)
			}
			return &model.Fault{Doing: "choosing rules", Wrong: fmt.Sprintf("no rule %q is for these moves", id), Next: next}
		}
	}
	j.rules = slices.DeleteFunc(j.rules, func(r *rewrite.Rule) bool {
		return len(j.opt.Only) > 0 && !slices.Contains(j.opt.Only, r.ID) || slices.Contains(j.opt.Skip, r.ID)
	})
	return nil
}

// plan applies the rules to the files as they are in the tree.
func (j *job) plan(ctx context.Context) (*Plan, error) {
	in, err := j.input(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range j.rules {
		if err := r.Judge(ctx); err != nil {
			return nil, err
		}
	}
	result, err := rewrite.Run(ctx, j.rules, in)
	if err != nil {
		return nil, err
	}
	p := &Plan{Result: j.told(result), rules: j.rules, edits: result.Edits}
	for _, s := range j.way {
		found, err := j.unread(ctx, j.books, s, p.edits)
		if err != nil {
			return nil, err
		}
		p.Result.Keys = append(p.Result.Keys, found...)
	}
	return p, nil
}

// input is the project's own files: not what git ignores, and no locks.
func (j *job) input(ctx context.Context) (in rewrite.Input, err error) {
	locks := map[string]bool{}
	for _, part := range j.tree.Parts {
		for _, l := range part.Locks {
			locks[l.File] = true
		}
	}
	for _, name := range j.tree.Files.Files() {
		if !locks[name] && !j.tree.Files.IsLink(name) && path.Base(name) != "go.sum" {
			in.Names = append(in.Names, name)
		}
	}
	ignored := map[string]bool{}
	repo, err := j.kept.OpenRepo(ctx)
	if err != nil {
		return in, err
	}
	if repo != nil {
		if ignored, err = repo.Ignored(ctx, j.desk.Root, in.Names); err != nil {
			return in, err
		}
	}
	also := func(name string) bool {
		return slices.ContainsFunc(
			j.opt.Also,
			func(dir string) bool { return strings.HasPrefix(name, path.Clean(dir)+"/") || name == path.Clean(dir) },
		)
	}
	all := in.Names
	in.Names = slices.DeleteFunc(slices.Clone(all), func(name string) bool { return ignored[name] && !also(name) })
	in.All = all
	in.Ignored = func(name string) bool { return ignored[name] }
	in.Also = also
	files := j.tree.Files.FS
	in.Read = func(name string) ([]byte, error) { return readFile(files, name) }
	return in, nil
}

// told is the result of a run for people.
func (j *job) told(result *rewrite.Result) *model.AdaptResult {
	r := &model.AdaptResult{For: slices.Compact(slices.Sorted(slices.Values(j.moves))), Rules: []model.RepairResult{}}
	if r.For == nil {
		r.For = []string{}
	}
	for _, o := range result.Outcomes {
		one := model.RepairResult{
			Rule: o.Rule.ID, Kind: o.Rule.Body.Kind(), Says: o.Rule.Says(), Because: o.Rule.Because, Source: o.Rule.Source, Place: o.Rule.Place,
			Files: o.Files, Refused: o.Rule.Refused,
		}
		for _, p := range o.Places {
			one.Places = append(one.Places, model.Site{File: p.File, Line: p.Line}.String())
		}
		one.Left = left(o.Left)
		switch o.Rule.Body.(type) {
		case *rewrite.Command:
			one.Waits = "it runs a command, which needs a yes: --allow-command " + o.Rule.ID
		case *rewrite.Requirement:
			one.Waits = "a requirement changes with the leg, which is solved anew for it"
		}
		r.Rules = append(r.Rules, one)
	}
	for _, o := range result.Overlaps {
		r.Overlaps = append(
			r.Overlaps,
			model.RepairOverlap{Place: model.Site{File: o.File, Line: o.Line}.String(), First: o.First, Second: o.Second},
		)
	}
	r.Skipped = left(result.Skipped)
	r.Diff = Diff(result.Edits)
	return r
}

func left(all []rewrite.Left) (told []model.RepairLeft) {
	for _, l := range all {
		told = append(told, model.RepairLeft{Place: model.Site{File: l.File, Line: l.Line}.String(), Reason: l.Reason})
	}
	return told
}

// step is what moves at once in a component.
type step struct {
	part          *tree.Part // nil for all files
	before, after compat.World
	moves         []string
}

// others are the versions in a world that stay beside those of a move: where declarations of one package are at several
// versions, a rule is for each of them.
func (s *step) others(world compat.World, leg *model.Leg, m model.Move, subject model.Subject) (all []version.Version) {
	if m.Place == "" {
		return nil
	}
	for _, v := range world[subject] {
		gone := slices.ContainsFunc(leg.Moves, func(o model.Move) bool { return o.Name == m.Name && o.From == v.String() })
		if !gone {
			all = append(all, v)
		}
	}
	return all
}

// steps are those of the moves that the call names, or of the route's legs.
func (j *job) steps(ctx context.Context) ([]step, error) {
	if len(j.opt.For) > 0 {
		return j.named(ctx)
	}
	if len(j.opt.Books) > 0 {
		return nil, nil
	}
	file, err := j.kept.Route(ctx, j.tree)
	if file == nil || err != nil {
		return nil, err
	}
	journey, err := j.kept.Journey()
	if err != nil {
		return nil, err
	}
	var steps []step
	worlds := map[string]compat.World{}
	for i := range file.Legs {
		leg := &file.Legs[i]
		if record := journey.Find(leg.ID); record != nil && record.Status == kept.Done {
			continue
		}
		part := j.tree.Part(leg.Component)
		if part == nil && leg.Component != "" { // one of places alone has none
			return nil, &model.Fault{
				Doing: "looking for what rules are about", File: kept.RouteFile,
				Wrong: fmt.Sprintf("the route no longer fits: there is no component %q that can be read", leg.Component),
				Next:  "compute the route again with bellwether route",
			}
		}
		world, known := worlds[leg.Component]
		if !known {
			if world, err = World(ctx, j.desk, j.tree, part); err != nil {
				return nil, err
			}
		}
		// A leg that waits for a repair has moved its versions already.
		s := step{part: part, before: world.With(nil), after: world.With(nil)}
		for _, m := range leg.Moves {
			if v, err := j.tree.Table.Order(m.Subject.Kind).Parse(m.From); err == nil {
				s.before[m.Subject] = append(s.others(s.before, leg, m, m.Subject), v)
			}
			if v, err := j.tree.Table.Order(m.Subject.Kind).Parse(m.To); err == nil {
				called := j.called(ctx, part, m)
				s.after[called] = append(s.others(s.after, leg, m, called), v)
				s.moves = append(s.moves, fmt.Sprintf("%s %s to %s", m.Spoken(), m.From, m.To))
			}
		}
		worlds[leg.Component] = s.after
		steps = append(steps, s)
	}
	return steps, nil
}

// called is a package as it is called after a move: a later major may have another name.
func (j *job) called(ctx context.Context, part *tree.Part, m model.Move) model.Subject {
	if part == nil || m.Subject.IsPin() {
		return m.Subject
	}
	registry, err := j.desk.Registry(ctx, part)
	if err != nil {
		return m.Subject
	}
	releases, err := registry.Releases(ctx, m.Subject)
	at := slices.IndexFunc(releases, func(r model.Release) bool { return r.Version == m.To && r.As != "" })
	if err != nil || at < 0 {
		return m.Subject // what cannot be asked for keeps its name
	}
	return model.Subject{Kind: m.Subject.Kind, Name: releases[at].As}
}

// whole are steps of the same components as one step each, from their first to their last state.
func whole(steps []step) (whole []step) {
	for _, s := range steps {
		at := slices.IndexFunc(whole, func(o step) bool { return o.part == s.part })
		if at < 0 {
			whole = append(whole, s)
		} else {
			whole[at].after = whole[at].after.With(s.after)
		}
	}
	return whole
}

// named are the steps of moves that a call names.
func (j *job) named(ctx context.Context) (steps []step, err error) {
	for _, text := range j.opt.For {
		at := strings.LastIndexByte(text, '@')
		from, to, ok := "", "", false
		if at > 0 {
			from, to, ok = strings.Cut(text[at+1:], "..")
		}
		if !ok {
			return nil, &model.Fault{
				Doing: "reading --for",
				Wrong: fmt.Sprintf("%q is no move", text),
				Next:  "write NAME@FROM..TO, like quayside@3.1.0..4.0.0",
			}
		}
		parts, subject, err := j.about(text[:at])
		if err != nil {
			return nil, err
		}
		order := j.tree.Table.Order(subject.Kind)
		if order == nil {
			return nil, &model.Fault{Doing: "reading --for", Wrong: fmt.Sprintf("%s is of no ecosystem that is known here", subject)}
		}
		read := func(part *tree.Part, text string) (version.Version, error) {
			if part.Eco.Type() == subject.Kind {
				return part.Version(text)
			}
			return version.Complete(order, text)
		}
		for _, part := range parts {
			before, err := read(part, from)
			if err != nil {
				return nil, &model.Fault{Doing: "reading --for", Wrong: err.Error()}
			}
			after, err := read(part, to)
			if err != nil {
				return nil, &model.Fault{Doing: "reading --for", Wrong: err.Error()}
			}
			world, err := World(ctx, j.desk, j.tree, part)
			if err != nil {
				return nil, err
			}
			s := step{
				part:   part,
				before: world.With(nil),
				after:  world.With(nil),
				moves:  []string{fmt.Sprintf("%s %s to %s", text[:at], from, to)},
			}
			s.before[subject], s.after[subject] = []version.Version{before}, []version.Version{after}
			steps = append(steps, s)
		}
	}
	return steps, nil
}

// about finds what a name means: a requirement of components, or a subject with its kind.
func (j *job) about(name string) (parts []*tree.Part, subject model.Subject, err error) {
	for _, part := range j.tree.Parts {
		if s, ok := part.SubjectOf(name); ok {
			parts, subject = append(parts, part), s
		}
	}
	if len(parts) > 0 {
		return parts, subject, nil
	}
	subject, ok := model.ReadSubject(name)
	if ok && j.tree.Table.Order(subject.Kind) != nil {
		return j.tree.Parts, subject, nil
	}
	var known []string
	for _, part := range j.tree.Parts {
		for _, r := range part.Requirements {
			known = append(known, r.Name)
		}
	}
	return nil, subject, &model.Fault{
		Doing: "reading a move", Wrong: fmt.Sprintf("no manifest requires %q", name), Next: spelling.DidYouMean(name, known),
	}
}

// World is what is in effect for a component: its packages, and what the project states of
// runtimes, tools, platforms and images. Part is nil for the latter only.
func World(ctx context.Context, d *desk.Desk, t *tree.Tree, part *tree.Part) (compat.World, error) {
	world := compat.World{}
	if part != nil {
		packages, err := d.EffectiveIn(ctx, part)
		if err != nil {
			return nil, err
		}
		world = tree.NewPackages(t.Table, packages).World()
	}
	places, err := t.Places()
	if err != nil {
		return nil, err
	}
	places.Add(world)
	return world, nil
}
