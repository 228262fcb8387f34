package run

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRun(t *testing.T) {
	var log bytes.Buffer
	r, err := Run(
		context.Background(),
		Command{Dir: t.TempDir(), Args: []string{"sh", "-c", "echo $WIND; echo bad >&2; exit 3"}, Env: []string{"WIND=north"}, Log: &log},
	)
	require.NoError(t, err, "a program that fails is no error")
	assert.Equal(t, 3, r.Exit)
	assert.Equal(t, "north\nbad\n", log.String())
	_, err = Run(context.Background(), Command{Args: []string{"no-such-program-at-all"}})
	assert.ErrorIs(t, err, ErrMissing)
}

// TestEndsTheWholeGroup starts a program whose child outlives it, and looks
// whether the child still writes after the time-out.
func TestEndsTheWholeGroup(t *testing.T) {
	mark := filepath.Join(t.TempDir(), "alive")
	script := "(while true; do date +%s%N > " + mark + "; sleep 0.05; done) & sleep 60"
	r, err := Run(context.Background(), Command{Args: []string{"sh", "-c", script}, Timeout: 400 * time.Millisecond})
	require.NoError(t, err)
	assert.True(t, r.TimedOut)
	assert.Less(t, r.Duration, 10*time.Second)
	first, err := os.ReadFile(mark)
	require.NoError(t, err)
	time.Sleep(300 * time.Millisecond)
	second, err := os.ReadFile(mark)
	require.NoError(t, err)
	assert.Equal(t, string(first), string(second), "the child must be gone, too")
}

func TestInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(200*time.Millisecond, cancel)
	_, err := Run(ctx, Command{Args: []string{"sleep", "60"}})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestLogIsBounded(t *testing.T) {
	name := filepath.Join(t.TempDir(), "test.log")
	file, err := os.Create(name)
	require.NoError(t, err)
	log := NewLog(file, 1000)
	_, err = log.Write([]byte("the first line\n"))
	require.NoError(t, err)
	for range 1000 {
		_, err = log.Write([]byte(strings.Repeat("x", 99) + "\n"))
		require.NoError(t, err)
	}
	_, err = log.Write([]byte("the last line\n"))
	require.NoError(t, err)
	require.NoError(t, log.Close())
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Less(t, len(text), 1200)
	assert.True(t, strings.HasPrefix(string(text), "the first line\n"))
	assert.True(t, strings.HasSuffix(string(text), "the last line\n"))
	assert.Contains(t, string(text), "bytes left out")
}

func TestProber(t *testing.T) {
	if _, err := os.Stat("/usr/bin/perl"); err != nil {
		t.Skip("the tool is a script of Perl's")
	}
	dir := t.TempDir()
	t.Setenv("PATH", dir+string(os.PathListSeparator)+os.Getenv("PATH"))
	write := func(tool, version string) {
		text := "#!/usr/bin/perl\nopen(F, '>>', '" + dir + "/count'); print F 'asked'; print '" + version + "';"
		if tool == "shim" {
			text = "#!/bin/sh\nprintf asked >> " + dir + "/count\necho " + version + "\n"
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, tool), []byte(text), 0o755))
	}
	count := func() int {
		data, _ := os.ReadFile(dir + "/count")
		return strings.Count(string(data), "asked")
	}
	fresh := func() *Prober { return &Prober{File: filepath.Join(dir, "kept.json"), MaxAge: time.Hour} }
	ask := func(p *Prober, tool string) string {
		out, err := p.Ask(context.Background(), tool, "--version")
		require.NoError(t, err)
		return out
	}
	write("tool", "1.0")
	assert.Equal(t, "1.0", ask(fresh(), "tool"))
	assert.Equal(t, "1.0", ask(fresh(), "tool"))
	assert.Equal(t, 1, count(), "the answer is remembered")
	write("tool", "2.0")
	require.NoError(t, os.Chtimes(filepath.Join(dir, "tool"), time.Now(), time.Now().Add(time.Minute)))
	assert.Equal(t, "2.0", ask(fresh(), "tool"), "until the program changes")

	write("shim", "1.0")
	p := fresh()
	assert.Equal(t, "1.0", ask(p, "shim"))
	before := count()
	assert.Equal(t, "1.0", ask(p, "shim"))
	assert.Equal(t, before, count(), "a shim is asked once a call")
	assert.Equal(t, "1.0", ask(fresh(), "shim"))
	assert.Equal(t, before+1, count(), "and again in the next one, since it may start another version")
	_, err := (&Prober{}).Ask(context.Background(), "no-such-program-at-all")
	assert.ErrorIs(t, err, ErrMissing)
}

// No child gets what belongs to a git that called us.
func TestEnvironments(t *testing.T) {
	out, err := exec.Command("git", "rev-parse", "--local-env-vars").Output()
	require.NoError(t, err)
	names := append(strings.Fields(string(out)), "GIT_EXTERNAL_DIFF", "GIT_CONFIG_KEY_0", "GIT_TEMPLATE_DIR")
	onlyAsking := []string{"GIT_SSH", "GIT_SSH_COMMAND", "GIT_ASKPASS", "GIT_CONFIG_GLOBAL", "NODE_OPTIONS", "LD_PRELOAD", "HARBOUR_TOKEN"}
	for _, name := range append(names, onlyAsking...) {
		t.Setenv(name, "x")
	}
	has := func(env []string, name string) bool {
		return slices.ContainsFunc(env, func(pair string) bool { return strings.HasPrefix(pair, name+"=x") })
	}
	for _, name := range names {
		assert.False(t, has(Building(), name), name)
		assert.False(t, has(Asking(), name), name)
	}
	for _, name := range onlyAsking {
		assert.True(t, has(Building(), name), name)
		assert.False(t, has(Asking(), name), name)
	}
	assert.Contains(t, Asking("A=b"), "A=b")
	assert.Contains(t, Asking(), "PATH="+os.Getenv("PATH"))
}

// A child that leaves its group, its session and its environment is ended, too.
func TestEndsWhatGotAway(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("orphans are adopted on Linux only")
	}
	mark := filepath.Join(t.TempDir(), "alive")
	script := fmt.Sprintf("setsid env -i /bin/sh -c 'while :; do date +%%s%%N > %s; sleep 0.05; done' >/dev/null 2>&1 & sleep 0.3", mark)
	_, err := Run(t.Context(), Command{Args: []string{"sh", "-c", script}})
	require.NoError(t, err)
	first, err := os.ReadFile(mark)
	require.NoError(t, err)
	time.Sleep(300 * time.Millisecond)
	second, err := os.ReadFile(mark)
	require.NoError(t, err)
	assert.Equal(t, string(first), string(second))
}

// Programs are asked in a folder that belongs to no project.
func TestAskedInANeutralFolder(t *testing.T) {
	t.Chdir(t.TempDir())
	here, err := os.Getwd()
	require.NoError(t, err)
	out, err := Output(t.Context(), "pwd")
	require.NoError(t, err)
	assert.NotEqual(t, here, out)
	assert.Equal(t, neutral(), out)
}
