package cli

import (
	"bytes"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/dnssec"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/zonefile"
	"unquil/lab"
)

// validateOptions say what signatures are judged by.
type validateOptions struct {
	noValidate bool
	anchorFile string
	asOf       string
}

// validateFlags are whether signatures are judged, by what, and as of when.
func (a *app) validateFlags(cmd *cobra.Command) {
	a.judgeFlags(cmd)
	a.asOfFlag(cmd)
}

// anchorFlags are those where signatures are judged only when that is asked for.
func (a *app) anchorFlags(cmd *cobra.Command) {
	a.anchorFlag(cmd)
	a.asOfFlag(cmd)
}

// judgeFlags are those where signatures are judged as of when they passed.
func (a *app) judgeFlags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&a.noValidate, "no-validate", false, "leave signatures (DNSSEC) alone")
	a.anchorFlag(cmd)
}

func (a *app) anchorFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.anchorFile, "anchor", "", "judge signatures by the DS or DNSKEY records in this `FILE`, instead of the root's published keys")
}

func (a *app) asOfFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.asOf, "as-of", "", "judge signatures as of this `TIME`, such as 2026-03-09T07:40:00Z, instead of now")
}

// byResolver has a prober judge what resolvers hand on, and has them say what they have checked.
func (a *app) byResolver(p *probe.Prober) (err error) {
	p.OwnJudgment = a.asOf != "" || a.anchorFile != ""
	a.session.Client.Options.Checked = true
	p.Anchors, p.AsOf, err = a.validation()
	return err
}

// validation is what signatures are judged by, and as of when; no anchors where they are not.
func (a *app) validation() (anchors []wire.Record, asOf time.Time, err error) {
	asOf = a.now()
	if a.asOf != "" {
		if asOf, err = time.Parse(time.RFC3339, a.asOf); err != nil {
			return nil, asOf, usage(fmt.Errorf("--as-of %q: %w", shorten(a.asOf), errAsOf))
		}
	}
	switch {
	case a.noValidate, a.anchorFile == "" && a.roots != "": // whose root is another one has other keys
		return nil, asOf, nil
	case a.anchorFile != "":
		anchors, err = a.readAnchors()
	case a.simulation != nil:
		anchors = a.simulation.Anchors()
	case a.lab: // whose captures are read, and nobody is asked
		anchors, err = lab.RootAnchors()
	default:
		anchors = dnssec.PublishedAnchors()
	}
	return anchors, asOf, err
}

// readAnchors reads a file of trust anchors in master-file form.
func (a *app) readAnchors() (anchors []wire.Record, err error) {
	text, err := a.files.Read(a.anchorFile, maxSettings)
	if err != nil {
		return nil, fmt.Errorf("reading trust anchors: %w", err)
	}
	records, err := zonefile.Read(bytes.NewReader(text), zonefile.Options{File: a.anchorFile, Origin: wire.Root})
	if err != nil {
		return nil, fmt.Errorf("reading trust anchors: %w", err)
	}
	for _, r := range records {
		if r.Type == wire.DS || r.Type == wire.DNSKEY {
			anchors = append(anchors, r)
		}
	}
	if len(anchors) == 0 {
		return nil, usage(fmt.Errorf("--anchor %s: %w", shorten(a.anchorFile), errAnchor))
	}
	return anchors, nil
}
