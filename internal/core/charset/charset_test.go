package charset

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// FuzzDecode sees that what is read is written back byte for byte.
func FuzzDecode(f *testing.F) {
	for _, seed := range []string{"a\r\n", "\xef\xbb\xbfa", "\xff\xfea\x00", "\xfe\xff\x00a", "caf\xe9", "\x00", "\xff\xfe\x00\xd8"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		text, e, err := Decode(data)
		if err != nil {
			return
		}
		back, err := Encode(text, e)
		require.NoError(t, err)
		assert.Equal(t, data, append([]byte{}, back...))
	})
}

func TestEncode(t *testing.T) {
	text, e, err := Decode([]byte("caf\xe9"))
	require.NoError(t, err)
	assert.Equal(t, "café", text)
	_, err = Encode(text+"→", e)
	assert.ErrorContains(t, err, "ISO-8859-1")
	_, _, err = Decode([]byte("\x7fELF\x00"))
	assert.ErrorIs(t, err, ErrBinary)
}
