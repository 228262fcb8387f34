package git

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"bellwether/internal/core/harmless"
)

// transports are the ways by which repositories elsewhere are reached; git has others,
// which can run programs of their own.
const transports = "file:git:http:https:ssh"

// ErrSource means that a repository elsewhere cannot be read.
var ErrSource = errors.New("the repository cannot be read")

// Remote is a repository elsewhere. Nothing of it is checked out, and nothing of it
// runs.
type Remote struct {
	Address string
	repo    *Repo
}

// OpenRemote prepares to read a repository elsewhere by way of a folder, which keeps
// what was fetched and is made if need be.
func OpenRemote(ctx context.Context, dir, address string) (*Remote, error) {
	if strings.HasPrefix(address, "-") {
		return nil, fmt.Errorf("%w: %q is no address", ErrSource, harmless.Address(address))
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	r := &Remote{Address: address, repo: &Repo{Top: dir}}
	r.repo.env = append(r.patience(ctx), "GIT_ALLOW_PROTOCOL="+transports)
	r.repo.env = append(r.repo.env, configured(append(quiet(), setting{"safe.bareRepository", "all"}))...)
	return r, r.alone(ctx, func() error {
		attributes := filepath.Join(dir, "info", "attributes")
		if _, err := os.Stat(attributes); err == nil {
			return nil
		}
		if _, err := r.repo.run(ctx, "init", "-q", "--bare", "--template="); err != nil {
			return err
		}
		// An archive holds the files as they are committed.
		return errors.Join(
			os.MkdirAll(filepath.Dir(attributes), 0o755), os.WriteFile(attributes, []byte("* -export-subst -export-ignore\n"), 0o644),
		)
	})
}

// refsWithin is how long a repository may take to list its branches and tags.
const refsWithin = 2 * time.Minute

// fetchWithin is how long a repository may take to send what is asked for.
const fetchWithin = 20 * time.Minute

// patience is an environment in which git neither waits for ever nor for an answer by
// hand, as far as the person's own configuration does not say otherwise (git(1),
// ssh_config(5)).
func (r *Remote) patience(ctx context.Context) []string {
	var env []string
	// By which addresses and with which logins repositories are reached, the person's own
	// configuration says, wherever it lies. A repository cannot set this.
	if file, set := os.LookupEnv("GIT_CONFIG_GLOBAL"); set {
		env = append(env, "GIT_CONFIG_GLOBAL="+file)
		r.repo.env = append(r.repo.env, env...)
	}
	if os.Getenv("GIT_HTTP_LOW_SPEED_LIMIT")+os.Getenv("GIT_HTTP_LOW_SPEED_TIME") == "" {
		env = append(env, "GIT_HTTP_LOW_SPEED_LIMIT=1", "GIT_HTTP_LOW_SPEED_TIME=30")
	}
	if own, err := r.repo.run(ctx, "config", "--get", "core.sshCommand"); err != nil || own == "" {
		env = append(env, "GIT_SSH_COMMAND=ssh -o BatchMode=yes -o ConnectTimeout=30")
	}
	return env
}

// alone does something while no other call works in the folder.
func (r *Remote) alone(ctx context.Context, do func() error) error {
	lock := flock.New(filepath.Join(r.repo.Top, "in-use"))
	if _, err := lock.TryLockContext(ctx, 20*time.Millisecond); err != nil {
		return fmt.Errorf("waiting for what is kept of %s: %w", harmless.Address(r.Address), err)
	}
	defer func() { _ = lock.Unlock() }()
	return do()
}

// Refs are the repository's branches and tags with their commits, by their whole
// names, and HEAD.
func (r *Remote) Refs(ctx context.Context) (map[string]string, error) {
	limited, cancel := context.WithTimeout(ctx, refsWithin)
	defer cancel()
	out, err := r.repo.run(limited, "ls-remote", "-q", "--", r.Address)
	if err != nil {
		return nil, r.unreadable(ctx, err)
	}
	refs := map[string]string{}
	for line := range strings.Lines(out) {
		hash, ref, _ := strings.Cut(strings.TrimSpace(line), "\t")
		if tag, peeled := strings.CutSuffix(ref, "^{}"); peeled || refs[ref] == "" {
			refs[tag] = hash
		}
	}
	return refs, nil
}

// unreadable is the error of a git that could not read the repository, with the first
// line of what it said, and without logins.
func (r *Remote) unreadable(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	said := err.Error()
	if f := (*failure)(nil); errors.As(err, &f) && f.said != "" {
		said = f.said
	} else if errors.Is(err, context.DeadlineExceeded) {
		said = "it does not answer"
	}
	said, _, _ = strings.Cut(said, "\n")
	return fmt.Errorf("%w: %s: %s", ErrSource, harmless.Address(r.Address), harmless.Hide(said, r.Address))
}

// Fetch brings a branch, tag or commit here, without what is before it, and gives its
// commit. An empty ref is the end of the main branch.
func (r *Remote) Fetch(ctx context.Context, ref string) (commit string, err error) {
	if ref == "" {
		ref = "HEAD"
	}
	if strings.HasPrefix(ref, "-") {
		return "", fmt.Errorf("%q is no ref of a repository", ref)
	}
	err = r.alone(ctx, func() error {
		limited, cancel := context.WithTimeout(ctx, fetchWithin)
		defer cancel()
		if _, err := r.repo.run(limited, "fetch", "-q", "--depth", "1", "--no-tags", "--", r.Address, ref); err != nil {
			return r.unreadable(ctx, err)
		}
		commit, err = r.repo.run(ctx, "rev-parse", "--verify", "FETCH_HEAD^{commit}")
		return err
	})
	return strings.TrimSpace(commit), err
}

// FetchAll brings all branches and tags here, with all that is before them.
func (r *Remote) FetchAll(ctx context.Context) error {
	return r.alone(ctx, func() error {
		args := []string{"fetch", "-q", "--force", "--prune"}
		if shallow, err := r.repo.run(ctx, "rev-parse", "--is-shallow-repository"); err != nil {
			return err
		} else if strings.TrimSpace(shallow) == "true" {
			args = append(args, "--unshallow")
		}
		limited, cancel := context.WithTimeout(ctx, fetchWithin)
		defer cancel()
		if _, err := r.repo.run(limited, append(args, "--", r.Address, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*")...); err != nil {
			return r.unreadable(ctx, err)
		}
		return nil
	})
}

// Commit is the commit that a name stands for among what is here; "" for none.
func (r *Remote) Commit(ctx context.Context, name string) string {
	out, err := r.repo.run(ctx, "rev-parse", "-q", "--verify", "--end-of-options", name+"^{commit}")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(out)
}

// Time is when a commit that is here was made.
func (r *Remote) Time(ctx context.Context, commit string) (time.Time, error) {
	out, err := r.repo.run(ctx, "show", "-s", "--format=%cI", commit)
	if err != nil {
		return time.Time{}, err
	}
	t, err := time.Parse(time.RFC3339, strings.TrimSpace(out))
	return t.UTC(), err
}

// TagsBefore are the tags at a commit that is here, and before it.
func (r *Remote) TagsBefore(ctx context.Context, commit string) ([]string, error) {
	out, err := r.repo.run(ctx, "tag", "--merged", commit)
	return strings.Fields(out), err
}

// File is a file as it is in a commit that is here. The error is fs.ErrNotExist if
// there is none.
func (r *Remote) File(ctx context.Context, commit, name string) ([]byte, error) {
	object := commit + ":" + name
	if kind, err := r.repo.run(ctx, "cat-file", "-t", object); err != nil || strings.TrimSpace(kind) != "blob" {
		return nil, fmt.Errorf("%s at %.10s: %w", name, commit, fs.ErrNotExist)
	}
	out, err := r.repo.run(ctx, "cat-file", "blob", object)
	return []byte(out), err
}

// Archive writes a zip archive of a folder of a commit that is here, "" for all, with
// the names that the files have in the repository. It fails beyond a number of bytes.
func (r *Remote) Archive(ctx context.Context, commit, folder string, to io.Writer, limit int64) error {
	args := []string{"-c", "core.autocrlf=input", "-c", "core.eol=lf", "archive", "--format=zip", commit}
	if folder != "" {
		args = append(args, folder)
	}
	return r.repo.pipe(ctx, nil, &bounded{to: to, left: limit}, args...)
}

// Source gives the commit that a ref of a repository elsewhere stands for, and a
// file as it is there. An empty ref is the end of the main branch.
func Source(ctx context.Context, address, ref, file string) (commit string, text []byte, err error) {
	doing := fmt.Sprintf("reading %s of the source", file)
	dir, err := os.MkdirTemp("", "bellwether-source-")
	if err != nil {
		return "", nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	r, err := OpenRemote(ctx, dir, address)
	if err != nil {
		return "", nil, fmt.Errorf("%s: %w", doing, err)
	}
	if commit, err = r.Fetch(ctx, ref); err != nil {
		return "", nil, fmt.Errorf("%s at %s: %w", doing, ref, err)
	}
	if text, err = r.File(ctx, commit, file); err != nil {
		return "", nil, fmt.Errorf("%s: %w", doing, err)
	}
	return commit, text, nil
}

// maxSourceFiles bounds how many files of a repository SourceFiles gives.
const maxSourceFiles = 1000

// SourceFiles gives the commit that a ref of a repository elsewhere stands for, and those of its
// files that are wanted. An empty ref is the end of the main branch.
func SourceFiles(
	ctx context.Context, address, ref string, wanted func(name string) bool,
) (commit string, files map[string][]byte, err error) {
	dir, err := os.MkdirTemp("", "bellwether-source-")
	if err != nil {
		return "", nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	r, err := OpenRemote(ctx, dir, address)
	if err != nil {
		return "", nil, fmt.Errorf("reading the source: %w", err)
	}
	if commit, err = r.Fetch(ctx, ref); err != nil {
		return "", nil, fmt.Errorf("reading the source at %s: %w", cmp.Or(ref, "HEAD"), err)
	}
	list, err := r.repo.run(ctx, "ls-tree", "-r", "-z", "--name-only", commit)
	if err != nil {
		return "", nil, fmt.Errorf("reading the source: %w", err)
	}
	files = map[string][]byte{}
	for name := range strings.SplitSeq(list, "\x00") {
		if name == "" || !wanted(name) {
			continue
		}
		if len(files) == maxSourceFiles {
			return "", nil, fmt.Errorf("reading the source: more than %d of its files are of interest", maxSourceFiles)
		}
		if files[name], err = r.File(ctx, commit, name); errors.Is(err, fs.ErrNotExist) { // a link, another repository
			delete(files, name)
		} else if err != nil {
			return "", nil, fmt.Errorf("reading the source: %w", err)
		}
	}
	return commit, files, nil
}
