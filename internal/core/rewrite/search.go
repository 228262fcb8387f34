package rewrite

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"

	"bellwether/internal/core/keys"
)

// search tells which rules may have to do with a file, by one pass over its bytes for the words
// of all rules.
type search struct {
	rules       []*Rule
	words       map[string]int // with their numbers
	need        [][]int        // the words that each rule needs; nil for none
	marks       []string       // what stands in every file that has the key of a rule; "" for no such rule
	writes      [][]int        // the words that each rule may write
	choices     []*choice
	begins      []uint64 // by how words begin: the lengths that they have
	least, most int      // their lengths
}

func newSearch(rules []*Rule) *search {
	s := &search{rules: rules, words: map[string]int{}, least: 1 << 30, begins: make([]uint64, 1<<16)}
	var inFiles []bool
	for _, r := range rules {
		b, ok := r.Body.(inFile)
		inFiles = append(inFiles, ok)
		var need []int
		if ok {
			for _, text := range b.words() {
				eachWord([]byte(text), func(word []byte) { need = append(need, s.number(word)) })
			}
		}
		s.need = append(s.need, need)
		mark := ""
		if k, ok := r.Body.(*Key); ok && k.Old != "" {
			mark = keys.Mark(k.Old)
		} else if ok && k.Join != nil {
			mark = keys.Mark(k.Join.Of[0])
		}
		s.marks = append(s.marks, mark)
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
	s.choices = choices(rules, inFiles)
	return s
}

// begin is how a word begins: its first two bytes.
func begin(word []byte) int {
	if len(word) == 1 {
		return int(word[0])
	}
	return int(word[0])<<8 | int(word[1])
}

// number is a word's number.
func (s *search) number(word []byte) int {
	n, known := s.words[string(word)]
	if !known {
		n = len(s.words)
		s.words[string(word)] = n
		s.begins[begin(word)] |= 1 << (len(word) & 63)
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

// choice is a choice of files that several rules may share.
type choice struct {
	files, except []string
	config        bool
	rules         []int
}

// choices are the choices of files that the rules make, each once.
func choices(rules []*Rule, inFile []bool) (all []*choice) {
	by := map[string]*choice{}
	for i, r := range rules {
		if !inFile[i] {
			continue
		}
		key := fmt.Sprint(r.Files, r.Except, configOnly(r.Body))
		if by[key] == nil {
			by[key] = &choice{files: r.Files, except: r.Except, config: configOnly(r.Body)}
			all = append(all, by[key])
		}
		by[key].rules = append(by[key].rules, i)
	}
	return all
}

// about are the rules that a file is one of, by its name.
func (s *search) about(name string) (about []int) {
	for _, c := range s.choices {
		if (!c.config || formats(name)) && (len(c.files) == 0 || Matches(c.files, name)) && !Matches(c.except, name) {
			about = append(about, c.rules...)
		}
	}
	slices.Sort(about)
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
			if len(word) >= s.least && len(word) <= s.most && s.begins[begin(word)]&(1<<(len(word)&63)) != 0 {
				if n, ok := s.words[string(word)]; ok {
					there[n] = true
				}
			}
		})
	}
	stripped := ""
	return slices.DeleteFunc(rules, func(i int) bool {
		if mark := s.marks[i]; mark != "" {
			if stripped == "" {
				stripped = keys.Stripped(string(raw))
			}
			if !strings.Contains(stripped, mark) {
				return true
			}
		}
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
