package linkage

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// java is a runtime of which one unit is known.
type java struct{}

func (java) Provides(unit string) bool { return strings.HasPrefix(unit, "java/") }

func (java) Has(unit, member string) (has, known bool) {
	return member == "toString()S", unit == "java/Object"
}

func TestFind(t *testing.T) {
	servlet := func(pkg string) []Unit {
		return []Unit{{Name: pkg + "/Filter", Bases: []string{"root"}, Has: []string{"open()V"}}, {Name: "root", Has: []string{"name()S"}}}
	}
	report := Archive{"report-kit 2.9", []Unit{
		{Name: "report/Kit", Uses: []string{"old/Filter", "java/lang/String", "never/There"}, Calls: []Call{{"old/Filter", "open()V"}}},
		{Name: "report/More", Uses: []string{"old/Filter"}},
	}}
	quay := func(members ...string) Archive {
		return Archive{"quay", []Unit{{Name: "quay/Quay", Bases: []string{"quay/Base"}, Has: members}, {
			Name: "quay/Base", Bases: []string{"java/Object"}, Has: []string{"moor()V"},
		}}}
	}
	user := Archive{"ours", []Unit{{Name: "our/App", Calls: []Call{
		{
			"quay/Quay",
			"depth()I",
		}, {"quay/Quay", "moor()V"}, {"quay/Quay", "never()V"}, {"quay/Quay", "toString()S"}, {"java/lang/Object", "gone()V"},
	}}}}
	for name, c := range map[string]struct {
		before, after []Archive
		want          []Missing
	}{
		"a renamed package": {
			[]Archive{report, {"servlet 4", servlet("old")}}, []Archive{report, {"servlet 5", servlet("new")}},
			[]Missing{{By: "report-kit 2.9", What: "old/Filter", Was: "servlet 4", Places: []string{"report/Kit", "report/More"}}},
		},
		"it comes from elsewhere by now": {[]Archive{report, {"servlet 4", servlet("old")}}, []Archive{report, {"bridge", servlet("old")}}, nil},
		"it was missing before":          {[]Archive{report}, []Archive{report, {"servlet 5", servlet("new")}}, nil},
		"who refers to it is gone":       {[]Archive{report, {"servlet 4", servlet("old")}}, []Archive{{"servlet 5", servlet("new")}}, nil},
		"a member is gone": {
			[]Archive{user, quay("depth()I")}, []Archive{user, quay("depth()J")},
			[]Missing{{By: "ours", What: "quay/Quay.depth()I", Was: "quay", Places: []string{"our/App"}}},
		},
		"a member is behind another copy": {
			[]Archive{user, quay("depth()I")}, []Archive{user, {"first", quay("depth()J").Units}, quay("depth()I")},
			[]Missing{{By: "ours", What: "quay/Quay.depth()I", Was: "quay", Lacks: "first", Hidden: "quay", Places: []string{"our/App"}}},
		},
		"a member is inherited": {[]Archive{user, quay("depth()I", "moor()V")}, []Archive{user, quay("depth()I")}, nil},
		"what the runtime has":  {[]Archive{user, quay("depth()I", "toString()S")}, []Archive{user, quay("depth()I")}, nil},
		"what it inherits from is not known": {
			[]Archive{user, quay("depth()I")}, []Archive{user, {"quay", []Unit{{Name: "quay/Quay", Bases: []string{"elsewhere/Base"}}}}}, nil,
		},
	} {
		assert.Equal(t, c.want, Find(c.before, c.after, java{}), name)
	}
}

// TestRandom compares with a checker that looks each reference up by itself.
func TestRandom(t *testing.T) {
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 18))
		unit := func() string { return fmt.Sprintf("u%d", rng.IntN(9)) }
		classPath := func() (all []Archive) {
			for i := range 3 {
				a := Archive{Name: fmt.Sprintf("a%d", i)}
				for range rng.IntN(4) {
					u := Unit{
						Name:  unit(),
						Uses:  []string{unit()},
						Has:   []string{fmt.Sprint(rng.IntN(3))},
						Calls: []Call{{unit(), fmt.Sprint(rng.IntN(3))}},
					}
					if rng.IntN(2) == 0 {
						u.Bases = []string{unit()}
					}
					a.Units = append(a.Units, u)
				}
				all = append(all, a)
			}
			return all
		}
		before, after := classPath(), classPath()
		var got []string
		for _, m := range Find(before, after, java{}) {
			for _, p := range m.Places {
				got = append(got, m.By+" "+p+" "+m.What)
			}
		}
		slices.Sort(got)
		assert.Equal(t, slowly(before, after), got, "seed %d", seed)
	}
}

func slowly(before, after []Archive) (all []string) {
	first := func(path []Archive, name string) *Unit {
		for _, a := range path {
			for i := range a.Units {
				if a.Units[i].Name == name {
					return &a.Units[i]
				}
			}
		}
		return nil
	}
	var has func(path []Archive, owner, member string, deep int) answer
	has = func(path []Archive, owner, member string, deep int) answer {
		u := first(path, owner)
		if u == nil {
			return unknown
		}
		if slices.Contains(u.Has, member) {
			return yes
		}
		result := no
		for _, b := range u.Bases {
			if deep < 20 {
				if r := has(path, b, member, deep+1); r == yes || r == unknown && result == no {
					result = r
				}
			}
		}
		return result
	}
	for _, a := range after {
		for i := range a.Units {
			u := &a.Units[i]
			if first(after, u.Name) != u {
				continue
			}
			for _, name := range u.Uses {
				if first(before, name) != nil && first(after, name) == nil {
					all = append(all, a.Name+" "+u.Name+" "+name)
				}
			}
			for _, c := range u.Calls {
				owner := first(after, c.Owner)
				if slices.ContainsFunc(a.Units, func(o Unit) bool { return o.Name == c.Owner }) && owner == first([]Archive{a}, c.Owner) {
					continue // it is in the archive itself
				}
				if has(before, c.Owner, c.Member, 0) == yes && owner != nil && has(after, c.Owner, c.Member, 0) == no {
					all = append(all, a.Name+" "+u.Name+" "+c.Owner+"."+c.Member)
				}
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// What comes and refers to more than there is of a package or a class is told with who lacks it; a package that nothing has is
// optional, and what was referred to before is no news.
func TestLacks(t *testing.T) {
	before := []Archive{
		{Name: "json 2.11", Units: []Unit{{Name: "json/Mapper", Has: []string{"read()"}}}},
		{Name: "rest 2.32", Units: []Unit{{Name: "rest/Json", Uses: []string{"json/Old", "cloud/Store"}}}},
	}
	after := []Archive{before[0], {Name: "rest 2.48", Units: []Unit{{
		Name: "rest/Json", Uses: []string{"json/Mapper", "json/Cache", "json/Old", "cloud/Store", "extra/Thing"},
		Calls: []Call{{Owner: "json/Mapper", Member: "read()"}, {Owner: "json/Mapper", Member: "reset()"}},
	}}}}
	assert.Equal(t, []Missing{
		{By: "rest 2.48", What: "json/Cache", Lacks: "json 2.11", Places: []string{"rest/Json"}},
		{By: "rest 2.48", What: "json/Mapper.reset()", Lacks: "json 2.11", Places: []string{"rest/Json"}},
	}, Find(before, after, java{}))
	after[1].Name = "rest 2.32"
	assert.Empty(t, Find(before, after, java{}), "what stays refers to what it always did")
}

// What refers to something by another name than before, which nothing has, is told with the former name; what was not there
// before either is optional, and a single one of the same last name may be another thing.
func TestFormer(t *testing.T) {
	unit := func(uses ...string) []Unit { return []Unit{{Name: "frame/Frame", Uses: uses}} }
	server := Archive{Name: "server 9", Units: []Unit{{Name: "old/Filter"}, {Name: "old/Call"}, {Name: "old/note/Bell"}}}
	before := []Archive{server, {Name: "frame 5", Units: unit("old/Filter", "old/Call", "old/Chart", "old/note/Bell")}}
	find := func(uses ...string) (all []string) {
		for _, m := range Find(before, []Archive{server, {Name: "frame 6", Units: unit(uses...)}}, java{}) {
			assert.Equal(t, "server 9", m.Was)
			all = append(all, m.Former+" "+m.What)
		}
		return all
	}
	assert.Equal(t, []string{"old/Call now/Call", "old/Filter now/Filter"}, find("now/Filter", "now/Call", "now/Chart", "extra/Thing"))
	assert.Equal(t, []string{"old/note/Bell now/note/Bell"}, find("now/note/Bell"))
	assert.Empty(t, find("now/Filter", "old/Call"))
	assert.Empty(t, find("old/Filter"))
}
