package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlainOrder(t *testing.T) {
	ascending := []string{"1.8", "3.9", "3.12.0-rc1", "3.12", "3.12.1", "v8.0.100", "17.0.9-ea", "17.0.9", "20", "20.0.1", "26.1.10909125"}
	for i, a := range ascending {
		for j, b := range ascending {
			x, err := Plain{}.Parse(a)
			require.NoError(t, err)
			y, err := Plain{}.Parse(b)
			require.NoError(t, err)
			assert.Equal(t, i < j, x.Compare(y) < 0, "%s %s", a, b)
		}
	}
	for _, bad := range []string{"", "lts", "20..1", "x", "20 21", "-1"} {
		_, err := Plain{}.Parse(bad)
		assert.Error(t, err, bad)
	}
}

func TestPlainRanges(t *testing.T) {
	for _, row := range []struct {
		rng     string
		in, out []string
	}{
		{">=20.9", []string{"20.9", "20.10", "21"}, []string{"20.8.9", "20.9.0-rc1"}},
		{"20", []string{"20", "20.11.1"}, []string{"21", "19.9", "21.0.0-rc1"}},
		{"20.x", []string{"20.4"}, []string{"21"}},
		{">=3.9,<4", []string{"3.9", "3.14"}, []string{"3.8", "4", "4.0-rc1"}},
		{"~> 3.3", []string{"3.3", "3.9"}, []string{"4", "3.2"}},
		{"~> 3.3.1", []string{"3.3.9"}, []string{"3.4", "3.3.0"}},
		{"~=3.9", []string{"3.11"}, []string{"4"}},
		{"^0.2.1", []string{"0.2.5"}, []string{"0.3"}},
		{"^8.2", []string{"8.4"}, []string{"9", "8.1"}},
		{"~1.2", []string{"1.2.9"}, []string{"1.3"}},
		{"^18 || ^20", []string{"18.1", "20"}, []string{"19", "21"}},
		{">17", []string{"18"}, []string{"17.4"}},
		{"<=17", []string{"17.4", "3"}, []string{"18"}},
		{"!=3.9.1", []string{"3.9.0", "3.9.2"}, []string{"3.9.1"}},
		{"==3.*", []string{"3.4"}, []string{"4"}},
		{"*", []string{"1", "99"}, nil},
		{"16 - 18", []string{"16", "18.4"}, []string{"19"}},
	} {
		r, err := Plain{}.ParseRange(row.rng)
		require.NoError(t, err, row.rng)
		for _, text := range row.in {
			v, _ := Plain{}.Parse(text)
			assert.True(t, r.Contains(v), "%s in %s", text, row.rng)
		}
		for _, text := range row.out {
			v, _ := Plain{}.Parse(text)
			assert.False(t, r.Contains(v), "%s in %s", text, row.rng)
		}
	}
	for _, bad := range []string{"", "newest", ">=", "20 or 21", "||", ">=20<<22", "[1,2)"} {
		_, err := Plain{}.ParseRange(bad)
		assert.Error(t, err, bad)
	}
}

func TestPlainNewest(t *testing.T) {
	stated, err := Plain{}.Newest("20")
	require.NoError(t, err)
	needed, err := Plain{}.ParseRange(">=20.9")
	require.NoError(t, err)
	assert.True(t, needed.Contains(stated), `a file that says "20" gets the newest 20`)
}

func TestPlainRestate(t *testing.T) {
	for _, row := range [][3]string{
		{"16", "20.9", "20"}, {"v16.20.2", "20", "v20"}, {"16.20.2", "20.9.0", "20.9.0"}, {"16.x", "20", "20.x"},
		{">=14", "20.9", ">=20.9"}, {">= 14 < 19", "20", ">=20"}, {">=3.9,<4", "3.12", ">=3.12,<4"}, {"^16 || ^18", "20", "^20"},
		{"^18 || ^20 || ^22", "20.4", "^20.4 || ^22"}, {"~> 3.2", "3.4", "~> 3.4"}, {"~> 3.2.1", "3.4", "~> 3.4.0"},
		{"<18", "20", ">=20"}, {"^8.1|^8.2", "8.3", "^8.3 | ^8.3"},
	} {
		v, err := Plain{}.Parse(row[1])
		require.NoError(t, err)
		assert.Equal(t, row[2], Plain{}.Restate(row[0], v), row[0])
	}
}

func FuzzPlain(f *testing.F) {
	f.Add(">=3.9,<4 || ~> 5.1", "3.10.1-rc2")
	f.Fuzz(func(t *testing.T, rng, text string) {
		v, err := Plain{}.Parse(text)
		if err != nil {
			return
		}
		if r, err := (Plain{}).ParseRange(rng); err == nil {
			r.Contains(v)
			again, err := Plain{}.ParseRange(Plain{}.Restate(rng, v))
			require.NoError(t, err)
			assert.NotNil(t, again)
		}
	})
}
