package story

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strings"
	"time"

	"bellwether/demo"
	"bellwether/internal/core/model"
	"bellwether/internal/standin"
)

// The paths below which a stand-in serves Go modules, gems and artifacts.
const (
	goPrefix  = "golang"
	gemPrefix = "gem"
	// mavenPrefix is that of the first repository; others have their names behind it.
	mavenPrefix = "maven"
)

// Registries are the simulated registries, as they are served.
type Registries struct {
	URL      string // that of npm, with a slash behind it
	Address  string // "127.0.0.1:4177"
	Packages int    // how many there are
	server   *http.Server
	routes   *http.ServeMux
}

// Go is the address of the Go modules.
func (s *Registries) Go() string { return s.URL + goPrefix }

// Gems is the address of the gems.
func (s *Registries) Gems() string { return s.URL + gemPrefix }

// Maven is the address of a repository of the Maven layout; the first one has no name.
func (s *Registries) Maven(name string) string {
	return s.URL + strings.TrimSuffix(mavenPrefix+"-"+name, "-")
}

// Artifacts serves the repositories of the Maven layout, too.
func (s *Registries) Artifacts(compile standin.Compile) error {
	all, err := standin.LoadArtifacts(demo.Artifacts(), compile)
	if err != nil {
		return err
	}
	for name, artifacts := range all {
		prefix := "/" + strings.TrimSuffix(mavenPrefix+"-"+name, "-")
		s.routes.Handle(prefix+"/", http.StripPrefix(prefix, artifacts.Repository()))
		s.Packages += artifacts.Packages()
	}
	return nil
}

// Serve serves the registries at an address; port 0 is any that is free.
func Serve(address string) (*Registries, error) {
	u, err := standin.Load(demo.Packages())
	if err != nil {
		return nil, err
	}
	modules, err := standin.LoadModules(demo.Modules())
	if err != nil {
		return nil, err
	}
	gems, err := standin.LoadGems(demo.Gems())
	if err != nil {
		return nil, err
	}
	routes := http.NewServeMux()
	routes.Handle("/"+gemPrefix+"/", http.StripPrefix("/"+gemPrefix, gems.Index()))
	routes.Handle("/"+goPrefix+"/", http.StripPrefix("/"+goPrefix, modules.Proxy()))
	routes.Handle("/", u.NPM())
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, &model.Fault{
			Doing: "listening at " + address, Wrong: model.Reason(err), Next: "choose another address with --listen", Cause: err,
		}
	}
	s := &Registries{
		URL: "http://" + l.Addr().String() + "/", Address: l.Addr().String(), Packages: len(u.Names()) + len(modules.Names()) + len(gems),
		server: &http.Server{Handler: routes, ReadHeaderTimeout: 10 * time.Second}, routes: routes,
	}
	go func() { _ = s.server.Serve(l) }()
	return s, nil
}

// Stop ends them.
func (s *Registries) Stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := s.server.Shutdown(ctx); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return s.server.Close()
}
