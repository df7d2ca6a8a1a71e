package mail

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/wire"
)

// One sentence says where mail goes, who may send it, and what becomes of forged mail.
func TestSummary(t *testing.T) {
	const host = "tarn.example MX 10 m.tarn.example.\nm.tarn.example A 203.0.113.7\n"
	for _, tt := range []struct{ name, zone, want string }{
		{"nothing at all", "other.example A 192.0.2.1", "Mail for tarn.example goes nowhere; it does not say who may send its mail; forged mail is let through, unless a receiver decides otherwise."},
		{"its own address", "tarn.example A 192.0.2.1\ntarn.example TXT \"v=spf1 a -all\"", "Mail for tarn.example goes to its own address, as it has no MX records; 192.0.2.1 may send it; forged mail is let through, unless a receiver decides otherwise."},
		{"a null MX", "tarn.example MX 0 .\ntarn.example TXT \"v=spf1 -all\"\n_dmarc.tarn.example TXT \"v=DMARC1; p=reject\"", "tarn.example takes no mail; nobody may send mail for it; forged mail is refused."},
		{"a host without an address", "tarn.example MX 10 m.tarn.example.", "Mail for tarn.example goes nowhere: none of its mail hosts has an address; it does not say"},
		{"in turn and by choice", "tarn.example MX 10 a.example.\ntarn.example MX 10 b.example.\ntarn.example MX 20 c.example.\na.example A 192.0.2.1\nb.example A 192.0.2.2\nc.example A 192.0.2.3", "Mail for tarn.example goes to a.example, or b.example, then c.example;"},
		{"more than can be told", hosts(7), "goes to m0.example, then m1.example, then m2.example, then m3.example, and 3 more;"},
		{"a failure", "tarn.example TXT SERVFAIL", "Where mail for tarn.example goes is not known (server-failure); who may send it is not known (server-failure);"},
		{"several networks", host + "tarn.example TXT \"v=spf1 ip4:192.0.2.0/24 ip4:203.0.113.0/24 ~all\"", "2 networks may send it;"},
		{"one, and others", host + "tarn.example TXT \"v=spf1 ip4:192.0.2.0/24 exists:%{i}.ok.example -all\"", "192.0.2.0/24 may send it, and others, depending on the sender;"},
		{"others alone", host + "tarn.example TXT \"v=spf1 ptr -all\"", "; who may send it depends on the sender;"},
		{"everybody", host + "tarn.example TXT \"v=spf1 +all\"", "; everybody may send it;"},
		{"a look-up that fails", host + "tarn.example TXT \"v=spf1 include:i.example -all\"\ni.example TXT SERVFAIL", "; who may send it is not wholly known, as look-ups fail;"},
		{"two records", host + "tarn.example TXT \"v=spf1 -all\"\ntarn.example TXT \"v=spf1 mx\"", "; it has 2 SPF records, so receivers come to a permanent error;"},
		{"a slip", host + "tarn.example TXT \"v=spf1 ip:192.0.2.1\"", "; its SPF record is in error at \"ip:192.0.2.1\", so"},
		{"an include of nothing", host + "tarn.example TXT \"v=spf1 include:i.example -all\"", "; its SPF record includes i.example, which has no SPF record, so"},
		{"a policy above", "news.tarn.example A 192.0.2.1\n_dmarc.tarn.example TXT \"v=DMARC1; p=reject; sp=quarantine; pct=20\"", "; forged mail is put aside as spam (20 % of it)."},
		{"in testing", host + "_dmarc.tarn.example TXT \"v=DMARC1; p=reject; t=y\"", "; forged mail is refused once the policy is no longer in testing."},
		{"reports alone", host + "_dmarc.tarn.example TXT \"v=DMARC1; p=none; rua=mailto:a@tarn.example\"", "; forged mail is let through, and reported at the most."},
		{"a policy that is none", host + "_dmarc.tarn.example TXT \"v=DMARC1; p=maybe\"", "; forged mail is let through, unless a receiver decides otherwise."},
	} {
		domain := "tarn.example."
		if tt.name == "a policy above" {
			domain = "news.tarn.example."
		}
		r := asking(zone(t, tt.zone)).Of(t.Context(), wire.MustParseName(domain), Options{Receiving: true, Sending: true})
		assert.Contains(t, r.Summary(), tt.want, tt.name)
	}
}
