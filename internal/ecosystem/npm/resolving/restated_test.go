package resolving

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/ecosystem/npm/packagejson"
)

func TestRestated(t *testing.T) {
	for _, c := range []struct {
		value string
		kind  packagejson.Kind
		to    string
		want  string
	}{
		{"^1.0.0", packagejson.Prod, "1.5.0", "^1.0.0"},
		{"^1.0.0", packagejson.Prod, "2.5.0", "^2.5.0"},
		{"npm:right@~1.0.0", packagejson.Dev, "1.2.0", "~1.2.0"},
		{"^1.0.0", packagejson.Peer, "2.5.0", "^1.0.0 || ^2.0.0"},
		{"16.x || 17.x", packagejson.Peer, "18.3.1", "16.x || 17.x || 18.x"},
		{"~0.2.1", packagejson.Peer, "0.3.4", "~0.2.1 || ~0.3.0"},
		{">=1 <2", packagejson.Peer, "2.5.0", ">=1 <2 || ^2.0.0"},
		{"latest", packagejson.Prod, "2.5.0", "latest"},
	} {
		d := packagejson.Dependency{Kind: c.kind, Spec: packagejson.ReadSpec("left", c.value)}
		assert.Equal(t, c.want, restated(d, c.to, false), "%s to %s", c.value, c.to)
	}
}
