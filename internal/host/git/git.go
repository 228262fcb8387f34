// Package git uses the git command for what the work needs of a repository.
package git

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/host/run"
)

// Repo is a git working tree.
type Repo struct {
	Top    string // its root folder
	Note   Note   // that remembers a change while it is made, nil for none
	acting bool   // git changes the repository, as the person asked
	outer  []setting
	local  []setting // the repository's own, of those that run nothing
	env    []string
}

// Note is a place that remembers a change to a repository while git makes it.
type Note interface {
	// Read gives what was written last, and when; the error is fs.ErrNotExist if
	// nothing is there.
	Read() (data []byte, at time.Time, err error)
	Write(data []byte) error
	Remove() error
}

// ErrNone means that a folder is in no repository.
var ErrNone = errors.New("not a git working tree")

// Open finds the repository that dir is in. The error is ErrNone only where there is
// none; a git that refuses the repository, or is missing, is an error of its own.
func Open(ctx context.Context, dir string) (*Repo, error) {
	top, err := discover(dir)
	if err != nil {
		return nil, err
	}
	fault := &model.Fault{Doing: "looking at the repository", File: top}
	if !run.Installed("git") {
		fault.Wrong, fault.Next, fault.Cause = "there is a repository, but git is not installed, or not on the "+
			"PATH", "install git", run.ErrMissing
		return nil, fault
	}
	r := &Repo{Top: top}
	err = r.readSettings(ctx)
	if err == nil && r.plain() {
		return r, nil
	}
	said := ""
	if err == nil {
		said, err = r.run(ctx, "rev-parse", "--show-toplevel")
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		words := err.Error()
		if f := (*failure)(nil); errors.As(err, &f) && f.said != "" {
			words = strings.Join(strings.Fields(strings.TrimPrefix(f.said, "fatal: ")), " ")
		}
		fault.Wrong, fault.Next, fault.Cause = "git refuses it: "+words, "do what git says, or remove the .git there if it is "+
			"none of a repository", err
		return nil, fault
	}
	if real, err := filepath.EvalSymlinks(strings.TrimSuffix(said, "\n")); err != nil || real != top {
		fault.Wrong = fmt.Sprintf("its configuration says that its files are elsewhere: %s (core.worktree)", strings.TrimSuffix(said, "\n"))
		fault.Next = "git config --unset core.worktree, if that is not meant"
		return nil, fault
	}
	return r, nil
}

// plain tells whether git read the repository's own settings, and so takes it for one,
// and whether its files are where it lies. Otherwise git has to say what is the matter.
func (r *Repo) plain() bool {
	has := func(key string) bool {
		return slices.ContainsFunc(r.local, func(s setting) bool { return s.key == key })
	}
	bare := slices.ContainsFunc(r.local, func(s setting) bool { return s.key == "core.bare" && s.value != "false" })
	return has("core.repositoryformatversion") && !bare && !has("core.worktree")
}

// discover is the nearest folder, from dir upwards on the same disk, with a .git in it.
func discover(dir string) (string, error) {
	at, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if at, err = filepath.EvalSymlinks(at); err != nil {
		return "", err
	}
	disk := diskOf(at)
	for {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			return at, nil
		} else if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, syscall.ENOTDIR) {
			return "", err
		}
		above := filepath.Dir(at)
		if above == at || diskOf(above) != disk {
			return "", ErrNone
		}
		at = above
	}
}

// Acting is the repository for what changes it as the person asked: its hooks and
// filters run, as they do with git by hand.
func (r *Repo) Acting() *Repo {
	acting := *r
	acting.acting = true
	return &acting
}

// below is how the repository calls a folder in it: slash-separated, "." for its root.
func (r *Repo) below(dir string) (string, error) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", err
	}
	rel, err := filepath.Rel(r.Top, real)
	if err == nil && !filepath.IsLocal(rel) {
		err = fmt.Errorf("%s is not in the repository at %s", dir, r.Top)
	}
	return filepath.ToSlash(rel), err
}

// Paths are files of a folder as the repository calls them.
func (r *Repo) Paths(dir string, files []string) ([]string, error) {
	below, err := r.below(dir)
	if err != nil {
		return nil, err
	}
	paths := make([]string, len(files))
	for i, f := range files {
		paths[i] = path.Join(below, f)
	}
	return paths, nil
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

// Contains tells whether a commit is in the history of the one that is checked out.
func (r *Repo) Contains(ctx context.Context, commit string) (bool, error) {
	if _, err := r.run(ctx, "rev-parse", "-q", "--verify", "--end-of-options", commit+"^{commit}"); err != nil {
		return false, ctx.Err() // it is not there at all
	}
	base, err := r.run(ctx, "merge-base", "HEAD", commit)
	if err != nil {
		return false, ctx.Err() // the two have nothing in common
	}
	return strings.TrimSpace(base) == commit, nil
}

// Log lists the commits up to the one that is checked out, a line each, newest first.
func (r *Repo) Log(ctx context.Context) (string, error) {
	return r.run(ctx, "log", "--no-show-signature", "--oneline")
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

// Unknown tells whether git knows nothing of the path.
func (c Change) Unknown() bool { return c.Status == "??" }

// Changes are all paths that differ from the last commit, untracked ones
// included, ignored ones not.
func (r *Repo) Changes(ctx context.Context) ([]Change, error) {
	out, err := r.run(ctx, "status", "--porcelain=v1", "-z", "--untracked-files=all", "--no-renames", "--ignore-submodules=dirty")
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

// Tracked are the files under version control below a folder of the repository,
// relative to it.
func (r *Repo) Tracked(ctx context.Context, below string) ([]string, error) {
	names, err := r.names(ctx, "--literal-pathspecs", "ls-files", "-z", "--", below)
	if below == "." {
		return names, err
	}
	for i := range names {
		names[i] = strings.TrimPrefix(names[i], below+"/")
	}
	return names, err
}

// Holds tells which files of a folder are under version control.
func (r *Repo) Holds(ctx context.Context, dir string, files []string) ([]string, error) {
	paths, err := r.Paths(dir, files)
	if err != nil {
		return nil, err
	}
	held, err := r.names(ctx, append([]string{"--literal-pathspecs", "ls-files", "-z", "--"}, paths...)...)
	var found []string
	for i, p := range paths {
		if slices.Contains(held, p) {
			found = append(found, files[i])
		}
	}
	return found, err
}

// Present are the files of the repository as they lie in the working tree: those under
// version control, and those that git does not know and is not told to ignore.
func (r *Repo) Present(ctx context.Context) ([]string, error) {
	names, err := r.names(ctx, "ls-files", "-z", "--cached", "--others", "--exclude-standard")
	slices.Sort(names)
	return slices.Compact(names), err
}

// names runs a git command that prints paths, each ended by a NUL.
func (r *Repo) names(ctx context.Context, args ...string) ([]string, error) {
	out, err := r.run(ctx, args...)
	if err != nil || out == "" {
		return nil, err
	}
	return strings.Split(strings.TrimSuffix(out, "\x00"), "\x00"), nil
}

// differing are the paths that differ as git diff tells; nothing but git is run for it.
func (r *Repo) differing(ctx context.Context, args ...string) ([]string, error) {
	return r.names(
		ctx,
		append(
			[]string{
				"--literal-pathspecs", "diff", "--name-only", "-z", "--no-renames", "--no-ext-diff", "--no-textconv",
				"--ignore-submodules=dirty",
			},
			args...)...)
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
	signs := []string{"rebase-merge", "rebase-apply", "MERGE_HEAD", "CHERRY_PICK_HEAD", "REVERT_HEAD", "BISECT_LOG"}
	whats := []string{"a rebase", "a rebase", "a merge", "a cherry-pick", "a revert", "a bisect"}
	files, err := r.ownFiles(ctx, signs)
	if err != nil {
		return "", err
	}
	for i, file := range files {
		if _, err := os.Lstat(file); err == nil {
			return whats[i], nil
		}
	}
	return "", nil
}

// ownFiles are where git keeps files of its own, by their names in its folder.
func (r *Repo) ownFiles(ctx context.Context, names []string) ([]string, error) {
	args := []string{"rev-parse"}
	for _, name := range names {
		args = append(args, "--git-path", name)
	}
	out, err := r.run(ctx, args...)
	if err != nil {
		return nil, err
	}
	files := []string{strings.TrimSuffix(out, "\n")}
	if len(names) > 1 {
		files = strings.Split(files[0], "\n")
	}
	if len(files) != len(names) { // a folder has a line break in its name
		files = nil
		for _, name := range names {
			alone, err := r.ownFiles(ctx, []string{name})
			if err != nil {
				return nil, err
			}
			files = append(files, alone...)
		}
	}
	for i, file := range files {
		if !filepath.IsAbs(file) {
			files[i] = filepath.Join(r.Top, file)
		}
	}
	return files, nil
}

// Ignored tells which of the paths, relative to dir, git is told to ignore.
func (r *Repo) Ignored(ctx context.Context, dir string, paths []string) (map[string]bool, error) {
	names, err := r.Paths(dir, paths)
	if err != nil {
		return nil, err
	}
	// One that stands for the root itself is none that can be ignored.
	asked := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return name == "." })
	if len(asked) == 0 {
		return nil, nil
	}
	out, err := r.feed(ctx, asked, "check-ignore", "-z", "--stdin")
	if status, ended := run.ExitStatus(err); err != nil && (!ended || status != 1) { // 1: none is
		return nil, err
	}
	told := map[string]bool{}
	for name := range strings.SplitSeq(out, "\x00") {
		told[name] = true
	}
	ignored := map[string]bool{}
	for i, name := range names {
		ignored[paths[i]] = told[name]
	}
	return ignored, nil
}

// Tip is the commit that a branch is at, "" for a branch that does not exist.
func (r *Repo) Tip(ctx context.Context, branch string) string {
	out, err := r.run(ctx, "rev-parse", "--verify", "-q", "refs/heads/"+branch)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// Switch checks out a branch, and makes it at HEAD first if it does not exist.
func (r *Repo) Switch(ctx context.Context, branch string) error {
	args := []string{"switch", "-c", branch}
	if r.Tip(ctx, branch) != "" {
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
	paths, err := r.Paths(dir, files)
	if err != nil {
		return err
	}
	staged, err := r.differing(ctx, append([]string{"--cached", "--"}, paths...)...)
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
	paths, err := r.differing(ctx, from, to, "--")
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
		// A file that was written anew with the same bytes counts as changed until then.
		_, _ = r.run(ctx, "update-index", "-q", "--refresh")
		if _, err := r.run(ctx, "reset", "-q", "--keep", to); err != nil || keep == nil {
			return err
		}
		return keep()
	})
}

// Init makes a repository with one commit of everything in dir, by an author
// whom only this repository knows.
func Init(ctx context.Context, dir, author, email, message string) (*Repo, error) {
	dir, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	r := &Repo{Top: dir, acting: true}
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
	if _, err := r.run(ctx, "commit", "-q", "-m", message); err != nil {
		return nil, err
	}
	return Open(ctx, dir)
}
