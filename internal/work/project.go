// Package work has the use cases, one a file. They join what is computed
// (core), what is particular (ecosystem) and what lies outside (host).
package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/adrg/xdg"

	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/core/route"
	"bellwether/internal/core/spelling"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod"
	"bellwether/internal/ecosystem/npm"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
	"bellwether/internal/host/keep"
	"bellwether/internal/host/run"
	"bellwether/internal/host/within"
)

// ecosystems is the table of all that are built in.
var ecosystems = []ecosystem.Ecosystem{npm.Ecosystem{}, gomod.Ecosystem{}}

// keepDir is the folder in a project that Bellwether keeps its own files in.
const keepDir = keep.Dir

// Options are what a call lays down, over the project's settings.
type Options struct {
	Dir     string        // the project's folder
	Offline bool          // use only what is cached
	Refresh bool          // ask registries again, whatever the cache says
	AsOf    time.Time     // releases after this do not exist
	MinAge  time.Duration // over the settings, if not zero
	Preview []string      // besides those of the settings
	Books   []string      // files and folders of compat books, besides those of the settings
	NoCache bool          // keep nothing on disk
	Env     []string      // "NAME=value", added to the environment
	Report  func(Event)   // told of progress; may be nil
}

// Event is a step of progress.
type Event struct {
	Text string // what is being done: "board: test"
	Done bool   // it has come to its end
	Good bool   // and went well
	Note string // how it ended, in a few words
	// Always is that it is told even where progress is not.
	Always bool
	// Aside is that it is nothing that was done, but something to know.
	Aside bool
}

// Project is a project that is being worked on.
type Project struct {
	Root       string
	Settings   *Settings
	Components []*Part
	opt        Options
	files      *within.Folder
	kept       *keep.Keep
	fsys       fs.FS // the files, or a state of them
	passed     *remembered
	clock      time.Time // when the call began
	prober     *run.Prober
	shelved    *shelf // the compat books, once they are read
	start      *state // the project as it lies on disk, once it is read
}

// Part is a component with its ecosystem.
type Part struct {
	*model.Component
	eco      ecosystem.Ecosystem
	registry ecosystem.Registry
}

// cacheAge is how long a registry's answer is taken as it is.
const cacheAge = time.Hour

// probeAge is how long a tool's answer is taken as it is, if the tool's file
// stays the same.
const probeAge = 24 * time.Hour

// Open reads the project in a folder: its settings and its components.
// Nothing but git is run and nothing is asked of the network.
func Open(ctx context.Context, opt Options) (*Project, error) {
	dir, err := filepath.Abs(opt.Dir)
	if err != nil {
		return nil, err
	}
	p := &Project{Root: dir, opt: opt, clock: time.Now(), passed: &remembered{}}
	if p.files, err = within.Open(dir, p.passOver); err != nil {
		return nil, &model.Fault{Doing: "opening the project", File: opt.Dir, Wrong: model.Reason(err)}
	}
	p.fsys, p.kept = p.files, keep.In(p.files, stateFolder())
	if names := run.CalledByGit(); len(names) > 0 {
		p.aside(fmt.Sprintf("a git is calling (it set %s): this is about the project in %s, whatever repository that git is at work on", strings.Join(names, ", "), dir))
	}
	if err := p.recover(ctx); err != nil {
		return nil, err
	}
	p.prober = &run.Prober{File: p.cacheFile("tools.json"), MaxAge: probeAge, Env: opt.Env}
	if opt.Refresh {
		p.prober.MaxAge = 0
	}
	if p.Settings, err = ReadSettings(p.fsys); err != nil {
		return nil, err
	}
	if opt.MinAge == 0 {
		p.opt.MinAge = p.Settings.minAge
	}
	for _, eco := range ecosystems {
		dirs, err := eco.Detect(p.fsys)
		if err != nil {
			return nil, fmt.Errorf("looking for components: %w", err)
		}
		for _, d := range p.ours(ctx, dirs) {
			c, err := eco.Read(p.fsys, d)
			if err != nil {
				return nil, err
			}
			p.Components = append(p.Components, &Part{Component: c, eco: eco})
		}
	}
	p.dropAliases()
	if len(p.Components) > 0 {
		return p, p.checkStages()
	}
	// Runtimes that files state can be looked at and moved all the same.
	places, _, err := p.readPins(p.fsys, nil)
	if err != nil {
		return nil, err
	}
	if len(places) == 0 {
		var manifests []string
		for _, eco := range ecosystems {
			manifests = append(manifests, eco.Manifest())
		}
		return nil, &model.Fault{Doing: "looking for components", File: opt.Dir, Wrong: "there is no " + strings.Join(manifests, " and no ") + " here or below, and no file that states a runtime", Next: "give the project's folder with --project"}
	}
	return p, p.checkStages()
}

// ours drops the folders that the settings leave out, and those that git is
// told to ignore, since what is built there is nobody's to move.
func (p *Project) ours(ctx context.Context, dirs []string) []string {
	ignored := map[string]bool{}
	repo, err := git.Open(ctx, p.Root)
	if err == nil {
		ignored, err = repo.Ignored(ctx, p.Root, dirs)
	}
	if err != nil && !errors.Is(err, git.ErrNone) {
		why := err.Error()
		if fault := (*model.Fault)(nil); errors.As(err, &fault) {
			why = fault.Wrong
		}
		p.aside("what git is told to ignore cannot be known, and nothing is left out for it: " + why)
	}
	return slices.DeleteFunc(dirs, func(d string) bool {
		return ignored[d] || slices.ContainsFunc(p.Settings.LeaveOut, func(out string) bool { return d == out || strings.HasPrefix(d, out+"/") })
	})
}

// shortly names the first few of a list.
func shortly(list []string) string { return spelling.Few(list, 3) }

// dropAliases leaves out a component whose manifest is but a link to another one's.
func (p *Project) dropAliases() {
	byFile := map[string]*Part{}
	p.Components = slices.DeleteFunc(p.Components, func(part *Part) bool {
		real, err := p.files.Real(part.Manifest)
		if err != nil {
			return false
		}
		other := byFile[real]
		if other != nil && real == part.Manifest {
			*other = *part // the other one was the link
			return true
		}
		byFile[real] = part
		return other != nil
	})
}

// stateFolder is the person's folder for what programs keep between calls. Where the
// home cannot be written, it is one among temporary files, if that is theirs alone.
func stateFolder() string {
	home := filepath.Join(xdg.StateHome, "bellwether")
	temporary := filepath.Join(os.TempDir(), fmt.Sprintf("bellwether-state-%d", os.Getuid()))
	if os.MkdirAll(home, 0o700) != nil && within.MakeOwn(temporary) == nil {
		return temporary
	}
	return home
}

// remembered are sentences that were told once.
type remembered struct {
	mu   sync.Mutex
	told []string
}

// once tells whether a sentence is new.
func (r *remembered) once(text string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if slices.Contains(r.told, text) {
		return false
	}
	r.told = append(r.told, text)
	return true
}

func (r *remembered) count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.told)
}

// maxPassed is how many places that were passed over are told one by one.
const maxPassed = 10

// passOver tells once what is passed over while the project is looked through.
func (p *Project) passOver(name string, why error) {
	text := fmt.Sprintf("%s is passed over: %s", name, why)
	if p.passed.count() >= maxPassed {
		text = "further places are passed over, too"
	}
	p.aside(text)
}

// aside tells something to know, once.
func (p *Project) aside(text string) {
	if p.passed.once(text) {
		p.tell(Event{Text: text, Done: true, Always: true, Aside: true})
	}
}

// Adopt makes what the project keeps count as this checkout's own, because a person
// says so.
func (p *Project) Adopt() ([]string, error) { return p.kept.Adopt() }

// cacheFile is a place in the user's cache folder, "" if nothing is to be kept.
func (p *Project) cacheFile(name string) string {
	if p.opt.NoCache {
		return ""
	}
	return filepath.Join(xdg.CacheHome, "bellwether", name)
}

// connect gives a part its registry.
func (p *Project) connect(ctx context.Context, part *Part) (ecosystem.Registry, error) {
	if part.registry != nil {
		return part.registry, nil
	}
	home, _ := os.UserHomeDir()
	r, err := part.eco.Connect(ctx, ecosystem.Surroundings{
		Files: p.files, Say: p.aside, Environ: append(os.Environ(), p.opt.Env...), Home: home, Now: p.clock,
		Client: fetch.New(fetch.Config{CacheDir: p.cacheFile("documents"), MaxAge: cacheAge, Offline: p.opt.Offline, Refresh: p.opt.Refresh}),
		Ask:    p.prober.Ask, AsOf: p.opt.AsOf, MinAge: p.opt.MinAge,
	}, part.Dir)
	part.registry = r
	return r, err
}

var versionText = regexp.MustCompile(`[0-9]+(\.[0-9]+)+\S*`)

// installed is the version of an installed runtime or tool, "" if there is
// none. It is asked the way that the part's ecosystem asks, if that does.
func (p *Project) installed(ctx context.Context, part *Part, name string) string {
	command := []string{name, "--version"}
	for _, c := range part.eco.Tools() {
		if c[0] == name {
			command = c
		}
	}
	out, err := p.prober.Ask(ctx, command...)
	if err != nil {
		return ""
	}
	return versionText.FindString(out)
}

// previews are the names of packages whose pre-releases may be taken.
func (p *Project) previews() []string { return slices.Concat(p.Settings.Preview, p.opt.Preview) }

// today is the day that ends and deadlines are counted from.
func (p *Project) today() time.Time {
	if !p.opt.AsOf.IsZero() {
		return p.opt.AsOf
	}
	return p.clock
}

func (p *Project) tell(e Event) {
	if p.opt.Report != nil {
		p.opt.Report(e)
	}
}

// world is a component seen as route.World: states are laid over the files
// in memory.
type world struct {
	part     *Part
	registry ecosystem.Registry
	fsys     fs.FS
	c        *model.Component
	stops    []stop // after each leg
}

// stop is a project's files after a leg, and the component that moved.
type stop struct {
	fsys fs.FS
	part *Part
}

// after is the part as it is in another state of the project's files.
func (part *Part) after(fsys fs.FS) (*Part, error) {
	c, err := part.eco.Read(fsys, part.Dir)
	return &Part{Component: c, eco: part.eco, registry: part.registry}, err
}

func (p *Project) world(ctx context.Context, part *Part) (*world, error) {
	r, err := p.connect(ctx, part)
	if err != nil {
		return nil, err
	}
	return &world{part: part, registry: r, fsys: p.fsys, c: part.Component}, nil
}

func (w *world) Solve(ctx context.Context, goal route.Goal) (*route.State, error) {
	c, rewritten, err := w.rewritten(goal)
	if err != nil {
		return nil, err
	}
	o, err := w.registry.Resolve(ctx, ecosystem.Ask{Component: c, Goal: goal})
	if err != nil {
		return nil, err
	}
	o.Edits = mergeEdits(rewritten, o.Edits)
	for _, change := range goal.Changes {
		if old := w.c.Find(change.Old); change.New == "" && len(old) > 0 {
			o.Moves = append(o.Moves, model.Move{Subject: old[0].Subject, Name: change.Old, From: old[0].Locked, Because: change.Why})
			o.Carried = slices.DeleteFunc(o.Carried, func(m model.Move) bool { return m.Subject == old[0].Subject && m.To == "" })
			continue
		}
		for i := range o.Moves {
			if m := &o.Moves[i]; m.Name == change.New {
				m.Range = change.Range
				if old := w.c.Find(change.Old); len(old) > 0 {
					m.Subject, m.Name, m.Becomes, m.From = old[0].Subject, change.Old, change.New, old[0].Locked
				}
			}
		}
	}
	return o, nil
}

// rewritten gives the component with changes made to its manifest, and the edits
// that make them.
func (w *world) rewritten(goal route.Goal) (*model.Component, []model.FileEdit, error) {
	if len(goal.Changes)+len(goal.Overrides) == 0 {
		return w.c, nil, nil
	}
	rewriter, ok := w.part.eco.(ecosystem.Rewriter)
	if !ok {
		return nil, nil, fmt.Errorf("%s: requirements of %s cannot be renamed, added, dropped or overridden", w.part.Manifest, w.part.Ecosystem)
	}
	edits, err := rewriter.Rewrite(w.c, goal.Changes, goal.Overrides)
	if err != nil {
		return nil, nil, err
	}
	c, err := w.part.eco.Read(overlay.With(w.fsys, edits), w.part.Dir)
	return c, edits, err
}

// Take makes a state that Solve found the present one.
func (w *world) Take(s *route.State) error {
	w.fsys = overlay.With(w.fsys, s.Edits)
	c, err := w.part.eco.Read(w.fsys, w.part.Dir)
	if err == nil {
		w.c, w.stops = c, append(w.stops, stop{w.fsys, &Part{Component: c, eco: w.part.eco, registry: w.part.registry}})
	}
	return err
}
