package kept

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"
	"unicode"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/host/keep"
	"bellwether/internal/work/tree"
)

// RouteFile is where the route is kept, relative to the project.
const RouteFile = Dir + "/" + routeName

const (
	routeName   = "route.yaml"
	routeSchema = "bellwether/route/1"
)

const routeHeading = `# The route to the destination, leg by leg. You may edit it: drop a leg, drop a
# move, or change their order. "bellwether advance" checks each leg before it
# carries it out, and refuses one that no longer fits. Whatever else you change
# counts after "bellwether status --adopt". What is under "carried" follows from
# the moves and is only for reading.
`

// Route is the route in the form that people read and edit.
type Route struct {
	Schema      string      `yaml:"schema"`
	Destination []string    `yaml:"destination"`
	AsOf        string      `yaml:"as-of,omitempty"`
	Preview     []string    `yaml:"preview,omitempty"`
	Advisories  string      `yaml:"advisories,omitempty"` // the folder of vulnerability records that legs with fixes go by
	Legs        []model.Leg `yaml:"legs"`
}

// NewRoute is a route in the form that is kept.
func NewRoute(r *model.Route) *Route {
	file := &Route{Schema: routeSchema, Destination: r.Destination, Preview: r.Previews, Advisories: r.Advisories, Legs: r.Legs}
	if !r.AsOf.IsZero() {
		file.AsOf = r.AsOf.UTC().Format(time.RFC3339)
	}
	return file
}

// Time is when the route was computed for, zero for the time of the call.
func (r *Route) Time() (time.Time, error) {
	if r.AsOf == "" {
		return time.Time{}, nil
	}
	at, err := time.Parse(time.RFC3339, r.AsOf)
	if err != nil {
		return at, &model.Fault{Doing: "reading the route", File: RouteFile, Wrong: fmt.Sprintf("as-of: %q is not a time", r.AsOf)}
	}
	return at, nil
}

// WriteRoute keeps a route.
func (s *Store) WriteRoute(r *Route) error {
	text, err := yaml.Marshal(r)
	if err != nil {
		return err
	}
	if err := s.prepare(); err != nil {
		return err
	}
	text = append([]byte(routeHeading), text...)
	return errors.Join(s.keep.WriteText(routeName, text), s.sealRoute(text))
}

// isLegID tells whether a leg may be called so: its name becomes that of folders.
func isLegID(id string) bool {
	plain := func(r rune) bool {
		return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("@._+~-", r)
	}
	return id != "" && len(id) <= 200 && !strings.HasPrefix(id, ".") && !strings.HasPrefix(id, "-") &&
		strings.IndexFunc(id, func(r rune) bool { return !plain(r) }) < 0
}

// Route reads the route that is kept, with the subjects that its moves have in a project; nil
// if there is none. One that came with the repository, and was not computed here, is refused.
func (s *Store) Route(ctx context.Context, t *tree.Tree) (*Route, error) {
	data, err := s.keep.ReadText(routeName)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, keep.ErrForeign) {
		return nil, nil
	}
	if err != nil {
		return nil, &model.Fault{
			Doing: "reading the route", File: RouteFile, Wrong: model.Reason(err), Next: "remove it, and compute the route again",
		}
	}
	if err := s.refuseTracked(ctx, RouteFile); err != nil {
		return nil, err
	}
	r := &Route{}
	if err := yamldoc.Decode(RouteFile, data, r); err != nil {
		return nil, err
	}
	if r.Schema != routeSchema {
		return nil, &model.Fault{
			Doing: "reading the route", File: RouteFile, Line: 1, Wrong: fmt.Sprintf("the schema is %q, not %q", r.Schema, routeSchema),
			Next: "compute the route again with bellwether route",
		}
	}
	seen := map[string]bool{}
	for i := range r.Legs {
		l := &r.Legs[i]
		if seen[l.ID] || !isLegID(l.ID) {
			return nil, &model.Fault{
				Doing: "reading the route", File: RouteFile, Wrong: fmt.Sprintf("the leg id %q is empty, stands twice, or is no plain name", l.ID),
				Next: "give it a name of letters, digits, - and .",
			}
		}
		seen[l.ID] = true
	}
	if err := s.checkSealed(r); err != nil {
		return nil, err
	}
	for i := range r.Legs {
		findSubjects(&r.Legs[i], t.Part(r.Legs[i].Component))
	}
	return r, nil
}

// findSubjects says of a leg's moves which subjects they are about.
func findSubjects(l *model.Leg, part *tree.Part) {
	for i := range l.Moves {
		m := &l.Moves[i]
		m.Subject = model.Subject{Name: m.Name}
		if subject, isPin := m.Pin(); isPin {
			m.Subject = subject
		} else if part != nil {
			m.Subject.Kind = part.Type
			if s, ok := part.SubjectOf(m.Key()); ok {
				m.Subject = s
			} else if s, ok := part.SubjectOf(m.Name); ok {
				m.Subject = s
			}
		}
	}
}
