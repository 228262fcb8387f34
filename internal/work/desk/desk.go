// Package desk is one call of the program: what it laid down, what it may ask of the world,
// and whom it tells.
package desk

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/adrg/xdg"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/machine"
	"bellwether/internal/host/run"
	"bellwether/internal/host/within"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

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
	Doing   func(string)  // told what is at work, also where that is no progress to tell; may be nil
	// Ecosystems are those that are looked for; nil for all that are built in.
	Ecosystems ecosystem.Table
}

// Desk is where a call does its work.
type Desk struct {
	Root     string // the project's folder
	Settings *settings.Settings
	Options  Options
	Clock    time.Time      // when the call began
	Files    *within.Folder // the project's, as they lie on disk
	prober   *run.Prober
	teller   *teller
	asked    *fetch.Count // what hosts were asked for in this call
	table    *table
}

// probeAge is how long a tool's answer is taken as it is, if the tool's file
// stays the same.
const probeAge = 24 * time.Hour

// New opens the folder of a project for a call. Its settings follow, with [Desk.Set].
func New(opt Options) (*Desk, error) {
	dir, err := filepath.Abs(opt.Dir)
	if err != nil {
		return nil, err
	}
	d := &Desk{
		Root: dir, Options: opt, Clock: time.Now(), Settings: &settings.Settings{}, teller: &teller{report: opt.Report},
		table: newTable(), asked: &fetch.Count{},
	}
	if d.Files, err = within.Open(dir, d.passOver); err != nil {
		return nil, err
	}
	d.prober = &run.Prober{File: d.CacheFile("tools.json"), MaxAge: probeAge, Env: opt.Env}
	if opt.Refresh {
		d.prober.MaxAge = 0
	}
	return d, nil
}

// Set makes settings count, where the call does not lay down something else.
func (d *Desk) Set(s *settings.Settings) {
	d.Settings = s
	if d.Options.MinAge == 0 {
		d.Options.MinAge = s.MinimumAge
	}
}

// As is the desk of a route: releases after its time do not exist, and pre-releases of what
// it names may be taken. Registries are asked anew.
func (d *Desk) As(asOf time.Time, previews []string) *Desk {
	other := *d
	if !asOf.IsZero() {
		other.Options.AsOf = asOf
	}
	other.Options.Preview = slices.Concat(d.Options.Preview, previews)
	other.table = newTable()
	return &other
}

// Quiet is the desk with nobody told of progress.
func (d *Desk) Quiet() *Desk {
	other := *d
	other.teller = &teller{}
	return &other
}

// CacheFile is a place in the user's cache folder, "" if nothing is to be kept.
func (d *Desk) CacheFile(name string) string {
	if d.Options.NoCache {
		return ""
	}
	return filepath.Join(xdg.CacheHome, "bellwether", name)
}

// AskAtOnce is how many packages are asked for at a time.
const AskAtOnce = 32

// cacheAge is how long a registry's answer is taken as it is.
const cacheAge = time.Hour

// Client asks servers for documents, and keeps what they say.
func (d *Desk) Client() *fetch.Client {
	return fetch.New(
		fetch.Config{
			CacheDir: d.CacheFile("documents"), MaxAge: cacheAge, Offline: d.Options.Offline, Refresh: d.Options.Refresh, Asked: d.asked,
		},
	)
}

// Cached gives only what was kept, however old.
func (d *Desk) Cached() *fetch.Client {
	return fetch.New(fetch.Config{CacheDir: d.CacheFile("documents"), Offline: true})
}

// Previews are the names of packages whose pre-releases may be taken.
func (d *Desk) Previews() []string { return slices.Concat(d.Settings.Preview, d.Options.Preview) }

// Today is the day that ends and deadlines are counted from.
func (d *Desk) Today() time.Time {
	if !d.Options.AsOf.IsZero() {
		return d.Options.AsOf
	}
	return d.Clock
}

// Machine is what is installed here.
func (d *Desk) Machine() *machine.Machine {
	home, _ := os.UserHomeDir()
	return &machine.Machine{Ask: d.prober.Ask, Env: os.Getenv, Home: home}
}

// Ask gives what an installed program prints of itself, trimmed.
func (d *Desk) Ask(ctx context.Context, command ...string) (string, error) {
	return d.prober.Ask(ctx, command...)
}

var versionText = lazyregexp.New(`[0-9]+(\.[0-9]+)+[^\s"]*`)

// Installed is the version of an installed runtime or tool, "" if there is
// none. It is asked the way that the part's ecosystem asks, if that does.
func (d *Desk) Installed(ctx context.Context, part *tree.Part, name string) string {
	command := []string{name, "--version"}
	for _, c := range part.Eco.Tools() {
		if c[0] == name {
			command = c
		}
	}
	out, err := d.prober.Ask(ctx, command...)
	if err != nil {
		return ""
	}
	return versionText.FindString(out)
}
