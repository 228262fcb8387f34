// Package story tells the stories of the demo: projects of Saltmarsh Ferries, carried through with registries on loopback.
package story

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/desk"
)

// The stories.
const (
	Kiosk   = "kiosk"   // three packages, one of which breaks a test
	Ferries = "ferries" // the whole job, on a board, a service, and a project of gems
	Cargo   = "cargo"   // two modules in Java
)

// Names are those of all stories, the usual one first.
var Names = []string{Kiosk, Ferries, Cargo}

// Teller tells stories.
type Teller struct {
	Out view.Out
	W   io.Writer // what stands between the results
	// Report is told of progress; nil for nobody.
	Report func(desk.Event)
}

// telling is one story that is being told.
type telling struct {
	ctx  context.Context
	out  view.Out
	w    io.Writer
	dir  string
	env  []string
	step int
	// fromRed goes on from a start that does not pass.
	fromRed bool
	report  func(desk.Event)
}

// Tell tells a story in a folder, which has to be empty; in a temporary one, if none is named. The folder is kept.
func (t Teller) Tell(ctx context.Context, name, dir string) error {
	start := time.Now()
	tools := map[string][]string{Kiosk: {"git", "node", "npm"}, Ferries: {"git", "node", "npm", "go"}, Cargo: {"git", "java", "javac"}}[name]
	if tools == nil {
		return &model.Fault{
			Doing: "choosing a story", Wrong: fmt.Sprintf("there is no story %q", name), Next: "choose one of " + spelling.Few(Names, len(Names)),
		}
	}
	for _, tool := range tools {
		if !run.Installed(tool) {
			return fmt.Errorf("the story %s needs %s, which is not installed", name, tool)
		}
	}
	dir, err := folderFor(dir)
	if err != nil {
		return err
	}
	s, err := Serve("127.0.0.1:0")
	if err != nil {
		return err
	}
	defer func() { _ = s.Stop() }()
	d := &telling{ctx: ctx, out: t.Out, w: t.W, dir: dir, report: t.Report, env: []string{
		"NODE_EXTRA_CA_CERTS=", // all registries are on loopback, and reading certificates takes Node.js its time
		"npm_config_registry=" + s.URL, "npm_config_userconfig=" + filepath.Join(dir, ".git", "no-npmrc"),
		"npm_config_cache=" + filepath.Join(dir, ".git", "npm-cache"),
		"GOPROXY=" + s.Go(), "GOSUMDB=off", "GOTOOLCHAIN=local", "GOENV=off", "GOFLAGS=-modcacherw", "GOWORK=off",
		"GOMODCACHE=" + filepath.Join(dir, ".git", "go-modules"),
	}}
	took := func() float64 { return time.Since(start).Seconds() }
	switch name {
	case Kiosk:
		if err := d.kiosk(s); err != nil {
			return err
		}
		d.kioskNext(s, took())
	case Cargo:
		if err := d.cargo(s); err != nil {
			return err
		}
		fmt.Fprintf(d.w, "\nThe story took %.0f s. The cargo ledger is in %s\nwith one commit a leg.\n", took(), dir)
	default:
		if err := d.ferries(s); err != nil {
			return err
		}
		fmt.Fprintf(d.w, `
The story took %.0f s. The project is in %s
with one commit a leg. To go on by hand, serve its registries and work on it:

  bellwether stand-in --listen %s
  GOPROXY=%s GOSUMDB=off bellwether survey --project %s
`, took(), dir, s.Address, s.Go(), dir)
	}
	return nil
}

// folderFor makes the folder for the demo; one that is there must be empty.
func folderFor(dir string) (string, error) {
	if dir == "" {
		return os.MkdirTemp("", "saltmarsh-")
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return dir, os.MkdirAll(dir, 0o755)
	case err != nil:
		return "", &model.Fault{Doing: "making the folder of the story", Wrong: model.Reason(err)}
	case len(entries) > 0:
		return "", &model.Fault{
			Doing: "making the folder of the story", Wrong: dir + " is not empty", Next: "name a folder that is, or none for a temporary one",
		}
	}
	return dir, nil
}

// begin names the registry to a component's client, and makes a repository of the project.
func (d *telling) begin(component, registry, message string) error {
	npmrc := filepath.Join(d.dir, component, ".npmrc")
	f, err := os.OpenFile(npmrc, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "registry=%s\n", registry)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	_, err = git.Init(d.ctx, d.dir, "Saltmarsh Ferries", "crew@saltmarsh.example", message)
	return err
}

func (d *telling) open(preview ...string) (*work.Project, error) {
	return work.Open(d.ctx, desk.Options{Dir: d.dir, Env: d.env, NoCache: true, Preview: preview, Report: d.report})
}

// inOrder tells chapters one after the other, up to the first that cannot be told.
func inOrder(chapters ...func() error) error {
	for _, chapter := range chapters {
		if err := chapter(); err != nil {
			return err
		}
	}
	return nil
}

func (d *telling) chapter(title, command string) {
	d.step++
	fmt.Fprintf(d.w, "\n── %d. %s %s\n\n", d.step, title, strings.Repeat("─", max(3, 72-len(title))))
	if command != "" {
		fmt.Fprintf(d.w, "$ %s\n\n", command)
	}
}
