package mail

import (
	"cmp"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"unquil/core/escape"
	"unquil/core/wire"
)

// tag is one tag=value of a DKIM, DMARC, MTA-STS or TLS-RPT record.
type tag struct{ name, value string }

// tags reads a list of them (RFC 6376 §3.2), white space around names and values aside. The
// error says what is none.
func tags(text string) (list []tag, err error) {
	for part := range strings.SplitSeq(text, ";") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		name, value, ok := strings.Cut(part, "=")
		name = strings.ToLower(strings.TrimSpace(name))
		if !ok || name == "" || strings.ContainsAny(name, " \t") {
			return list, fmt.Errorf("%q is no tag with a value", escape.Of(cutShort(strings.TrimSpace(part))))
		}
		if slices.ContainsFunc(list, func(t tag) bool { return t.name == name }) {
			return list, fmt.Errorf("the tag %s stands there twice", escape.Of(name))
		}
		list = append(list, tag{name, strings.TrimSpace(value)})
	}
	return list, nil
}

func valueOf(list []tag, name string) (string, bool) {
	at := slices.IndexFunc(list, func(t tag) bool { return t.name == name })
	if at < 0 {
		return "", false
	}
	return list[at].value, true
}

func cutShort(text string) string {
	if len(text) > 60 {
		return text[:60] + "…"
	}
	return text
}

// DMARC is the policy of a domain (RFC 7489 §6.3).
type DMARC struct {
	At         wire.Name // the domain whose record it is: the one asked about, or its organisational domain
	Text       escape.Text
	Policy     string // none, quarantine or reject: what counts for the domain that was asked about
	Subdomains string // the same for those below the domain of the record
	Percent    int
	Testing    bool // t=y: receivers are asked to do one step less
	StrictSPF  bool // alignment of aspf and adkim
	StrictDKIM bool
	Reports    []escape.Text // where they go
	Wrong      string        // what is wrong with it; "" for nothing
}

// IsDMARC reports whether a text is a DMARC record.
func IsDMARC(text string) bool {
	first, _, _ := strings.Cut(text, ";")
	name, value, ok := strings.Cut(first, "=")
	return ok && strings.TrimSpace(name) == "v" && strings.TrimSpace(value) == "DMARC1"
}

// policies are the values of p and sp.
var policies = []string{"none", "quarantine", "reject"}

// ReadDMARC reads the record of a domain; below says that it is asked about a domain below it.
func ReadDMARC(text string, below bool) *DMARC {
	d := &DMARC{Text: escape.Of(text), Percent: 100}
	list, err := tags(text)
	if err != nil {
		d.Wrong = err.Error()
	}
	policy, has := valueOf(list, "p")
	d.Policy = strings.ToLower(policy)
	d.Subdomains = d.Policy
	if sp, ok := valueOf(list, "sp"); ok {
		d.Subdomains = strings.ToLower(sp)
	}
	missing, hasMissing := valueOf(list, "np") // of subdomains that do not exist (RFC 9091)
	test, _ := valueOf(list, "t")
	d.Testing = strings.EqualFold(test, "y")
	uris, _ := valueOf(list, "rua")
	for uri := range strings.SplitSeq(uris, ",") {
		if uri = strings.TrimSpace(uri); uri != "" {
			d.Reports = append(d.Reports, escape.Of(uri))
		}
	}
	wrong := func(format string, args ...any) {
		if d.Wrong == "" {
			d.Wrong = fmt.Sprintf(format, args...)
		}
	}
	if list == nil || list[0].name != "v" {
		wrong("it does not begin with v=DMARC1")
	}
	switch {
	case !has && len(d.Reports) > 0:
		d.Policy, d.Subdomains = "none", "none" // RFC 7489 §6.6.3: reports alone are a policy of none
		wrong("it has no policy (p)")
	case !has:
		wrong("it has no policy (p)")
	case !slices.Contains(policies, d.Policy):
		wrong("its policy p=%s is not one of none, quarantine, reject", escape.Of(cutShort(policy)))
	case !slices.Contains(policies, d.Subdomains):
		wrong("its policy for subdomains (sp) is not one of none, quarantine, reject")
	case hasMissing && !slices.Contains(policies, strings.ToLower(missing)):
		wrong("its policy for subdomains that do not exist (np) is not one of none, quarantine, reject")
	}
	if pct, ok := valueOf(list, "pct"); ok {
		n, err := strconv.Atoi(pct)
		if err != nil || n < 0 || n > 100 {
			wrong("its percentage pct=%s is not a number from 0 to 100", escape.Of(cutShort(pct)))
		} else {
			d.Percent = n
		}
	}
	for _, mode := range []struct {
		tag string
		to  *bool
	}{{"aspf", &d.StrictSPF}, {"adkim", &d.StrictDKIM}} {
		if value, ok := valueOf(list, mode.tag); ok {
			switch strings.ToLower(value) {
			case "s":
				*mode.to = true
			case "r":
			default:
				wrong("its alignment %s is neither r nor s", mode.tag)
			}
		}
	}
	for _, uri := range d.Reports {
		if !strings.HasPrefix(strings.ToLower(string(uri)), "mailto:") && !strings.Contains(string(uri), ":") {
			wrong("its reports go to %s, which is no URI: mailto: belongs before a mailbox", cutShort(string(uri)))
		}
	}
	if below {
		d.Policy = d.Subdomains
	}
	return d
}

// Void reports whether receivers pass over the record.
func (d *DMARC) Void() bool { return !slices.Contains(policies, d.Policy) || len(d.Text) == 0 }

// reportDomains are the domains that reports go to.
func (d *DMARC) reportDomains() (names []wire.Name) {
	for _, uri := range d.Reports {
		_, mailbox, ok := strings.Cut(string(uri), ":")
		_, domain, at := strings.Cut(mailbox, "@")
		domain, _, _ = strings.Cut(domain, "!") // a bound on the size
		if !ok || !at {
			continue
		}
		name, err := wire.ParseName(domain)
		if err == nil && !slices.ContainsFunc(names, name.Equal) {
			names = append(names, name)
		}
	}
	return names
}

// DKIM is a key with which a domain signs (RFC 6376 §3.6.1).
type DKIM struct {
	Selector escape.Text
	Name     wire.Name
	Kind     string // rsa or ed25519
	Bits     int    // of an RSA key
	Revoked  bool   // its key is empty
	Testing  bool
	Wrong    string // what is wrong with the record; "" for nothing
	Missing  bool   // there is none
	Broke    bool   // it could not be looked up
	Evidence int
}

// ReadDKIM reads the record of a key.
func ReadDKIM(text string) DKIM {
	k := DKIM{Kind: "rsa"}
	list, err := tags(text)
	if err != nil {
		k.Wrong = err.Error()
		return k
	}
	if v, ok := valueOf(list, "v"); ok && (v != "DKIM1" || list[0].name != "v") {
		k.Wrong = "v is not DKIM1, or does not come first"
	}
	if kind, ok := valueOf(list, "k"); ok {
		k.Kind = strings.ToLower(kind)
	}
	if flags, ok := valueOf(list, "t"); ok {
		k.Testing = slices.Contains(listed(flags), "y")
	}
	if hashes, ok := valueOf(list, "h"); ok && k.Wrong == "" && !slices.Contains(listed(hashes), "sha256") {
		k.Wrong = fmt.Sprintf("it is for the hash %s alone, and receivers accept sha256 only", escape.Of(cutShort(hashes)))
	}
	if services, ok := valueOf(list, "s"); ok && k.Wrong == "" && !slices.Contains(listed(services), "*") && !slices.Contains(listed(services), "email") {
		k.Wrong = fmt.Sprintf("it is for %s, and not for mail", escape.Of(cutShort(services)))
	}
	encoded, ok := valueOf(list, "p")
	encoded = strings.Join(strings.Fields(encoded), "")
	switch {
	case k.Wrong != "":
	case !ok:
		k.Wrong = "it has no key (p)"
	case encoded == "":
		k.Revoked = true
	default:
		k.key(encoded)
	}
	return k
}

// listed are the values of a tag that has several, between colons.
func listed(value string) (all []string) {
	for part := range strings.SplitSeq(value, ":") {
		all = append(all, strings.ToLower(strings.TrimSpace(part)))
	}
	return all
}

// key reads the key itself.
func (k *DKIM) key(encoded string) {
	data, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil {
		k.Wrong = "its key (p) is not base64"
		return
	}
	switch k.Kind {
	case "ed25519":
		if len(data) != ed25519.PublicKeySize {
			k.Wrong = fmt.Sprintf("its key has %d bytes, and an Ed25519 key has %d", len(data), ed25519.PublicKeySize)
		}
	case "rsa":
		public, err := x509.ParsePKIXPublicKey(data)
		if err != nil {
			public, err = x509.ParsePKCS1PublicKey(data)
		}
		key, ok := public.(*rsa.PublicKey)
		if err != nil || !ok {
			k.Wrong = "its key (p) is no RSA key"
			return
		}
		k.Bits = key.N.BitLen()
	default:
		k.Wrong = fmt.Sprintf("its kind of key (k=%s) is neither rsa nor ed25519", escape.Of(cutShort(k.Kind)))
	}
}

// STS is the policy for TLS of a domain (RFC 8461).
type STS struct {
	ID     escape.Text
	Mode   string // enforce, testing or none; "" without a policy
	Hosts  []string
	MaxAge int    // seconds
	Wrong  string // what is wrong with the record or the policy; "" for nothing
	Broke  string // why the policy could not be had; "" where it could
}

// IsSTS reports whether a text is an MTA-STS record.
func IsSTS(text string) bool { return strings.HasPrefix(text, "v=STSv1") }

// ReadSTSRecord reads the TXT record.
func ReadSTSRecord(text string) *STS {
	s := &STS{}
	list, err := tags(text)
	id, ok := valueOf(list, "id")
	s.ID = escape.Of(cutShort(id))
	switch {
	case err != nil:
		s.Wrong = err.Error()
	case !ok || id == "" || len(id) > 32 || strings.ContainsFunc(id, func(c rune) bool { return !letter(byte(c)) && (c < '0' || c > '9') || c > 'z' }):
		s.Wrong = "its id is not 1 to 32 letters and digits"
	}
	return s
}

// MaxPolicy is how many bytes a policy may have (RFC 8461 §3.3).
const MaxPolicy = 64 << 10

// ReadPolicy reads the policy file.
func (s *STS) ReadPolicy(text string) {
	version := ""
	age := ""
	for i, line := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		value = strings.TrimSpace(value)
		if !ok || i == 0 && name != "version" {
			s.wrong("line %d of the policy, %q, is not what belongs there", i+1, escape.Of(cutShort(strings.TrimSpace(line))))
			return
		}
		switch name = strings.TrimSpace(name); name {
		case "version":
			version = cmp.Or(version, value) // the first counts (RFC 8461 §3.2)
		case "mode":
			s.Mode = cmp.Or(s.Mode, value)
		case "max_age":
			age = cmp.Or(age, value)
		case "mx":
			if len(s.Hosts) < maxTold {
				s.Hosts = append(s.Hosts, strings.ToLower(value))
			}
		}
	}
	var err error
	s.MaxAge, err = strconv.Atoi(age)
	switch {
	case version != "STSv1":
		s.wrong("the policy's version is not STSv1")
	case !slices.Contains([]string{"enforce", "testing", "none"}, s.Mode):
		s.wrong("the policy's mode %q is not one of enforce, testing, none", escape.Of(cutShort(s.Mode)))
	case err != nil || s.MaxAge < 0 || s.MaxAge > 31557600:
		s.wrong("the policy's max_age is not a number of seconds up to a year")
	case len(s.Hosts) == 0 && s.Mode != "none":
		s.wrong("the policy names no host")
	}
}

func (s *STS) wrong(format string, args ...any) {
	if s.Wrong == "" {
		s.Wrong = fmt.Sprintf(format, args...)
	}
}

// Covers reports whether the policy matches a mail host (RFC 8461 §4.1).
func (s *STS) Covers(host wire.Name) bool {
	name := strings.ToLower(host.Spoken())
	return slices.ContainsFunc(s.Hosts, func(pattern string) bool {
		if below, ok := strings.CutPrefix(pattern, "*."); ok {
			_, rest, more := strings.Cut(name, ".")
			return more && rest == strings.TrimSuffix(below, ".")
		}
		return name == strings.TrimSuffix(pattern, ".")
	})
}

// TLSReports are where reports about TLS go (RFC 8460 §3).
type TLSReports struct {
	To    []escape.Text
	Wrong string
}

// IsTLSReports reports whether a text is such a record.
func IsTLSReports(text string) bool { return strings.HasPrefix(text, "v=TLSRPTv1") }

// ReadTLSReports reads one.
func ReadTLSReports(text string) *TLSReports {
	r := &TLSReports{}
	list, err := tags(text)
	uris, _ := valueOf(list, "rua")
	for uri := range strings.SplitSeq(uris, ",") {
		if uri = strings.TrimSpace(uri); uri != "" {
			r.To = append(r.To, escape.Of(uri))
		}
	}
	switch {
	case err != nil:
		r.Wrong = err.Error()
	case len(r.To) == 0:
		r.Wrong = "it names nobody to report to (rua)"
	}
	return r
}
