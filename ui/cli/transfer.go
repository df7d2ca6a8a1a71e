package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"unquil/core/exchange"
	"unquil/core/transfer"
	"unquil/core/tsig"
	"unquil/core/wire"
	"unquil/core/zonefile"
	"unquil/ui/data"
	"unquil/ui/files"
	"unquil/ui/text"
)

// newTransfer is `unquil transfer`.
func newTransfer(a *app) *cobra.Command {
	var from, to, against, keyFile, over string
	var since uint32
	var sorted bool
	cmd := &cobra.Command{
		Use:     "transfer ZONE",
		Short:   "Can I get the zone, and what is in it?",
		Example: "  unquil transfer --lab hollowtarn.example --from ns.farhost.test --to hollowtarn.zone",
		RunE: func(cmd *cobra.Command, names []string) (err error) {
			var request transfer.Request
			if request.Zone, err = parseName(names[0]); err != nil {
				return err
			}
			if cmd.Flags().Changed("since") {
				request.Since = &since
			}
			if from == "" {
				return usage(fmt.Errorf("--from is missing: %w", errArguments{callOf(cmd) + " --from SERVER"}))
			}
			if request.Since != nil && (against != "" || sorted) {
				return usage(fmt.Errorf("--since with --against or --sorted: %w", errTogether))
			}
			for _, path := range []string{against, keyFile} {
				if path != "" {
					a.files.Note(path)
				}
			}
			var out *files.Output
			if out, err = a.zoneOutput(to); err != nil {
				return err
			}
			if err = a.open(); err != nil {
				return err
			}
			if request.Key, err = readKey(a.files, keyFile); err != nil {
				return err
			}
			if request.Server, err = a.oneServer(cmd.Context(), from); err != nil {
				return err
			}
			switch transport := exchange.Transport(strings.ToLower(over)); transport {
			case exchange.TCP, exchange.TLS:
				request.Server = request.Server.Over(transport)
			default:
				return usage(fmt.Errorf("--over %q: %w", shorten(over), errTransferOver))
			}
			plan := transfer.Plan{Sorted: sorted}
			if against != "" {
				other, closer, err := a.other(cmd.Context(), against, request.Zone)
				if err != nil {
					return err
				}
				defer closer.Close()
				if other.Server != nil {
					*other.Server = other.Server.Over(request.Server.Transport)
				}
				plan.Against = other
			}
			return a.transfer(cmd.Context(), request, plan, out)
		},
	}
	flags := cmd.Flags()
	flags.StringVarP(&from, "from", "f", "", "the `SERVER` to transfer from: an address or a host name")
	flags.Uint32Var(&since, "since", 0, "only what changed since this `SERIAL` (IXFR)")
	flags.StringVar(&to, "to", "", "write the zone to `FILE` as a master file")
	flags.BoolVar(&sorted, "sorted", false, "in canonical order")
	flags.StringVar(&against, "against", "", "compare it with a master `FILE|SERVER`")
	flags.StringVar(&keyFile, "key", "", "sign with the key in `FILE` (TSIG): name, algorithm and secret in TOML")
	flags.StringVar(&over, "over", "tcp", "`TRANSPORT`: tcp or tls")
	a.askFlags(cmd)
	a.bareFlag(cmd)
	flags.BoolVar(&a.all, "all", false, "show all records, not only a page of them")
	a.keepFlag(cmd)
	return a.named(cmd, 1, 1)
}

// readKey reads a key file; nil without one.
func readKey(open *files.Files, path string) (*tsig.Key, error) {
	if path == "" {
		return nil, nil
	}
	text, err := open.Read(path, maxSettings)
	if err != nil {
		return nil, fmt.Errorf("reading the key: %w", err)
	}
	var key struct{ Name, Algorithm, Secret string }
	if err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&key); err != nil {
		return nil, fmt.Errorf("reading the key: %s: %w", path, tsig.ErrKeyFile)
	}
	k, err := tsig.NewKey(key.Name, key.Algorithm, key.Secret)
	if err != nil {
		return nil, fmt.Errorf("reading the key: %s: %w", path, err)
	}
	return k, nil
}

// oneServer is the server that a word names: a host of the lab by its name too.
func (a *app) oneServer(ctx context.Context, word string) (exchange.Server, error) {
	servers, _, err := a.resolvers(ctx, []string{word})
	if err == nil && len(servers) == 0 {
		err = usage(fmt.Errorf("%q: %w", shorten(word), exchange.ErrResolver))
	}
	if err != nil {
		return exchange.Server{}, err
	}
	return servers[0], nil
}

// other is what a zone is to be held against: a file if there is one of that
// name, otherwise a server.
func (a *app) other(ctx context.Context, word string, zone wire.Name) (*transfer.Other, io.Closer, error) {
	file, err := a.files.Open(word)
	if err == nil {
		return &transfer.Other{Label: word, Records: a.masterFile(file, word, zone)}, file, nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, nil, fmt.Errorf("reading %s: %w", word, err)
	}
	server, notServer := a.oneServer(ctx, word)
	if notServer != nil {
		return nil, nil, fmt.Errorf("reading %s: %w", word, err)
	}
	return &transfer.Other{Label: server.Name(), Server: &server}, io.NopCloser(nil), nil
}

// masterFile reads a zone's records from its file and from what that includes, which has to
// lie in the same folder or below it.
func (a *app) masterFile(r io.Reader, path string, zone wire.Name) iter.Seq2[wire.Record, error] {
	o := zonefile.Options{File: path, Origin: zone}
	if path != "-" {
		o.Include = a.files.Beside(path)
	}
	return zonefile.Records(r, o)
}

// zoneOutput opens what --to names; nil without it. What comes of a transfer that breaks
// off goes to a file of its own, whose name must be free too.
func (a *app) zoneOutput(to string) (*files.Output, error) {
	if to == "" {
		return nil, nil
	}
	out, err := a.files.Create(to)
	if err == nil && to != "-" {
		err = a.files.Free(to + partial)
	}
	if err != nil {
		return nil, fmt.Errorf("writing the zone: %w", err)
	}
	return out, nil
}

// partial ends the name of a zone that came in part.
const partial = ".part"

// transfer fetches the zone, and shows what came of it.
func (a *app) transfer(ctx context.Context, request transfer.Request, plan transfer.Plan, out *files.Output) (err error) {
	view := a.view()
	var content *text.ZoneLines
	switch {
	case a.bare && !a.json:
		plan.To = a.stdout
	case !a.json:
		content = view.ZoneLines(a.all || view.Whole)
		plan.To = content
	}
	if out != nil {
		plan.To = out
	}
	if plan.Sorted || plan.Against != nil {
		plan.Scratch = func() (transfer.Scratch, error) { return a.files.ScratchFile() }
	}
	stop := a.progress()
	fetched, err := transfer.Fetch(ctx, a.session, request, plan)
	stop()
	written := ""
	switch {
	case err != nil || out == nil:
	case fetched.Err == nil && fetched.Kind != transfer.Current:
		written, err = out.Name(), a.commit(out)
	case fetched.Records > 0 && ctx.Err() == nil && out.Name() != "-":
		written = out.Name() + partial
		err = out.CommitAs(written)
	default:
		out.Discard()
	}
	if err != nil {
		return fmt.Errorf("writing the zone: %w", err)
	}
	found := fetched.AllFindings()
	if err := a.keepSession(); err != nil {
		return err
	}
	if a.json {
		d := a.document("transfer", found)
		d.Result = data.OfTransfer(fetched, written)
		return firstOf(d.Write(a.stdout), verdictOn(found))
	}
	if a.bare {
		return verdictOn(found)
	}
	view.Transfer(fetched, written)
	if content != nil && out == nil && fetched.Changes == nil {
		content.Draw()
	}
	var unreadable error
	if c := fetched.Compared; c != nil && c.Other == nil && c.Err != nil {
		unreadable = fmt.Errorf("reading %s: %w", c.Label, c.Err)
	}
	return firstOf(view.Err(), unreadable, verdictOn(found))
}
