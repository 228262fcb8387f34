package model

// NotesResult is what releases on the way say, and what of it concerns the project.
type NotesResult struct {
	Packages []PackageNotes  `json:"packages"`
	Rules    []ProposedRule  `json:"rules,omitempty"`  // renames that are plainly stated
	Needs    []NotedNeed     `json:"needs,omitempty"`  // runtimes and tools that no registry states
	Saved    string          `json:"saved,omitempty"`  // the file that the rules were written to
	Advice   []MessageRename `json:"advice,omitempty"` // what deprecations of the baseline plainly say
}

// PackageNotes are the notes of one package on its way.
type PackageNotes struct {
	Component string      `json:"component"`
	Name      string      `json:"name"`
	PURL      string      `json:"purl"`
	From      string      `json:"from"`
	To        string      `json:"to"`
	Releases  int         `json:"releases"`            // on the way
	Found     []string    `json:"found"`               // the files that were read: "CHANGELOG.md of 4.0.0"
	Entries   []NoteEntry `json:"entries"`             // those that concern the project first
	Versions  []string    `json:"versions,omitempty"`  // that the notes have a part of
	Unread    []string    `json:"unread,omitempty"`    // what could not be read, and why
	Whole     []string    `json:"whole,omitempty"`     // files with no part of a version on the way
	Looked    []string    `json:"looked-at,omitempty"` // where nothing was found: the releases whose archives were looked at
	Gaps      []string    `json:"gaps,omitempty"`      // releases that nothing was found about, as sentences
}

// NoteEntry is one thing that a release says.
type NoteEntry struct {
	Kind    string      `json:"kind"`
	Version string      `json:"version"`
	Text    string      `json:"text"`
	Place   string      `json:"place"`           // "CHANGELOG.md:41"
	Major   bool        `json:"major,omitempty"` // it is said of the first release of a major
	Uses    []NameUse   `json:"uses,omitempty"`
	Renames [][2]string `json:"renames,omitempty"`
}

// NameUse is where the project mentions a name of a note.
type NameUse struct {
	Name   string   `json:"name"`
	Count  int      `json:"count"`
	Places []string `json:"places"` // the first of them
}

// ProposedRule is a rule that follows from what is plainly stated. It is never applied unasked.
type ProposedRule struct {
	ID     string `json:"id"`
	Kind   string `json:"kind"`
	Says   string `json:"says"`
	Source string `json:"source"`
	Used   int    `json:"used"` // places in the project that mention the old name
	Text   string `json:"text"` // as a compat book has it
}

// NotedNeed is a runtime or tool that notes ask for and no registry states.
type NotedNeed struct {
	By     string `json:"by"` // "quayside 4.0.0"
	Name   string `json:"name"`
	Range  string `json:"range"`
	Source string `json:"source"`
	// Unmet are places of the project that state less: ".nvmrc:1 states 16".
	Unmet []string `json:"unmet,omitempty"`
}

// MessageRename is a deprecation that names what goes on in its place.
type MessageRename struct {
	Old    string `json:"old"`
	New    string `json:"new"`
	Source string `json:"source"` // what was said, and by whom
}
