package ecosystem

import (
	"errors"

	"bellwether/internal/host/fetch"
)

// Unreached tells whether an error is that something could not be had from a registry, which says nothing of anything else.
func Unreached(err error) bool { return errors.Is(err, ErrUnknown) || fetch.Failed(err) }

// ErrUnknown is what the error of [Registry.Releases] is for a package that no registry has, in whatever words: it stays where it
// is, and the rest goes on without it.
var ErrUnknown = errors.New("no registry has it")

// Unknown says of an error that no registry has the package that it is about; the words stay. It is nil for nil.
func Unknown(err error) error {
	if err == nil {
		return nil
	}
	return unknown{err}
}

type unknown struct{ error }

func (u unknown) Unwrap() error        { return u.error }
func (u unknown) Is(target error) bool { return target == ErrUnknown }
