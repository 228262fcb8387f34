package work

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
)

// routeSchema names the form of the route file.
const routeSchema = "bellwether/route/1"

// routeFile is the route in the form that people read and edit.
type routeFile struct {
	Schema      string    `yaml:"schema"`
	Destination []string  `yaml:"destination"`
	AsOf        string    `yaml:"as-of,omitempty"`
	Preview     []string  `yaml:"preview,omitempty"`
	Advisories  string    `yaml:"advisories,omitempty"` // the folder of vulnerability records that legs with fixes go by
	Legs        []fileLeg `yaml:"legs"`
}

type fileLeg struct {
	ID        string         `yaml:"id"`
	Title     string         `yaml:"title"`
	Component string         `yaml:"component,omitempty"` // empty for a leg of runtimes, tools and images, or of a person
	Moves     []fileMove     `yaml:"moves,omitempty"`
	Carried   []string       `yaml:"carried,omitempty"`
	Overrides []fileOverride `yaml:"overrides,omitempty"`
	Steps     []fileStep     `yaml:"steps,omitempty"`
	Apart     []string       `yaml:"apart,omitempty"`  // names that members of a workspace may have at versions of their own
	Dedupe    bool           `yaml:"dedupe,omitempty"` // it leaves as few copies of packages as there can be
	Fixes     bool           `yaml:"fixes,omitempty"`  // it avoids what has known vulnerabilities
	// Deprecations is how many of the project\'s own may be left; such a leg moves nothing.
	Deprecations *int `yaml:"deprecations,omitempty"`
}

// fileOverride lays down what a package gets of another.
type fileOverride struct {
	Of      string `yaml:"of"`
	Name    string `yaml:"name"`
	Range   string `yaml:"range,omitempty"` // empty for what the project requires itself
	Drop    bool   `yaml:"drop,omitempty"`  // the override goes again
	Because string `yaml:"because,omitempty"`
}

// fileStep is what a person has to do.
type fileStep struct {
	Text    string   `yaml:"text"`
	Because string   `yaml:"because,omitempty"`
	Subject string   `yaml:"subject"`
	Needs   []string `yaml:"needs"`
}

type fileMove struct {
	Name    string   `yaml:"name"`              // a requirement's, or "runtime/node"
	Becomes string   `yaml:"becomes,omitempty"` // its name afterwards; the same where it comes from elsewhere
	From    string   `yaml:"from,omitempty"`
	To      string   `yaml:"to"`
	Range   string   `yaml:"range,omitempty"` // of one that is added or gets another name
	Because string   `yaml:"because,omitempty"`
	Needs   []string `yaml:"needs,omitempty"` // what is needed of a runtime, tool, platform or image
}

// steps are the leg's steps in the words of the model.
func (l *fileLeg) steps() []model.Step {
	var steps []model.Step
	for _, s := range l.Steps {
		subject, _ := model.ReadSubject(s.Subject)
		steps = append(steps, model.Step{Text: s.Text, Because: s.Because, Subject: subject, Wants: s.Needs})
	}
	return steps
}

// pin is the runtime, tool, platform or image that a move is about; ok is false
// for a package.
func (m fileMove) pin() (s model.Subject, ok bool) {
	s, ok = model.ReadSubject(m.Name)
	return s, ok && s.IsPin()
}

const routeHeading = `# The route to the destination, leg by leg. You may edit it: drop a leg, drop a
# move, or change their order. "bellwether advance" checks each leg before it
# carries it out, and refuses one that no longer fits. What is under "carried"
# follows from the moves and is only for reading.
`

// writeRoute keeps a route for advance.
func (p *Project) writeRoute(r *model.Route, previews []string) error {
	f := routeFile{Schema: routeSchema, Destination: r.Destination, Preview: previews, Advisories: r.Advisories}
	if !r.AsOf.IsZero() {
		f.AsOf = r.AsOf.UTC().Format(time.RFC3339)
	}
	for _, leg := range r.Legs {
		l := fileLeg{ID: leg.ID, Title: leg.Title, Component: leg.Component, Fixes: leg.Fixes, Dedupe: leg.Dedupe, Apart: leg.Apart, Deprecations: leg.Deprecations}
		for _, m := range leg.Moves {
			l.Moves = append(l.Moves, fileMove{m.Name, m.Becomes, m.From, m.To, m.Range, m.Because, m.Wants})
		}
		for _, m := range leg.Carried {
			l.Carried = append(l.Carried, describeCarried(m))
		}
		for _, o := range leg.Overrides {
			l.Overrides = append(l.Overrides, fileOverride(o))
		}
		for _, s := range leg.Steps {
			l.Steps = append(l.Steps, fileStep{s.Text, s.Because, s.Subject.String(), s.Wants})
		}
		f.Legs = append(f.Legs, l)
	}
	return p.writeRouteFile(&f)
}

// writeRouteFile keeps a route as it is.
func (p *Project) writeRouteFile(f *routeFile) error {
	text, err := yaml.Marshal(f)
	if err != nil {
		return err
	}
	if err := p.prepareKeep(); err != nil {
		return err
	}
	return p.kept.WriteText(routeName, append([]byte(routeHeading), text...))
}

func describeCarried(m model.Move) string {
	switch {
	case m.From == "":
		return fmt.Sprintf("%s %s comes in", m.Name, m.To)
	case m.To == "":
		return fmt.Sprintf("%s %s goes away", m.Name, m.From)
	}
	return fmt.Sprintf("%s %s to %s", m.Name, m.From, m.To)
}

// routeName is the route's file among those that are kept.
const routeName = "route.yaml"

// isLegID tells whether a leg may be called so: its name becomes that of folders.
func isLegID(id string) bool {
	plain := func(r rune) bool {
		return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("@._+~-", r)
	}
	return id != "" && len(id) <= 200 && !strings.HasPrefix(id, ".") && !strings.HasPrefix(id, "-") && strings.IndexFunc(id, func(r rune) bool { return !plain(r) }) < 0
}

// readRoute reads the route that is kept; nil if there is none. One that came with the
// repository, and was not computed here, is refused.
func (p *Project) readRoute(ctx context.Context) (*routeFile, error) {
	data, err := p.kept.ReadText(routeName)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, keep.ErrForeign) {
		return nil, nil
	}
	name := keepDir + "/" + routeName
	if err != nil {
		return nil, &model.Fault{Doing: "reading the route", File: name, Wrong: model.Reason(err), Next: "remove it, and compute the route again"}
	}
	if err := p.refuseTracked(ctx, name); err != nil {
		return nil, err
	}
	f := &routeFile{}
	if err := yamldoc.Decode(name, data, f); err != nil {
		return nil, err
	}
	if f.Schema != routeSchema {
		return nil, &model.Fault{Doing: "reading the route", File: name, Line: 1, Wrong: fmt.Sprintf("the schema is %q, not %q", f.Schema, routeSchema), Next: "compute the route again with bellwether route"}
	}
	seen := map[string]bool{}
	for _, l := range f.Legs {
		if seen[l.ID] || !isLegID(l.ID) {
			return nil, &model.Fault{Doing: "reading the route", File: name, Wrong: fmt.Sprintf("the leg id %q is empty, stands twice, or is no plain name", l.ID), Next: "give it a name of letters, digits, - and ."}
		}
		seen[l.ID] = true
	}
	return f, nil
}

// refuseTracked refuses to act on a file that is under version control: it came with
// the repository.
func (p *Project) refuseTracked(ctx context.Context, name string) error {
	repo, err := p.openRepo(ctx)
	if repo == nil || err != nil {
		return err
	}
	held, err := repo.Holds(ctx, p.Root, []string{name})
	if err != nil || len(held) == 0 {
		return err
	}
	return &model.Fault{
		Doing: "reading what is kept", File: name, Wrong: "it is under version control, so it may come from somebody else, and is not acted on",
		Next: "git rm --cached " + name + ", after you have read it",
	}
}

// prepareKeep makes the folder that Bellwether keeps its files in, out of
// git's sight.
func (p *Project) prepareKeep() error {
	aside, err := p.kept.Prepare()
	if aside != "" {
		p.aside(aside)
	}
	return err
}
