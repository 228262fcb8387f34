package flat

import (
	"context"
	"sync"
)

// atOnce is how many questions are open at a time.
const atOnce = 16

// answers asks an index each question once, and some before they come up.
type answers struct {
	ctx      context.Context
	index    Index
	limit    chan struct{}
	running  sync.WaitGroup
	mu       sync.Mutex
	releases map[Key]*answer[[]Release]
	needs    map[asking]*answer[[]Need]
}

type asking struct {
	key     Key
	release string
}

// answer is there once, for all who want it.
type answer[T any] struct {
	once sync.Once
	got  T
	err  error
}

func newAnswers(ctx context.Context, index Index) *answers {
	return &answers{
		ctx: ctx, index: index, limit: make(chan struct{}, atOnce),
		releases: map[Key]*answer[[]Release]{}, needs: map[asking]*answer[[]Need]{},
	}
}

// of gives the answer to a question, which may not be there yet.
func of[K comparable, T any](a *answers, known map[K]*answer[T], question K) *answer[T] {
	a.mu.Lock()
	defer a.mu.Unlock()
	if known[question] == nil {
		known[question] = &answer[T]{}
	}
	return known[question]
}

// Releases are the releases of a key.
func (a *answers) Releases(key Key) ([]Release, error) {
	at := of(a, a.releases, key)
	at.once.Do(func() { at.got, at.err = a.index.Releases(a.ctx, key) })
	return at.got, at.err
}

// Needs are what a release needs.
func (a *answers) Needs(key Key, release string) ([]Need, error) {
	at := of(a, a.needs, asking{key, release})
	at.once.Do(func() { at.got, at.err = a.index.Needs(a.ctx, key, release) })
	return at.got, at.err
}

// ahead asks something in the background, if there is room for it. What goes wrong is told
// when the answer is wanted.
func (a *answers) ahead(ask func()) {
	select {
	case a.limit <- struct{}{}:
	default:
		return
	}
	a.running.Add(1)
	go func() {
		defer a.running.Done()
		defer func() { <-a.limit }()
		if a.ctx.Err() == nil {
			ask()
		}
	}()
}

// all asks for the releases of several keys at once.
func (a *answers) all(keys []Key) {
	var group sync.WaitGroup
	for _, key := range keys {
		group.Add(1)
		go func() {
			defer group.Done()
			a.limit <- struct{}{}
			defer func() { <-a.limit }()
			_, _ = a.Releases(key)
		}()
	}
	group.Wait()
}

// wait waits until nothing runs in the background any more.
func (a *answers) wait() { a.running.Wait() }
