package cli

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/exchange"
	"unquil/core/finding"
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
		Use:   "mail DOMAIN...",
		Short: "Where does mail for this domain go, and who may send it?",
		Long: "Looks up where mail for a domain goes (MX, the hosts' addresses and reverse names, MTA-STS, TLSA) and who may send it (SPF with all that it includes, DMARC, DKIM keys by their selectors). " +
			"With --sender it says whether one address may.",
		Example: "  unquil mail --lab hollowtarn.example\n" +
			"  unquil mail --lab lanternpost.test --selector spring\n" +
			"  unquil mail --lab lanternpost.test --sender 198.51.100.71 --mail-from news@lanternpost.test",
		RunE: func(cmd *cobra.Command, names []string) error {
			domains := make([]wire.Name, len(names))
			options := make([]mail.Options, len(names))
			for i, name := range names {
				var err error
				if domains[i], err = parseName(name); err != nil {
					return err
				}
				options[i] = mail.Options{Receiving: true, Sending: true, Selectors: append(selectors, tried...)}
				if sender != "" {
					if options[i].Sender, err = a.senderOf(domains[i], sender, mailFrom, helo, cmd.Flags().Changed("mail-from")); err != nil {
						return err
					}
				} else if mailFrom != "" || helo != "" {
					return usage(fmt.Errorf("--mail-from or --helo: %w", errSender))
				}
			}
			a.names = len(names)
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
			reports := make([]*mail.Report, len(names))
			stop := a.progress()
			for i, domain := range domains {
				options[i].Policy = a.mailPolicy
				reports[i] = asker.Of(cmd.Context(), domain, options[i])
				reports[i].Forget(tried)
			}
			stop()
			return firstOf(a.keepSession(), a.showMail(cmd.Context(), reports))
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
	a.listFlag(cmd, "domains")
	return a.named(cmd, 1, many)
}

// mailPolicy fetches the MTA-STS policy of a host (RFC 8461 §3.3) from the first of its addresses that gives it.
func (a *app) mailPolicy(ctx context.Context, host wire.Name, addresses []netip.Addr) (text string, err error) {
	for _, address := range addresses[:min(len(addresses), 2)] {
		page, failed := a.session.Client.Page(ctx, host.Spoken(), address, "/.well-known/mta-sts.txt", mail.MaxPolicy)
		if err = failed; err == nil {
			return page.Text, nil
		}
	}
	return "", err
}

// showMail shows what there is to say of the mail of each domain.
func (a *app) showMail(ctx context.Context, reports []*mail.Report) error {
	told := reportOf{headline: "Mail of " + reports[0].Domain.Spoken(), exchanges: a.session.Exchanges(), result: func() any { return data.OfMails(reports) }}
	var addresses []netip.Addr
	for _, r := range reports {
		told.tables = append(told.tables, page.MailTables(r)...)
		told.findings = append(told.findings, r.Findings...)
		addresses = append(addresses, r.Receiving.Addresses()...)
	}
	if len(reports) > 1 {
		told.headline = fmt.Sprintf("Mail of %d domains", len(reports))
		finding.Sort(told.findings)
	}
	if err := a.report(told); err != nil {
		return err
	}
	if a.json {
		d := a.document("mail", told.findings)
		if err := a.ownersInto(&d, addresses); err != nil {
			return err
		}
		return firstOf(d.Write(a.stdout), verdictOn(told.findings))
	}
	for _, e := range a.session.Exchanges() {
		if e.Outcome == exchange.Answered && e.Question.Type != wire.TXT && e.Question.Type != wire.PTR {
			a.standing.mark(&e)
		}
	}
	view := a.view()
	for i, r := range reports {
		if a.bare {
			view.BareMail(r)
			continue
		}
		if i > 0 {
			view.Gap()
		}
		view.Mail(r)
	}
	return firstOf(view.Err(), a.showOwners(ctx, addresses), verdictOn(told.findings))
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
func (a *app) senderOf(domain wire.Name, address, mailbox, helo string, given bool) (*mail.Sender, error) {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return nil, usage(fmt.Errorf("--sender %q: %w", shorten(address), errAddress))
	}
	s := &mail.Sender{Address: ip, Helo: helo, Domain: domain.Spoken(), Now: a.now()}
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
