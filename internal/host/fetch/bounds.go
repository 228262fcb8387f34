package fetch

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/hashicorp/go-retryablehttp"
)

const (
	// DefaultLimit is how many bytes an answer may have, unless a request says other.
	DefaultLimit = 256 << 20
	// DefaultSlow is how long an answer may come slower than minRate.
	DefaultSlow = time.Minute
	// minRate is how much of an answer has to come in a second, in bytes, on the average
	// of the whole answer.
	minRate = 1 << 10
	// maxWait is how long a server may tell to wait before it is asked again.
	maxWait = 4 * time.Second
)

// wait is how long is waited before another try. What a server asks for is heeded only
// up to a bound: it could be a year.
func wait(least, most time.Duration, try int, answer *http.Response) time.Duration {
	return min(most, retryablehttp.DefaultBackoff(least, most, try, answer))
}

// Excess is the error of an answer that goes beyond a bound.
type Excess struct{ what string }

// Error names the bound.
func (e *Excess) Error() string { return e.what }

// watched is a body that is cut off when nothing comes for a while, when it comes too
// slowly, and when it is too large.
type watched struct {
	r      io.Reader
	limit  int64 // bytes
	cfg    Config
	begun  time.Time
	cancel context.CancelFunc
	timer  *time.Timer // of silence
	pace   *time.Timer

	mu    sync.Mutex
	read  int64 // bytes
	wrong error
	broke bool // the connection did, in the middle
}

func watch(r io.Reader, limit int64, cfg Config, cancel context.CancelFunc) *watched {
	w := &watched{r: r, limit: limit, cancel: cancel, cfg: cfg, begun: time.Now()}
	w.timer = time.AfterFunc(cfg.Stall, func() {
		w.fail(&Excess{fmt.Sprintf("it fell silent for %s in the middle of an answer", cfg.Stall)})
	})
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pace = time.AfterFunc(cfg.Slow, w.checkPace)
	return w
}

// checkPace looks now and then how fast the answer comes.
func (w *watched) checkPace() {
	w.mu.Lock()
	took, read, pace := time.Since(w.begun), w.read, w.pace
	w.mu.Unlock()
	if read < int64(took.Seconds()*minRate) {
		w.fail(
			&Excess{fmt.Sprintf("it sent %d bytes in %s, which is slower than %d bytes a second", read, took.Round(time.Second), minRate)},
		)
		return
	}
	pace.Reset(w.cfg.Slow)
}

func (w *watched) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.wrong == nil {
		w.wrong = err
		w.cancel()
	}
}

// cutShort tells whether the connection broke in the middle of the answer.
func (w *watched) cutShort() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.broke && w.wrong == nil
}

// failure is why the answer was cut off, nil if it was not.
func (w *watched) failure() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.wrong
}

func (w *watched) stop() {
	w.timer.Stop()
	w.pace.Stop()
}

// Read reads, and cuts off at the bounds.
func (w *watched) Read(p []byte) (int, error) {
	w.timer.Reset(w.cfg.Stall)
	n, err := w.r.Read(p)
	w.mu.Lock()
	w.read += int64(n)
	tooLarge := w.read > w.limit
	w.mu.Unlock()
	if tooLarge {
		w.fail(&Excess{fmt.Sprintf("it is larger than %d MB", w.limit>>20)})
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.broke = w.broke || err != nil && err != io.EOF
	if w.wrong != nil {
		return 0, w.wrong // readers pass over an error that comes with bytes
	}
	return n, err
}
