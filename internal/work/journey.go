package work

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
	"bellwether/internal/host/keep"
)

// journey is how far the project has come on its route.
type journey struct {
	Branch string       `json:"branch,omitempty"` // that the legs are committed to
	From   string       `json:"from,omitempty"`   // the branch that it was made on
	Legs   []*legRecord `json:"legs"`
}

// The states of a leg that was carried out.
const (
	legBegun  = "begun" // its files are about to be written
	legDone   = "done"
	legRepair = "repair" // made, but a stage fails: the person is to repair
)

// legRecord is a leg that was carried out, with what undo needs.
type legRecord struct {
	ID     string   `json:"id"`
	Title  string   `json:"title"`
	Status string   `json:"status"`
	Before string   `json:"before,omitempty"` // the commit before it
	Commit string   `json:"commit,omitempty"` // its commit
	Files  []string `json:"files"`            // that it wrote; their old bytes are kept
	Fresh  []string `json:"fresh,omitempty"`  // those of Files that were not there before
	Sums   []string `json:"sums,omitempty"`   // SHA-256 of the old bytes of Files, "" for those that are fresh
	// Unknown are paths that git did not know when the leg began, which are none of its own.
	Unknown []string `json:"unknown,omitempty"`
}

// before is where the old bytes of one of a leg's files are kept.
func (l *legRecord) before(i int) string { return fmt.Sprintf("before/%s/%03d", l.ID, i) }

func (p *Project) readJourney() (*journey, error) {
	j := &journey{}
	data, err := p.keptFile("journey.json")
	if errors.Is(err, fs.ErrNotExist) {
		return j, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, j); err != nil {
		return nil, &model.Fault{Doing: "reading how far the route is", File: keepDir + "/journey.json", Wrong: err.Error(), Next: "remove the file to start over; commits stay as they are"}
	}
	return j, nil
}

func (p *Project) writeJourney(j *journey) error {
	data, err := json.MarshalIndent(j, "", "  ")
	if err != nil {
		return err
	}
	return p.kept.Write("journey.json", append(data, '\n'))
}

// keptFile gives a file that Bellwether keeps in the project; fs.ErrNotExist if there is
// none, or none of ours.
func (p *Project) keptFile(name string) ([]byte, error) {
	data, err := p.kept.Read(name)
	if !errors.Is(err, keep.ErrForeign) {
		return data, err
	}
	if !p.kept.Owned() {
		return nil, fs.ErrNotExist // that is told when the project is opened
	}
	return nil, foreign(name)
}

// foreign is the error of a file in a folder of ours that somebody else wrote.
func foreign(name string) error {
	return &model.Fault{
		Doing: "reading what is kept", File: path.Join(keepDir, name), Wrong: keep.ErrForeign.Error(), Cause: keep.ErrForeign,
		Next: "remove it, or if it is yours, say so with bellwether status --adopt",
	}
}

func (j *journey) find(id string) *legRecord {
	for _, l := range j.Legs {
		if l.ID == id {
			return l
		}
	}
	return nil
}

// moved tells whether a leg that changes files was carried out, so that the project is
// no longer the untouched one.
func (j *journey) moved() bool {
	return slices.ContainsFunc(j.Legs, func(l *legRecord) bool { return len(l.Files) > 0 })
}

// last is the leg carried out last, nil if there is none.
func (j *journey) last() *legRecord {
	if len(j.Legs) == 0 {
		return nil
	}
	return j.Legs[len(j.Legs)-1]
}

// hold takes the project for this call alone.
func (p *Project) hold(ctx context.Context) (release func(), err error) {
	if err := p.prepareKeep(); err != nil {
		return nil, err
	}
	if release, err = p.kept.Hold(); err != nil {
		return nil, err
	}
	mended, err := p.mend(ctx)
	if err == nil && mended != "" {
		err = &model.Fault{Doing: "starting", Wrong: "another call was interrupted just now " + mended, Next: "run the command again (bellwether status shows where you are)"}
	}
	if err != nil {
		release()
		return nil, err
	}
	return release, nil
}

// recover puts right what an interrupted call left half done, so that whatever is read
// is whole, and removes its scratches. While another call is at work, they are that
// one's.
func (p *Project) recover(ctx context.Context) error {
	if names := p.kept.Foreign(); len(names) > 0 {
		p.aside(fmt.Sprintf("%s is not acted on: this machine did not write it for this checkout (%s); bellwether status --adopt makes it count, if it is yours", keepDir, shortly(names)))
	}
	if !p.kept.GitNote().Exists() && !p.journal().Unfinished() && !p.scratches(nil).Leftovers() {
		return nil
	}
	if !p.kept.Owned() {
		return p.scratches(nil).DropLeftovers()
	}
	release, err := p.kept.Hold()
	if err != nil {
		return nil
	}
	defer release()
	mended, err := p.mend(ctx)
	if err != nil {
		return fmt.Errorf("putting right what an interrupted call left: %w", err)
	}
	if mended != "" {
		p.tell(Event{Text: "an earlier call was interrupted " + mended, Done: true, Good: true, Always: true})
	}
	return p.scratches(nil).DropLeftovers()
}

// mend finishes a set of writes that an interrupted call left half done, and puts right
// what a git left that was killed with it. It tells what the call was at, "" for none.
func (p *Project) mend(ctx context.Context) (was string, err error) {
	finished, err := p.journal().Recover()
	if errors.Is(err, keep.ErrForeign) {
		err = foreign("journal")
	}
	if err != nil {
		return "", err
	}
	if len(finished) > 0 {
		was = "while it wrote files; they are written now: " + shortly(finished)
	}
	if !p.kept.GitNote().Exists() {
		return was, nil
	}
	repo, err := p.openRepo(ctx)
	if repo == nil || err != nil {
		return was, err
	}
	err = repo.Mend(ctx, func(m git.Mended) error {
		j, err := p.readJourney()
		if err != nil {
			return err
		}
		l := j.last()
		switch {
		case m.Back && !m.Done:
			was = "while it took a leg back; the leg is whole again"
		case m.Back:
			was = "while it took a leg back; that is done now"
			if l != nil && l.Commit == m.From {
				j.Legs = j.Legs[:len(j.Legs)-1]
			}
		case m.Commit != "" && l != nil && l.Before == m.From:
			was = "while it committed leg " + l.ID + "; that is done now"
			l.Status, l.Commit = legDone, m.Commit
		default:
			was = "while git was at work for it; what that left is put right"
		}
		return p.writeJourney(j)
	})
	if errors.Is(err, keep.ErrForeign) {
		err = foreign("git.json")
	}
	return was, err
}

// begin takes the project for this call alone, and finds its repository (nil for
// none).
func (p *Project) begin(ctx context.Context) (repo *git.Repo, release func(), err error) {
	if release, err = p.hold(ctx); err != nil {
		return nil, nil, err
	}
	if repo, err = p.repo(ctx); err != nil {
		release()
		return nil, nil, err
	}
	return repo, release, nil
}

// openRepo finds the repository that the project is in, nil for none.
func (p *Project) openRepo(ctx context.Context) (*git.Repo, error) {
	repo, err := git.Open(ctx, p.Root)
	if errors.Is(err, git.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	repo.Note = p.kept.GitNote()
	return repo, nil
}

func (p *Project) journal() *keep.Journal { return p.kept.Journal(p.files) }

// keepOld keeps the old bytes of a leg's files for undo.
func (p *Project) keepOld(l *legRecord, edits []model.FileEdit) error {
	for i, e := range edits {
		l.Files = append(l.Files, e.File)
		if e.Old == nil {
			l.Fresh, l.Sums = append(l.Fresh, e.File), append(l.Sums, "")
			continue
		}
		l.Sums = append(l.Sums, sumOf(e.Old))
		if err := p.kept.WriteText(l.before(i), e.Old); err != nil {
			return err
		}
	}
	return nil
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// old gives the old bytes of one of a leg's files.
func (p *Project) old(l *legRecord, i int) ([]byte, error) {
	data, err := p.kept.ReadText(l.before(i))
	if err == nil && (i >= len(l.Sums) || sumOf(data) != l.Sums[i]) {
		err = foreign(l.before(i))
	}
	if err != nil {
		return nil, fmt.Errorf("reading what %s was before: %w", l.Files[i], err)
	}
	return data, nil
}

// unwritten tells whether a leg's files are still as they were before it.
func (p *Project) unwritten(l *legRecord) bool {
	for i, f := range l.Files {
		now, err := p.files.ReadFile(f)
		if slices.Contains(l.Fresh, f) {
			if err == nil {
				return false
			}
			continue
		}
		before, berr := p.old(l, i)
		if err != nil || berr != nil || !bytes.Equal(now, before) {
			return false
		}
	}
	return true
}

// restoreLeg puts the old bytes of a leg's files back.
func (p *Project) restoreLeg(l *legRecord) error {
	edits, err := p.restoring(l)
	if err != nil {
		return err
	}
	return p.journal().Write(edits)
}

// restoring are the edits that put the old bytes of a leg's files back.
func (p *Project) restoring(l *legRecord) (edits []model.FileEdit, err error) {
	for i, f := range l.Files {
		now, err := p.files.ReadFile(f)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		e := model.FileEdit{File: f, Old: now}
		if !slices.Contains(l.Fresh, f) {
			if e.New, err = p.old(l, i); err != nil {
				return nil, err
			}
		}
		if e.Old != nil || e.New != nil {
			edits = append(edits, e)
		}
	}
	return edits, nil
}

// restartJourney forgets legs of an older route whose work is done.
func (p *Project) restartJourney() error {
	j, err := p.readJourney()
	if err != nil {
		return err
	}
	if l := j.last(); l != nil && l.Status != legDone {
		return &model.Fault{
			Doing: "computing a route", Wrong: fmt.Sprintf("leg %s of the present route is in the working tree, waiting to be repaired", l.ID),
			Next: "finish it with bellwether advance, or take it back with bellwether undo",
		}
	}
	return p.writeJourney(&journey{})
}
