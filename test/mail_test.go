package test

import (
	"cmp"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mailDocument is what the tests read of the JSON of mail.
type mailDocument struct {
	document
	Result struct {
		SPF struct {
			Networks             []string
			Lookups, VoidLookups int
			Check                struct {
				Result, Mechanism, Explanation, Why string
			}
		}
		Summary string
	}
}

func mailOf(t *testing.T, args ...string) (d mailDocument, code int) {
	o := run(t, append([]string{"mail", "--lab", "--json", "--wait", "1s", "--attempts", "1"}, args...)...)
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &d), "%s%s", o.stdout, o.stderr)
	return d, o.code
}

// Every domain with mail in the lab is told with what is wrong with it, and with no other
// fault; the healthy ones with nothing above a note. Senders get what the standard says.
func TestMailBench(t *testing.T) {
	faults, healthy := 0, 0
	for _, m := range scenario(t).Mails {
		if m.Result == "" && m.Finding != "" {
			faults++
		} else if m.Result == "" {
			healthy++
		}
		t.Run(m.Name()+": "+m.What, func(t *testing.T) {
			d, code := mailOf(t, append([]string{m.Name()}, m.Args...)...)
			assert.Equal(t, m.Result, d.Result.SPF.Check.Result)
			severity := cmp.Or(m.Severity, "fault")
			found := false
			for _, f := range d.Findings {
				found = found || f.Code == m.Finding && f.Severity == severity
				if m.Finding == "" {
					assert.Equal(t, "note", f.Severity, "%s: %s", f.Code, f.Text)
				} else if f.Severity == "fault" {
					assert.Equal(t, "fault", severity, "%s: %s", f.Code, f.Text)
				}
				if f.Severity != "note" {
					assert.NotEmpty(t, f.Evidence, f.Code)
					assert.NotEmpty(t, f.Next, f.Code)
				}
			}
			assert.Equal(t, m.Finding != "", found, "%s, and found %v", m.Finding, d.Findings)
			assert.Equal(t, m.Finding != "" && severity == "fault", code == 3)
			assert.NotEmpty(t, d.Result.Summary)
		})
	}
	assert.GreaterOrEqual(t, faults, 25)
	assert.GreaterOrEqual(t, healthy, 12)
}

func TestMailShows(t *testing.T) {
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
	}{
		{"a healthy domain", []string{"lanternpost.test", "--selector", "spring"}, 0, []string{
			"Mail for lanternpost.test goes to mx1.lanternpost.test, then mx2.lanternpost.test; 4 networks may send it; forged mail is refused.",
			"MX 10 mx1.lanternpost.test 198.51.100.95, reverse name mx1.lanternpost.test", "MTA-STS enforce, for mx1.lanternpost.test, mx2.lanternpost.test; kept for 1 week (604800)",
			"include:_south._spf.lanternpost.test (2 look-ups)", "a:mx2.lanternpost.test 203.0.113.95 (1 look-up)", "may send 192.0.2.240/28 198.51.100.64/26 203.0.113.95 2001:db8:95::/48 in all 81 IPv4",
			"DMARC reject: forged mail is refused", "DKIM spring: rsa, 2048 bits"}},
		{"the newsletter comes back", []string{"hollowtarn.example"}, 3, []string{"fault Mail for hollowtarn.example goes to", "which has no SPF record, so receivers come to a permanent error; forged mail", "include:spf.lanternpost.test has no SPF record",
			"fault The SPF record of hollowtarn.example includes spf.lanternpost.test, which has no SPF record", "next: Ask the provider which name to include"}},
		{"a sender that may", []string{"lanternpost.test", "--sender", "192.0.2.241", "--mail-from", "news@lanternpost.test"}, 0, []string{"pass 192.0.2.241 may send mail for news@lanternpost.test.",
			"by ip4:192.0.2.240/28 of _trial._north._spf.lanternpost.test, which _north._spf.lanternpost.test leads to, which _spf.lanternpost.test leads to"}},
		{"one that may not, and why", []string{"macros.letters.works.example", "--sender", "192.0.2.8", "--helo", "hut.example"}, 0, []string{"fail 192.0.2.8 may not send mail for postmaster@macros.letters.works.example",
			"it says 192.0.2.8 is no host of macros.letters.works.example, says hut.example"}},
		{"a policy of the domain above", []string{"news.lanternpost.test"}, 3, []string{"as lanternpost.test says for what is below it"}},
		{"look-ups that are never made", []string{"many.letters.works.example"}, 3, []string{"SPF 11 look-ups of at most 10", "a:h10.many.letters.works.example 203.0.113.110 (look-up 11: never made)"}},
		{"a slip, with its place", []string{"slip.letters.works.example"}, 3, []string{`in error "ip:203.0.113.64" at character 8 is no mechanism; probably meant: ip4:203.0.113.64`}},
		{"hosts without an address", []string{"hostless.letters.works.example"}, 3, []string{"Mail for hostless.letters.works.example goes nowhere: none of its mail hosts has an address; 203.0.113.64/27 may send it"}},
		{"certificates that count", []string{"signed-mail.works.example"}, 0, []string{"1 TLSA record, which counts: the chain of trust leads to it"}},
		{"certificates that count, where mail is led there unsigned", []string{"sent-on.works.example"}, 0, []string{"1 TLSA record, which counts", "note The TLSA records of mx.signed-mail.works.example count, and the MX records of sent-on.works.example, which lead there, are not signed"}},
		{"certificates that count for nothing", []string{"tlsa.letters.works.example"}, 0, []string{"which counts for nothing", "concern mx.tlsa.letters.works.example has TLSA records, and letters.works.example is not signed: senders pass over them."}},
		{"bogus certificates", []string{"spoilt-mail.works.example"}, 0, []string{"1 TLSA record, bogus: senders that check signatures do not deliver there", "concern The signature over the TLSA records of _25._tcp.mx.spoilt-mail.works.example does not fit: senders that check signatures do not deliver there. signature-wrong"}},
		{"bogus certificates, by a resolver that fails for them", []string{"spoilt-mail.works.example", "--from", "public"}, 0, []string{"concern The signature over the TLSA records of _25._tcp.mx.spoilt-mail"}},
		{"a bogus domain", []string{"ran-out-mail.works.example"}, 3, []string{"fault The signature over the keys of ran-out-mail.works.example ran out at 05:40 on 8 March 2026: senders that check signatures keep mail back."}},
		{"nobody hands on signatures", []string{"signed-mail.works.example", "--from", "isp"}, 0, []string{"which counts only if the chain of trust leads to it; that could not be checked"}},
		{"signatures left alone", []string{"ran-out-mail.works.example", "--no-validate"}, 0, []string{"1 TLSA record, which counts only if"}},
		{"everybody", []string{"everybody.letters.works.example"}, 0, []string{"; everybody may send it; forged mail is refused."}},
		{"a circle", []string{"circle.letters.works.example"}, 3, []string{"; the SPF record of back.circle.letters.works.example includes circle.letters.works.example, which leads back to it, so"}},
		{"what cannot be looked up is not known", []string{"silent.letters.works.example", "--wait", "300ms"}, 3, []string{"; who may send it is not wholly known, as look-ups fail;", "may send nobody who is known: look-ups fail"}},
		{"equal preferences", []string{"onenet.letters.works.example"}, 0, []string{"MX 10 a.onenet.letters.works.example", "or b.onenet.letters.works.example"}},
		{"bare: the networks", []string{"lanternpost.test", "--bare"}, 0, []string{"192.0.2.240/28 198.51.100.64/26 203.0.113.95/32 2001:db8:95::/48"}},
		{"bare: the result", []string{"lanternpost.test", "--bare", "--sender", "203.0.113.1"}, 0, []string{"fail"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			run(t, append([]string{"mail", "--lab"}, tt.args...)...).holds(t, tt.code, tt.want, nil)
		})
	}
	for _, args := range [][]string{{"lanternpost.test", "--sender", "x"}, {"lanternpost.test", "--helo", "x"}, {"lanternpost.test", "--sender", "192.0.2.1", "--mail-from", ""}, {"a..b"}, {}} {
		assert.Equal(t, 2, run(t, append([]string{"mail", "--lab"}, args...)...).code, args)
	}
}

// Beside the networks stands what an evaluation costs, and a report and a session have it too.
func TestMailElsewhere(t *testing.T) {
	d, _ := mailOf(t, "lanternpost.test")
	assert.Equal(t, 5, d.Result.SPF.Lookups)
	assert.Equal(t, []string{"192.0.2.240/28", "198.51.100.64/26", "203.0.113.95/32", "2001:db8:95::/48"}, d.Result.SPF.Networks)
	numbers := make([]int, 0, len(d.Exchanges))
	for _, e := range d.Exchanges {
		numbers = append(numbers, e.Number)
	}
	assert.True(t, slices.IsSorted(numbers))

	report := filepath.Join(t.TempDir(), "mail.html")
	run(t, "mail", "--lab", "hollowtarn.example", "--report", report)
	page, err := os.ReadFile(report)
	require.NoError(t, err)
	for _, part := range []string{"Mail of hollowtarn.example", "Where mail for hollowtarn.example goes", "Who may send it", "spf-include-missing", "mx1.lanternpost.test"} {
		assert.True(t, strings.Contains(string(page), part), part)
	}
	for domain, rows := range map[string][]string{
		"lanternpost.test --selector autumn --selector none": {"| 198.51.100.64/26 |", "| forged mail (DMARC) | reject, of lanternpost.test: forged mail is refused |", "| DKIM key autumn | rsa revoked |", "| DKIM key none | no key |", "| TLS (MTA-STS) | enforce |",
			"| TLS reports | mailto:tls\\@lanternpost.test |", "| 10 | mx1.lanternpost.test | 198.51.100.95 | 198.51.100.0/24 | mx1.lanternpost.test |"},
		"hollowtarn.example":                         {"## Networks that could send, were it not for the error", "| forged mail (DMARC) | nothing: forged mail is let through, unless a receiver decides otherwise |", "| include:spf.lanternpost.test | spf.lanternpost.test | 1 |"},
		"hostless.letters.works.example":             {"| 10 | mx.hostless.letters.works.example | none |", "goes nowhere: none of its mail hosts has an address"},
		"stsgone.letters.works.example":              {"| TLS (MTA-STS) | HTTP status 404 (Not Found) |"},
		"news.lanternpost.test":                      {"| forged mail (DMARC) | ", ", of lanternpost.test: "},
		"longkey.letters.works.example --selector s": {"| DKIM key s | rsa, "},
	} {
		report := filepath.Join(t.TempDir(), "mail.md")
		run(t, append([]string{"mail", "--lab", "--report", report}, strings.Fields(domain)...)...)
		page, err := os.ReadFile(report)
		require.NoError(t, err, domain)
		for _, row := range rows {
			assert.Contains(t, string(page), row, domain)
		}
	}
	session(t, "from office; hollowtarn.example\nmail\n").holds(t, 3, []string{"spf-include-missing", "mx1.hollowtarn.example [", "has no SPF record"}, nil)
}
