package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"unquil/core/delegation"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/zonecare"
	"unquil/ui/data"
	"unquil/ui/page"
)

// newZone is `unquil zone`.
func newZone(a *app) *cobra.Command {
	var from []string
	var against, keyFile string
	var also []string
	var tryTransfer bool
	cmd := &cobra.Command{
		Use:     "zone NAME",
		Short:   "Do the zone's own servers agree with each other and with the parent?",
		Example: "  unquil zone --lab hollowtarn.example",
		RunE: func(cmd *cobra.Command, names []string) error {
			name, err := parseName(names[0])
			if err != nil {
				return err
			}
			for _, path := range []string{against, keyFile} {
				if path != "" {
					a.files.Note(path)
				}
			}
			a.names = 1 + len(also)
			if err := a.open(); err != nil {
				return err
			}
			prober, err := a.prober()
			if err != nil {
				return err
			}
			if prober.Anchors, prober.AsOf, err = a.validation(); err != nil {
				return err
			}
			plan := probe.ZonePlan{}
			plan.TryTransfer = tryTransfer
			for _, text := range also {
				more, err := parseName(text)
				if err != nil {
					return err
				}
				plan.Names = append(plan.Names, more)
			}
			if plan.Key, err = readKey(a.files, keyFile); err != nil {
				return err
			}
			if len(from) > 0 {
				if plan.Also, _, err = a.resolvers(cmd.Context(), from); err != nil {
					return err
				}
			}
			if plan.Against, err = a.contents(against, name); err != nil {
				return err
			}
			stop := a.progress()
			prober.Everybody = name.IsRoot()
			zone, ok := prober.Zone(cmd.Context(), name, plan)
			stop()
			if err := a.keepSession(); err != nil {
				return err
			}
			if !ok {
				walks := []*delegation.Walk{zone.Walk}
				a.told.result = func() any { return data.OfWalks(walks) }
				return firstOf(a.showWalks(walks, false), errNoWayOut)
			}
			found := zone.AllFindings()
			if err := a.report(reportOf{headline: "The servers of " + zone.Zone.Spoken(), walks: []*delegation.Walk{zone.Walk}, tables: []page.Table{page.ZoneTable(&zone)}, findings: found, exchanges: a.session.Exchanges(), result: func() any { return data.OfZone(&zone) }}); err != nil {
				return err
			}
			if a.json {
				d := a.document("zone", found)
				if err := a.ownersInto(&d, zone.Addresses()); err != nil {
					return err
				}
				return firstOf(d.Write(a.stdout), verdictOn(found))
			}
			view := a.view()
			view.Zone(&zone)
			return firstOf(view.Err(), a.showOwners(cmd.Context(), zone.Addresses()), verdictOn(found))
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVarP(&from, "from", "f", nil, "also check these `SERVERS`, which need not be listed anywhere")
	flags.StringSliceVar(&also, "also", nil, "compare the servers by these `NAMES` too, not only by the records of the zone itself")
	flags.BoolVar(&tryTransfer, "try-transfer", false, "request a zone transfer from each server, and hang up once it starts")
	flags.StringVar(&keyFile, "key", "", "sign transfers with the key in `FILE` (TSIG)")
	flags.StringVar(&against, "against", "", "compare what the servers serve with a master `FILE`")
	a.askFlags(cmd)
	a.validateFlags(cmd)
	a.rootsFlag(cmd)
	a.keepFlag(cmd)
	a.reportFlags(cmd)
	a.ownersFlag(cmd)
	return a.named(cmd, 1, 1)
}

// contents reads what a zone should hold from a master file; nil without one.
func (a *app) contents(path string, zone wire.Name) (*zonecare.ZoneContents, error) {
	if path == "" {
		return nil, nil
	}
	file, err := a.files.Open(path)
	if err != nil {
		return nil, fmt.Errorf("reading the zone: %w", err)
	}
	defer file.Close()
	c, err := zonecare.ReadContents(path, zone, a.masterFile(file, path, zone))
	if err != nil {
		return nil, fmt.Errorf("reading the zone: %w", err)
	}
	return c, nil
}
