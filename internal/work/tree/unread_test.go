package tree

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/model"
)

// A need that no dialect can read is told, not dropped.
func TestUnread(t *testing.T) {
	node := model.Subject{Kind: "runtime", Name: "node"}
	pkg := model.Package{
		Subject: model.Subject{Kind: "npm", Name: "left"}, Version: "1.0.0",
		Needs: []model.Need{{Subject: node, Range: "banana"}, {Subject: node, Range: ">=18"}},
	}
	p := NewPackages(nil, []model.Package{pkg, pkg})
	assert.Equal(t, []UnreadNeed{
		{node, `is needed by left 1.0.0 as "banana", which is no range that can be read: whether that is met is not known`},
	}, p.Unread())
	assert.Len(t, p.Demands(), 1)
}
