package cli

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/exchange"
	"unquil/core/mail"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/ui/data"
	"unquil/ui/page"
)

// newMail is `unquil mail`.
func newMail(a *app) *cobra.Command {
	var from, selectors, tried []string
	var sender, mailFrom, helo string
	cmd := &cobra.Command{
		Use:   "mail DOMAIN",
		Short: "Where does mail for this domain go, and who may send it?",
		Long: "Looks up where mail for a domain goes (MX, the hosts' addresses and reverse names, MTA-STS, TLSA) and who may send it (SPF with all that it includes, DMARC, DKIM keys by their selectors). " +
			"With --sender it says whether one address may.",
		Example: "  unquil mail --lab hollowtarn.example\n" +
			"  unquil mail --lab lanternpost.test --selector spring\n" +
			"  unquil mail --lab lanternpost.test --sender 198.51.100.71 --mail-from news@lanternpost.test",
		RunE: func(cmd *cobra.Command, names []string) error {
			domain, err := parseName(names[0])
			if err != nil {
				return err
			}
			options := mail.Options{Receiving: true, Sending: true, Selectors: append(selectors, tried...)}
			if sender != "" {
				if options.Sender, err = senderOf(domain, sender, mailFrom, helo, cmd.Flags().Changed("mail-from")); err != nil {
					return err
				}
			} else if mailFrom != "" || helo != "" {
				return usage(fmt.Errorf("--mail-from or --helo: %w", errSender))
			}
			prober, servers, setupErr, err := a.begin(cmd.Context(), from)
			if err == nil && len(servers) == 0 {
				err = setupErr
			}
			if err != nil {
				return err
			}
			asker := &mail.Asker{Session: a.session, Resolvers: servers}
			if prober.Anchors, prober.AsOf, err = a.validation(); err != nil {
				return err
			}
			if len(prober.Anchors) > 0 {
				asker.Judge = func(ctx context.Context, e *exchange.Exchange) *mail.Signed { return signedForMail(ctx, prober, e) }
			}
			options.Policy = func(ctx context.Context, host wire.Name, addresses []netip.Addr) (text string, err error) {
				for _, address := range addresses[:min(len(addresses), 2)] {
					page, failed := a.session.Client.Page(ctx, host.Spoken(), address, "/.well-known/mta-sts.txt", mail.MaxPolicy)
					if err = failed; err == nil {
						return page.Text, nil
					}
				}
				return "", err
			}
			stop := a.progress()
			report := asker.Of(cmd.Context(), domain, options)
			stop()
			report.Forget(tried)
			if err := a.keepSession(); err != nil {
				return err
			}
			if err := a.report(reportOf{headline: "Mail of " + domain.Spoken(), tables: page.MailTables(report), findings: report.Findings, exchanges: a.session.Exchanges()}); err != nil {
				return err
			}
			if a.json {
				d := a.document("mail", report.Findings)
				d.Result = data.OfMail(report)
				if err := a.ownersInto(&d, report.Receiving.Addresses()); err != nil {
					return err
				}
				return firstOf(d.Write(a.stdout), verdictOn(report.Findings))
			}
			for _, e := range a.session.Exchanges() {
				if e.Outcome == exchange.Answered && e.Question.Type != wire.TXT && e.Question.Type != wire.PTR {
					a.standing.mark(&e)
				}
			}
			view := a.view()
			if a.bare {
				view.BareMail(report)
			} else {
				view.Mail(report)
			}
			return firstOf(view.Err(), a.showOwners(cmd.Context(), report.Receiving.Addresses()), verdictOn(report.Findings))
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVarP(&from, "from", "f", nil, "which `RESOLVERS` to query, comma-separated or repeated: the next is asked where one fails")
	flags.StringSliceVar(&selectors, "selector", nil, "look at the DKIM keys of these `SELECTORS` (s= in a mail's DKIM-Signature)")
	flags.StringSliceVar(&tried, "try-selectors", nil, "look whether these `SELECTORS` have DKIM keys, and show those that have")
	flags.StringVar(&sender, "sender", "", "check whether this `ADDRESS` may send mail of the domain")
	flags.StringVar(&mailFrom, "mail-from", "", "with --sender: the `MAILBOX` that sends (default postmaster at the domain); empty for a bounce, and then the name of --helo counts")
	flags.StringVar(&helo, "helo", "", "with --sender: the `NAME` that the sender calls itself by")
	a.validateFlags(cmd)
	a.caFlag(cmd)
	a.askFlags(cmd)
	a.bareFlag(cmd)
	a.keepFlag(cmd)
	a.reportFlags(cmd)
	a.ownersFlag(cmd)
	return a.named(cmd, 1, 1)
}

// signedForMail is what the signatures make of one answer, by the records of the resolver that gave it.
func signedForMail(ctx context.Context, prober probe.Prober, e *exchange.Exchange) *mail.Signed {
	all, _ := prober.Validate(ctx, []*exchange.Exchange{e})
	if len(all) == 0 {
		return nil
	}
	s := &mail.Signed{Result: all[0].Result, Exchange: e, Evidence: []int{all[0].Signed.Number}}
	for _, l := range s.Chain {
		s.Evidence = append(s.Evidence, l.Seen...)
	}
	return s
}

// senderOf is who wants to send, as the options say it. given says that a mailbox was, be it
// the empty one.
func senderOf(domain wire.Name, address, mailbox, helo string, given bool) (*mail.Sender, error) {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return nil, usage(fmt.Errorf("--sender %q: %w", shorten(address), errAddress))
	}
	s := &mail.Sender{Address: ip, Helo: helo, Domain: domain.Spoken(), Now: time.Now()}
	switch {
	case given && mailbox == "":
		if s.Domain = ""; helo == "" {
			return nil, usage(fmt.Errorf("--mail-from '': %w", errHelo))
		}
	case given:
		at := strings.LastIndexByte(mailbox, '@')
		s.Domain = mailbox[at+1:]
		if at >= 0 {
			s.Local = mailbox[:at]
		}
	}
	return s, nil
}
