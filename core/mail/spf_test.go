package mail

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadSPF(t *testing.T) {
	for _, tt := range []struct{ text, errs string }{ // what is wrong, in order
		{"v=spf1", ""},
		{"V=SPF1 +MX -ALL", ""},
		{"v=spf1 a a:mail.example/24//64 mx//64 ptr exists:%{ir}.%{v}._spf.%{d2} ip4:192.0.2.0/24 ip6:2001:db8::/32 ~all", ""},
		{"v=spf1  include:_spf.example   redirect=x.example exp=why.%{o} later=%{h} -all", ""},
		{"v=spf1 ip:192.0.2.1 -all", `"ip:192.0.2.1" at character 8 is no mechanism; probably meant: ip4:192.0.2.1`},
		{"v=spf1 192.0.2.0/24", `"192.0.2.0/24" at character 8 is no mechanism; probably meant: ip4:192.0.2.0/24`},
		{"v=spf1 +2001:db8::1", `probably meant: +ip6:2001:db8::1`},
		{"v=spf1 ipv4:192.0.2.1 -al", `probably meant: ip4:192.0.2.1|"-al" at character 23 is no mechanism; probably meant: -all`},
		{"v=spf1 inclued:x.example", `probably meant: include:x.example`},
		{"v=spf1 include=x.example", `has an equals sign where a colon belongs; probably meant: include:x.example`},
		{"v=spf1 redirect:x.example", `has a colon where an equals sign belongs; probably meant: redirect=x.example`},
		{"v=spf1 a:192.0.2.1", `its last label is a number; probably meant: ip4:192.0.2.1`},
		{"v=spf1 a: mx", `has nothing behind its colon`},
		{"v=spf1 include -all", `lacks a name behind a colon`},
		{"v=spf1 include:localhost", `names no domain: a name with a dot belongs there`},
		{"v=spf1 mail.example -all", `probably meant: a:mail.example or include:mail.example`},
		{"v=spf1 ip4:192.0.2.0/33", `a prefix length that is not a number from 0 to 32`},
		{"v=spf1 ip6:2001:db8::/129", `a prefix length that is not a number from 0 to 128`},
		{"v=spf1 ip4:192.0.2.0/08", `a prefix length that is not a number`},
		{"v=spf1 ip4:2001:db8::1", `has an address of the other family; probably meant: ip6:2001:db8::1`},
		{"v=spf1 ip6:192.0.2.1", `probably meant: ip4:192.0.2.1`},
		{"v=spf1 ip4:192.0.2", `has no IP address behind the colon`},
		{"v=spf1 ip4=192.0.2.1", `probably meant: ip4:192.0.2.1`},
		{"v=spf1 a/33", `has a prefix length that is none`},
		{"v=spf1 mx//129", `has a prefix length that is none`},
		{"v=spf1 ptr/24 all:x.example", `has a prefix length, and none belongs there|nothing belongs there; probably meant: all`},
		{"v=spf1 redirect=a.example redirect=b.example", `"redirect=b.example" at character 27 stands there twice`},
		{"v=spf1 mx v=spf1 -all", `begins a second record`},
		{"v=spf1 exists:%{x}.example", `has a macro of a letter that there is not`},
		{"v=spf1 exists:%{d.example", `has a macro that is not well formed`},
		{"v=spf1 exists:%(d).example", `has a macro that is not well formed`},
		{"v=spf1 exists:%{d0}.example", `has a macro that is not well formed`},
		{"v=spf1 mx, -all", `"mx," at character 8 is no mechanism; probably meant: mx`},
		{"v=spf1 ip4:\x00", `has a character that does not belong there`},
	} {
		var says []string
		for _, e := range ReadSPF(tt.text).Errors {
			says = append(says, e.Error())
		}
		want := strings.Split(tt.errs, "|")
		if tt.errs == "" {
			assert.Empty(t, says, tt.text)
			continue
		}
		if assert.Len(t, says, len(want), "%s: %q", tt.text, says) {
			for i := range want {
				assert.Contains(t, says[i], want[i], tt.text)
			}
		}
	}
	r := ReadSPF("v=spf1 ?a:mail.example/24//64 ip4:192.0.2.77/24 mx/26 a//48 -all")
	require.Len(t, r.Terms, 5)
	assert.Equal(t, Term{Text: "?a:mail.example/24//64", At: 7, Qualifier: '?', Name: "a", Domain: "mail.example", V4: 24, V6: 64}, r.Terms[0])
	assert.Equal(t, netip.MustParsePrefix("192.0.2.0/24"), r.Terms[1].Network)
	assert.Equal(t, [2]int{26, 128}, [2]int{r.Terms[2].V4, r.Terms[2].V6})
	assert.Equal(t, [2]int{32, 48}, [2]int{r.Terms[3].V4, r.Terms[3].V6})
	for text, is := range map[string]bool{"v=spf1": true, "v=spf10": false, "V=spf1 x": true, "v=spf2.0/pra": false, "": false, "v=spf1\tall": false} {
		assert.Equal(t, is, IsSPF(text), text)
	}
}

// The examples of RFC 7208 §7.4.
func TestMacros(t *testing.T) {
	s := &Sender{Address: netip.MustParseAddr("192.0.2.3"), Local: "strong-bad", Domain: "email.example.com", Helo: "hut.example", Now: time.Unix(5, 0)}
	six := *s
	six.Address = netip.MustParseAddr("2001:db8::cb01")
	for _, tt := range []struct {
		s          *Sender
		text, want string
	}{
		{s, "%{s}", "strong-bad@email.example.com"},
		{s, "%{o}", "email.example.com"},
		{s, "%{d4} %{d3} %{d2} %{d1}", "email.example.com email.example.com example.com com"},
		{s, "%{dr} %{d2r}", "com.example.email example.email"},
		{s, "%{l} %{l-} %{lr} %{lr-} %{l1r-}", "strong-bad strong.bad strong-bad bad.strong strong"},
		{s, "%{ir}.%{v}._spf.%{d2}", "3.2.0.192.in-addr._spf.example.com"},
		{s, "%{lr-}.lp._spf.%{d2}", "bad.strong.lp._spf.example.com"},
		{s, "%{lr-}.lp.%{ir}.%{v}._spf.%{d2}", "bad.strong.lp.3.2.0.192.in-addr._spf.example.com"},
		{s, "%{d2}.trusted-domains.example.net", "example.com.trusted-domains.example.net"},
		{&six, "%{ir}.%{v}._spf.%{d2}", "1.0.b.c.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6._spf.example.com"},
		{s, "%%%_%-%{p}", "% %20unknown"},
		{s, "%{S}", "strong-bad%40email.example.com"},
		{s, "%{h} %{t} %{c}", "hut.example 5 192.0.2.3"},
		{s, "%{i2r}", "0.192"},
	} {
		parts, err := macros(tt.text)
		require.NoError(t, err, tt.text)
		got, ok := expand(parts, tt.s, "email.example.com", true)
		assert.True(t, ok)
		assert.Equal(t, tt.want, got, tt.text)
	}
	parts, _ := macros("%{c}")
	_, ok := expand(parts, s, "x.example", false)
	assert.False(t, ok, "c, r and t stand in explanations only")
	long := *s
	long.Local = strings.Repeat("a.b", 20_000)
	parts, _ = macros("%{l}.%{l}.example")
	text, _ := expand(parts, &long, "x.example", false)
	assert.Len(t, text, maxExpanded)
	assert.Equal(t, strings.Repeat("a.", 123)+"example", fitted(strings.Repeat("b.", 200)+strings.Repeat("a.", 123)+"example."), "labels go from the left")
	assert.LessOrEqual(t, len(fitted(strings.Repeat("label.", 100)+"example")), 253)
	assert.Empty(t, fitted(strings.Repeat("x", 300)))
}

func TestAddresses(t *testing.T) {
	set := func(texts ...string) (s addresses) {
		for _, text := range texts {
			s = s.with(netip.MustParsePrefix(text))
		}
		return s
	}
	words := func(s addresses) (out []string) {
		for _, p := range s.prefixes() {
			out = append(out, p.String())
		}
		return out
	}
	assert.Equal(t, []string{"192.0.2.0/24", "2001:db8::/32"}, words(set("192.0.2.128/25", "2001:db8::/32", "192.0.2.0/25", "192.0.2.7/32")))
	assert.Equal(t, []string{"192.0.2.0/25", "192.0.2.128/26", "192.0.2.192/27", "192.0.2.224/28", "192.0.2.240/29", "192.0.2.248/30", "192.0.2.252/31", "192.0.2.254/32"},
		words(set("192.0.2.0/24").without(set("192.0.2.255/32", "2001:db8::/32"))))
	assert.Empty(t, words(set("192.0.2.0/24").without(set("0.0.0.0/0"))))
	assert.Equal(t, []string{"0.0.0.0/0", "::/0"}, words(set("0.0.0.0/1", "128.0.0.0/1", "::/0")))
	assert.Equal(t, []string{"255.255.255.255/32", "::/128"}, words(set("255.255.255.255/32", "::/128")), "the last of one family does not touch the first of the other")
	v4, v6 := set("192.0.2.0/24", "192.0.3.7/32", "2001:db8::/64").count()
	assert.Equal(t, "257", v4.String())
	assert.Equal(t, "18446744073709551616", v6.String())
}

// Whatever a record says, each of its errors has a place in it, and what is accepted is read
// the same again.
func FuzzReadSPF(f *testing.F) {
	for _, text := range []string{"v=spf1 a:x.example/24//64 mx ptr exists:%{ir}.x.example ip4:192.0.2.0/24 -all", "v=spf1 redirect=x.example exp=%{d}.example", "v=spf1 ip:1 a:: %{"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r := ReadSPF("v=spf1 " + text)
		for _, e := range r.Errors {
			assert.GreaterOrEqual(t, e.At, 7)
			assert.Less(t, e.At, len(text)+7)
		}
		var words []string
		for _, term := range r.Terms {
			words = append(words, term.Text)
			if term.Domain != "" && !term.Modifier {
				parts, err := macros(term.Domain)
				require.NoError(t, err)
				expand(parts, &Sender{Address: netip.IPv6Loopback(), Local: "l", Domain: "d.example"}, "d.example", false)
			}
		}
		again := ReadSPF("v=spf1 " + strings.Join(words, " "))
		assert.Empty(t, again.Errors)
		assert.Len(t, again.Terms, len(r.Terms))
	})
}
