package adapt

import (
	"context"
	"fmt"
	"path"
	"slices"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/host/git"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/todo"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// Apply does what the rules do, in one journalled set. A clean working tree is wanted. What is
// left to be done is noted.
func Apply(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (*model.AdaptResult, error) {
	repo, release, err := k.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := clean(ctx, k, repo); err != nil {
		return nil, err
	}
	j := &job{desk: d, tree: t, kept: k, opt: opt}
	if err := j.choose(ctx); err != nil {
		return nil, err
	}
	p, err := j.plan(ctx)
	if err != nil {
		return nil, err
	}
	if p, err = j.confirmed(ctx, p); err != nil {
		return nil, err
	}
	edits, err := j.commands(ctx, repo, p)
	if err != nil {
		return nil, err
	}
	if noted, err := todo.Note(t.Over(edits).FS, notable(p.Result.Rules, p.rules), "", d.Today()); err != nil {
		return nil, err
	} else if len(noted) > 0 {
		edits = append(edits, noted...)
	}
	if err := k.WriteAside(ctx, repo, "adapt", "what rules repair", edits); err != nil {
		return nil, err
	}
	p.Result.Applied = true
	return p.Result, nil
}

// clean refuses a working tree with changes, but for those of a leg that waits for a repair.
func clean(ctx context.Context, k *kept.Store, repo *git.Repo) error {
	journey, err := k.Journey()
	if err != nil {
		return err
	}
	if last := journey.Last(); last != nil && last.Status == kept.Repair {
		return nil
	}
	_, err = kept.CheckClean(ctx, repo, "repairing by rules", "so that the repairs can be looked at and taken back by themselves")
	return err
}

// confirmed asks for a yes to each rule that would do something, and plans anew without those
// that got none.
func (j *job) confirmed(ctx context.Context, p *Plan) (*Plan, error) {
	if j.opt.Ask == nil {
		return p, nil
	}
	var refused []string
	for i, r := range p.Result.Rules {
		_, isCommand := p.rules[i].Body.(*rewrite.Command)
		if len(r.Files) == 0 && !isCommand {
			continue
		}
		yes, err := j.opt.Ask(r)
		if err != nil {
			return nil, err
		}
		switch {
		case !yes:
			refused = append(refused, r.Rule)
		case isCommand:
			j.opt.Commands = append(j.opt.Commands, r.Rule)
		}
	}
	if len(refused) == 0 {
		return p, nil
	}
	j.rules = slices.DeleteFunc(j.rules, func(r *rewrite.Rule) bool { return slices.Contains(refused, r.ID) })
	return j.plan(ctx)
}

// notable are the rules that leave something for a person to do: places of a to-do, and keys
// that stay for the time being.
func notable(results []model.RepairResult, rules []*rewrite.Rule) (notable []model.RepairResult) {
	for i, r := range results {
		switch b := rules[i].Body.(type) {
		case *rewrite.ToDo:
			notable = append(notable, r)
		case *rewrite.Key:
			if b.Keep {
				notable = append(notable, r)
			}
		}
	}
	return notable
}

// Leg is a leg for which the project is repaired.
type Leg struct {
	Desk          *desk.Desk
	Before, After *tree.Tree       // the project before the leg, and with its versions moved
	Edits         []model.FileEdit // that make After of Before
	Kept          *kept.Store
	Repo          *git.Repo // nil for none
	ID            string
	Component     string   // its ID; empty for one of runtimes, tools and images
	Commands      []string // rules whose command may run
	Skip          []string
}

// Repair gives the edits that the rules for a leg's moves make, on top of the leg's own, and
// tells what they do and which keys nobody reads any more.
func (l Leg) Repair(ctx context.Context) (edits []model.FileEdit, told *model.AdaptResult, err error) {
	j, err := l.job(ctx)
	if err != nil || len(j.rules) == 0 && !slices.ContainsFunc(j.books, func(r *compat.Rule) bool { return r.Keys != nil }) {
		return nil, &model.AdaptResult{}, err
	}
	p, err := j.plan(ctx)
	if err != nil {
		return nil, nil, err
	}
	if edits, err = j.commands(ctx, l.Repo, p); err != nil {
		return nil, nil, err
	}
	noted, err := todo.Note(l.After.Over(edits).FS, notable(p.Result.Rules, p.rules), l.ID, l.Desk.Today())
	if err != nil {
		return nil, nil, err
	}
	return world.MergeEdits(edits, noted), p.Result, nil
}

// job has the rules that the leg's moves are for.
func (l Leg) job(ctx context.Context) (*job, error) {
	j := &job{desk: l.Desk, tree: l.After, kept: l.Kept, laid: l.Edits, opt: Options{Commands: l.Commands, Skip: l.Skip}}
	books, err := shelf.Read(ctx, l.Desk, l.After)
	if err != nil {
		return nil, err
	}
	s := step{part: l.After.Part(l.Component)}
	if s.before, err = World(ctx, l.Desk, l.Before, l.Before.Part(l.Component)); err != nil {
		return nil, err
	}
	if s.after, err = World(ctx, l.Desk, l.After, s.part); err != nil {
		return nil, err
	}
	j.books, j.way = books.Rules, []step{s}
	j.crossing(books.Rules, s)
	j.rules = slices.DeleteFunc(j.rules, func(r *rewrite.Rule) bool { return slices.Contains(l.Skip, r.ID) })
	return j, nil
}

// Requirements are what the rules for a leg's moves want of the manifest, as far as it is not so
// already.
func (l Leg) Requirements(ctx context.Context) (wanted []rewrite.Requirement, err error) {
	j, err := l.job(ctx)
	if err != nil {
		return nil, err
	}
	part := l.After.Part(l.Component)
	for _, r := range j.rules {
		b, ok := r.Body.(*rewrite.Requirement)
		if !ok || part == nil {
			continue
		}
		has := part.Declares
		if b.Old != "" && !has(b.Old) || b.New != "" && has(b.New) {
			continue
		}
		wanted = append(wanted, *b)
	}
	return wanted, nil
}

// commands runs the commands that someone said yes to, one after the other in a scratch that has
// the edits so far, and gives all edits. What a command changes of files under version control
// counts; other files that it writes do not.
func (j *job) commands(ctx context.Context, repo *git.Repo, p *Plan) ([]model.FileEdit, error) {
	edits := p.edits
	for i, r := range p.rules {
		b, ok := r.Body.(*rewrite.Command)
		if !ok || !slices.Contains(j.opt.Commands, r.ID) {
			continue
		}
		changed, err := j.command(ctx, repo, r, b, edits)
		if err != nil {
			return nil, err
		}
		one := &p.Result.Rules[i]
		one.Waits = ""
		for _, e := range changed {
			one.Files = append(one.Files, e.File)
			one.Places = append(one.Places, e.File)
		}
		edits = world.MergeEdits(edits, changed)
	}
	if len(edits) != len(p.edits) {
		p.Result.Diff = Diff(edits)
	}
	return edits, nil
}

// logOf is where what a rule's command prints is kept.
func logOf(r *rewrite.Rule) string { return path.Join("logs", "adapt", r.ID+".log") }

// command runs one, and gives what it changes.
func (j *job) command(
	ctx context.Context,
	repo *git.Repo,
	r *rewrite.Rule,
	b *rewrite.Command,
	edits []model.FileEdit,
) (changed []model.FileEdit, err error) {
	s, err := j.kept.Scratches(repo).New(ctx, world.MergeEdits(j.laid, edits))
	if err != nil {
		return nil, err
	}
	defer func() {
		if derr := s.Drop(); err == nil && derr != nil {
			err = derr
		}
	}()
	if err := j.runs(ctx, s, r, b); err != nil {
		return nil, err
	}
	tracked, err := s.Tracked(ctx)
	if err != nil {
		return nil, err
	}
	all, err := s.Changed(j.desk.Root, ".")
	if err != nil {
		return nil, fmt.Errorf("looking at what the rule %s changed: %w", r.ID, err)
	}
	for _, e := range all {
		same := func(o model.FileEdit) bool {
			return o.File == e.File && string(o.New) == string(e.New) && (o.New == nil) == (e.New == nil)
		}
		known := repo == nil || tracked[e.File]
		if known && !slices.ContainsFunc(edits, same) && !slices.ContainsFunc(j.laid, same) {
			changed = append(changed, e)
		}
	}
	return changed, nil
}
