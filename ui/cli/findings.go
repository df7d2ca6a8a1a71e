package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"unquil/core/finding"
	"unquil/core/wording"
	"unquil/ui/text"
)

// newFindings is `unquil findings`.
func newFindings(a *app) *cobra.Command {
	var asPage bool
	cmd := &cobra.Command{
		Use:     "findings [CODE]",
		Short:   "What does this finding mean, and what do I do about it?",
		Example: "  unquil findings cache-stale",
		Args:    taking(0, 1),
		RunE: func(_ *cobra.Command, codes []string) error {
			entries := finding.Catalogue
			if len(codes) > 0 {
				entry, known := finding.Of(finding.Code(codes[0]))
				if !known {
					return usage(fmt.Errorf("finding %q: %w", shorten(codes[0]), fmt.Errorf("%w%s", errCode, wording.OrNearest(codes[0], finding.Codes()))))
				}
				entries = []finding.Entry{entry}
			}
			if a.json {
				d := a.document("findings", nil)
				d.Result = entries
				return d.Write(a.stdout)
			}
			if asPage {
				_, err := fmt.Fprint(a.stdout, text.CataloguePage(entries))
				return err
			}
			view := a.view()
			view.Catalogue(entries, len(codes) > 0)
			return view.Err()
		},
	}
	cmd.Flags().BoolVar(&asPage, "page", false, "as a page in Markdown")
	return cmd
}
