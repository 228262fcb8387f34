// Package output is what commands give: results in the form of their JSON, which texts and pages are made of.
package output

import (
	"time"

	"bellwether/internal/core/model"
)

// Survey is what a project declares, has locked, and could have.
type Survey struct {
	Components []SurveyComponent `json:"components"`
	Pins       []SurveyPins      `json:"pins,omitempty"`
	Remarks    []SurveyRemark    `json:"remarks,omitempty"`
	Bridges    []SurveyBridge    `json:"bridges,omitempty"`
	Advisories []SurveyAdvisory  `json:"advisories,omitempty"`
	Unread     []string          `json:"unread,omitempty"` // files that were not read, and why, as sentences
}

// SurveyBridge is a temporary measure that a leg took.
type SurveyBridge struct {
	Component string `json:"component"`
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	At        string `json:"at"`
	Because   string `json:"because,omitempty"`
	Since     string `json:"since"`
	Waits     string `json:"waits"`          // for what
	Goes      string `json:"goes,omitempty"` // why it can go now; empty if it cannot
}

// SurveyAdvisory is a package in effect that has a known vulnerability.
type SurveyAdvisory struct {
	ID       string   `json:"id"`
	Aliases  []string `json:"aliases,omitempty"`
	Summary  string   `json:"summary,omitempty"`
	Severity string   `json:"severity,omitempty"` // as the record states it
	Rating   string   `json:"rating,omitempty"`   // that in a word: "critical", "high", "medium", "low"
	Name     string   `json:"name"`
	Version  string   `json:"version"`
	PURL     string   `json:"purl"`
	Fixed    string   `json:"fixed,omitempty"` // the lowest version above in which it is; empty if none is known
	Via      []string `json:"via,omitempty"`   // what leads to it from the requirement on
	Place    string   `json:"place"`           // of the requirement
}

// SurveyRemark is what the compat books, or what packages state, hold against
// the project as it is.
type SurveyRemark struct {
	Kind    string `json:"kind"` // a rule's kind, "states" for what a package states, or "assumes"
	Subject string `json:"subject"`
	Text    string `json:"text"`
	Because string `json:"because,omitempty"`
	Place   string `json:"place,omitempty"`
	Rule    string `json:"rule,omitempty"`
	On      string `json:"on,omitempty"`   // the date of an end or deadline
	Days    int    `json:"days,omitempty"` // until then; negative if it is past
	Fix     string `json:"fix,omitempty"`
}

// SurveyPins is what all files of the project state of one runtime, tool or
// image.
type SurveyPins struct {
	Subject   string      `json:"subject"`
	Installed string      `json:"installed,omitempty"`
	Stated    []SurveyPin `json:"stated"`
	Disagree  []string    `json:"disagree,omitempty"` // sentences
	Fix       string      `json:"fix,omitempty"`      // the command that brings the places together
}

// SurveyPin is one place that states a version.
type SurveyPin struct {
	Range    string `json:"range"`
	Place    string `json:"place"`
	Floating bool   `json:"floating,omitempty"` // it names whatever is newest
	Among    bool   `json:"among,omitempty"`    // one of a list, all of which are tried
	Assumed  bool   `json:"assumed,omitempty"`  // resolving is to assume it, whatever runs
	Digest   bool   `json:"digest,omitempty"`   // a digest behind it nails it down
	Unknown  string `json:"unknown,omitempty"`  // why it cannot be known
}

// SurveyComponent is one component of a survey.
type SurveyComponent struct {
	Dir          string              `json:"dir"`
	Name         string              `json:"name,omitempty"`
	Ecosystem    string              `json:"ecosystem"`
	Manifest     string              `json:"manifest"`
	Lock         string              `json:"lock,omitempty"`
	Lockless     bool                `json:"lockless,omitempty"` // there is never a lock
	Notes        []string            `json:"notes,omitempty"`
	Requirements []SurveyRequirement `json:"requirements"`
	Indirect     int                 `json:"indirect,omitempty"`   // requirements that only other packages need, which are not listed
	Families     [][]string          `json:"families,omitempty"`   // names that are released together
	Companions   [][]string          `json:"companions,omitempty"` // names that are usually moved together
	Runtimes     []SurveyRuntime     `json:"runtimes,omitempty"`
}

// SurveyRequirement is one declared dependency with what is newer.
type SurveyRequirement struct {
	Name       string `json:"name"`
	PURL       string `json:"purl"`
	Group      string `json:"group"`
	When       string `json:"when,omitempty"` // when it counts, as a condition
	Range      string `json:"range"`
	Place      string `json:"place"`                // file:line
	Locked     string `json:"locked,omitempty"`     // the version in effect
	Installs   string `json:"installs,omitempty"`   // what an install would give now, where nothing is locked
	Patch      string `json:"patch,omitempty"`      // newest fix, if newer than what is locked
	Minor      string `json:"minor,omitempty"`      // newest within the major, if newer
	Major      string `json:"major,omitempty"`      // newest of all, if in a newer major
	Preview    string `json:"preview,omitempty"`    // newest pre-release, if newer than all releases
	Majors     int    `json:"majors,omitempty"`     // how many majors behind
	Shunned    string `json:"shunned,omitempty"`    // newest release, if there is something against all that are newer
	Against    string `json:"against,omitempty"`    // what there is against it: "deprecated", "retracted"
	Needs      string `json:"needs,omitempty"`      // what must be raised first for the newest
	Deprecated string `json:"deprecated,omitempty"` // the notice for what is locked
	Retracted  bool   `json:"retracted,omitempty"`  // the author took back what is locked
	Because    string `json:"because,omitempty"`    // why it was taken back
	Replaced   string `json:"replaced,omitempty"`   // the package that goes on in its place
	As         string `json:"as,omitempty"`         // what the newest is called, if something else
	Asked      bool   `json:"asked,omitempty"`      // moves only where it must or is asked to by name
	Fixed      string `json:"fixed,omitempty"`      // why it cannot be moved by version
	Runtime    string `json:"runtime,omitempty"`    // what the newest states it runs on
	Unfit      string `json:"unfit,omitempty"`      // why the newest does not run on what is installed
	Problem    string `json:"problem,omitempty"`    // why nothing newer can be told
	// Published are when the version in effect and the newest one were, where the registry says
	// so and there is a newer one.
	Published       time.Time `json:"published,omitzero"`
	NewestPublished time.Time `json:"newest-published,omitzero"`
}

// SurveyRuntime is a runtime or tool that a manifest states.
type SurveyRuntime struct {
	Subject   string `json:"subject"`
	Range     string `json:"range"`
	Place     string `json:"place"`
	Installed string `json:"installed,omitempty"`
}

// Explanation is why a package is at its version, or why it is not at another.
type Explanation struct {
	Component string             `json:"component"`
	Name      string             `json:"name"`
	Version   string             `json:"version,omitempty"` // the one asked about
	Locked    []model.LockedCopy `json:"locked"`
	Releases  []ReleaseLine      `json:"releases,omitempty"`
	Possible  bool               `json:"possible"` // of the version asked about
	Proof     []string           `json:"proof,omitempty"`
	Steps     []ProofStep        `json:"steps,omitempty"` // of the proof
	Moves     []MoveSummary      `json:"moves,omitempty"` // what would move along
}

// ProofStep is one sentence of a proof.
type ProofStep struct {
	Number int      `json:"number"`
	Line   string   `json:"line"`            // as it is printed
	From   []int    `json:"from,omitempty"`  // the numbers that it follows from; none for a fact
	About  []string `json:"about,omitempty"` // what a fact is about, the one that asks first
	Facts  []string `json:"facts,omitempty"` // one by one, where the sentence tells several
}

// InEffect is all that is in effect in a project.
type InEffect struct {
	Components []ComponentInEffect `json:"components"`
}

// ComponentInEffect is what is in effect in a component: each copy once, below what brings it where that is known.
type ComponentInEffect struct {
	Dir       string            `json:"dir"`
	Name      string            `json:"name,omitempty"`
	Ecosystem string            `json:"ecosystem"`
	Packages  []PackageInEffect `json:"packages"`
}

// PackageInEffect is a package in such a list. It is brought by the last one before it with a smaller depth.
type PackageInEffect struct {
	Depth       int    `json:"depth"` // 0 for what is required, and for what is indirect
	Name        string `json:"name"`
	Version     string `json:"version"`
	Place       string `json:"place,omitempty"`       // that requires it
	Indirect    bool   `json:"indirect,omitempty"`    // others need it, and which is not told here
	Development bool   `json:"development,omitempty"` // only who works on the project gets it
}

// DeadEnd is a second conflict behind the one that is told first.
type DeadEnd struct {
	Option string      `json:"option"` // what makes the first give way: of the command, to be given besides or left out
	Proof  []ProofStep `json:"proof"`
}

// ReleaseLine is one release in a list.
type ReleaseLine struct {
	Version    string    `json:"version"`
	As         string    `json:"as,omitempty"` // what the package is called at this version, if something else
	Published  time.Time `json:"published,omitzero"`
	Deprecated string    `json:"deprecated,omitempty"`
	Retracted  string    `json:"retracted,omitempty"` // that it was taken back, and why
	Runtime    string    `json:"runtime,omitempty"`
	Preview    bool      `json:"preview,omitempty"`
}

// WayOut is a change of what was asked for that would make it possible.
type WayOut struct {
	Text   string   `json:"text"`
	Option string   `json:"option"`          // of the command, to be given besides or instead
	Cost   int      `json:"cost"`            // to compare ways by
	Moves  []string `json:"moves,omitempty"` // requirements that move besides
	Risk   string   `json:"risk,omitempty"`
}

// MoveSummary is a move in results.
type MoveSummary struct {
	Name    string   `json:"name"`
	Place   string   `json:"place,omitempty"`   // where the declaration stands that moves, where others of the name are at other versions
	Becomes string   `json:"becomes,omitempty"` // the name afterwards; the same for one that comes from elsewhere
	Range   string   `json:"range,omitempty"`   // what is asked for of one that comes in, gets another name or comes from elsewhere
	PURL    string   `json:"purl"`
	From    string   `json:"from,omitempty"`
	To      string   `json:"to,omitempty"`
	Because string   `json:"because,omitempty"`
	Places  []string `json:"places,omitempty"`
	Needs   []string `json:"needs,omitempty"` // what is needed of a runtime, tool, platform or image
	Via     []string `json:"via,omitempty"`   // of one that moves along: what leads to it from the requirement on
}

// OfMove gives a move in the form of results.
func OfMove(m model.Move) MoveSummary {
	s := MoveSummary{
		Name: m.Name, Place: m.Place, Becomes: m.Becomes, Range: m.Range, PURL: m.Subject.PURL(m.To), From: m.From, To: m.To, Because: m.Because,
		Needs: m.Wants, Via: m.Via,
	}
	for _, site := range m.Sites {
		s.Places = append(s.Places, site.String())
	}
	if s.From == "" && m.To != "" && m.Range == "" && len(m.Sites) > 0 { // nothing was locked
		s.From = m.Sites[0].Text
	}
	return s
}

// Spoken is what moves, with its place where the name is not enough.
func (m MoveSummary) Spoken() string { return model.Move{Name: m.Name, Place: m.Place}.Spoken() }

// RouteResult is a computed route.
type RouteResult struct {
	File        string      `json:"file"`
	Destination []string    `json:"destination"`
	Legs        []LegResult `json:"legs"`
	Notices     []string    `json:"notices,omitempty"`
}

// LegResult is a leg in results.
type LegResult struct {
	ID        string `json:"id"`
	Title     string `json:"title"`
	Component string `json:"component"`
	Status    string `json:"status,omitempty"` // done, repair, next or waiting
	Commit    string `json:"commit,omitempty"`
	// Unverified are the reasons why nothing shows that a leg which was carried out works, as sentences.
	Unverified []string      `json:"unverified,omitempty"`
	Moves      []MoveSummary `json:"moves"`
	Carried    []MoveSummary `json:"carried,omitempty"`
	Overrides  []string      `json:"overrides,omitempty"` // sentences
	Steps      []StepResult  `json:"steps,omitempty"`     // for a person
	Notes      []string      `json:"notes,omitempty"`
	Why        []string      `json:"why,omitempty"` // its moves belong together, and stand where they do
	// Repairs are the rules that the leg's moves are for, with what they changed and left.
	Repairs []model.RepairResult `json:"repairs,omitempty"`
	Keys    []model.KeyFinding   `json:"keys,omitempty"` // that nobody reads any more, or that are missing
}

// StepResult is something that a person has to do.
type StepResult struct {
	Text    string   `json:"text"`
	Because string   `json:"because,omitempty"`
	Subject string   `json:"subject"`
	Needs   []string `json:"needs"`
}

// OfLeg gives a leg in the form of results.
func OfLeg(l model.Leg) LegResult {
	r := LegResult{
		ID:        l.ID,
		Title:     l.Title,
		Component: l.Component,
		Moves:     []MoveSummary{},
		Notes:     l.Notes,
		Why:       l.Why,
		Repairs:   l.Repairs,
		Keys:      l.Keys,
	}
	for _, m := range l.Moves {
		r.Moves = append(r.Moves, OfMove(m))
	}
	for _, m := range l.Carried {
		r.Carried = append(r.Carried, OfMove(m))
	}
	for _, o := range l.Overrides {
		r.Overrides = append(r.Overrides, o.String())
	}
	for _, s := range l.Steps {
		r.Steps = append(r.Steps, StepResult{s.Text, s.Because, s.Subject.String(), s.Wants})
	}
	return r
}

// StatusResult is where a project is on its route.
type StatusResult struct {
	Destination []string    `json:"destination,omitempty"`
	Branch      string      `json:"branch,omitempty"`
	Legs        []LegResult `json:"legs"`
	Next        string      `json:"next"` // what to do next, a sentence
	// Checklist is what must be tried by hand.
	Checklist []ChecklistItem    `json:"checklist,omitempty"`
	ToDos     []model.ToDoResult `json:"todos,omitempty"`
}

// Prereqs is what must be true first: for what is locked now, or for a
// destination.
type Prereqs struct {
	Destination []string    `json:"destination,omitempty"` // empty for what is locked now
	Rows        []Prereq    `json:"prerequisites"`
	Chain       []ChainLink `json:"chain"`
	Notes       []string    `json:"notes,omitempty"`
	// Unconfirmed is what release notes on the way ask for, and no registry states.
	Unconfirmed []model.NotedNeed `json:"unconfirmed,omitempty"`
}

// The verdicts on a prerequisite.
const (
	VerdictMet     = "met"
	VerdictRaise   = "raise"   // places state too little
	VerdictInstall = "install" // this machine has too little
	VerdictBoth    = "raise and install"
	VerdictSwitch  = "switch" // this machine has enough, but starts another version
	VerdictMove    = "move"   // a package, which moves on the route
	VerdictUnknown = "unknown"
)

// Prereq is one thing that must be true first.
type Prereq struct {
	Subject   string        `json:"subject"`
	PURL      string        `json:"purl"`
	Have      string        `json:"have,omitempty"` // what counts as stated or locked now
	Need      string        `json:"need"`           // the version that meets everything
	Wants     []string      `json:"wants"`          // the ranges that it has to meet
	Because   []string      `json:"because"`        // from the destination down to this, a sentence each
	Stated    []PrereqPlace `json:"stated,omitempty"`
	Installed []string      `json:"installed,omitempty"` // the first is what a bare command starts
	Ends      string        `json:"ends,omitempty"`      // the end of support of what is needed, a date, if it is known
	Ended     bool          `json:"ended,omitempty"`     // and it is past
	Verdict   string        `json:"verdict"`
	Next      string        `json:"next,omitempty"` // what a person has to do
}

// PrereqPlace is a place that states a version.
type PrereqPlace struct {
	Place  string `json:"place"`
	Start  int    `json:"start"` // the byte range of the text there
	End    int    `json:"end"`
	Range  string `json:"range"`
	Enough bool   `json:"enough"`
	Why    string `json:"why,omitempty"` // why it cannot be known
}

// ChainLink is one need: something needs something else.
type ChainLink struct {
	By      string `json:"by"` // "npm/quayside 4.0.0", "runtime/node 20"
	Need    string `json:"need"`
	Range   string `json:"range"` // "not <18" for what does not work together
	With    string `json:"with,omitempty"`
	Rule    string `json:"rule,omitempty"`
	Because string `json:"because,omitempty"`
	Source  string `json:"source,omitempty"`
	Place   string `json:"place,omitempty"` // of the rule, or of the requirement
	Holds   bool   `json:"holds"`           // it is met as things are
}

// BooksResult is the compat books that apply to a project.
type BooksResult struct {
	Books []BookResult `json:"books"`
	Notes []string     `json:"notes,omitempty"`
}

// BookResult is one compat book.
type BookResult struct {
	Book     string       `json:"book"` // its file or address
	Title    string       `json:"title,omitempty"`
	AsOf     string       `json:"as-of,omitempty"`
	Ships    bool         `json:"ships,omitempty"`    // with the program
	Releases int          `json:"releases,omitempty"` // lines of runtimes that it lists
	Rules    []RuleResult `json:"rules"`
}

// RuleResult is a rule, and whether it applies.
type RuleResult struct {
	ID      string `json:"id"`
	Kind    string `json:"kind"`
	Says    string `json:"says"`
	Because string `json:"because"`
	Source  string `json:"source,omitempty"`
	Place   string `json:"place"`
	Status  string `json:"status"` // in force, not yet, not here or never
	Why     string `json:"why"`
}

// BookCheck is what there is to say about one book.
type BookCheck struct {
	Book    string       `json:"book"`
	Title   string       `json:"title,omitempty"`
	Rules   int          `json:"rules"`
	Remarks []BookRemark `json:"remarks"`
}

// BookRemark is a mistake in a book.
type BookRemark struct {
	Line   int      `json:"line"`
	Column int      `json:"column,omitempty"`
	Rule   string   `json:"rule,omitempty"`
	Text   string   `json:"text"`
	Next   string   `json:"next,omitempty"`
	Proof  []string `json:"proof,omitempty"`
	Lines  []string `json:"lines,omitempty"` // an example, as it is and as it should be
}

// CulpritResult is which moves of a leg break something.
type CulpritResult struct {
	Leg      string        `json:"leg"`
	Moves    int           `json:"moves"` // how many it has, of packages
	Trials   int           `json:"trials"`
	Duration time.Duration `json:"nanoseconds"`
	Culprits []CulpritSet  `json:"culprits"`
	Rest     []string      `json:"rest,omitempty"`     // the most names that were seen to pass together
	Unstable []string      `json:"unstable,omitempty"` // what failed and passed with the same moves
	Spent    bool          `json:"spent,omitempty"`    // the budget ended before all was known
	Parted   []string      `json:"parted,omitempty"`   // the legs that were made of it
}

// CulpritSet is a smallest set of moves that breaks something.
type CulpritSet struct {
	Moves   []MoveSummary `json:"moves"`
	With    []MoveSummary `json:"with,omitempty"`   // what those cannot move without
	Breaks  []string      `json:"breaks"`           // tests and stages
	Certain bool          `json:"certain"`          // else it is among these
	Passes  string        `json:"passes,omitempty"` // of a single move: the release that still passes
	Fails   string        `json:"fails,omitempty"`  // and the next one, which does not
}

// The states of an item of the checklist.
const (
	TickOpen   = "open"
	TickPassed = "passed"
	TickFailed = "failed"
)

// ChecklistItem is something that must be tried by hand.
type ChecklistItem struct {
	ID      string    `json:"id"`
	Text    string    `json:"text"`
	From    string    `json:"from"` // who asks for it: the settings, or a leg
	Because string    `json:"because,omitempty"`
	State   string    `json:"state"`
	Stale   bool      `json:"stale,omitempty"` // it was tried, but before the last leg
	Note    string    `json:"note,omitempty"`
	At      time.Time `json:"at,omitzero"`
}
