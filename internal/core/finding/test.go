package finding

// Counted is what a test runner itself counted, where it names only some of its tests.
type Counted struct {
	Passed  int `json:"passed"`
	Failed  int `json:"failed"`
	Skipped int `json:"skipped"`
}

// Crash is what a program ended with: an error that nobody caught.
type Crash struct {
	Text    string   `json:"text"`              // the first cause's own words
	Place   string   `json:"place,omitempty"`   // the innermost place in the project
	Package string   `json:"package,omitempty"` // that the first cause lies in; empty for own code
	Version string   `json:"version,omitempty"`
	Through string   `json:"through,omitempty"` // what leads to Package from a requirement
	Frames  []string `json:"frames,omitempty"`  // the first cause's, innermost first, as they were printed
}

// Test is the result of one test.
type Test struct {
	Name    string `json:"name"` // with the names of the tests it is part of, " > " between
	Passed  bool   `json:"passed"`
	Skipped bool   `json:"skipped,omitempty"` // skipped, or marked as still to be done
	Message string `json:"message,omitempty"` // the first cause, of up to six lines
	Place   string `json:"place,omitempty"`   // "file:line:column" where the runner says so
	// Unstable is that it failed, and passed when it was run once more.
	Unstable bool `json:"unstable,omitempty"`
	// Whole is that it stands for all tests of a file, which the runner does not name.
	Whole bool `json:"whole,omitempty"`
	// Within is the file that the test is of, where the runner names only those of its
	// tests that fail.
	Within string `json:"within,omitempty"`
}

// Failed tells whether the test failed, and did so again where it was run again.
func (t Test) Failed() bool { return !t.Passed && !t.Skipped && !t.Unstable }
