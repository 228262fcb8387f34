package scaffold

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/scaffold"
	"bellwether/internal/host/run"
)

// generateWithin is how long a generator may take.
const generateWithin = 10 * time.Minute

// versionMark stands in the command of a generator for the version.
const versionMark = "{version}"

// generated is what a generator makes of a version, in a folder of its own that goes again. It is the person's command, and
// runs with their environment.
func (l *loader) generated(ctx context.Context, command, version string) (all scaffold.Tree, err error) {
	if !strings.Contains(command, versionMark) {
		return nil, fault(command, "the command does not say where the version stands", "write "+versionMark+" in its place")
	}
	var args []string
	for _, word := range strings.Fields(command) {
		args = append(args, strings.ReplaceAll(word, versionMark, version))
	}
	shown := harmless.Line(strings.Join(args, " "))
	yes := l.ask != nil
	if yes {
		if yes, err = l.ask(shown); err != nil {
			return nil, err
		}
	}
	if !yes {
		return nil, fault(command, "it would run "+shown+", and nobody said yes", "say --yes")
	}
	dir, err := os.MkdirTemp("", "bellwether-generate-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	var said bytes.Buffer
	result, err := run.Run(ctx, run.Command{Dir: dir, Args: args, Timeout: generateWithin, Log: &said})
	if err != nil {
		return nil, fmt.Errorf("running %s: %w", shown, err)
	}
	if result.Exit != 0 {
		lines := strings.Split(strings.TrimSpace(said.String()), "\n")
		return nil, fault(command, fmt.Sprintf("%s ended with status %d: %s", shown, result.Exit, harmless.Line(lines[len(lines)-1])), "")
	}
	return l.fromFolder(dir)
}
