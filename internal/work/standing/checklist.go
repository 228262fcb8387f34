package standing

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// checklist is what must be tried by hand, by the settings and by the route, with
// what was said of it. What was said before the last leg was done counts no longer.
func checklist(d *desk.Desk, k *kept.Store, file *kept.Route, j *kept.Journey) ([]output.ChecklistItem, error) {
	ticks, err := k.Ticks()
	if err != nil {
		return nil, err
	}
	done := j.LastDone()
	var all []output.ChecklistItem
	add := func(item output.ChecklistItem, lasts bool) {
		if t, ok := ticks[item.ID]; ok {
			item.Note, item.At = t.Note, t.At
			item.State = output.TickFailed
			if t.Pass {
				item.State = output.TickPassed
			}
			if !lasts && t.After != done {
				item.State, item.Stale = output.TickOpen, true
			}
		}
		all = append(all, item)
	}
	for _, item := range d.Settings.Checklist {
		add(output.ChecklistItem{ID: item.ID, Text: item.Text, From: settings.File, State: output.TickOpen}, false)
	}
	if file == nil {
		return all, nil
	}
	for i := range file.Legs {
		l := &file.Legs[i]
		for n, s := range l.Steps {
			id := l.ID
			if len(l.Steps) > 1 {
				id = fmt.Sprintf("%s.%d", l.ID, n+1)
			}
			item := output.ChecklistItem{ID: id, Text: s.Text, From: "leg " + l.ID, Because: s.Because, State: output.TickOpen}
			if r := j.Find(l.ID); r != nil && r.Status == kept.Done {
				item.State = output.TickPassed
			}
			add(item, true)
		}
	}
	return all, nil
}

// Tick notes what somebody found who tried an item of the checklist by hand.
func Tick(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, id string, pass bool, note string) (*output.StatusResult, error) {
	release, err := k.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	file, err := k.Route(ctx, t)
	if err != nil {
		return nil, err
	}
	j, err := k.Journey()
	if err != nil {
		return nil, err
	}
	items, err := checklist(d, k, file, j)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, item := range items {
		ids = append(ids, item.ID)
	}
	if !slices.Contains(ids, id) {
		fault := &model.Fault{Doing: "ticking " + id, Wrong: "the checklist has no item of this name", Next: spelling.DidYouMean(id, ids)}
		if len(ids) == 0 {
			fault.Next = "write checklist: into " + settings.File + ", with an id and a text for each item"
		} else if fault.Next == "" {
			fault.Next = "it has " + strings.Join(ids, ", ")
		}
		return nil, fault
	}
	ticks, err := k.Ticks()
	if err != nil {
		return nil, err
	}
	ticks[id] = kept.Tick{Pass: pass, Note: note, At: d.Clock.UTC().Truncate(time.Second), After: j.LastDone()}
	if err := k.KeepTicks(ticks); err != nil {
		return nil, err
	}
	return status(d, k, file, j)
}
