package run

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRun(t *testing.T) {
	var log bytes.Buffer
	r, err := Run(context.Background(), Command{Dir: t.TempDir(), Args: []string{"sh", "-c", "echo $WIND; echo bad >&2; exit 3"}, Env: []string{"WIND=north"}, Log: &log})
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
	name := filepath.Join(t.TempDir(), "logs", "test.log")
	log, err := NewLog(name, 1000)
	require.NoError(t, err)
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
	dir := t.TempDir()
	tool := filepath.Join(dir, "tool")
	write := func(version string) {
		require.NoError(t, os.WriteFile(tool, []byte("#!/bin/sh\necho asked >> "+dir+"/count\necho "+version+"\n"), 0o755))
	}
	count := func() int {
		data, _ := os.ReadFile(dir + "/count")
		return strings.Count(string(data), "asked")
	}
	t.Setenv("PATH", dir+string(os.PathListSeparator)+os.Getenv("PATH"))
	write("1.0")
	ask := func() string {
		p := &Prober{File: filepath.Join(dir, "kept.json"), MaxAge: time.Hour}
		out, err := p.Ask(context.Background(), "tool", "--version")
		require.NoError(t, err)
		return out
	}
	assert.Equal(t, "1.0", ask())
	assert.Equal(t, "1.0", ask())
	assert.Equal(t, 1, count(), "the answer is remembered")
	write("2.0")
	require.NoError(t, os.Chtimes(tool, time.Now(), time.Now().Add(time.Minute)))
	assert.Equal(t, "2.0", ask(), "until the program changes")
	_, err := (&Prober{}).Ask(context.Background(), "no-such-program-at-all")
	assert.ErrorIs(t, err, ErrMissing)
}
