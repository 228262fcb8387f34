// Pictures takes all pictures of docs/screenshots anew, from the demo's projects: go run ./docs/pictures. It needs what the demo needs, and
// Chromium for those that are pages; without it they stay as they are.
package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/creack/pty"

	"bellwether/demo"
	"bellwether/internal/host/git"
	"bellwether/internal/story"
)

// The window that pictures show, in characters.
const (
	columns = 158
	rows    = 48
)

func main() {
	if err := take(context.Background(), "docs/screenshots"); err != nil {
		fmt.Fprintln(os.Stderr, "taking pictures:", err)
		os.Exit(1)
	}
}

// studio is where pictures are taken.
type studio struct {
	ctx     context.Context
	program string
	dir     string // the project
	into    string
	env     []string
}

func take(ctx context.Context, into string) (err error) {
	top, err := os.MkdirTemp("", "saltmarsh-")
	if err != nil {
		return err
	}
	defer func() {
		_ = exec.Command("chmod", "-R", "u+w", top).Run() // the module cache is read-only
		err = errors.Join(err, os.RemoveAll(top))
	}()
	program := filepath.Join(top, "bellwether")
	if out, err := exec.Command("go", "build", "-o", program, "./cmd/bellwether").CombinedOutput(); err != nil {
		return fmt.Errorf("building the program: %w\n%s", err, out)
	}
	registries, err := story.Serve("127.0.0.1:0")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, registries.Stop()) }()
	s := &studio{ctx: ctx, program: program, into: into, env: append(os.Environ(),
		"HOME="+top, "XDG_CACHE_HOME="+filepath.Join(top, "cache"), "TERM=xterm", "NO_COLOR=",
		"npm_config_registry="+registries.URL, "npm_config_userconfig="+filepath.Join(top, "none"), "npm_config_cache="+filepath.Join(top, "npm"),
		"GOPROXY="+registries.Go(), "GOSUMDB=off", "GOTOOLCHAIN=local", "GOENV=off", "GOWORK=off", "GOFLAGS=-modcacherw",
		"GOMODCACHE="+filepath.Join(top, "modules"),
	)}
	if err := s.ferries(filepath.Join(top, "ferries"), registries); err != nil {
		return err
	}
	return s.booking(filepath.Join(top, "booking"), registries)
}

// ferries takes the pictures of the board and the tide service.
func (s *studio) ferries(dir string, registries *story.Registries) error {
	s.dir = dir
	if err := demo.LayOut(dir); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "board", ".npmrc"), []byte("registry="+registries.URL+"\n"), 0o644); err != nil {
		return err
	}
	if _, err := git.Init(s.ctx, dir, "Saltmarsh Ferries", "crew@saltmarsh.example", "As it runs on our piers"); err != nil {
		return err
	}
	const to, preview = "quayside@^4", "tide-form"
	for _, shot := range []struct {
		picture string
		end     bool // its last lines are shown
		args    []string
	}{
		{"survey", false, []string{"survey"}},
		{"places", true, []string{"survey"}},
		{"books", false, []string{"books"}},
		{"verify", false, []string{"verify", "--deprecations"}},
		{"prereqs", false, []string{"prereqs", "--to", to, "--preview", preview}},
		{"ways-out", false, []string{"route", "--to", to}},
		{"route", false, []string{"route", "--to", to, "--reach", "major", "--preview", preview}},
		{"notes", false, []string{"notes"}},
		{"adapt", false, []string{"adapt"}},
		{"broken-leg", false, []string{"advance"}},
		{"culprit", false, []string{"culprit", "--split", "--part"}},
		{"advance", false, []string{"advance"}},
		{"", false, []string{"advance"}}, // the culprit by itself, which breaks again
	} {
		if err := s.shoot(shot.picture, shot.end, shot.args...); err != nil {
			return err
		}
	}
	if err := s.drawings(to, preview); err != nil {
		return err
	}
	if err := s.repair(); err != nil {
		return err
	}
	for range 12 {
		shown, err := s.run("advance")
		if err != nil {
			return err
		}
		name := ""
		switch {
		case bytes.Contains(shown, []byte("leg 5-")):
			name = "repairs"
		case bytes.Contains(shown, []byte("leg 10-")):
			name = "go-leg"
		}
		if err := s.keep(name, "bellwether advance", shown, false); err != nil {
			return err
		}
	}
	if _, err := s.run("tick", "sunlight", "--fail", "--note", "the ink is too pale"); err != nil {
		return err
	}
	if err := s.shoot("status", false, "status"); err != nil {
		return err
	}
	page, err := s.run("report", "--format", "html")
	if err != nil {
		return err
	}
	return s.page("report", page, "1280,800")
}

// drawings takes the pictures of what the program draws.
func (s *studio) drawings(to, preview string) error {
	for name, args := range map[string][]string{
		"chain": {"prereqs", "--to", to, "--preview", preview}, "proof": {"route", "--to", to},
	} {
		file := filepath.Join(filepath.Dir(s.dir), name+".svg")
		kept, err := os.ReadFile(filepath.Join(s.dir, ".bellwether", "route.yaml"))
		if err != nil {
			return err
		}
		if _, err := s.run(append(args, "--draw", file)...); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(s.dir, ".bellwether", "route.yaml"), kept, 0o644); err != nil {
			return err
		}
		drawn, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if err := s.page(name, append([]byte("<!doctype html><body style=\"margin:24px\">"), drawn...), "1280,500"); err != nil {
			return err
		}
	}
	return nil
}

// repair does what a person would do.
func (s *studio) repair() error {
	return fs.WalkDir(demo.Repair(), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := fs.ReadFile(demo.Repair(), name)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(s.dir, filepath.FromSlash(name)), data, 0o644)
	})
}

// booking takes the picture of the booking office, a project of gems.
func (s *studio) booking(top string, registries *story.Registries) error {
	s.dir = filepath.Join(top, "office")
	source := filepath.Join(top, "wakelog")
	if err := demo.LayOutBooking(s.dir, source, registries.Gems()); err != nil {
		return err
	}
	for dir, what := range map[string]string{source: "Ready for the framework's 8.0", s.dir: "As it runs at the north pier"} {
		if _, err := git.Init(s.ctx, dir, "Saltmarsh Ferries", "crew@saltmarsh.example", what); err != nil {
			return err
		}
	}
	return s.shoot("gems", false, "route", "--to", "gantline@~> 8.0", "--to", "wakelog@main", "--reach", "minor")
}

// shoot runs a command in the window, and takes a picture of it.
func (s *studio) shoot(picture string, end bool, args ...string) error {
	shown, err := s.run(args...)
	if err != nil {
		return err
	}
	return s.keep(picture, "bellwether "+strings.Join(args, " "), shown, end)
}

// run gives what a command shows in a terminal. That it finds a problem is no error.
func (s *studio) run(args ...string) ([]byte, error) {
	terminal, tty, err := pty.Open()
	if err != nil {
		return nil, err
	}
	defer terminal.Close()
	if err := pty.Setsize(terminal, &pty.Winsize{Cols: columns, Rows: rows}); err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(s.ctx, s.program, args...)
	cmd.Dir, cmd.Env, cmd.Stdout = s.dir, s.env, tty
	var told bytes.Buffer
	cmd.Stderr = &told
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	var shown bytes.Buffer
	read := make(chan struct{})
	go func() {
		defer close(read)
		_, _ = shown.ReadFrom(terminal) // it ends with an error when the program has ended
	}()
	err = cmd.Wait()
	_ = tty.Close()
	<-read
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		err = nil
	}
	if err != nil {
		return nil, fmt.Errorf("bellwether %s: %w\n%s", strings.Join(args, " "), err, told.Bytes())
	}
	return shown.Bytes(), nil
}

// keep draws what a terminal shows into a picture; one without a name is not kept.
func (s *studio) keep(name, command string, shown []byte, end bool) error {
	if name == "" {
		return nil
	}
	drawn, err := drawTerminal(command, shown, end)
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(s.into, name+".png"))
	if err != nil {
		return err
	}
	fmt.Println("taken:", name)
	return errors.Join(png.Encode(f, drawn), f.Close())
}

// page takes a picture of a page, where there is a browser.
func (s *studio) page(name string, page []byte, window string) error {
	browser, err := exec.LookPath("chromium")
	if err != nil {
		fmt.Println("left as it is, since there is no chromium:", name)
		return nil
	}
	file := filepath.Join(filepath.Dir(s.dir), name+".html")
	if err := os.WriteFile(file, bytes.ReplaceAll(page, []byte("\r\n"), []byte("\n")), 0o644); err != nil {
		return err
	}
	to, err := filepath.Abs(filepath.Join(s.into, name+".png"))
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(
		s.ctx, browser, "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--window-size="+window, "--screenshot="+to,
		"file://"+file,
	)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("showing %s: %w\n%s", name, err, out)
	}
	fmt.Println("taken:", name)
	return nil
}
