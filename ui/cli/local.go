package cli

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/ui/data"
)

// newLocal is `unquil local`.
func newLocal(a *app) *cobra.Command {
	var root string
	cmd := &cobra.Command{
		Use:     "local [NAME]",
		Short:   "How does this machine look a name up?",
		Example: "  unquil local\n  unquil local --lab shop",
		RunE: func(cmd *cobra.Command, names []string) error {
			var typed string
			var absolute wire.Name
			if len(names) > 0 {
				var err error
				typed = names[0]
				if absolute, err = parseName(typed); err != nil {
					return err
				}
			}
			if err := a.open(); err != nil {
				return err
			}
			setup, setupErr := a.machine()
			if root != "" {
				setup, setupErr = machine.Read(os.DirFS(root))
			}
			var servers []exchange.Server
			for _, address := range setup.Resolvers {
				servers = append(servers, exchange.Server{Address: address, Label: escape.Of(a.labelOf(address.Addr().String()))})
			}
			prober, err := a.prober()
			if err != nil {
				return err
			}
			// What the system says counts for the machine this runs on, and for no other.
			var system probe.SystemLookup
			if !a.lab && root == "" {
				system = systemLookup
			}
			stop := a.progress()
			around := probe.Surroundings{Setup: setup, SetupErr: setupErr, Resolvers: servers, System: system}
			around.Wait, around.Tries = setup.Patience()
			if a.wait > 0 {
				around.Wait = a.wait
			}
			if a.attempts > 0 {
				around.Tries = a.attempts
			}
			local := prober.LookAround(cmd.Context(), around, typed, absolute)
			stop()
			if a.json {
				d := a.document("local", local.Findings)
				d.Result = data.OfLocal(&local)
				return firstOf(d.Write(a.stdout), verdictOn(local.Findings))
			}
			view := a.view()
			view.Local(&local)
			return firstOf(view.Err(), verdictOn(local.Findings))
		},
	}
	cmd.Flags().StringVar(&root, "root", "", "read the configuration under `DIR` instead of this machine's own")
	a.askFlags(cmd)
	return a.named(cmd, 0, 1)
}

// systemLookup is the operating system's own look-up, as programs on it use it.
func systemLookup(ctx context.Context, name string) ([]netip.Addr, error) {
	addresses, err := net.DefaultResolver.LookupNetIP(ctx, "ip", name)
	for i := range addresses {
		addresses[i] = addresses[i].Unmap()
	}
	if failed, ok := err.(*net.DNSError); ok {
		return addresses, fmt.Errorf("%s", strings.TrimPrefix(failed.Err, "lookup "))
	}
	return addresses, err
}
