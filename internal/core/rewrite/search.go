package rewrite

import (
	"bytes"
	"slices"
	"unicode/utf16"
)

// search tells which rules may have to do with a file, by one pass over its bytes for the words
// of all rules.
type search struct {
	rules       []*Rule
	words       map[string]int // with their numbers
	need        [][]int        // the words that each rule needs; nil for none
	writes      [][]int        // the words that each rule may write
	bodies      []bool         // whether a rule changes one file at a time
	first       [256]bool      // the bytes that words begin with
	least, most int            // their lengths
}

func newSearch(rules []*Rule) *search {
	s := &search{rules: rules, words: map[string]int{}, least: 1 << 30}
	for _, r := range rules {
		b, ok := r.Body.(inFile)
		s.bodies = append(s.bodies, ok)
		var need []int
		if ok {
			for _, text := range b.words() {
				eachWord([]byte(text), func(word []byte) { need = append(need, s.number(word)) })
			}
		}
		s.need = append(s.need, need)
	}
	for _, r := range rules {
		var writes []int
		eachWord([]byte(written(r.Body)), func(word []byte) {
			if n, known := s.words[string(word)]; known {
				writes = append(writes, n)
			}
		})
		s.writes = append(s.writes, writes)
	}
	return s
}

// number is a word's number.
func (s *search) number(word []byte) int {
	n, known := s.words[string(word)]
	if !known {
		n = len(s.words)
		s.words[string(word)] = n
		s.first[word[0]] = true
		s.least, s.most = min(s.least, len(word)), max(s.most, len(word))
	}
	return n
}

// written is the text that a body may write.
func written(b Body) string {
	switch b := b.(type) {
	case *Rename:
		return b.New
	case *Shape:
		return b.Put
	case *Value:
		return b.New
	case *Line:
		return b.Insert
	}
	return ""
}

// about are the rules that a file is one of, by its name.
func (s *search) about(name string) (about []int) {
	for i, r := range s.rules {
		if s.bodies[i] && r.in(name) && (!configOnly(r.Body) || formats(name)) {
			about = append(about, i)
		}
	}
	return about
}

// within are those of some rules whose words all stand in a text, or may be written there by a
// rule before.
func (s *search) within(rules []int, raw []byte) []int {
	if bytes.HasPrefix(raw, []byte{0xff, 0xfe}) || bytes.HasPrefix(raw, []byte{0xfe, 0xff}) {
		raw = narrow(raw[2:], raw[0] == 0xff)
	}
	raw = bytes.TrimPrefix(raw, []byte("\ufeff"))
	there := make([]bool, len(s.words))
	if len(there) > 0 {
		eachWord(raw, func(word []byte) {
			if s.first[word[0]] && len(word) >= s.least && len(word) <= s.most {
				if n, ok := s.words[string(word)]; ok {
					there[n] = true
				}
			}
		})
	}
	return slices.DeleteFunc(rules, func(i int) bool {
		if slices.ContainsFunc(s.need[i], func(n int) bool { return !there[n] }) {
			return true
		}
		for _, n := range s.writes[i] {
			there[n] = true
		}
		return false
	})
}

// inWord are the bytes of words, as far as the search is concerned.
var inWord = func() (in [256]bool) {
	for c := range in {
		in[c] = c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
	}
	return in
}()

// eachWord calls do for each run of letters and digits.
func eachWord(text []byte, do func(word []byte)) {
	for i := 0; i < len(text); {
		if !inWord[text[i]] {
			i++
			continue
		}
		from := i
		for i < len(text) && inWord[text[i]] {
			i++
		}
		do(text[from:i])
	}
}

// narrow is UTF-16 as UTF-8, as far as words are concerned.
func narrow(raw []byte, little bool) []byte {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		if little {
			units[i] = uint16(raw[2*i]) | uint16(raw[2*i+1])<<8
		} else {
			units[i] = uint16(raw[2*i+1]) | uint16(raw[2*i])<<8
		}
	}
	return []byte(string(utf16.Decode(units)))
}
