package rewrite

import (
	"fmt"
	"strings"
)

// Says is what a rule does, as a clause.
func (r *Rule) Says() string {
	switch b := r.Body.(type) {
	case *Rename:
		text := fmt.Sprintf("renames the %s %s to %s", b.What, b.Old, b.New)
		if b.Of != "" {
			text = fmt.Sprintf("renames %s of %s to %s", b.Old, b.Of, b.New)
		}
		if b.Below {
			text += ", and what is below it"
		}
		if len(b.Unless) > 0 {
			text += ", but not " + strings.Join(b.Unless, ", ")
		}
		return text
	case *Shape:
		if strings.TrimSpace(b.Put) == "" {
			return "takes away " + short(b.Find)
		}
		return "turns " + short(b.Find) + " into " + short(b.Put)
	case *Key:
		return b.says()
	case *Value:
		return fmt.Sprintf("renames the value %s to %s", b.Old, b.New)
	case *Move:
		switch {
		case b.Add != "":
			return "adds the file " + b.Add
		case b.Delete != "":
			return "deletes " + b.Delete
		}
		return fmt.Sprintf("moves the file %s to %s", b.From, b.To)
	case *Line:
		return "inserts the line " + short(b.Insert)
	case *Requirement:
		switch {
		case b.New == "":
			return "drops the requirement " + b.Old
		case b.Old == "":
			return "adds the requirement " + b.New
		}
		return fmt.Sprintf("replaces the requirement %s by %s", b.Old, b.New)
	case *Command:
		return "runs " + strings.Join(b.Run, " ")
	case *ToDo:
		return "notes what is to be done: " + b.Text
	}
	return "does nothing"
}

func (b *Key) says() string {
	switch {
	case b.Join != nil:
		return fmt.Sprintf("joins the keys %s into %s", strings.Join(b.Join.Of, ", "), b.New)
	case b.Split != nil:
		return fmt.Sprintf("splits the key %s into %s", b.Old, strings.Join(b.Split.Into, ", "))
	case b.Remove:
		return "removes the key " + b.Old
	case b.Old == "":
		return fmt.Sprintf("adds the key %s", b.New)
	case b.To != "" && b.New == "":
		return fmt.Sprintf("moves the key %s to %s", b.Old, b.To)
	case b.New != "":
		return fmt.Sprintf("renames the key %s to %s", b.Old, b.New)
	}
	return "changes the value of the key " + b.Old
}

// short is a text in one line that fits a table.
func short(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > 60 {
		text = string(runes[:57]) + "…"
	}
	return text
}
