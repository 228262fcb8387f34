package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"bellwether/internal/story"
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
			s, err := story.Serve(address)
			if err != nil {
				return err
			}
			fmt.Fprintf(
				a.stdout, "the simulated registries listen with %d packages; interrupt to stop\n  npm         %s\n  Go modules  %s\n  gems        %s\n",
				s.Packages, s.URL, s.Go(), s.Gems(),
			)
			<-cmd.Context().Done()
			return s.Stop()
		},
	}
	cmd.Flags().StringVar(&address, "listen", standInAddress, "the `address` to listen at; port 0 for any that is free")
	return cmd
}
