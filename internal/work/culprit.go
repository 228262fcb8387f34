package work

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/renameio/v2"

	"bellwether/internal/core/culprit"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/host/git"
	"bellwether/internal/host/probe"
)

// CulpritOptions say how far the search for a culprit goes.
type CulpritOptions struct {
	Trials int           // at most so many; 0 for no bound
	For    time.Duration // at most so long; 0 for no bound
	Split  bool          // also between which versions of a single culprit it breaks
	Part   bool          // make a leg of its own of the culprit, behind what passes without it
}

// Culprit finds which moves of the leg that waits for a repair break it, by trying
// parts of it from clean. The tree stays as it is, but with Part.
func (p *Project) Culprit(ctx context.Context, opt CulpritOptions) (*model.CulpritResult, error) {
	repo, release, err := p.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	l, err := p.newLab(ctx, repo, opt)
	if err != nil {
		return nil, err
	}
	result, err := l.find(ctx)
	if err != nil || !opt.Part {
		return result, err
	}
	return result, l.part(ctx, result)
}

// lab tries parts of a leg.
type lab struct {
	*Project          // as it was before the leg
	now      *Project // as it is
	opt      CulpritOptions
	repo     *git.Repo // nil for none
	file     *routeFile
	journey  *journey
	record   *legRecord
	leg      *fileLeg
	restore  []model.FileEdit // what takes the leg back
	moves    []fileMove       // the leg's, of packages
	symptoms []symptom
	baseline *finding.Verification
	until    string // the last stage that shows a symptom
	deadline time.Time
	mu       sync.Mutex // of what follows, and of solving
	trials   int
	kept     map[string]keptTrial
	seen     map[string]int // how often this call asked about a state
}

// symptom is a test or a stage that fails with the leg and did not before.
type symptom struct {
	component, stage, test string
}

// String names the symptom for people.
func (s symptom) String() string {
	name := s.test
	if name == "" {
		name = "the stage " + s.stage
	}
	if s.component != "." {
		name = s.component + ": " + name
	}
	return name
}

// keptTrial is what came of a state, for later calls.
type keptTrial struct {
	Resolved bool     `json:"resolved"`
	Failing  []string `json:"failing"`
	Times    int      `json:"times"` // how often it was tried
}

func (p *Project) newLab(ctx context.Context, repo *git.Repo, opt CulpritOptions) (*lab, error) {
	l := &lab{now: p, opt: opt, repo: repo, kept: map[string]keptTrial{}, seen: map[string]int{}}
	var err error
	if l.file, err = p.readRoute(); err != nil {
		return nil, err
	}
	if l.journey, err = p.readJourney(); err != nil {
		return nil, err
	}
	l.record = l.journey.last()
	if l.file == nil || l.record == nil || l.record.Status != legRepair {
		return nil, &model.Fault{Doing: "looking for a culprit", Wrong: "no leg waits for a repair", Next: "bellwether advance carries out the next leg; culprit tells which of its moves breaks something"}
	}
	at := slices.IndexFunc(l.file.Legs, func(leg fileLeg) bool { return leg.ID == l.record.ID })
	if at < 0 {
		return nil, &model.Fault{Doing: "looking for a culprit", File: keepDir + "/route.yaml", Wrong: "the leg " + l.record.ID + " is no longer in the route"}
	}
	l.leg = &l.file.Legs[at]
	for _, m := range l.leg.Moves {
		if _, isPin := m.pin(); !isPin {
			l.moves = append(l.moves, m)
		}
	}
	if len(l.moves) == 0 {
		return nil, &model.Fault{Doing: "looking for a culprit", Wrong: "leg " + l.leg.ID + " moves no package, so there is nothing to part", Next: "repair what fails, or take the leg back with bellwether undo", Found: true}
	}
	if l.restore, err = p.restoring(l.record); err != nil {
		return nil, err
	}
	if l.Project, err = p.at(overlay.With(p.fsys, l.restore)); err != nil {
		return nil, err
	}
	l.prepare()
	if err := l.readSymptoms(); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(p.keep("trials.json"))
	if err == nil {
		_ = json.Unmarshal(data, &l.kept) // one that cannot be read is made anew
	}
	return l, nil
}

// prepare readies what trials go by.
func (l *lab) prepare() {
	l.Project.opt.Preview = append(slices.Clone(l.Project.opt.Preview), l.file.Preview...)
	if at, err := time.Parse(time.RFC3339, l.file.AsOf); err == nil {
		l.Project.opt.AsOf = at
	}
	l.Project.opt.Report = nil // trials tell of themselves as a whole
	if l.opt.For > 0 {
		l.deadline = time.Now().Add(l.opt.For)
	}
}

// at is the project with other files, read anew.
func (p *Project) at(fsys fs.FS) (*Project, error) {
	other := *p
	other.fsys, other.start, other.Components = fsys, nil, nil
	for _, part := range p.Components {
		after, err := part.after(fsys)
		if err != nil {
			return nil, err
		}
		after.registry = nil // it may go by other options
		other.Components = append(other.Components, after)
	}
	return &other, nil
}

// keepResult keeps what came of a leg, for the search for a culprit and for reports.
func (p *Project) keepResult(id string, v *finding.Verification) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(p.keep("results"), 0o755); err != nil {
		return err
	}
	return renameio.WriteFile(p.keep("results", id+".json"), append(data, '\n'), 0o644)
}

// readSymptoms takes from the leg's verification what fails, and did not before.
func (l *lab) readSymptoms() error {
	fault := &model.Fault{Doing: "looking for a culprit", Wrong: "what the leg's verification found is not kept", Next: "run bellwether advance once more, which verifies the leg again", Found: true}
	data, err := os.ReadFile(l.now.keep("results", l.leg.ID+".json"))
	if err != nil {
		return fault
	}
	v := &finding.Verification{}
	if l.baseline = l.now.baseline(); l.baseline == nil || json.Unmarshal(data, v) != nil {
		return fault
	}
	order := []string{}
	for _, s := range v.Stages {
		c := finding.Compare(l.baseline, &finding.Verification{Stages: []finding.Stage{s}})
		for _, t := range c.NewlyFailing {
			l.symptoms = append(l.symptoms, symptom{s.Component, s.Name, t.Name})
		}
		if len(c.BrokenStages) > 0 {
			l.symptoms = append(l.symptoms, symptom{s.Component, s.Name, ""})
		}
		if !slices.Contains(order, s.Name) {
			order = append(order, s.Name)
		}
	}
	if len(l.symptoms) == 0 {
		return &model.Fault{Doing: "looking for a culprit", Wrong: "nothing fails with leg " + l.leg.ID + " that did not fail before", Next: "bellwether advance verifies it again and commits it", Found: true}
	}
	last := 0
	for _, s := range l.symptoms {
		last = max(last, slices.Index(order, s.stage))
	}
	l.until = order[last]
	return nil
}

func (l *lab) find(ctx context.Context) (*model.CulpritResult, error) {
	needs, err := l.needs(ctx)
	if err != nil {
		return nil, err
	}
	problem := culprit.Problem{Moves: len(l.moves), Needs: needs, Parallel: l.atOnce(), Tell: l.known}
	for _, s := range l.symptoms {
		problem.Symptoms = append(problem.Symptoms, s.String())
	}
	begun := time.Now()
	answer, err := culprit.Find(ctx, problem, l.try)
	if err != nil {
		return nil, err
	}
	result := &model.CulpritResult{Leg: l.leg.ID, Moves: len(l.moves), Spent: answer.Spent, Unstable: answer.Unstable, Rest: l.names(answer.Rest)}
	for _, c := range answer.Culprits {
		set := model.CulpritSet{Moves: l.summaries(c.Moves), With: l.summaries(c.With), Breaks: c.Symptoms, Certain: c.Certain}
		if l.opt.Split && len(c.Moves) == 1 && c.Certain && !answer.Spent {
			if err := l.split(ctx, c, &set, result); err != nil {
				return nil, err
			}
		}
		result.Culprits = append(result.Culprits, set)
	}
	result.Trials = l.trials
	result.Duration = time.Since(begun).Round(time.Millisecond)
	return result, nil
}

// maxAtOnce is how many trials run at a time where the machine has the cores for it.
const maxAtOnce = 2

// atOnce is how many trials may run at a time. Programs that are started at a port of
// their own would be in each other's way.
func (l *lab) atOnce() int {
	for _, part := range l.Components {
		for _, stage := range l.stages(part) {
			for _, pr := range stage.Probes {
				if address := probe.Address(pr); address != "" && !strings.Contains(address, portMark) {
					return 1
				}
			}
		}
	}
	return min(maxAtOnce, runtime.NumCPU())
}

// needs are, by move, the others of the leg that move along when it alone is asked
// for. A move that does not go even so needs all of them.
func (l *lab) needs(ctx context.Context) ([][]int, error) {
	needs := make([][]int, len(l.moves))
	for i := range l.moves {
		state, _, err := l.solve(ctx, []int{i}, "", true)
		if errors.As(err, new(*solve.Conflict)) || isFound(err) {
			for j := range l.moves {
				needs[i] = append(needs[i], j)
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		for j, m := range l.moves {
			if j != i && slices.ContainsFunc(state.Moves, func(o model.Move) bool { return o.Name == m.Name && o.To == m.To }) {
				needs[i] = append(needs[i], j)
			}
		}
	}
	return needs, nil
}

// solve finds the state with some of the leg's moves. With free, the leg's other moves
// may be made where these need them; at is another version than the leg's for the
// first of them, "" for that.
func (l *lab) solve(ctx context.Context, moves []int, at string, free bool) (*route.State, []model.FileEdit, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	part := l.partOf(l.leg)
	if part == nil {
		return nil, nil, fmt.Errorf("there is no component %q", l.leg.Component)
	}
	w, err := l.world(ctx, part)
	if err != nil {
		return nil, nil, err
	}
	order := part.eco.Order()
	goal := route.Goal{Bounds: staying(part, "it is not tried"), Dedupe: l.leg.Dedupe, Apart: l.leg.Apart, Also: map[string]string{}}
	for _, o := range l.leg.Overrides {
		goal.Overrides = append(goal.Overrides, model.Override(o))
	}
	for i, m := range l.moves {
		chosen := slices.Index(moves, i)
		to := m.To
		if chosen == 0 && at != "" {
			to = at
		}
		aim, err := order.Parse(to)
		if err != nil {
			return nil, nil, err
		}
		switch {
		case m.Range != "" && chosen >= 0:
			goal.Changes = append(goal.Changes, m.change())
			delete(goal.Bounds, m.Name)
		case chosen >= 0:
			goal.Bounds[m.Name] = route.Bound{Allow: func(v version.Version) bool { return v.Compare(aim) == 0 }, Why: m.Name + " is tried at " + to}
			goal.First = append(goal.First, m.Name)
		case free && m.Range == "" && m.From != "":
			from, err := order.Parse(m.From)
			if err != nil {
				return nil, nil, err
			}
			goal.Bounds[m.Name] = route.Bound{Allow: between(from, aim, at != ""), Why: m.Name + " may move along"}
		}
		goal.Also[m.Name] = to
	}
	state, err := w.Solve(ctx, goal)
	if err != nil {
		return nil, nil, err
	}
	return state, w.last.Edits, nil
}

// between allows one of two versions, or with all also what lies between.
func between(from, to version.Version, all bool) func(version.Version) bool {
	return func(v version.Version) bool {
		a, b := v.Compare(from), v.Compare(to)
		return a == 0 || b == 0 || all && (a > 0) != (b > 0)
	}
}

// try makes a part of the leg from clean, and tells which symptoms it shows.
func (l *lab) try(ctx context.Context, moves []int) (culprit.Result, error) {
	_, edits, err := l.solve(ctx, moves, "", false)
	if errors.As(err, new(*solve.Conflict)) || isFound(err) {
		return culprit.Result{}, nil
	}
	if err != nil {
		return culprit.Result{}, err
	}
	return l.verified(ctx, fmt.Sprintf("%d of %d moves", len(moves), len(l.moves)), edits)
}

// verified tells which symptoms a state shows; one that was tried before is not
// verified again.
func (l *lab) verified(ctx context.Context, what string, edits []model.FileEdit) (culprit.Result, error) {
	edits = mergeEdits(l.restore, edits)
	key := stateKey(l.baseline, edits)
	if r, known := l.knownTrial(key); known {
		l.now.tell(Event{Text: what, Done: true, Good: !r.Resolved || len(l.shown(r)) == 0, Note: "known from an earlier call"})
		return r, nil
	}
	number, err := l.spend()
	if err != nil {
		return culprit.Result{}, err
	}
	label := fmt.Sprintf("trial %d", number)
	v, _, err := l.verify(ctx, verifying{repo: l.repo, edits: edits, label: filepath.Join("culprit", strings.ReplaceAll(label, " ", "-")), before: l.baseline, until: l.until, only: l.concerned()})
	if err != nil {
		return culprit.Result{}, err
	}
	r := l.read(v)
	shown := l.shown(r)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen[key]++
	l.kept[key] = keptTrial{r.Resolved, shown, l.kept[key].Times + 1}
	note := "passes"
	switch {
	case !r.Resolved:
		note = "cannot be tried, since something else fails"
	case len(shown) > 0:
		note = "fails: " + few(shown)
	}
	l.now.tell(Event{Text: label + ": " + what, Done: true, Good: len(shown) == 0, Note: note})
	return r, l.keepTrials()
}

// knownTrial is what came of a state in an earlier call. A state that is asked for
// once more, to confirm what it shows, is known if it was tried as often.
func (l *lab) knownTrial(key string) (culprit.Result, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	k := l.kept[key]
	if l.seen[key] >= k.Times {
		return culprit.Result{}, false
	}
	l.seen[key]++
	r := culprit.Result{Resolved: k.Resolved, Failing: map[string]bool{}}
	for _, name := range k.Failing {
		r.Failing[name] = true
	}
	return r, true
}

// spend takes a trial from the budget, and gives its number.
func (l *lab) spend() (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.opt.Trials > 0 && l.trials >= l.opt.Trials || !l.deadline.IsZero() && time.Now().After(l.deadline) {
		return 0, culprit.ErrSpent
	}
	l.trials++
	return l.trials, nil
}

// shown are the symptoms that a result shows.
func (l *lab) shown(r culprit.Result) (names []string) {
	for _, s := range l.symptoms {
		if r.Failing[s.String()] {
			names = append(names, s.String())
		}
	}
	return names
}

// read takes the symptoms from a verification. Where another stage fails before a
// symptom could show, nothing is known.
func (l *lab) read(v *finding.Verification) culprit.Result {
	r := culprit.Result{Resolved: true, Failing: map[string]bool{}}
	for _, s := range v.Stages {
		shows := slices.ContainsFunc(l.symptoms, func(o symptom) bool { return o.component == s.Component && o.stage == s.Name })
		if !shows && finding.NewlyRed(l.baseline, s) {
			r.Resolved = false
		}
		for _, o := range l.symptoms {
			if o.component != s.Component || o.stage != s.Name {
				continue
			}
			failing := slices.ContainsFunc(s.Tests, func(t finding.Test) bool { return t.Name == o.test && t.Failed() })
			r.Failing[o.String()] = failing || o.test == "" && s.Red()
			// A test that did not run, since the stage failed as a whole, says nothing.
			ran := slices.ContainsFunc(s.Tests, func(t finding.Test) bool { return t.Name == o.test })
			if o.test != "" && !ran && s.Red() {
				r.Failing[o.String()] = true
			}
		}
	}
	return r
}

// concerned are the components that symptoms show in.
func (l *lab) concerned() map[string]bool {
	of := map[string]bool{}
	for _, s := range l.symptoms {
		of[s.component] = true
	}
	return of
}

// stateKey names a state by what it was made of.
func stateKey(baseline *finding.Verification, edits []model.FileEdit) string {
	h := sha256.New()
	fmt.Fprintln(h, baseline.Key)
	for _, e := range edits {
		fmt.Fprintf(h, "%q %x\n", e.File, sha256.Sum256(e.New))
	}
	return hex.EncodeToString(h.Sum(nil))
}

func (l *lab) keepTrials() error {
	data, err := json.Marshal(l.kept)
	if err != nil {
		return err
	}
	return renameio.WriteFile(l.now.keep("trials.json"), data, 0o644)
}

// known tells how far the search is.
func (l *lab) known(k culprit.Known) {
	if len(k.Among) == len(l.moves) {
		return
	}
	text := "so far: "
	if len(k.Guilty) > 0 {
		text += few(l.names(k.Guilty)) + " and "
	}
	text += "one of " + few(l.names(k.Among))
	if len(k.Among) == 1 {
		text = "so far: " + few(append(l.names(k.Guilty), l.names(k.Among)...))
	}
	l.now.tell(Event{Text: text, Done: true, Good: true})
}

func (l *lab) names(moves []int) (names []string) {
	for _, i := range moves {
		names = append(names, l.moves[i].Name)
	}
	return names
}

func (l *lab) summaries(moves []int) (all []model.MoveSummary) {
	chosen := &fileLeg{}
	for _, i := range moves {
		chosen.Moves = append(chosen.Moves, l.moves[i])
	}
	for _, m := range chosen.moves(l.partOf(l.leg)) {
		all = append(all, m.Summary())
	}
	return all
}

// split finds two neighbouring releases of a single culprit of which one passes and
// the next fails.
func (l *lab) split(ctx context.Context, c culprit.Culprit, set *model.CulpritSet, result *model.CulpritResult) error {
	m := l.moves[c.Moves[0]]
	steps, err := l.releasesOf(ctx, m)
	if err != nil || len(steps) < 2 {
		return err
	}
	passes, fails, _, err := culprit.Split(ctx, len(steps), func(ctx context.Context, step int) (bool, bool, error) {
		_, edits, err := l.solve(ctx, c.Moves, steps[step], true)
		if errors.As(err, new(*solve.Conflict)) || isFound(err) {
			return false, false, nil
		}
		if err != nil {
			return false, false, err
		}
		r, err := l.verified(ctx, m.Name+" "+steps[step], edits)
		return r.Failing[c.Symptoms[0]], r.Resolved, err
	})
	if errors.Is(err, culprit.ErrSpent) {
		result.Spent, err = true, nil
	}
	if set.Passes = m.From; passes >= 0 {
		set.Passes = steps[passes]
	}
	set.Fails = steps[fails]
	return err
}

// releasesOf are the releases that a move passes over, oldest first, and the last one
// that it goes to.
func (l *lab) releasesOf(ctx context.Context, m fileMove) ([]string, error) {
	part := l.partOf(l.leg)
	registry, err := l.connect(ctx, part)
	if err != nil || len(part.Find(m.Name)) == 0 || m.Range != "" {
		return nil, err
	}
	order := part.eco.Order()
	from, err := order.Parse(m.From)
	if err != nil {
		return nil, nil
	}
	to, err := order.Parse(m.To)
	if err != nil {
		return nil, nil
	}
	releases, err := registry.Releases(ctx, part.Find(m.Name)[0].Subject)
	if err != nil {
		return nil, err
	}
	var steps []string
	for _, r := range releases {
		v, err := order.Parse(r.Version)
		if err == nil && v.Compare(from) > 0 && (v.Compare(to) == 0 || v.Compare(to) < 0 && !v.Preview() && !r.Retracted) {
			steps = append(steps, r.Version)
		}
	}
	return steps, nil
}

// part takes the leg back, and makes two of it: what passes, and behind it what is
// left, with the culprit.
func (l *lab) part(ctx context.Context, result *model.CulpritResult) error {
	if len(result.Rest) == 0 || len(result.Rest) == len(l.moves) {
		return &model.Fault{Doing: "parting leg " + l.leg.ID, Wrong: "no part of it is known to pass", Next: "repair what fails, or take the leg back with bellwether undo", Found: true}
	}
	rest, left := *l.leg, *l.leg
	rest.Moves, left.Moves, rest.Carried, left.Carried = nil, nil, nil, nil
	for _, m := range l.leg.Moves {
		if slices.Contains(result.Rest, m.Name) {
			rest.Moves = append(rest.Moves, m)
		} else {
			left.Moves = append(left.Moves, m)
		}
	}
	left.ID, left.Title = l.leg.ID+"-culprit", cmp.Or(l.leg.Title, l.leg.ID)+": what breaks it"
	left.Overrides, rest.Title = nil, rest.Title+": what passes"
	at := slices.IndexFunc(l.file.Legs, func(leg fileLeg) bool { return leg.ID == l.leg.ID })
	l.file.Legs = slices.Concat(l.file.Legs[:at], []fileLeg{rest, left}, l.file.Legs[at+1:])
	if err := l.now.restoreLeg(l.record); err != nil {
		return err
	}
	l.journey.Legs = l.journey.Legs[:len(l.journey.Legs)-1]
	if err := l.now.writeJourney(l.journey); err != nil {
		return err
	}
	result.Parted = []string{rest.ID, left.ID}
	return l.now.writeRouteFile(l.file)
}
