package fetch

import (
	"fmt"
	"sync"
)

// MaxAnswers is how many documents one host is asked for in a call. A server can name new packages in each answer,
// without end.
const MaxAnswers = 25_000

// Count counts what hosts are asked for. The zero value is ready; nil counts nothing.
type Count struct {
	mu    sync.Mutex
	hosts map[string]int
}

// Endless is the error of a host that would be asked for more documents than MaxAnswers.
type Endless struct{ Host string }

// Error names the host and what to do.
func (e *Endless) Error() string {
	return fmt.Sprintf(
		"%s was asked for %d documents in this call, and there is no end of what it names\n"+
			"  next: look at what it lists; if all that is really needed, run the command again: what was answered is kept", e.Host, MaxAnswers,
	)
}

// one counts one more document of a host.
func (c *Count) one(host string) error {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.hosts == nil {
		c.hosts = map[string]int{}
	}
	if c.hosts[host]++; c.hosts[host] > MaxAnswers {
		return &Endless{host}
	}
	return nil
}
