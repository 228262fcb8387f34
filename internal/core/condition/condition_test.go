package condition

import (
	"math/rand/v2"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ text, shown string }{
		{"", ""},
		{"tls", "tls"},
		{"profile == 'old times'", `profile == "old times"`},
		{"a and b or c and not d", "a and b or c and not d"},
		{"a and (b or c)", "a and (b or c)"},
		{"a or (b or c)", "a or (b or c)"},
		{"((a))", "a"},
		{"not (a and b)", "not (a and b)"},
		{`deck != "and"`, `deck != "and"`},
		{"go>=1.21 and os == linux", "go >= 1.21 and os == linux"},
	} {
		x, err := Parse(c.text)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.shown, Text(x), c.text)
		again, err := Parse(Text(x))
		require.NoError(t, err, c.text)
		assert.Equal(t, x, again, c.text)
	}
	for _, wrong := range []string{"a ==", "and", "(a", "a)", "a b", "== b", "a == (b)", `a == "b`, "a & b", "not", "a or"} {
		_, err := Parse(wrong)
		assert.Error(t, err, wrong)
	}
}

// numbers orders the values of keys whose names begin with "n".
func numbers(key string) func(a, b string) int {
	if key[0] != 'n' {
		return nil
	}
	return func(a, b string) int {
		x, _ := strconv.Atoi(a)
		y, _ := strconv.Atoi(b)
		return x - y
	}
}

func TestImplies(t *testing.T) {
	parse := func(text string) Expr {
		x, err := Parse(text)
		require.NoError(t, err)
		return x
	}
	for _, c := range []struct {
		a, b              string
		implies, disjoint Truth
	}{
		{"n >= 5", "n >= 3", True, False},
		{"n >= 3", "n >= 5", False, False},
		{"n < 3", "n >= 3", False, True},
		{"n < 3 and deck == upper", "deck != lower", True, False},
		{"deck == upper", "deck == lower", False, True},
		{"tls and deck == upper", "tls", True, False},
		{"", "n > 1 or n <= 1", False, False}, // there may be no such key
		{"n", "n > 1 or n <= 1", True, False},
		{"a", "", True, False},
		{"", "a and not a", False, True},
	} {
		a, b := parse(c.a), parse(c.b)
		assert.Equal(t, c.implies, Implies(a, b, numbers), "%s implies %s", c.a, c.b)
		assert.Equal(t, c.disjoint, Disjoint(a, b, numbers), "%s and %s", c.a, c.b)
	}
	var many Expr
	for i := range 20 {
		many = All(many, Term{Key: "k" + strconv.Itoa(i), Op: Equal, Value: "v"})
	}
	assert.Equal(t, Unknown, Implies(many, many, numbers), "too much to look at")
}

func random(rng *rand.Rand, deep int) Expr {
	if deep > 0 {
		switch rng.IntN(4) {
		case 0:
			return And{random(rng, deep-1), random(rng, deep-1)}
		case 1:
			return Or{random(rng, deep-1), random(rng, deep-1)}
		case 2:
			return Not{random(rng, deep-1)}
		}
	}
	switch rng.IntN(3) {
	case 0:
		return Term{Key: "f" + strconv.Itoa(rng.IntN(2))}
	case 1:
		return Term{Key: "d", Op: []Op{Equal, Unequal}[rng.IntN(2)], Value: []string{"x", "y"}[rng.IntN(2)]}
	}
	return Term{Key: "n", Op: []Op{Equal, Unequal, Less, AtMost, More, AtLeast}[rng.IntN(6)], Value: strconv.Itoa(2 * rng.IntN(4))}
}

// TestAgainstAllFacts compares what is said of random conditions with all facts that there can be.
func TestAgainstAllFacts(t *testing.T) {
	var facts []map[string]string
	for _, f := range []string{"", "f0", "f1", "f0 f1"} {
		for _, d := range []string{"", "x", "y", "z"} {
			for n := -2; n < 9; n++ {
				at := map[string]string{}
				if d != "" {
					at["d"] = d
				}
				if n > -2 {
					at["n"] = strconv.Itoa(n)
				}
				for _, name := range []string{"f0", "f1"} {
					if f == name || f == "f0 f1" {
						at[name] = ""
					}
				}
				facts = append(facts, at)
			}
		}
	}
	eval := func(x Expr, at map[string]string) bool {
		return x.Eval(func(t Term) Truth {
			value, there := at[t.Key]
			switch {
			case !there:
				return truth(t.Op == Unequal)
			case t.Op == Set:
				return True
			}
			return t.Compared(value, numbers(t.Key))
		}) == True
	}
	for seed := range uint64(2000) {
		rng := rand.New(rand.NewPCG(seed, 28))
		a, b := random(rng, 3), random(rng, 3)
		again, err := Parse(a.String())
		require.NoError(t, err)
		implies, disjoint := true, true
		for _, at := range facts {
			x, y := eval(a, at), eval(b, at)
			require.Equal(t, x, eval(again, at), "%s printed and read", a)
			implies, disjoint = implies && (!x || y), disjoint && !(x && y)
		}
		require.Equal(t, truth(implies), Implies(a, b, numbers), "seed %d: %s implies %s", seed, a, b)
		require.Equal(t, truth(disjoint), Disjoint(a, b, numbers), "seed %d: %s and %s", seed, a, b)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a == 'b' and (c >= 1 or not d)")
	f.Fuzz(func(t *testing.T, text string) {
		x, err := Parse(text)
		if err != nil || x == nil {
			return
		}
		again, err := Parse(x.String())
		require.NoError(t, err)
		assert.Equal(t, x, again)
	})
}
