package registry

import (
	"context"
	"fmt"

	"golang.org/x/mod/module"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/host/within"
)

// ModInfo reads the go.mod of a version, from the module cache if it is there.
func (r *Registry) ModInfo(ctx context.Context, m module.Version) (*project.ModInfo, error) {
	return r.mods.Get(m, func() (*project.ModInfo, error) {
		if data, err := within.Plain(r.cached(m, ".mod"), protocol.MaxModFile); err == nil {
			return project.ReadModInfo(m, data)
		}
		escaped, err := module.EscapeVersion(m.Version)
		if err != nil {
			return nil, err
		}
		data, err := r.ask(ctx, protocol.Document{
			Module: m.Path, File: "@v/" + escaped + ".mod", Form: "mod/1", Limit: protocol.MaxModFile, Forever: true,
		})
		if err != nil {
			return nil, &protocol.Unavailable{Module: m, Err: err}
		}
		return project.ReadModInfo(m, data)
	})
}

// infoOf reads the go.mod that counts for a module in this project, and checks
// that it belongs to it.
func (r *Registry) infoOf(ctx context.Context, p *project.Project, m module.Version) (*project.ModInfo, error) {
	s, err := p.Source(m)
	if err != nil {
		return nil, err
	}
	if s.Dir != "" {
		i, err := p.LocalInfo(s.Dir)
		if err == nil && i.Path != m.Path {
			line := p.Replacement(m)
			if line == nil || i.Path == "" {
				return i, nil
			}
			return nil, &model.Fault{
				Doing: "reading what replaces " + m.Path, File: p.File, Line: line.Syntax.Start.Line,
				Wrong: fmt.Sprintf(
					"the module in %s calls itself %s", line.New.Path, i.Path,
				), Next: "replace " + i.Path + " instead, or mend its module line",
			}
		}
		return i, err
	}
	i, err := r.ModInfo(ctx, s.Mod)
	if err != nil {
		return nil, err
	}
	if i.Path != m.Path && i.Path != "" && s.Mod == m {
		return nil, &protocol.Unavailable{Module: m, Err: &project.Misnamed{M: m, Name: i.Path}}
	}
	if i.Hash != "" {
		if same, known := p.Sum.Has(project.ModKey(s.Mod), i.Hash); known && !same {
			return nil, p.Mismatch(project.ModKey(s.Mod), i.Hash)
		}
	}
	return i, nil
}
