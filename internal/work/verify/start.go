package verify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/host/probe"
	"bellwether/internal/host/run"
)

const (
	// startWithin is how long a program may take until its probes hold, unless the
	// settings say other.
	startWithin = 30 * time.Second
	// probeEvery is how long a probe that does not hold waits for its next turn.
	probeEvery = 100 * time.Millisecond
	// probeTime is how long one probe may take to answer.
	probeTime = 5 * time.Second
)

// PortMark stands for a free port in a start stage's command, environment and
// probes.
const PortMark = "{port}"

// withPort puts a free port where a stage asks for one. It is held until it is released,
// right before the program starts; release is nil for a stage that asks for none.
func withPort(stage model.Stage) (_ model.Stage, release func(), err error) {
	wants := func(text string) bool { return strings.Contains(text, PortMark) }
	asked := slices.ContainsFunc(stage.Command, wants) || slices.ContainsFunc(stage.Env, wants) ||
		slices.ContainsFunc(
			stage.Probes, func(p model.Probe) bool { return wants(p.URL) || wants(p.TCP) || slices.ContainsFunc(p.Command, wants) },
		)
	if !asked {
		return stage, nil, nil
	}
	port, release, err := probe.HoldPort()
	if err != nil {
		return stage, nil, fmt.Errorf("looking for a free port: %w", err)
	}
	put := func(text string) string { return strings.ReplaceAll(text, PortMark, strconv.Itoa(port)) }
	each := func(list []string) []string {
		list = slices.Clone(list)
		for i := range list {
			list[i] = put(list[i])
		}
		return list
	}
	stage.Command, stage.Env = each(stage.Command), append([]string{"PORT=" + strconv.Itoa(port)}, each(stage.Env)...)
	stage.Probes = slices.Clone(stage.Probes)
	for i := range stage.Probes {
		p := &stage.Probes[i]
		p.URL, p.TCP, p.Command = put(p.URL), put(p.TCP), each(p.Command)
	}
	return stage, release, nil
}

// portTaken is how programs and runtimes say that somebody else has their port.
var portTaken = lazyregexp.New(
	`(?i)EADDRINUSE|address (?:is )?already in use|address in use|port \S+ is (?:already )?in use|only one usage of each socket address`,
)

// maxPorts is how many ports are tried in turn.
const maxPorts = 5

// starting is a program that is being started, and watched until all its probes
// hold.
type starting struct {
	stage   model.Stage
	dir     string
	env     []string
	printed *beginning
	holds   []bool
	told    map[model.Subject]string
	last    error // why the first probe that does not hold yet does not
}

// start starts the program of a stage, waits until all probes hold, and ends it
// whole. Where somebody else is quicker to take the port that was free, it tries another.
func (st *stageRun) start(ctx context.Context, log io.Writer) (result finding.Stage, err error) {
	for range maxPorts {
		var again bool
		if result, again, err = st.startOnce(ctx, log); !again {
			break
		}
	}
	return result, err
}

// startOnce is start with one port; again tells that the program found it taken.
func (st *stageRun) startOnce(ctx context.Context, log io.Writer) (result finding.Stage, again bool, err error) {
	result = st.result
	stage, release, err := withPort(st.stage)
	if err != nil {
		return result, false, err
	}
	own := release != nil // a port that nobody wrote down
	if !own {
		release = func() {}
	}
	defer release()
	for _, p := range st.stage.Probes {
		address := probe.Address(p)
		if strings.Contains(address, PortMark) {
			continue // it is held
		}
		if address != "" && probe.Taken(ctx, address) {
			result.Status, result.Why = finding.Failed, fmt.Sprintf(
				"something answers at %s before the program is started; end it, or write %s for the port", address, PortMark,
			)
			return result, false, nil
		}
	}
	s := &starting{
		stage: stage, dir: st.dir, env: st.env, printed: &beginning{}, holds: make([]bool, len(stage.Probes)),
		told: map[model.Subject]string{},
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	began := time.Now()
	release()
	process, err := run.Start(
		ctx,
		run.Command{
			Dir: st.dir, Args: stage.Command, Env: append(slices.Clone(st.env), stage.Env...), Log: io.MultiWriter(log, s.printed),
			Owner: st.scratch.Name(), First: st.with.first,
		},
	)
	if err != nil {
		return result, false, err
	}
	within := stage.Within
	if within == 0 {
		within = startWithin
	}
	ready, err := s.await(ctx, process, within)
	result.Duration = time.Since(began)
	ended := !ready && isClosed(process.Ended())
	end, stopErr := process.Stop()
	if err = errors.Join(err, ctx.Err()); err != nil {
		return result, false, err
	}
	switch {
	case ready:
		result.Status, result.Why = finding.Passed, fmt.Sprintf("%d probes held", len(stage.Probes))
		if len(stage.Probes) == 1 {
			result.Why = "its probe held"
		}
	case ended:
		result.Status, result.Exit = finding.Failed, end.Exit
		result.Why = fmt.Sprintf("it ended with exit status %d before all probes held", end.Exit)
		again = own && portTaken.Match(s.printed.bytes())
	default:
		result.Status, result.Why = finding.Failed, fmt.Sprintf("not all probes held after %s: %v", within, s.last)
	}
	for subject, version := range s.told {
		st.effect = append(
			st.effect,
			finding.Effect{Component: st.part.ID, Name: subject.String(), Version: version, Where: "as the started program tells"},
		)
	}
	slices.SortFunc(st.effect, finding.Effect.Compare)
	return result, again, stopErr
}

func isClosed(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

// await asks the probes that do not hold yet, again and again.
func (s *starting) await(ctx context.Context, process *run.Process, within time.Duration) (ready bool, err error) {
	limit := time.After(within)
	for {
		if s.ask(ctx) {
			return !isClosed(process.Ended()) || s.printsOnly(), nil
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-process.Ended():
			return s.ask(ctx) && s.printsOnly(), nil
		case <-limit:
			return false, nil
		case <-time.After(probeEvery):
		}
	}
}

// printsOnly tells whether the probes are content with what the program printed,
// and need it no longer.
func (s *starting) printsOnly() bool {
	return !slices.ContainsFunc(s.stage.Probes, func(p model.Probe) bool { return p.Prints == "" })
}

// ask asks each probe once that does not hold yet.
func (s *starting) ask(ctx context.Context) (all bool) {
	all = true
	s.last = nil
	for i, p := range s.stage.Probes {
		if s.holds[i] {
			continue
		}
		told, err := s.one(ctx, p)
		if err != nil {
			all = false
			if s.last == nil {
				s.last = err
			}
			continue
		}
		s.holds[i] = true
		if p.Tells != (model.Subject{}) {
			s.told[p.Tells] = told
		}
	}
	return all
}

func (s *starting) one(ctx context.Context, p model.Probe) (told string, err error) {
	if p.Prints == "" {
		ctx, cancel := context.WithTimeout(ctx, probeTime)
		defer cancel()
		return probe.Check(ctx, p, s.dir, append(slices.Clone(s.env), s.stage.Env...))
	}
	m := regexp.MustCompile("(?m)" + p.Prints).FindSubmatch(s.printed.bytes())
	if m == nil {
		return "", fmt.Errorf("it printed nothing like %q", p.Prints)
	}
	return strings.TrimSpace(string(m[min(1, len(m)-1)])), nil
}

// beginning is the first part of what a program prints.
type beginning struct {
	mu   sync.Mutex
	text bytes.Buffer
}

// maxPrinted is how much of it is looked at, in bytes.
const maxPrinted = 1 << 20

func (p *beginning) Write(text []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if room := maxPrinted - p.text.Len(); room > 0 {
		p.text.Write(text[:min(room, len(text))])
	}
	return len(text), nil
}

func (p *beginning) bytes() []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	return bytes.Clone(p.text.Bytes())
}
