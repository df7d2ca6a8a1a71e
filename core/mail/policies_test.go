package mail

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

func TestReadDMARC(t *testing.T) {
	for _, tt := range []struct {
		text          string
		policy, below string // of the domain, and of one below it
		wrong         string
	}{
		{"v=DMARC1; p=reject", "reject", "reject", ""},
		{"v=DMARC1;p=reject;sp=quarantine;np=reject;pct=50;adkim=s;aspf=r;", "reject", "quarantine", ""},
		{"v = DMARC1 ; P = None ; rua = mailto:a@tarn.example!10m , mailto:b@tarn.example", "none", "none", ""},
		{"v=DMARC1; p=refuse", "refuse", "refuse", "p=refuse is not one of none, quarantine, reject"},
		{"v=DMARC1; sp=reject", "", "reject", "it has no policy (p)"},
		{"v=DMARC1; rua=mailto:a@tarn.example", "none", "none", "it has no policy (p)"},
		{"v=DMARC1; p=none; sp=all", "none", "all", "for subdomains (sp)"},
		{"v=DMARC1; p=none; np=all", "none", "none", "do not exist (np)"},
		{"v=DMARC1; p=none; pct=200", "none", "none", "pct=200 is not a number from 0 to 100"},
		{"v=DMARC1; p=none; aspf=x", "none", "none", "aspf is neither r nor s"},
		{"v=DMARC1; p=none; rua=a@tarn.example", "none", "none", "mailto: belongs before a mailbox"},
		{"v=DMARC1; p=none; p=reject", "none", "none", "the tag p stands there twice"},
		{"v=DMARC1; p=none reject", "none reject", "none reject", "is not one of"},
		{"v=DMARC1; p=none; nonsense", "none", "none", `"nonsense" is no tag with a value`},
	} {
		assert.True(t, IsDMARC(tt.text), tt.text)
		for below, want := range map[bool]string{false: tt.policy, true: tt.below} {
			d := ReadDMARC(tt.text, below)
			assert.Equal(t, want, d.Policy, tt.text)
			if tt.wrong == "" {
				assert.Empty(t, d.Wrong, tt.text)
			}
			assert.Contains(t, d.Wrong, tt.wrong, tt.text)
		}
	}
	d := ReadDMARC("v=DMARC1; p=quarantine; t=y; pct=20; adkim=S; rua=mailto:a@one.example!9m,mailto:b@one.example, https://two.example/x", false)
	assert.True(t, d.Testing && d.StrictDKIM && !d.StrictSPF)
	assert.Equal(t, 20, d.Percent)
	assert.Equal(t, []wire.Name{wire.MustParseName("one.example.")}, d.reportDomains())
	for _, text := range []string{"v=DMARC10; p=none", "DMARC1", "", "p=none; v=DMARC1"} {
		assert.False(t, IsDMARC(text), text)
	}
}

// rsaKey is the p tag of an RSA key.
func rsaKey(t *testing.T, bits int, encode func(*rsa.PublicKey) ([]byte, error)) string {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, bits)
	require.NoError(t, err)
	data, err := encode(&key.PublicKey)
	require.NoError(t, err)
	return base64.StdEncoding.EncodeToString(data)
}

func TestReadDKIM(t *testing.T) {
	whole := func(k *rsa.PublicKey) ([]byte, error) { return x509.MarshalPKIXPublicKey(k) }
	small := func(k *rsa.PublicKey) ([]byte, error) { return x509.MarshalPKCS1PublicKey(k), nil }
	long, old := rsaKey(t, 2048, whole), rsaKey(t, 1024, small)
	ed := base64.StdEncoding.EncodeToString(make([]byte, 32))
	for _, tt := range []struct {
		text  string
		want  DKIM
		wrong string
	}{
		{"v=DKIM1; k=rsa; p=" + long, DKIM{Kind: "rsa", Bits: 2048}, ""},
		{"p=" + long[:100] + " \t" + long[100:], DKIM{Kind: "rsa", Bits: 2048}, ""},
		{"v=DKIM1; t=y:s; h=sha1:sha256; s=email; p=" + old, DKIM{Kind: "rsa", Bits: 1024, Testing: true}, ""},
		{"v=DKIM1; k=ed25519; p=" + ed, DKIM{Kind: "ed25519"}, ""},
		{"v=DKIM1; p=", DKIM{Kind: "rsa", Revoked: true}, ""},
		{"v=DKIM1; k=ed25519; p=" + long, DKIM{Kind: "ed25519"}, "an Ed25519 key has 32"},
		{"v=DKIM1; k=rsa; p=" + ed, DKIM{Kind: "rsa"}, "is no RSA key"},
		{"v=DKIM1; k=dsa; p=" + ed, DKIM{Kind: "dsa"}, "neither rsa nor ed25519"},
		{"v=DKIM1; p=not base64!", DKIM{Kind: "rsa"}, "is not base64"},
		{"v=DKIM1; k=rsa", DKIM{Kind: "rsa"}, "it has no key (p)"},
		{"v=DKIM2; p=" + long, DKIM{Kind: "rsa"}, "v is not DKIM1"},
		{"p=" + long + "; v=DKIM1", DKIM{Kind: "rsa"}, "does not come first"},
		{"v=DKIM1; h=sha1; p=" + long, DKIM{Kind: "rsa"}, "receivers accept sha256 only"},
		{"v=DKIM1; s=tlsrpt; p=" + long, DKIM{Kind: "rsa"}, "not for mail"},
		{"hello", DKIM{Kind: "rsa"}, "no tag with a value"},
	} {
		got := ReadDKIM(tt.text)
		if tt.wrong == "" {
			assert.Empty(t, got.Wrong, tt.text)
		}
		assert.Contains(t, got.Wrong, tt.wrong, tt.text)
		got.Wrong = ""
		assert.Equal(t, tt.want, got, tt.text)
	}
}

func TestReadPolicies(t *testing.T) {
	const good = "version: STSv1\r\nmode: enforce\r\nmx: mail.tarn.example\r\nmx: *.in.tarn.example.\r\nmax_age: 604800\r\nmode: none\r\n"
	for _, tt := range []struct{ text, wrong string }{
		{good, ""},
		{"version: STSv1\nmode: none\nmax_age: 0\nlater: x\n", ""},
		{"<!DOCTYPE html>\n<html>", "line 1 of the policy"},
		{"mode: enforce\n" + good, "line 1 of the policy"},
		{"version: STSv1\nnonsense", "line 2 of the policy"},
		{strings.Replace(good, "STSv1", "STSv2", 1), "version is not STSv1"},
		{strings.Replace(good, "enforce", "forced", 1), `mode "forced" is not one of`},
		{strings.Replace(good, "604800", "99999999", 1), "max_age is not"},
		{strings.ReplaceAll(good, "mx:", "host:"), "names no host"},
		{"", "version is not STSv1"},
	} {
		var s STS
		s.ReadPolicy(tt.text)
		if tt.wrong == "" {
			assert.Empty(t, s.Wrong, tt.text)
		}
		assert.Contains(t, s.Wrong, tt.wrong, tt.text)
	}
	var s STS
	s.ReadPolicy(good)
	assert.Equal(t, STS{Mode: "enforce", Hosts: []string{"mail.tarn.example", "*.in.tarn.example."}, MaxAge: 604800}, s)
	for host, covered := range map[string]bool{"mail.tarn.example.": true, "MAIL.tarn.example.": true, "a.in.tarn.example.": true, "a.b.in.tarn.example.": false, "in.tarn.example.": false, "tarn.example.": false} {
		assert.Equal(t, covered, s.Covers(wire.MustParseName(host)), host)
	}
	for text, wrong := range map[string]string{"v=STSv1; id=2026a": "", "v=STSv1": "its id", "v=STSv1; id=a-b": "its id", "v=STSv1; id=" + strings.Repeat("a", 33): "its id", "v=STSv1; id": "no tag"} {
		got := ReadSTSRecord(text)
		assert.Equal(t, wrong == "", got.Wrong == "", text)
		assert.Contains(t, got.Wrong, wrong, text)
	}
	r := ReadTLSReports("v=TLSRPTv1; rua=mailto:a@tarn.example,https://tarn.example/tls")
	assert.Len(t, r.To, 2)
	assert.Empty(t, r.Wrong)
	assert.Contains(t, ReadTLSReports("v=TLSRPTv1").Wrong, "names nobody")
}

// Whatever the text is, reading it ends, and what is kept of it is bounded and can be printed.
func FuzzReadPolicies(f *testing.F) {
	for _, text := range []string{
		"v=DMARC1; p=reject; rua=mailto:a@tarn.example!10m", "v=DKIM1; k=rsa; t=y; p=AAAA", "v=STSv1; id=1", "v=TLSRPTv1; rua=mailto:a@b",
		"version: STSv1\nmode: testing\nmx: *.tarn.example\nmax_age: 1\n", "<html>", "v=;;=;p==", "\x1b[31m=\x00;", "v=DKIM1; k=ed25519; p=", "%{l1r-}.%{D}",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, k, s, r := ReadDMARC(text, true), ReadDKIM(text), ReadSTSRecord(text), ReadTLSReports(text)
		s.ReadPolicy(text)
		for _, said := range []string{d.Wrong, k.Wrong, s.Wrong, r.Wrong, string(d.Text)} {
			assert.NotContains(t, said, "\x1b")
		}
		assert.LessOrEqual(t, len(s.Hosts), maxTold)
		d.reportDomains()
		s.Covers(wire.MustParseName("mail.tarn.example."))
		if parts, err := macros(text); err == nil {
			out, _ := expand(parts, &Sender{Local: "a-b", Domain: "tarn.example"}, "tarn.example", true)
			assert.LessOrEqual(t, len(out), maxExpanded)
			assert.LessOrEqual(t, len(fitted(out)), 253)
		}
	})
}
