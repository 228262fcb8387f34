package scaffold

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// The forms in which generators write what is to be filled in, in names and contents.
var placeholders = []*lazyregexp.Regexp{
	lazyregexp.New(`\{\{\s*\.?([A-Za-z][\w.-]*)\s*\}\}`), lazyregexp.New(`<%=?\s*([A-Za-z][\w.-]*)\s*%>`),
	lazyregexp.New(`__([A-Za-z][A-Za-z0-9]*(?:[_-][A-Za-z0-9]+)*)__`), lazyregexp.New(`%%([A-Za-z][\w-]*)%%`),
	lazyregexp.New(`\[\[\s*([A-Za-z][\w.-]*)\s*\]\]`), lazyregexp.New(`\$\$([A-Za-z][\w-]*)\$\$`),
}

// fillKey is a name of a value in the form in which it is looked up: spellings that differ in case, "-", "_" and "." are one.
func fillKey(name string) string {
	return strings.NewReplacer("-", "", "_", "", ".", "").Replace(strings.ToLower(name))
}

// Values are what is filled in, by the names that generators use.
type Values map[string]string

// Set gives a value a name.
func (v Values) Set(name, value string) { v[fillKey(name)] = value }

// Fill fills a template in, names and contents. What cannot be filled stays, and is named where it stands in the name of a
// file: in contents it may be meant as it is. It is an error if two names become one, a name becomes one that no file may
// have, or the contents grow beyond a number of bytes.
func (v Values) Fill(t Tree, most int) (filled Tree, unknown []string, err error) {
	filled = Tree{}
	became, size, grown := map[string]string{}, 0, 0
	fill := func(text string, named bool) string {
		for _, p := range placeholders {
			text = p.ReplaceAllStringFunc(text, func(found string) string {
				name := p.FindStringSubmatch(found)[1]
				if value, known := v[fillKey(name)]; known {
					if grown += len(value); grown > most {
						return ""
					}
					return value
				}
				if named && !slices.Contains(unknown, name) {
					unknown = append(unknown, name)
				}
				return found
			})
		}
		return text
	}
	for _, name := range sorted(t) {
		data := t[name]
		if !Binary(data) {
			data = []byte(fill(string(data), false))
		}
		if size += len(data); size > most || grown > most {
			return nil, nil, errors.New("filled in, it becomes too large")
		}
		to := fill(name, true)
		if plain := Becomes(to); plain != to && t[plain] == nil && became[plain] == "" {
			to = plain
		}
		if other, twice := became[to]; twice {
			return nil, nil, fmt.Errorf("filled in, %q and %q both become %q", other, name, to)
		}
		became[to] = name
		filled[to] = data
	}
	return filled, unknown, filled.CheckNames()
}
