// Real takes well-known public projects at versions that are some years old and does with them what people do: look, route within
// majors, route to the newest majors and, where their tests are there, carry a route out. What the program refuses is asked of the
// package client, too: where the client finds a way, the refusal is a fault.
//
// Which projects and which of their versions are taken is drawn by chance, so that nothing can be tuned to them. It needs the
// registries, git and the clients, and takes hours for the whole list; it is run by hand.
//
//	go run ./bench/real [-kinds go,npm,maven] [-count 20] [-seed 7] [-only NAME,NAME@VERSION] [-advance] [-keep FOLDER]
package main

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"time"
)

// options are what the call asks for.
type options struct {
	kinds   []string
	count   int
	seed    uint64
	only    []string
	advance bool
	keep    string
	program string
	limit   time.Duration
}

func main() {
	var o options
	kinds := flag.String("kinds", "go,npm,maven", "which kinds of projects")
	flag.IntVar(&o.count, "count", 20, "how many of each kind")
	flag.Uint64Var(&o.seed, "seed", uint64(time.Now().Unix()), "what decides which")
	only := flag.String("only", "", "these projects alone: names, or NAME@VERSION")
	flag.BoolVar(&o.advance, "advance", false, "carry the route within majors out, with the real client, where there are tests")
	flag.StringVar(&o.keep, "keep", "", "keep projects and all that was printed in this folder")
	flag.StringVar(&o.program, "program", "", "the built program; it is built if none is named")
	flag.DurationVar(&o.limit, "limit", 10*time.Minute, "how long one call may take")
	flag.Parse()
	o.kinds = strings.Split(*kinds, ",")
	if *only != "" {
		o.only = strings.Split(*only, ",")
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, o); err != nil {
		fmt.Fprintln(os.Stderr, "real:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, o options) error {
	if o.keep == "" {
		dir, err := os.MkdirTemp("", "real-")
		if err != nil {
			return err
		}
		defer func() {
			_ = exec.Command("chmod", "-R", "u+w", dir).Run()
			_ = os.RemoveAll(dir)
		}()
		o.keep = dir
	}
	var err error
	if o.keep, err = filepath.Abs(o.keep); err != nil {
		return err
	}
	if o.program == "" {
		o.program = filepath.Join(o.keep, "bellwether")
		build := exec.CommandContext(ctx, "go", "build", "-o", o.program, "./cmd/bellwether")
		if out, err := build.CombinedOutput(); err != nil {
			return fmt.Errorf("building the program: %w\n%s", err, out)
		}
	}
	fmt.Printf("seed %d\n\n%s\n", o.seed, header)
	var all []*trial
	for _, kind := range o.kinds {
		names, err := projects(kind, o)
		if err != nil {
			return err
		}
		for _, name := range names {
			if ctx.Err() != nil {
				return summary(all)
			}
			t := &trial{kind: kind, name: name}
			// Each project draws its version by itself: leaving one out changes no other.
			t.try(ctx, o, rand.New(rand.NewPCG(o.seed, digest(name))))
			fmt.Println(t.row())
			all = append(all, t)
		}
	}
	return summary(all)
}
