package cli

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/ui/files"
)

// question is how the questions of one run are put.
type question struct {
	recursion, dnssec, unchecked, noEDNS, nsid, cookie bool
	httpGet, onlyIPv4, onlyIPv6                        bool
	subnet, className, opcodeName, source              string
	over, serverName, caFile                           string
	size                                               uint16
	id                                                 int
}

// questionFlags adds the options that change how a question is put.
func (a *app) questionFlags(cmd *cobra.Command) {
	q, flags := &a.question, cmd.Flags()
	flags.BoolVar(&q.recursion, "recursion", true, "ask the server to find the answer for you (RD); --recursion=false turns it off")
	flags.BoolVar(&q.dnssec, "dnssec", false, "request DNSSEC records as well (DO)")
	flags.BoolVar(&q.unchecked, "checking-disabled", false, "ask a validating resolver not to validate (CD)")
	flags.StringVar(&q.subnet, "client-subnet", "", "ask for the answer that clients in `PREFIX` would get")
	flags.Uint16Var(&q.size, "payload-size", 1232, "advertised UDP buffer size, in `BYTES`")
	flags.BoolVar(&q.noEDNS, "no-edns", false, "query without EDNS")
	flags.BoolVar(&q.nsid, "nsid", false, "ask the server which of its machines answers")
	flags.BoolVar(&q.cookie, "cookie", false, "send a DNS cookie")
	flags.StringVar(&q.className, "class", "IN", "`CLASS`, by mnemonic or CLASS123")
	flags.StringVar(&q.opcodeName, "opcode", "QUERY", "`OPCODE`, by mnemonic or OPCODE3")
	flags.IntVar(&q.id, "id", -1, "ID of every query, for a repeatable run")
	flags.StringVar(&q.source, "source", "", "send from this `ADDRESS` of the machine")
	flags.BoolVar(&q.onlyIPv4, "ipv4", false, "query over IPv4 only")
	flags.BoolVar(&q.onlyIPv6, "ipv6", false, "query over IPv6 only")
	flags.StringVar(&q.over, "over", "", "`TRANSPORT` for all servers: udp, tcp, tls, https or quic")
	flags.StringVar(&q.serverName, "server-name", "", "`NAME` that the server's certificate must have")
	a.caFlag(cmd)
	flags.BoolVar(&q.httpGet, "get", false, "over HTTPS, use GET instead of POST")
}

// caFlag adds the option of whose certificates to trust.
func (a *app) caFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.question.caFile, "ca", "", "`FILE` with the certificates to trust, in PEM, instead of the system's")
}

// apply puts the options into those of the client.
func (q *question) apply(o *exchange.Options, class *wire.Class) (err error) {
	if q.className == "" {
		return nil // a command without these options
	}
	o.Iterative, o.DNSSEC, o.CheckingDisabled = !q.recursion, q.dnssec, q.unchecked
	o.WithoutEDNS, o.NSID, o.Cookie, o.Size = q.noEDNS, q.nsid, q.cookie, q.size
	o.HTTPGet, o.TLSName = q.httpGet, q.serverName
	if q.onlyIPv4 && q.onlyIPv6 {
		return usage(fmt.Errorf("--ipv4 and --ipv6: %w", errTogether))
	}
	if q.id > 65535 || q.id < -1 {
		return usage(fmt.Errorf("--id %d: %w", q.id, wire.ErrValue))
	}
	if q.id >= 0 {
		o.ID = new(uint16(q.id))
	}
	if *class, err = wire.ParseClass(q.className); err != nil {
		return usage(fmt.Errorf("--class: %w", err))
	}
	if o.Opcode, err = wire.ParseOpcode(q.opcodeName); err != nil {
		return usage(fmt.Errorf("--opcode: %w", err))
	}
	if q.subnet != "" {
		if o.Subnet, err = netip.ParsePrefix(q.subnet); err != nil {
			return usage(fmt.Errorf("--client-subnet %q: %w", shorten(q.subnet), errPrefix))
		}
	}
	return nil
}

// authorities are the certificates to trust; nil are the system's.
func (q *question) authorities(open *files.Files) (*x509.CertPool, error) {
	if q.caFile == "" {
		return nil, nil
	}
	pem, err := open.Read(q.caFile, maxSettings)
	if err != nil {
		return nil, fmt.Errorf("reading certificates: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("reading certificates: %s: %w", q.caFile, errPEM)
	}
	return pool, nil
}

// internet is the real network, sending from --source if it is given.
func (q *question) internet() (exchange.Internet, error) {
	if q.source == "" {
		return exchange.Internet{}, nil
	}
	source, err := netip.ParseAddr(q.source)
	if err != nil {
		return exchange.Internet{}, usage(fmt.Errorf("--source %q: %w", shorten(q.source), errAddress))
	}
	return exchange.Internet{Source: source}, nil
}

// fit changes the servers as --over, --ipv4 and --ipv6 say.
func (q *question) fit(servers []exchange.Server) ([]exchange.Server, error) {
	over := exchange.Transport(strings.ToLower(q.over))
	switch over {
	case "", exchange.UDP, exchange.TCP, exchange.TLS, exchange.HTTPS, exchange.QUIC:
	default:
		return nil, usage(fmt.Errorf("--over %q: %w", shorten(q.over), errTransport))
	}
	var kept []exchange.Server
	for _, s := range servers {
		if q.onlyIPv4 && !s.Address.Addr().Is4() || q.onlyIPv6 && !s.Address.Addr().Is6() {
			continue
		}
		if over != "" {
			s = s.Over(over)
		}
		kept = append(kept, s)
	}
	if len(kept) == 0 && len(servers) > 0 {
		return nil, usage(errFamily)
	}
	return kept, nil
}

// lookUp finds the address of a resolver that was given as a host, by the
// machine's own resolvers.
func (a *app) lookUp(ctx context.Context, t exchange.Target) (exchange.Server, error) {
	name, err := wire.ParseName(t.Host)
	if err != nil {
		return t.Server, usage(fmt.Errorf("%q: %w", shorten(t.Host), exchange.ErrResolver))
	}
	setup, err := a.machine()
	if err != nil {
		return t.Server, fmt.Errorf("looking up the resolver %s: %w", t.Host, err)
	}
	types := []wire.Type{wire.A, wire.AAAA}
	if a.question.onlyIPv6 {
		types = types[1:]
	}
	for _, resolver := range setup.Resolvers {
		for _, t2 := range types {
			e := a.session.Client.AskWith(ctx, exchange.Server{Address: resolver}, wire.Question{Name: name, Type: t2, Class: wire.IN}, exchange.Options{Wait: a.wait})
			for _, r := range e.Answer().Records {
				if address, ok := r.Address(); ok {
					t.Server.Address = netip.AddrPortFrom(address, t.Server.Address.Port())
					return t.Server, nil
				}
			}
		}
	}
	return t.Server, fmt.Errorf("looking up the resolver %s: %w", t.Host, errNoAddress)
}
