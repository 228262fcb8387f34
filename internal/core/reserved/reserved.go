// Package reserved knows the names in a project that belong to git or to Bellwether, and which
// names a file system takes for one and the same.
package reserved

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Owner is whom a name belongs to.
type Owner int

// The owners.
const (
	Nobody     Owner = iota // the project
	Git                     // git's own folder
	Bellwether              // the folder in which Bellwether keeps its own files
)

// The folders of the owners.
const (
	gitDir  = ".git"
	keepDir = ".bellwether"
)

// Of tells whom a name belongs to: that of a file or folder, relative and with slashes, by any
// part of it. The parts are taken as every file system that people use would take them.
func Of(name string) Owner {
	for from := 0; from < len(name); {
		to := from
		for to < len(name) && name[to] != '/' && name[to] != '\\' {
			to++
		}
		if owner := of(name[from:to]); owner != Nobody {
			return owner
		}
		from = to + 1
	}
	return Nobody
}

// begins are the bytes with which a name of an owner can begin; every file is asked about.
const begins = ".gGbB"

func of(part string) Owner {
	if len(part) < len(gitDir) || part[0] < 0x80 && strings.IndexByte(begins, part[0]) < 0 {
		return Nobody
	}
	switch key := keyOf(part); {
	case key == gitDir || isShort(key, "git"):
		return Git
	case key == keepDir || isShort(key, "bellwe"):
		return Bellwether
	}
	return Nobody
}

// isShort tells whether a name is a short one of a longer name, as Windows makes them: "git~1".
func isShort(name, begin string) bool {
	number, ok := strings.CutPrefix(name, begin+"~")
	return ok && number != "" && strings.Trim(number, "0123456789") == ""
}

// Key is the same text for all names that some file system takes for one and the same: without
// regard to case, to the form of accents, to characters that are not seen, to dots and spaces at
// the end of a part, and to what follows a colon, which Windows takes for a stream of the file.
// The name is relative and with slashes.
func Key(name string) string {
	parts := strings.Split(name, "/")
	for i, part := range parts {
		parts[i] = keyOf(part)
	}
	return strings.Join(parts, "/")
}

func keyOf(part string) string {
	plain := true
	for i := 0; i < len(part) && plain; i++ {
		plain = part[i] < 0x80 && part[i] != ':'
	}
	if plain {
		return strings.TrimRight(strings.ToLower(part), " .")
	}
	part = strings.Map(func(r rune) rune {
		if unseen(r) {
			return -1
		}
		return least(r)
	}, norm.NFD.String(turkish.Replace(part)))
	if stream := strings.IndexByte(part, ':'); stream > 0 {
		part = part[:stream]
	}
	return strings.TrimRight(part, " .")
}

// turkish are the letters of Turkish that stand for an i where case does not count.
var turkish = strings.NewReplacer("İ", "i", "ı", "i")

// unseen tells whether a character is shown as nothing. HFS+ passes over some of them.
func unseen(r rune) bool {
	return unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Variation_Selector, r) ||
		unicode.Is(unicode.Other_Default_Ignorable_Code_Point, r)
}

// least is the character that stands for all that differ in case only.
func least(r rune) rune {
	low := unicode.ToLower(r)
	for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
		low = min(low, unicode.ToLower(f))
	}
	return low
}
