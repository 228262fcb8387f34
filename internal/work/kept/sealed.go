package kept

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/host/keep"
)

// sealedName is the file that holds the route as it was computed, or as a person adopted it.
// The route file itself bears no seal, since a person may edit it.
const sealedName = "route.json"

type sealedRoute struct {
	Text string `json:"text"` // of the route file
}

// sealRoute makes the text of a route file count.
func (s *Store) sealRoute(text []byte) error {
	data, err := json.Marshal(sealedRoute{string(text)})
	if err != nil {
		return err
	}
	return s.keep.Write(sealedName, data)
}

// adoptRoute makes the route file count as it is, because a person says so.
func (s *Store) adoptRoute() error {
	text, err := s.keep.ReadText(routeName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return s.sealRoute(text)
}

// checkSealed refuses a route that has more than what was computed or adopted.
func (s *Store) checkSealed(r *Route) error {
	refuse := func(what string) error {
		return &model.Fault{
			Doing: "reading the route", File: RouteFile, Cause: keep.ErrForeign, Wrong: what,
			Next: "compute the route again with bellwether route, or if you wrote this yourself, say so with bellwether status --adopt",
		}
	}
	data, err := s.keep.Read(sealedName)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, keep.ErrForeign) {
		return refuse("it is not what bellwether route computed here")
	}
	if err != nil {
		return err
	}
	var sealed sealedRoute
	if err := json.Unmarshal(data, &sealed); err != nil {
		return err
	}
	computed := &Route{}
	if err := yamldoc.Decode(RouteFile, []byte(sealed.Text), computed); err != nil {
		return err
	}
	if more := r.beyond(computed); more != "" {
		return refuse(more)
	}
	return nil
}

// beyond tells what a route has that another one, which it was edited from, has not; empty for
// nothing. Legs and moves may go, and what is only for reading may be written anew.
func (r *Route) beyond(computed *Route) string {
	if r.AsOf != computed.AsOf {
		return "its time, as-of, is not the one that the route was computed for"
	}
	if r.Advisories != "" && r.Advisories != computed.Advisories {
		return "its folder of vulnerability records is not the one that the route was computed with"
	}
	for _, name := range r.Preview {
		if !slices.Contains(computed.Preview, name) {
			return fmt.Sprintf("the route was not computed with pre-releases of %s", name)
		}
	}
	for _, leg := range r.Legs {
		at := slices.IndexFunc(computed.Legs, func(c model.Leg) bool { return c.ID == leg.ID })
		if at < 0 {
			return fmt.Sprintf("the leg %s is not one of the route that was computed", leg.ID)
		}
		was := computed.Legs[at]
		for _, m := range leg.Moves {
			if !slices.ContainsFunc(was.Moves, func(c model.Move) bool { return reflect.DeepEqual(unsaid(c), unsaid(m)) }) {
				return fmt.Sprintf("the leg %s has a move of %s that was not computed so", leg.ID, m.Name)
			}
		}
		if !reflect.DeepEqual(bare(leg), bare(was)) {
			return fmt.Sprintf("the leg %s lays down other things than the one that was computed", leg.ID)
		}
	}
	return ""
}

// unsaid is a move without what is only for reading.
func unsaid(m model.Move) model.Move {
	m.Because = ""
	return m
}

// bare is a leg without its moves and what is only for reading.
func bare(l model.Leg) model.Leg {
	l.Title, l.Moves, l.Carried = "", nil, model.Carried{}
	return l
}
