package hostile

import (
	"runtime"
	"sync"
	"time"
)

// Bounds of what a question to a server that misbehaves may take.
const (
	MaxTime          = 20 * time.Second
	MaxMemory uint64 = 300 << 20 // bytes
)

// Memory is how much memory is taken, at the most, while something is done, in bytes.
func Memory(do func()) (most uint64) {
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	done := make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() {
		for {
			var now runtime.MemStats
			runtime.ReadMemStats(&now)
			if now.HeapAlloc > before.HeapAlloc {
				most = max(most, now.HeapAlloc-before.HeapAlloc)
			}
			select {
			case <-done:
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
	})
	do()
	close(done)
	watching.Wait()
	return most
}
