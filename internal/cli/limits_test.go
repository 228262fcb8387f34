//go:build unix

package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestInterruptedWhileReading interrupts a call that would read for a long time and asks nobody whether to go on. It ends all
// the same, and says what it was at.
func TestInterruptedWhileReading(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "package.json"), []byte(`{"dependencies": {"left": "^1.0.0"}}`), 0o644))
	var lock bytes.Buffer
	for i := range 4_000_000 {
		lock.WriteString("k" + strconv.Itoa(i) + ": v\n")
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pnpm-lock.yaml"), lock.Bytes(), 0o644))
	cmd := program("status")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir(), "GOMEMLIMIT=8GiB")
	var said bytes.Buffer
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	time.Sleep(700 * time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	assert.Error(t, cmd.Wait())
	status := cmd.ProcessState.Sys().(syscall.WaitStatus)
	assert.Equal(t, exitInterrupted, status.ExitStatus())
	assert.Contains(t, said.String(), "interrupted while reading the component")
}
