package gomod

import (
	"fmt"
	"path"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
)

// Read reads a go.mod, and go.sum, vendor/modules.txt and go.work around it.
func (Ecosystem) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	p, err := project.Read(x, dir)
	if err != nil {
		return nil, err
	}
	c := &model.Component{Kind: project.Name, Type: project.Name, Dir: dir, Name: p.Path(), Manifest: p.File, Detail: p}
	if p.Sum.Src != nil {
		c.Locks = []model.Lock{{File: p.SumFile}}
	}
	if p.Vendored {
		c.Notes = append(c.Notes, path.Join(dir, "vendor")+" holds copies of the modules; the fetch stage writes it anew")
		if selection.CompareGo(p.GoVersion(), "1.17") < 0 { // https://go.dev/ref/mod#go-mod-file-go
			c.Notes = append(c.Notes, fmt.Sprintf(
				"below go 1.17, %s does not say which Go each module is written for, and 1.16 is taken for all: newer releases may not "+
					"compile from there; --to runtime/go@1.17 ends that", path.Join(dir, "vendor"),
			))
		}
	}
	if p.Work != nil {
		c.Notes = append(c.Notes, p.Work.Notes(p.Mod.Require)...)
	}
	if g := p.Mod.Go; g != nil {
		site := p.Site(g.Syntax, g.Version)
		c.Pins = append(c.Pins, model.Pin{Subject: project.RuntimeGo, Range: g.Version, Site: site, AtLeast: true})
		c.Requirements = append(c.Requirements, model.Requirement{
			Subject: project.RuntimeGo, Name: "go", Group: "go", Range: g.Version, Site: site, Locked: g.Version, Asked: true,
		})
	}
	if t := p.Mod.Toolchain; t != nil {
		c.Pins = append(c.Pins, model.Pin{ // a newer one that is installed runs in its place (https://go.dev/doc/toolchain)
			Subject: project.RuntimeGo, Range: strings.TrimPrefix(t.Name, "go"), Site: p.Site(t.Syntax, t.Name), AtLeast: true,
		})
	}
	for _, r := range p.Mod.Require {
		req := model.Requirement{
			Subject: model.Subject{Kind: project.Name, Name: r.Mod.Path}, Name: r.Mod.Path, Group: "require",
			Range: r.Mod.Version, Site: p.Site(r.Syntax, r.Mod.Version), Locked: r.Mod.Version, Fixed: p.Fixed(r.Mod),
		}
		if r.Indirect {
			req.Group, req.Asked = "indirect", true
		}
		c.Requirements = append(c.Requirements, req)
	}
	return c, nil
}
