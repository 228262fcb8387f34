package model

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Route is the ordered legs from here to the destination.
type Route struct {
	Destination []string // as the user wrote it
	AsOf        time.Time
	Previews    []string // names whose pre-releases legs may take, besides those of the settings
	Advisories  string   // a folder of vulnerability records that legs go by; empty for none
	Legs        []Leg
}

// Leg is the smallest set of changes that can be made, built and committed together. Its
// form in YAML is that of the route file.
type Leg struct {
	ID    string `yaml:"id"` // short and unique in its route: "2-quayside"
	Title string `yaml:"title"`
	// Component is a folder, or a manifest where a folder has several; empty for a leg of runtimes, tools and images, or of a person.
	Component string `yaml:"component,omitempty"`
	// Moves are what a leg of moves does, of direct requirements and of pins.
	Moves   []Move  `yaml:"moves,omitempty"`
	Carried Carried `yaml:"carried,omitempty"`
	Terms   `yaml:",inline"`
	Steps   []Step `yaml:"steps,omitempty"` // what a leg by hand asks a person for
	// Deprecations is how many of the project's own may be left when a leg is passed that
	// settles; nil for others.
	Deprecations *int     `yaml:"deprecations,omitempty"`
	Notes        []string `yaml:"-"`
	Why          []string `yaml:"-"` // why its moves belong together, and why it stands where it does
	// Repairs are the rules for its moves, with what they changed, once it is carried out.
	Repairs []RepairResult `yaml:"-"`
	Keys    []KeyFinding   `yaml:"-"` // of configuration, that are not known any more or missing
}

// LegKind is what a leg is made of.
type LegKind string

// The kinds of legs.
const (
	LegMoves  LegKind = "moves"   // versions move
	LegByHand LegKind = "by hand" // a person does something, since no edit of a file does it
	LegSettle LegKind = "settle"  // a person repairs what is deprecated
)

// Kind is what the leg is made of.
func (l *Leg) Kind() LegKind {
	switch {
	case l.Deprecations != nil:
		return LegSettle
	case len(l.Steps) > 0:
		return LegByHand
	}
	return LegMoves
}

// Terms are what a leg lays down besides its moves.
type Terms struct {
	Overrides []Override `yaml:"overrides,omitempty"`
	Apart     []string   `yaml:"apart,omitempty"`    // names that members of a workspace may have at versions of their own
	LeftOut   []string   `yaml:"left-out,omitempty"` // folders of components that it does not move along
	Dedupe    bool       `yaml:"dedupe,omitempty"`   // it leaves as few copies of packages below the requirements as there can be
	Indirect  bool       `yaml:"indirect,omitempty"` // what only the lock has goes to the newest of its major that is asked for
	Fixes     bool       `yaml:"fixes,omitempty"`    // it avoids what has known vulnerabilities
}

// Ask tells whether the terms ask something of packages by themselves, without any move.
func (t Terms) Ask() bool { return len(t.Overrides) > 0 || t.Dedupe || t.Indirect }

// Move is one subject going from one version to another.
type Move struct {
	Subject Subject `yaml:"-"`
	Name    string  `yaml:"name"` // what the manifest calls it, or "runtime/node"
	// Place is where the declaration stands that moves, where others of its name are at other versions; see DeclarationID.
	Place string `yaml:"place,omitempty"`
	// Becomes is its name afterwards: the same as before where it comes from elsewhere, empty
	// where nothing changes.
	Becomes string `yaml:"becomes,omitempty"`
	From    string `yaml:"from,omitempty"`    // empty for a subject that was not there
	To      string `yaml:"to"`                // empty for a subject that goes away
	Range   string `yaml:"range,omitempty"`   // of one that is added or gets another name: what is asked for of it
	Because string `yaml:"because,omitempty"` // the reason, a clause without a full stop
	// Wants are what is needed of a runtime, tool, platform or image: ">=20", "not <18".
	Wants []string `yaml:"needs,omitempty"`
	// Promise is the least version of it that is promised to who uses the project, where that is less than who works on it needs; "0"
	// where nothing that users get needs it.
	Promise string   `yaml:"promise,omitempty"`
	Sites   []Site   `yaml:"-"` // the places whose text changes, empty if only the lock does
	Via     []string `yaml:"-"` // of one that is carried along: what leads to it from the requirement on, "quayside 4.0.0", …
}

// Key is how goals speak of what moves: by its name, or by the ID of one declaration of it.
func (m Move) Key() string {
	if m.Place == "" {
		return m.Name
	}
	return string(Declaration(m.Place, m.Name))
}

// Spoken is what moves, in sentences: "hawser", "hawser in decks/package.json".
func (m Move) Spoken() string { return Spoken(m.Key()) }

// Says tells whether the move says something of a declaration: of that very one, or of all of its name.
func (m Move) Says(r Requirement) bool {
	return m.Name == r.Name && (m.Place == "" || m.Key() == string(r.ID))
}

// At gives the move with the place of a key that it is about.
func (m Move) At(key string) Move {
	m.Place, _ = Parted(key)
	return m
}

// Pin is the runtime, tool, platform or image that a move names; ok is false for a package.
func (m Move) Pin() (s Subject, ok bool) {
	s, ok = ReadSubject(m.Name)
	return s, ok && s.IsPin()
}

// Carried are moves of packages that only the lock names. In YAML they are sentences, which
// follow from the leg's moves and are only for reading.
type Carried []Move

// MarshalYAML gives the sentences.
func (c Carried) MarshalYAML() (any, error) {
	sentences := make([]string, len(c))
	for i, m := range c {
		switch {
		case m.From == "" && m.To == "":
			sentences[i] = m.Name
		case m.From == "":
			sentences[i] = fmt.Sprintf("%s %s comes in", m.Name, m.To)
		case m.To == "":
			sentences[i] = fmt.Sprintf("%s %s goes away", m.Name, m.From)
		default:
			sentences[i] = fmt.Sprintf("%s %s to %s", m.Name, m.From, m.To)
		}
	}
	return sentences, nil
}

// UnmarshalYAML reads the sentences; one that is none is kept as it is.
func (c *Carried) UnmarshalYAML(read func(any) error) error {
	var sentences []string
	if err := read(&sentences); err != nil {
		return err
	}
	*c = nil
	for _, text := range sentences {
		m := Move{Name: text}
		switch words := strings.Split(text, " "); {
		case len(words) != 4:
		case words[2] == "to":
			m = Move{Name: words[0], From: words[1], To: words[3]}
		case words[2] == "comes" && words[3] == "in":
			m = Move{Name: words[0], To: words[1]}
		case words[2] == "goes" && words[3] == "away":
			m = Move{Name: words[0], From: words[1]}
		}
		*c = append(*c, m)
	}
	return nil
}

// Step is something that a person has to do, since no edit of a file does it.
type Step struct {
	Text    string   `yaml:"text"`
	Because string   `yaml:"because,omitempty"`
	Subject Subject  `yaml:"subject"` // whose installed version tells that it is done
	Wants   []string `yaml:"needs"`   // what is needed of it; see Move
}

// MarshalYAML gives the form for people.
func (s Subject) MarshalYAML() (any, error) { return s.String(), nil }

// UnmarshalYAML reads the form for people; what is none becomes the zero subject.
func (s *Subject) UnmarshalYAML(read func(any) error) error {
	var text string
	if err := read(&text); err != nil {
		return err
	}
	*s, _ = ReadSubject(text)
	return nil
}

// Override gives a package another version of a dependency than it asks for.
type Override struct {
	Of      string `yaml:"of,omitempty"` // the package that gets something; empty for all
	Name    string `yaml:"name"`
	Range   string `yaml:"range,omitempty"` // empty for what the project itself requires
	Drop    bool   `yaml:"drop,omitempty"`  // the override goes again
	Because string `yaml:"because,omitempty"`
}

// String says what the override does.
func (o Override) String() string {
	switch {
	case o.Drop && o.Of == "":
		return fmt.Sprintf("every package gets of %s again what it asks for", o.Name)
	case o.Drop:
		return fmt.Sprintf("%s gets of %s again what it asks for", o.Of, o.Name)
	case o.Of == "":
		return fmt.Sprintf("every package gets %s %s, whatever it asks for", o.Name, o.Range)
	case o.Range == "":
		return fmt.Sprintf("%s gets the project's own %s, whatever it asks for", o.Of, o.Name)
	}
	return fmt.Sprintf("%s gets %s %s, whatever it asks for", o.Of, o.Name, o.Range)
}

// Where is what the override is called: "quayside:hawser", "hawser" for one that is for all.
func (o Override) Where() string {
	if o.Of == "" {
		return o.Name
	}
	return o.Of + ":" + o.Name
}

// SortMoves puts moves in the order of their names.
func SortMoves(moves []Move) {
	slices.SortFunc(moves, func(a, b Move) int {
		return cmp.Or(
			strings.Compare(a.Name, b.Name), strings.Compare(a.From, b.From), strings.Compare(a.To, b.To), strings.Compare(a.Place, b.Place),
		)
	})
}
