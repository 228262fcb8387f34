package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
)

// transports are the ways by which sources are fetched; git has others, which can
// run programs of their own.
const transports = "file:git:http:https:ssh"

// ErrSource means that a repository elsewhere cannot be read.
var ErrSource = errors.New("the source cannot be read")

// Source gives the commit that a ref of a repository elsewhere stands for, and a
// file as it is there. An empty ref is the end of the main branch. Nothing is
// checked out, and nothing of it runs.
func Source(ctx context.Context, address, ref, file string) (commit string, text []byte, err error) {
	doing := fmt.Sprintf("reading %s of the source", file)
	if ref == "" {
		ref = "HEAD"
	}
	if strings.HasPrefix(ref, "-") || strings.HasPrefix(address, "-") {
		return "", nil, fmt.Errorf("%s: %q is no ref of a repository", doing, ref)
	}
	dir, err := os.MkdirTemp("", "bellwether-source-")
	if err != nil {
		return "", nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	r := &Repo{Top: dir, env: []string{"GIT_ALLOW_PROTOCOL=" + transports}}
	if _, err := r.run(ctx, "init", "-q", "--bare", "--template="); err != nil {
		return "", nil, fmt.Errorf("%s: %w", doing, err)
	}
	if _, err := r.run(ctx, "fetch", "-q", "--depth", "1", "--no-tags", "--", address, ref); err != nil {
		said, _, _ := strings.Cut(err.Error(), "\n")
		return "", nil, fmt.Errorf("%s at %s: %w: %s", doing, ref, ErrSource, said)
	}
	commit, err = r.run(ctx, "rev-parse", "--verify", "FETCH_HEAD^{commit}")
	if err != nil {
		return "", nil, fmt.Errorf("%s at %s: %w", doing, ref, err)
	}
	out, err := r.run(ctx, "cat-file", "blob", "FETCH_HEAD:"+file)
	if err != nil {
		return "", nil, fmt.Errorf("%s at %s: %w", doing, ref, err)
	}
	return strings.TrimSpace(commit), []byte(out), nil
}
