// Package git uses the git command for what the work needs of a repository.
package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// Repo is a git working tree.
type Repo struct {
	Top  string // its root folder
	Note string // the file that remembers a change while it is made, "" for none
	env  []string
}

// quiet lets looking at a person's working tree write nothing, not even what git
// remembers of it.
const quiet = "GIT_OPTIONAL_LOCKS=0"

// ErrNone means that a folder is in no repository, or that git is missing.
var ErrNone = errors.New("not a git working tree")

// Open finds the repository that dir is in.
func Open(ctx context.Context, dir string) (*Repo, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, ErrNone
	}
	top, err := (&Repo{Top: dir}).run(ctx, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, ErrNone
	}
	return &Repo{Top: strings.TrimSuffix(top, "\n"), env: []string{quiet}}, nil
}

// Head is the commit that is checked out; an error if there is none yet.
func (r *Repo) Head(ctx context.Context) (string, error) {
	out, err := r.run(ctx, "rev-parse", "--verify", "HEAD")
	return strings.TrimSpace(out), err
}

// Parent is the commit before the one that is checked out; "" for the first.
func (r *Repo) Parent(ctx context.Context) (string, error) {
	out, err := r.run(ctx, "rev-list", "--parents", "-n", "1", "HEAD")
	if err != nil {
		return "", err
	}
	if fields := strings.Fields(out); len(fields) > 1 {
		return fields[1], nil
	}
	return "", nil
}

// Branch is the branch that is checked out, "" for a detached HEAD.
func (r *Repo) Branch(ctx context.Context) string {
	out, err := r.run(ctx, "symbolic-ref", "--short", "-q", "HEAD")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(out)
}

// Change is a path that differs from the last commit.
type Change struct {
	Status string // git's two letters
	Path   string // slash-separated, relative to the repository
	Gone   bool   // the path is no longer there
}

// Changes are all paths that differ from the last commit, untracked ones
// included, ignored ones not.
func (r *Repo) Changes(ctx context.Context) ([]Change, error) {
	out, err := r.run(ctx, "status", "--porcelain=v1", "-z", "--untracked-files=all", "--no-renames")
	if err != nil {
		return nil, err
	}
	var changes []Change
	for field := range strings.SplitSeq(out, "\x00") {
		if len(field) < 4 {
			continue
		}
		c := Change{Status: field[:2], Path: field[3:]}
		_, err := os.Lstat(filepath.Join(r.Top, filepath.FromSlash(c.Path)))
		c.Gone = err != nil
		changes = append(changes, c)
	}
	return changes, nil
}

// At is a folder in a scratch checkout. What git remembers of the state of its files
// it may write down there.
func (r *Repo) At(dir string) *Repo { return &Repo{Top: dir} }

// Tracked are the files under version control below the folder, relative to it.
func (r *Repo) Tracked(ctx context.Context) ([]string, error) {
	return r.names(ctx, "ls-files", "-z")
}

// names runs a git command that prints paths, each ended by a NUL.
func (r *Repo) names(ctx context.Context, args ...string) ([]string, error) {
	out, err := r.run(ctx, args...)
	if err != nil || out == "" {
		return nil, err
	}
	return strings.Split(strings.TrimSuffix(out, "\x00"), "\x00"), nil
}

// gitlink is the mode of a submodule in the index.
const gitlink = "160000"

// Submodules are the paths of submodules, relative to the repository.
func (r *Repo) Submodules(ctx context.Context) (paths []string, err error) {
	if _, err := os.Lstat(filepath.Join(r.Top, ".gitmodules")); err != nil {
		return nil, nil
	}
	out, err := r.run(ctx, "ls-files", "-s", "-z")
	if err != nil {
		return nil, err
	}
	for entry := range strings.SplitSeq(out, "\x00") {
		if about, path, ok := strings.Cut(entry, "\t"); ok && strings.HasPrefix(about, gitlink) {
			paths = append(paths, path)
		}
	}
	return paths, nil
}

// InProgress is what git is in the middle of, such as "a rebase", "" for nothing.
func (r *Repo) InProgress(ctx context.Context) (string, error) {
	for _, o := range []struct{ file, what string }{
		{"rebase-merge", "a rebase"}, {"rebase-apply", "a rebase"}, {"MERGE_HEAD", "a merge"},
		{"CHERRY_PICK_HEAD", "a cherry-pick"}, {"REVERT_HEAD", "a revert"}, {"BISECT_LOG", "a bisect"},
	} {
		out, err := r.run(ctx, "rev-parse", "--git-path", o.file)
		if err != nil {
			return "", err
		}
		name := strings.TrimSuffix(out, "\n")
		if !filepath.IsAbs(name) {
			name = filepath.Join(r.Top, name)
		}
		if _, err := os.Lstat(name); err == nil {
			return o.what, nil
		}
	}
	return "", nil
}

// Ignored tells which of the paths, relative to dir, git is told to ignore.
func (r *Repo) Ignored(ctx context.Context, dir string, paths []string) (map[string]bool, error) {
	out, err := r.At(dir).feed(ctx, paths, "check-ignore", "-z", "--stdin")
	var exit *exec.ExitError
	if err != nil && (!errors.As(err, &exit) || exit.ExitCode() != 1) { // 1: none is
		return nil, err
	}
	ignored := map[string]bool{}
	for path := range strings.SplitSeq(out, "\x00") {
		ignored[path] = true
	}
	return ignored, nil
}

// Switch checks out a branch, and makes it at HEAD first if it does not exist.
func (r *Repo) Switch(ctx context.Context, branch string) error {
	args := []string{"switch", "-c", branch}
	if _, err := r.run(ctx, "rev-parse", "--verify", "-q", "refs/heads/"+branch); err == nil {
		args = []string{"switch", branch}
	}
	return r.noted(ctx, change{What: switching}, func(r *Repo) error {
		_, err := r.run(ctx, args...)
		return err
	})
}

// Commit commits paths and gives the new commit. Hooks and signing are those
// that the repository has set up. The commit is noted until keep, which may be nil, has
// remembered it.
func (r *Repo) Commit(ctx context.Context, paths []string, message string, keep func(commit string) error) (commit string, err error) {
	add := append([]string{"--literal-pathspecs", "add", "-A", "--"}, paths...)
	record := append([]string{"--literal-pathspecs", "commit", "-q", "-m", message, "--"}, paths...)
	says, _, _ := strings.Cut(message, "\n")
	err = r.noted(ctx, change{What: committing, Says: says}, func(r *Repo) error {
		if _, err := r.run(ctx, add...); err != nil {
			return err
		}
		if _, err := r.run(ctx, record...); err != nil {
			return err
		}
		if commit, err = r.Head(context.WithoutCancel(ctx)); err != nil || keep == nil {
			return err
		}
		return keep(commit)
	})
	return commit, err
}

// Unstage takes what is staged of files, relative to dir, back to the last commit; the
// files themselves stay.
func (r *Repo) Unstage(ctx context.Context, dir string, files []string) error {
	diff := append([]string{"--literal-pathspecs", "diff", "--cached", "--name-only", "-z", "--no-renames", "--"}, files...)
	staged, err := r.At(dir).names(ctx, diff...)
	if err != nil || len(staged) == 0 {
		return err
	}
	return r.noted(ctx, change{What: unstaging}, func(r *Repo) error {
		_, err := r.feed(ctx, staged, "--literal-pathspecs", "restore", "-q", "--staged", "--pathspec-from-file=-", "--pathspec-file-nul")
		return err
	})
}

// Back takes the branch and the working tree from one commit to an earlier
// one, keeping local changes; it refuses if HEAD is no longer at from, or if files
// that it would replace have local changes. It is noted until keep, which may be nil,
// has remembered it.
func (r *Repo) Back(ctx context.Context, from, to string, keep func() error) error {
	head, err := r.Head(ctx)
	if err != nil {
		return err
	}
	if head != from {
		return fmt.Errorf("the newest commit is %.10s, not the leg's %.10s; take your own commits back first", head, from)
	}
	// A file that was written anew with the same bytes counts as changed until then.
	_, _ = r.run(ctx, "update-index", "-q", "--refresh")
	paths, err := r.names(ctx, "diff", "--name-only", "-z", "--no-renames", from, to)
	if err != nil {
		return err
	}
	changes, err := r.Changes(ctx)
	if err != nil {
		return err
	}
	for _, c := range changes {
		if slices.Contains(paths, c.Path) {
			return fmt.Errorf("%s has changes that are not committed; commit, stash or drop them first", c.Path)
		}
	}
	return r.noted(ctx, change{What: resetting, To: to}, func(r *Repo) error {
		if _, err := r.run(ctx, "reset", "-q", "--keep", to); err != nil || keep == nil {
			return err
		}
		return keep()
	})
}

// Init makes a repository with one commit of everything in dir, by an author
// whom only this repository knows.
func Init(ctx context.Context, dir, author, email, message string) (*Repo, error) {
	r := &Repo{Top: dir}
	if _, err := r.run(ctx, "init", "-q", "-b", "main"); err != nil {
		return nil, err
	}
	for _, setting := range [][2]string{{"user.name", author}, {"user.email", email}, {"commit.gpgsign", "false"}} {
		if _, err := r.run(ctx, "config", setting[0], setting[1]); err != nil {
			return nil, err
		}
	}
	if _, err := r.run(ctx, "add", "-A"); err != nil {
		return nil, err
	}
	_, err := r.run(ctx, "commit", "-q", "-m", message)
	return r, err
}
