package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"bellwether/demo"
	"bellwether/internal/standin"
)

// standInAddress is where the simulated registry listens unless told otherwise.
const standInAddress = "127.0.0.1:4177"

func (a *app) standIn() *cobra.Command {
	address := standInAddress
	cmd := &cobra.Command{
		Use:   "stand-in",
		Short: "Serve the simulated registries of the demo",
		Long: `Stand-in serves the demo's packages by the npm registry protocol, its Go modules by
the module proxy protocol and its gems by that of the compact index, until it is
interrupted, so that the demo projects can be worked on by hand.`,
		Example: `  bellwether stand-in --listen 127.0.0.1:4177
  GOPROXY=http://127.0.0.1:4177/golang GOSUMDB=off npm_config_registry=http://127.0.0.1:4177/ bellwether survey`,
		Args: a.noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := startStandIn(address)
			if err != nil {
				return err
			}
			fmt.Fprintf(
				a.stdout, "the simulated registries listen with %d packages; interrupt to stop\n  npm         %s\n  Go modules  %s\n  gems        %s\n",
				s.packages, s.url, s.url+goPrefix, s.url+gemPrefix,
			)
			<-cmd.Context().Done()
			return s.stop()
		},
	}
	cmd.Flags().StringVar(&address, "listen", standInAddress, "the `address` to listen at; port 0 for any that is free")
	return cmd
}

// The paths below which a stand-in serves Go modules, gems and artifacts.
const (
	goPrefix  = "golang"
	gemPrefix = "gem"
	// mavenPrefix is that of the first repository; others have their names behind it.
	mavenPrefix = "maven"
)

// runningStandIn is a stand-in that serves.
type runningStandIn struct {
	url      string
	address  string
	packages int
	server   *http.Server
	routes   *http.ServeMux
}

// artifacts serves the repositories of the Maven layout, too.
func (s *runningStandIn) artifacts(compile standin.Compile) error {
	all, err := standin.LoadArtifacts(demo.Artifacts(), compile)
	if err != nil {
		return err
	}
	for name, artifacts := range all {
		prefix := "/" + strings.TrimSuffix(mavenPrefix+"-"+name, "-")
		s.routes.Handle(prefix+"/", http.StripPrefix(prefix, artifacts.Repository()))
		s.packages += artifacts.Packages()
	}
	return nil
}

func startStandIn(address string) (*runningStandIn, error) {
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
		return nil, usageError{fmt.Errorf("listening at %s: %w\n  next: choose another address with --listen", address, err)}
	}
	s := &runningStandIn{
		url: "http://" + l.Addr().String() + "/", address: l.Addr().String(), packages: len(u.Names()) + len(modules.Names()) + len(gems),
		server: &http.Server{Handler: routes, ReadHeaderTimeout: 10 * time.Second}, routes: routes,
	}
	go func() { _ = s.server.Serve(l) }()
	return s, nil
}

func (s *runningStandIn) stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := s.server.Shutdown(ctx); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return s.server.Close()
}
