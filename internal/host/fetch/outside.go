package fetch

import "errors"

// Failed tells whether an error is that something could not be had from a host: it was not reached, it refused, it answered
// without an end, or it must not be asked.
func Failed(err error) bool {
	return errors.As(err, new(*Status)) || errors.As(err, new(*Unreachable)) || errors.As(err, new(*Endless)) ||
		errors.Is(err, ErrNotCached) || errors.Is(err, ErrNotAsked)
}
