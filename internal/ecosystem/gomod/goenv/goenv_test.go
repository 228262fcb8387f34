package goenv

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProxyLists(t *testing.T) {
	list, err := ReadProxies("https://one.example/,file:///two|three.example , direct,never.example")
	require.NoError(t, err)
	assert.Equal(
		t,
		[]Proxy{{URL: "https://one.example"}, {URL: "file:///two", Always: true}, {URL: "https://three.example"}, {URL: "direct"}},
		list,
	)
	for _, bad := range []string{",", "ftp://x.example", "https://user:secret@x y"} {
		_, err := ReadProxies(bad)
		require.Error(t, err, bad)
		assert.NotContains(t, err.Error(), "secret")
	}
}
