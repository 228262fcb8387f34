package git

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"bellwether/internal/host/marked"
	"bellwether/internal/host/run"
	"bellwether/internal/host/within"
)

// change is a change to the repository that is under way. It is noted while git makes
// it, so that a later call can put right what a git that was killed left.
type change struct {
	Mark string `json:"mark"`           // in the environment of the git that makes it
	What string `json:"what"`           // git's command
	From string `json:"from"`           // HEAD before it
	To   string `json:"to,omitempty"`   // what a reset takes HEAD to
	Says string `json:"says,omitempty"` // the first line of a commit's message
	// Foreign are the locks that were there before, by their names and what they are known by.
	Foreign map[string]string `json:"foreign,omitempty"`
}

const (
	committing = "commit"
	switching  = "switch"
	unstaging  = "restore"
	resetting  = "reset"
)

// noted makes a change to the repository. What git leaves when it is ended, or of a
// reset that it cannot finish, is put right.
func (r *Repo) noted(ctx context.Context, c change, do func(*Repo) error) (err error) {
	r = r.Acting()
	if r.Note == nil {
		return do(r)
	}
	if c.From, err = r.Head(ctx); err != nil {
		return err
	}
	c.Mark = marked.New(c.What)
	if c.Foreign, err = r.locks(ctx); err != nil {
		return err
	}
	data, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if err := r.Note.Write(data); err != nil {
		return fmt.Errorf("noting a change to the repository: %w", err)
	}
	marking := *r
	marking.env = append(slices.Clone(r.env), c.Mark)
	if err = do(&marking); err == nil {
		return r.Note.Remove()
	}
	// A git that ended by itself left no lock of its own.
	status, ended := run.ExitStatus(err)
	merr := r.mend(context.WithoutCancel(ctx), ended && status >= 0, func(m Mended) error {
		if m.Done {
			return errUnkept
		}
		return nil
	})
	if errors.Is(merr, errUnkept) {
		merr = nil
	}
	return errors.Join(err, merr)
}

// errUnkept leaves a change noted that git made, but that could not be remembered.
var errUnkept = errors.New("not remembered")

// Mended is a change that was interrupted, and what became of it.
type Mended struct {
	From   string // HEAD before it
	Commit string // that it made, "" for none
	Back   bool   // it went back to an earlier commit
	Done   bool   // git had made it; otherwise it is as if it was never begun
}

// mendPatience is how long a git that lives on may take to end.
const mendPatience = 5 * time.Second

// Mend puts right what an interrupted change left: it removes the locks of a git that
// was killed, and takes files back that it had already replaced. If a change was
// interrupted, keep is told what became of it, and the change stays noted until keep
// has remembered that. The error of a git that is still at work says so.
func (r *Repo) Mend(ctx context.Context, keep func(Mended) error) error {
	return r.mend(ctx, false, keep)
}

// mend is Mend for a git of which it is known whether it ended by itself.
func (r *Repo) mend(ctx context.Context, ended bool, keep func(Mended) error) error {
	data, noted, err := r.Note.Read()
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	var c change
	if err := json.Unmarshal(data, &c); err != nil {
		return fmt.Errorf("reading what git was at: %w", err)
	}
	r = r.Acting()
	if !ended {
		if err := r.unlock(ctx, c, noted); err != nil {
			return err
		}
	}
	head, err := r.Head(ctx)
	if err != nil {
		return err
	}
	m := Mended{From: c.From, Done: head != c.From}
	switch {
	case c.What == committing && m.Done && r.made(ctx, c):
		m.Commit = head
	case c.What == resetting && !m.Done:
		m.Back = true
		if err := r.unreset(ctx, c.From, c.To); err != nil {
			return fmt.Errorf("taking a git reset back that was killed: %w", err)
		}
	case c.What == resetting:
		m.Back = head == c.To
	}
	if err := keep(m); err != nil {
		return err
	}
	return r.Note.Remove()
}

// unlock waits until the git that was making the change has ended, and removes the
// locks that it left.
func (r *Repo) unlock(ctx context.Context, c change, noted time.Time) error {
	// It may live on without a lock just now: between two of them, or before the first.
	known, err := c.awaitEnd(ctx)
	if err != nil {
		return err
	}
	now, err := r.locks(ctx)
	if err != nil {
		return err
	}
	var locks []string
	for _, file := range slices.Sorted(maps.Keys(now)) {
		if info, err := os.Lstat(file); now[file] != c.Foreign[file] && err == nil && ours(info.ModTime(), noted) {
			locks = append(locks, file)
		}
	}
	if len(locks) == 0 {
		return nil
	}
	if pid := marked.AtWork("git", r.Top); pid != 0 {
		return fmt.Errorf("a git is at work in the repository (process %d); run the command again when it has ended", pid)
	}
	if !known {
		return fmt.Errorf(
			"a git %s was interrupted, and left %s; remove it when no git is at work any more", c.What, strings.Join(locks, " and "),
		)
	}
	for _, lock := range locks {
		if err := os.Remove(lock); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing the lock of a git that was killed: %w", err)
		}
	}
	return nil
}

// ours tells whether a lock was made after a change was noted, and not at a time that is still to come.
func ours(made, noted time.Time) bool {
	return !made.Before(noted) && made.Before(time.Now().Add(clockStep))
}

// clockStep is how far the clock of a file system may be ahead.
const clockStep = 2 * time.Second

// made tells whether HEAD is the commit that was being made, and not the person's.
func (r *Repo) made(ctx context.Context, c change) bool {
	parent, err := r.Parent(ctx)
	if err != nil || parent != c.From {
		return false
	}
	says, err := r.run(ctx, "log", "-1", "--no-show-signature", "--format=%s")
	return err == nil && strings.TrimSpace(says) == c.Says
}

// awaitEnd waits until the git that makes the change has ended. It is false where the
// system does not show which processes there are.
func (c *change) awaitEnd(ctx context.Context) (known bool, err error) {
	for waited := time.Duration(0); ; waited += mendPatience / 100 {
		found, known := marked.Find(c.Mark)
		// What a hook left running, or git for its own upkeep, changes nothing here.
		at := slices.IndexFunc(found, func(p marked.Process) bool {
			return slices.ContainsFunc(p.Args, func(arg string) bool { return arg == c.What || arg == "add" && c.What == committing })
		})
		if at < 0 {
			return known, nil
		}
		if waited >= mendPatience {
			return true, fmt.Errorf(
				"the git %s of an interrupted call is still at work (process %d); wait until it has ended, or end it", c.What, found[at].PID,
			)
		}
		select {
		case <-ctx.Done():
			return true, ctx.Err()
		case <-time.After(mendPatience / 100):
		}
	}
}

// locks are the lock files of the checkout that are there, with what they are known by. Git makes them before
// it writes a file anew, and removes them by renaming (gitrepository-layout(5),
// api-lockfile).
func (r *Repo) locks(ctx context.Context) (map[string]string, error) {
	names := []string{"index.lock", "HEAD.lock", "ORIG_HEAD.lock"}
	if branch := r.Branch(ctx); branch != "" {
		names = append(names, "refs/heads/"+branch+".lock")
	}
	files, err := r.ownFiles(ctx, names)
	if err != nil {
		return nil, err
	}
	locks := map[string]string{}
	for _, file := range files {
		if info, err := os.Lstat(file); err == nil {
			locks[file] = fmt.Sprintf("%s %d", within.Identity(info), info.ModTime().UnixNano())
		}
	}
	return locks, nil
}

// unreset takes back what a reset from a commit to another had done to the working
// tree and the index when it was killed. Files that somebody changed since stay.
func (r *Repo) unreset(ctx context.Context, from, to string) error {
	differing, err := r.unlike(ctx, from)
	if err != nil {
		return err
	}
	unlike, err := r.unlike(ctx, to) // what they were to become
	if err != nil {
		return err
	}
	changes, err := r.Changes(ctx)
	if err != nil {
		return err
	}
	for _, c := range changes { // files that are only in to are none that git diff shows
		differing[c.Path] = true
		if c.Status == "??" {
			unlike[c.Path] = true
		}
	}
	paths, err := r.differing(ctx, from, to, "--")
	if err != nil {
		return err
	}
	tree, err := within.Open(r.Top, nil)
	if err != nil {
		return err
	}
	defer tree.Close()
	tree = within.Keeping(tree.WithoutLinks()) // a commit of a leg may have added what a project shares
	var back, gone []string
	for _, name := range paths {
		if !differing[name] || unlike[name] && !r.begunAs(ctx, tree, to, name) {
			continue
		}
		if _, err := r.run(ctx, "cat-file", "-e", from+":"+name); err == nil {
			back = append(back, name)
		} else {
			gone = append(gone, name)
		}
	}
	if len(back) > 0 {
		_, err := r.feed(ctx, back, "--literal-pathspecs", "checkout", "-q", from, "--pathspec-from-file=-", "--pathspec-file-nul")
		if err != nil {
			return err
		}
	}
	for _, name := range gone {
		if err := tree.Remove(name); err != nil {
			return err
		}
	}
	if len(gone) > 0 {
		_, err = r.feed(ctx, gone, "update-index", "-q", "--force-remove", "-z", "--stdin")
	}
	return err
}

// unlike are the paths that git knows which are not as they are in a commit.
func (r *Repo) unlike(ctx context.Context, commit string) (map[string]bool, error) {
	names, err := r.differing(ctx, commit, "--")
	unlike := map[string]bool{}
	for _, name := range names {
		unlike[name] = true
	}
	return unlike, err
}

// begunAs tells whether a file is missing, or holds only the beginning of what it is
// in a commit.
func (r *Repo) begunAs(ctx context.Context, tree *within.Folder, commit, name string) bool {
	now, err := tree.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return true
	}
	whole, werr := r.run(ctx, "cat-file", "--filters", commit+":"+name)
	return err == nil && werr == nil && bytes.HasPrefix([]byte(whole), now)
}
