package diagnosis

import (
	"context"
	"slices"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/mail"
	"unquil/core/wire"
)

// judgeMail looks at the mail of the name where that is asked about: at where it goes for MX,
// and at who may send it for TXT, if a text of it says that. What the hosts themselves are is
// judged with the other targets.
func (r *round) judgeMail(ctx context.Context) {
	lead := func(t wire.Type) *exchange.Exchange {
		at := slices.IndexFunc(r.questions, func(q wire.Question) bool { return q.Type == t })
		if at < 0 {
			return nil
		}
		for _, e := range r.answers[at] {
			if e.Outcome.Good() {
				return e
			}
		}
		return nil
	}
	mx, txt := lead(wire.MX), lead(wire.TXT)
	receiving := mx != nil && mx.Outcome != exchange.NoName
	sending := txt != nil && slices.ContainsFunc(txt.Answer().Records, func(record wire.Record) bool { return mail.IsSPF(record.Text()) })
	if !receiving && !sending {
		return
	}
	about := map[bool]string{true: "where mail for it goes", false: "who may send mail for it"}[receiving]
	if receiving && sending {
		about = "where mail for it goes, and who may send it"
	}
	check := r.begin(about)
	asker := &mail.Asker{Session: r.Session, Resolvers: r.Resolvers}
	report := asker.Of(ctx, r.Name, mail.Options{Receiving: receiving, Sending: sending})
	state, saw := Fine, "nothing wrong with it"
	for _, f := range report.Findings {
		if !ofMail[f.Code] {
			continue
		}
		r.found = append(r.found, f)
		if f.Severity != finding.Note && state == Fine {
			state, saw = Wrong, f.Text
		}
	}
	r.end(check, state, saw)
}

// ofMail are the findings of a domain's mail that a name is judged by: what fails now. What it
// could do better, unquil mail tells.
var ofMail = map[finding.Code]bool{
	finding.MailNowhere: true, finding.MailRefused: true, finding.MXFallback: true,
	finding.SPFSeveral: true, finding.SPFSyntax: true, finding.SPFTooManyLookups: true, finding.SPFVoidLookups: true, finding.SPFIncludeMissing: true, finding.SPFLoop: true, finding.SPFLetsAll: true,
}
