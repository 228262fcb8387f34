// Package todo keeps what was switched off or left to be done on the way to newer versions.
package todo

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// List tells what is left to be done, and of each whether its place is still there.
func List(fsys fs.FS) (*model.ToDosResult, error) {
	all, err := kept.ToDos(fsys)
	if err != nil {
		return nil, err
	}
	r := &model.ToDosResult{ToDos: []model.ToDoResult{}}
	for _, t := range all {
		r.ToDos = append(r.ToDos, result(fsys, t))
	}
	return r, nil
}

// result looks where the place of a thing to do is now.
func result(fsys fs.FS, t kept.ToDo) model.ToDoResult {
	r := model.ToDoResult{ID: t.ID, Text: t.Text, State: model.ToDoOpen, From: t.From, Leg: t.Leg, Since: t.Since}
	if t.File == "" {
		return r
	}
	site := model.Site{File: t.File, Line: t.Line}
	r.Place = site.String()
	src, err := fs.ReadFile(fsys, t.File)
	switch {
	case err != nil:
		r.State = model.ToDoGone
	case t.Line == 0 || t.Around == "" || kept.LineOf(fsys, t.File, t.Line) == t.Around:
	default:
		r.State = model.ToDoChanged
		nearest := 0
		for i, line := range strings.Split(string(src), "\n") {
			if strings.TrimSpace(line) == t.Around && (nearest == 0 || distance(i+1, t.Line) < distance(nearest, t.Line)) {
				nearest = i + 1
			}
		}
		if nearest > 0 {
			r.State, site.Line = model.ToDoMoved, nearest
			r.Place = site.String()
		}
	}
	return r
}

func distance(a, b int) int { return max(a-b, b-a) }

// Add notes something to do at a place, "file:line" or a file; it gives its name.
func Add(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, place, text string) (string, error) {
	file, line := place, 0
	if at := strings.LastIndexByte(place, ':'); at > 0 {
		if n, err := strconv.Atoi(place[at+1:]); err == nil {
			file, line = place[:at], n
		}
	}
	if _, err := fs.Stat(t.Files.FS, file); err != nil {
		return "", &model.Fault{
			Doing: "noting what is to be done",
			File:  file,
			Wrong: model.Reason(err),
			Next:  "name a file of the project, or file:line",
		}
	}
	item := kept.ToDo{
		File:   file,
		Line:   line,
		Text:   text,
		Around: kept.LineOf(t.Files.FS, file, line),
		Since:  d.Today().Format(time.DateOnly),
	}
	if line > 0 && item.Around == "" {
		return "", &model.Fault{Doing: "noting what is to be done", File: place, Wrong: "there is nothing in this line"}
	}
	id := ""
	err := rewrite(ctx, t, k, func(now []kept.ToDo) []kept.ToDo {
		item.ID = Next(now)
		id = item.ID
		return append(now, item)
	})
	return id, err
}

// Done takes things out that were done, by their names.
func Done(ctx context.Context, t *tree.Tree, k *kept.Store, ids []string) error {
	all, err := kept.ToDos(t.Files.FS)
	if err != nil {
		return err
	}
	var known []string
	for _, item := range all {
		known = append(known, item.ID)
	}
	for _, id := range ids {
		if !slices.Contains(known, id) {
			next := "bellwether todo lists them"
			if len(known) > 0 {
				next = "there are " + spelling.Few(known, 10)
			}
			return &model.Fault{Doing: "taking out what was done", Wrong: fmt.Sprintf("nothing to do is called %q", id), Next: next}
		}
	}
	return rewrite(ctx, t, k, func(now []kept.ToDo) []kept.ToDo {
		return slices.DeleteFunc(now, func(item kept.ToDo) bool { return slices.Contains(ids, item.ID) })
	})
}

func rewrite(ctx context.Context, t *tree.Tree, k *kept.Store, change func(now []kept.ToDo) []kept.ToDo) error {
	_, release, err := k.Begin(ctx)
	if err != nil {
		return err
	}
	defer release()
	edits, err := kept.RewriteToDos(t.Files.FS, change)
	if err != nil {
		return err
	}
	return k.Write(edits)
}

// Next is a name for one more.
func Next(now []kept.ToDo) string { return name(number(now)) }

// number is the first one that no name has.
func number(now []kept.ToDo) int {
	n := 0
	for _, item := range now {
		if k, err := strconv.Atoi(strings.TrimPrefix(item.ID, "t")); err == nil {
			n = max(n, k)
		}
	}
	return n + 1
}

func name(number int) string { return fmt.Sprintf("t%d", number) }

// noted is how many places of one rule are noted one by one.
const noted = 1000

// Note gives the edit that notes what rules left to be done, in the files as the leg leaves
// them. What is noted already stays once.
func Note(fsys fs.FS, rules []model.RepairResult, leg string, day time.Time) ([]model.FileEdit, error) {
	return kept.RewriteToDos(fsys, func(now []kept.ToDo) []kept.ToDo {
		known := map[kept.ToDo]bool{}
		for _, item := range now {
			byText, byLine := keys(item)
			known[byText], known[byLine] = item.Around != "", true
		}
		lines, next := &kept.Lines{FS: fsys}, number(now)
		for _, r := range rules {
			for i, left := range r.Left {
				item := kept.ToDo{Text: left.Reason, From: r.Rule, Leg: leg, Since: day.Format(time.DateOnly)}
				item.File, item.Line = place(left.Place)
				if i == noted {
					item.Text = fmt.Sprintf("%s (here, and in %d places more)", left.Reason, len(r.Left)-noted-1)
				}
				item.Around = lines.Of(item.File, item.Line)
				byText, byLine := keys(item)
				if i > noted || known[byText] || known[byLine] {
					continue
				}
				known[byText], known[byLine] = item.Around != "", true
				item.ID = name(next)
				next++
				now = append(now, item)
			}
		}
		return now
	})
}

// keys are what two notes of the same have in common: the text of the line, or its number.
func keys(item kept.ToDo) (byText, byLine kept.ToDo) {
	byText = kept.ToDo{Text: item.Text, File: item.File, Around: item.Around, Line: -1}
	byLine = kept.ToDo{Text: item.Text, File: item.File, Line: item.Line}
	return byText, byLine
}

// place reads "file:line".
func place(text string) (file string, line int) {
	if at := strings.LastIndexByte(text, ':'); at > 0 {
		if n, err := strconv.Atoi(text[at+1:]); err == nil {
			return text[:at], n
		}
	}
	return text, 0
}
