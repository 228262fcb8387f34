package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
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
		Short: "Serve the simulated npm registry of the demo",
		Long: `Stand-in serves the demo's packages by the npm registry protocol until it is
interrupted, so that the demo project can be worked on by hand.`,
		Example: `  bellwether stand-in --listen 127.0.0.1:4177
  npm_config_registry=http://127.0.0.1:4177/ bellwether survey`,
		Args: a.noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := startStandIn(address)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.stdout, "the simulated npm registry listens at %s with %d packages; interrupt to stop\n", s.url, len(s.universe.Names()))
			<-cmd.Context().Done()
			return s.stop()
		},
	}
	cmd.Flags().StringVar(&address, "listen", standInAddress, "the `address` to listen at; port 0 for any that is free")
	return cmd
}

// runningStandIn is a stand-in that serves.
type runningStandIn struct {
	url      string
	address  string
	universe *standin.Universe
	server   *http.Server
}

func startStandIn(address string) (*runningStandIn, error) {
	u, err := standin.Load(demo.Packages())
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, usageError{fmt.Errorf("listening at %s: %w\n  next: choose another address with --listen", address, err)}
	}
	s := &runningStandIn{
		url: "http://" + l.Addr().String() + "/", address: l.Addr().String(), universe: u,
		server: &http.Server{Handler: u.NPM(), ReadHeaderTimeout: 10 * time.Second},
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
