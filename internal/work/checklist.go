package work

import (
	"errors"
	"fmt"
	"slices"
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
