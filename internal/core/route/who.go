package route

import (
	"slices"

	"bellwether/internal/core/model"
)

// several are the names that are declared in several lines.
func (r *planner) several() (names []string) {
	lines := map[string]string{}
	for _, s := range r.Subjects {
		place, name := model.Parted(s.Name)
		if place == "" || s.At == nil {
			continue
		}
		if line, known := lines[name]; known && line != s.At.Line() && !slices.Contains(names, name) {
			names = append(names, name)
		}
		lines[name] = s.At.Line()
	}
	return names
}

// rename follows a subject to the name that it has after a move.
func (r *planner) rename(s *Subject, name string) error {
	if name == "" {
		return nil
	}
	key := name
	if place, _ := model.Parted(s.Name); place != "" {
		key = string(model.Declaration(place, name))
	}
	if w := r.wish(s.Name); w != nil {
		w.Name = key
	}
	same := s.Name == key // it only comes from elsewhere
	s.Name = key
	if same || s.Again == nil {
		return nil
	}
	return s.Again(r.ctx, s, name)
}

func (r *planner) subject(key string) *Subject {
	for _, s := range r.Subjects {
		if s.Name == key {
			return s
		}
	}
	return nil
}

// named are the subjects that a key speaks of: one declaration, or all of a name.
func (r *planner) named(key string) (all []*Subject) {
	if s := r.subject(key); s != nil {
		return []*Subject{s}
	}
	for _, s := range r.Subjects {
		if _, name := model.Parted(s.Name); name == key {
			all = append(all, s)
		}
	}
	return all
}

// moved are the subjects that a move is about.
func (r *planner) moved(m model.Move) []*Subject {
	if all := r.named(m.Key()); len(all) > 0 {
		return all
	}
	return r.named(m.Name)
}

// near are those of some names that are declared where a subject is; where none is, all of them.
func (r *planner) near(s *Subject, name string) []*Subject {
	all := r.named(name)
	place, _ := model.Parted(s.Name)
	here := slices.DeleteFunc(slices.Clone(all), func(o *Subject) bool {
		at, _ := model.Parted(o.Name)
		return at != place
	})
	if len(here) > 0 {
		return here
	}
	return all
}

// family are the subjects that are released together with one.
func (r *planner) family(s *Subject) (all []*Subject) {
	for _, name := range s.Family {
		all = append(all, r.near(s, name)...)
	}
	return all
}

// siblings are the other declarations of a subject's package that move with it: those at its version, and where one wish is
// about them, those that it speaks of.
func (r *planner) siblings(s *Subject) (all []*Subject) {
	place, name := model.Parted(s.Name)
	if place == "" || s.At == nil {
		return nil
	}
	wish := r.wish(s.Name)
	for _, o := range r.named(name) {
		w := r.wish(o.Name)
		same := w == nil && wish == nil || w != nil && wish != nil && w.Text == wish.Text
		if o != s && o.At != nil && same && (wish != nil || o.At.Compare(s.At) == 0) {
			all = append(all, o)
		}
	}
	return all
}

// with are all that go where a subject goes: its family, and the other declarations of its package that move with it.
func (r *planner) with(s *Subject) []*Subject { return slices.Concat(r.family(s), r.siblings(s)) }

// wants tells whether a subject that wants to meet some names means another one by one of them.
func (r *planner) wants(s *Subject, names []string, other *Subject) bool {
	_, name := model.Parted(other.Name)
	return slices.Contains(names, name) && slices.Contains(r.near(s, name), other)
}

// overlap tells whether two lists have a subject in common.
func overlap(a, b []*Subject) bool {
	return slices.ContainsFunc(a, func(s *Subject) bool { return slices.Contains(b, s) })
}
