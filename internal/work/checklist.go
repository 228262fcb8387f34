package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
)

// ChecklistItem is something that must be tried by hand.
type ChecklistItem struct {
	ID   string `yaml:"id"`
	Text string `yaml:"text"`
}

// checkList refuses items that cannot be told apart.
func checkList(items []ChecklistItem) error {
	var seen []string
	for _, item := range items {
		switch {
		case item.ID == "" || item.Text == "":
			return errors.New("an item has an id and a text")
		case slices.Contains(seen, item.ID):
			return fmt.Errorf("the id %q stands twice", item.ID)
		}
		seen = append(seen, item.ID)
	}
	return nil
}

// tick is what somebody said of an item.
type tick struct {
	Pass  bool      `json:"pass"`
	Note  string    `json:"note,omitempty"`
	At    time.Time `json:"at"`
	After string    `json:"after,omitempty"` // the leg that was done last then
}

// checklist is what must be tried by hand, by the settings and by the route, with
// what was said of it. What was said before the last leg was done counts no longer.
func (p *Project) checklist(file *routeFile, j *journey) ([]model.ChecklistItem, error) {
	ticks, err := p.readTicks()
	if err != nil {
		return nil, err
	}
	done := j.lastDone()
	var all []model.ChecklistItem
	add := func(item model.ChecklistItem, lasts bool) {
		if t, ok := ticks[item.ID]; ok {
			item.Note, item.At = t.Note, t.At
			item.State = model.TickFailed
			if t.Pass {
				item.State = model.TickPassed
			}
			if !lasts && t.After != done {
				item.State, item.Stale = model.TickOpen, true
			}
		}
		all = append(all, item)
	}
	for _, item := range p.Settings.Checklist {
		add(model.ChecklistItem{ID: item.ID, Text: item.Text, From: SettingsFile, State: model.TickOpen}, false)
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
			item := model.ChecklistItem{ID: id, Text: s.Text, From: "leg " + l.ID, Because: s.Because, State: model.TickOpen}
			if r := j.find(l.ID); r != nil && r.Status == legDone {
				item.State = model.TickPassed
			}
			add(item, true)
		}
	}
	return all, nil
}

// lastDone is the id of the leg that was done last, "" for none.
func (j *journey) lastDone() string {
	for _, l := range slices.Backward(j.Legs) {
		if l.Status == legDone {
			return l.ID
		}
	}
	return ""
}

func (p *Project) readTicks() (map[string]tick, error) {
	ticks := map[string]tick{}
	data, err := p.keptFile("ticks.json")
	if errors.Is(err, fs.ErrNotExist) {
		return ticks, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &ticks); err != nil {
		return nil, &model.Fault{Doing: "reading what was tried by hand", File: keepDir + "/ticks.json", Wrong: err.Error(), Next: "remove the file to start over"}
	}
	return ticks, nil
}

// Tick notes what somebody found who tried an item of the checklist by hand.
func (p *Project) Tick(ctx context.Context, id string, pass bool, note string) (*model.StatusResult, error) {
	release, err := p.hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	file, err := p.readRoute(ctx)
	if err != nil {
		return nil, err
	}
	j, err := p.readJourney()
	if err != nil {
		return nil, err
	}
	items, err := p.checklist(file, j)
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
			fault.Next = "write checklist: into " + SettingsFile + ", with an id and a text for each item"
		} else if fault.Next == "" {
			fault.Next = "it has " + strings.Join(ids, ", ")
		}
		return nil, fault
	}
	ticks, err := p.readTicks()
	if err != nil {
		return nil, err
	}
	ticks[id] = tick{Pass: pass, Note: note, At: p.clock.UTC().Truncate(time.Second), After: j.lastDone()}
	data, err := json.MarshalIndent(ticks, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := p.kept.Write("ticks.json", append(data, '\n')); err != nil {
		return nil, err
	}
	return p.status(file, j)
}
