package jsondoc

import (
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestInside(t *testing.T) {
	assert.Equal(t, `>=1 <2 \"x\"\n\\`, Inside(">=1 <2 \"x\"\n\\"))
}

func TestKeeps(t *testing.T) {
	before := `{"name": "a", "dependencies": {"left": "^1"}, "scripts": {"test": "true"}}`
	may := func(name string) bool { return name == "dependencies" || name == "overrides" }
	for after, wrong := range map[string]string{
		`{"name": "a", "dependencies": {"left": "^2", "right": "1"}, "scripts": {"test": "true"}}`:   "",
		`{"name": "a", "scripts": {"test": "true"}, "overrides": {}}`:                                "",
		`{"name": "a", "dependencies": {"left": "^2"}, "scripts": {"test": "evil"}}`:                 `"scripts" would change`,
		`{"name": "a", "dependencies": {"left": "^2"}, "bin": "x", "scripts": {"test": "true"}}`:     `"bin" would change`,
		`{"name": "a", "dependencies": {"left": "^2"}, "scripts": {"test": "true"}, "bin": "x"}`:     `"bin" would change`,
		`{"name": "a", "dependencies": {"left": "^2"}}`:                                              `"scripts" would go`,
		`{"name": "a", "dependencies": {"left": "^2"}, "scripts": {"test": "true"}, "scripts": "x"}`: "more than it is meant to",
		`["x"]`: "no object",
	} {
		err := Keeps("package.json", []byte(before), []byte(after), may)
		if wrong == "" {
			assert.NoError(t, err, after)
		} else {
			assert.ErrorContains(t, err, wrong, after)
		}
	}
}

func TestBounded(t *testing.T) {
	read := func(text string) error {
		_, err := io.ReadAll(Bounded(&slow{text}, 1, 30))
		return err
	}
	assert.NoError(t, read(`{"a": {"b": "0123456789"}, "c": [1, 2, 3], "d": "x\"y", "e": {"f": {}}}`))
	for _, endless := range []string{
		`{"a": "0123456789012345678901234567890"}`, `{"a": "\"\"\"\"\"\"\"\"\"\"\"\"\"\"\"\"\"\"\"\"\"`,
		`{                                  `, `{"a": {"b": 1, "c": 2, "d": 3, "e": 4, "f": 5}}`, `[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[`,
	} {
		assert.ErrorIs(t, read(endless), ErrEndless, endless)
	}
}

// slow gives a text three bytes at a time.
type slow struct{ text string }

func (s *slow) Read(p []byte) (int, error) {
	if s.text == "" {
		return 0, io.EOF
	}
	n := copy(p, s.text[:min(3, len(s.text))])
	s.text = s.text[n:]
	return n, nil
}
