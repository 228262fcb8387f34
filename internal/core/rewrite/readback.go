package rewrite

import (
	"slices"
	"strings"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/core/splice"
)

// meant reads a changed file back, and refuses the change where something else is in it than what was meant.
func (b *Key) meant(f *source.File, before *keys.Document, c changed) changed {
	wrong := b.unlike(f, before, c.edits)
	if len(c.edits) == 0 || wrong == "" {
		return c
	}
	left := changed{left: c.left}
	for _, place := range c.places {
		left.leave(f, place, "changing it here would make something else of the file: %s", wrong)
	}
	return left
}

// unlike says what a changed file has that was not meant, "" for nothing.
func (b *Key) unlike(f *source.File, before *keys.Document, edits []splice.Edit) string {
	text, dropped := splice.Apply(f.Text, slices.Clone(edits))
	if dropped > 0 {
		return "two of its changes would lie over each other"
	}
	if strings.TrimSpace(text) == "" {
		return "" // its last key went
	}
	after, err := keys.Read(before.Format, text)
	if err != nil {
		return err.Error()
	}
	about := []string{b.Old, b.New}
	if b.Split != nil {
		about = append(about, b.Split.Into...)
	}
	if b.Join != nil {
		about = append(about, b.Join.Of...)
	}
	about = slices.DeleteFunc(about, func(key string) bool { return key == "" })
	return keys.Unlike(before, after, about, map[string]string{b.Old: b.New})
}
