package cli

import (
	"github.com/spf13/cobra"

	"unquil/core/diagnosis"
	"unquil/core/exchange"
	"unquil/core/finding"
)

var addressTypes = []string{"A", "AAAA"}

// newAsk is `unquil ask`.
func newAsk(a *app) *cobra.Command {
	var types, from []string
	cmd := &cobra.Command{
		Use:     "ask NAME...",
		Short:   "What does this resolver say, and on whose authority?",
		Example: "  unquil ask --lab www.hollowtarn.example\n  unquil ask --lab hollowtarn.example --type MX,TXT --from office,isp",
		Args:    taking(1, many),
		RunE: func(cmd *cobra.Command, names []string) error {
			asked, err := questions(names, types)
			if err != nil {
				return err
			}
			if err := a.open(); err != nil {
				return err
			}
			servers, setup, err := a.resolvers(from)
			if err != nil {
				return err
			}
			if len(servers) == 0 {
				return setup
			}
			var requests []exchange.Request
			for start := 0; start < len(asked); start += len(types) {
				for _, server := range servers {
					for _, q := range asked[start : start+len(types)] {
						requests = append(requests, exchange.Request{Server: server, Question: q})
					}
				}
			}
			stop := a.progress()
			exchanges := a.session.AskAll(cmd.Context(), requests)
			stop()
			found := diagnosis.Answers(exchanges)
			if err := a.showAnswers(exchanges, found); err != nil {
				return err
			}
			return verdictOn(found)
		},
	}
	cmd.Flags().StringSliceVarP(&types, "type", "t", addressTypes, "record types, by mnemonic or TYPE123")
	cmd.Flags().StringSliceVarP(&from, "from", "f", []string{"system"}, "whom to ask: ADDRESS, ADDRESS#PORT, tcp://ADDRESS, a label, or system")
	a.askFlags(cmd)
	a.bareFlag(cmd)
	cmd.Flags().BoolVar(&a.wire, "wire", false, "also the messages' bytes, each field named")
	return cmd
}

func (a *app) showAnswers(exchanges []*exchange.Exchange, found []finding.Finding) error {
	if a.json {
		return a.document("ask", found).Write(a.stdout)
	}
	view := a.view()
	if a.bare {
		view.Bare(exchanges)
		return view.Err()
	}
	view.Answers(exchanges)
	if a.wire {
		view.Wire(exchanges)
	}
	view.Findings("what to note", found)
	return view.Err()
}
