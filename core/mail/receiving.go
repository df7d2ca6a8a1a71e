package mail

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"sync"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Receiving is where mail for a domain goes.
type Receiving struct {
	Exchange *exchange.Exchange // of the MX records
	Alias    wire.Name          // what the domain itself points to (CNAME); zero: nothing
	Null     bool               // it takes no mail, and says so (RFC 7505)
	Mixed    bool               // it says so, and names hosts all the same
	Fallback bool               // it has no MX records: its own addresses count (RFC 5321 §5.1)
	Hosts    []Host             // the most preferred first
	Left     int                // hosts beyond those looked at
	Signed   *Signed            // what the signatures make of the MX records; nil: they are left alone
}

// Host is a mail host.
type Host struct {
	Preference uint16
	Name       wire.Name
	Alias      wire.Name // what its name points to (CNAME); zero: nothing
	Addresses  []HostAddress
	Asked      [2]*exchange.Exchange // for A and AAAA
	TLSA       *exchange.Exchange    // of port 25 (RFC 7672); nil: not asked
	Signed     *Signed               // what the signatures make of its TLSA records; nil: it has none, or they are left alone
	Unsigned   *exchange.Exchange    // shows that its zone has no keys, so that TLSA records do not count; nil: nothing does
	Covered    bool                  // by the domain's MTA-STS policy, where it has one
}

// Broken reports whether its addresses could not be looked up.
func (h *Host) Broken() bool {
	return len(h.Addresses) == 0 && (broke(h.Asked[0]) || broke(h.Asked[1]))
}

// HostAddress is an address of a mail host, with its reverse names.
type HostAddress struct {
	Address netip.Addr
	Network netip.Prefix
	Names   []wire.Name
	Back    bool // one of the names leads back to it
	Unknown bool // the reverse name could not be looked up
	Asked   []*exchange.Exchange
}

// Bounds on the hosts of one domain that are looked at.
const (
	maxMailHosts = 24
	maxReverse   = 32 // addresses
)

// Addresses are those of all hosts.
func (in *Receiving) Addresses() (all []netip.Addr) {
	for i := range in.Hosts {
		for _, a := range in.Hosts[i].Addresses {
			all = append(all, a.Address)
		}
	}
	return all
}

// receive looks up where mail for a domain goes. reverse says that the names of the hosts'
// addresses are wanted too.
func (a *Asker) receive(ctx context.Context, domain wire.Name, reverse bool) *Receiving {
	r := &Receiving{Exchange: a.Ask(ctx, domain, wire.MX)}
	answer := r.Exchange.Answer()
	if len(answer.Aliases) > 0 {
		r.Alias = answer.Name
	}
	for _, record := range answer.Records {
		host, ok := record.Target()
		switch {
		case !ok:
		case host.IsRoot():
			r.Null = true
		case len(r.Hosts) >= maxMailHosts:
			r.Left++
		default:
			r.Hosts = append(r.Hosts, Host{Preference: preference(record), Name: host})
		}
	}
	r.Mixed = r.Null && len(r.Hosts) > 0
	if len(r.Hosts) == 0 && !r.Null && r.Exchange.Outcome == exchange.NoData {
		r.Fallback = true
		r.Hosts = []Host{{Name: domain}}
	}
	slices.SortStableFunc(r.Hosts, func(x, y Host) int {
		return cmp.Or(cmp.Compare(x.Preference, y.Preference), x.Name.Compare(y.Name))
	})
	var wait sync.WaitGroup
	if reverse {
		wait.Go(func() { r.Signed = a.signatures(ctx, r.Exchange) })
	}
	for i := range r.Hosts {
		wait.Go(func() { a.host(ctx, &r.Hosts[i], reverse) })
	}
	wait.Wait()
	if r.Fallback && len(r.Hosts[0].Addresses) == 0 && !r.Hosts[0].Broken() {
		r.Fallback, r.Hosts = false, nil
	}
	return r
}

// host looks up all about one host.
func (a *Asker) host(ctx context.Context, h *Host, reverse bool) {
	var wait sync.WaitGroup
	if reverse {
		wait.Go(func() { a.tlsa(ctx, h) })
	}
	h.Asked = a.both(ctx, h.Name)
	if answer := h.Asked[0].Answer(); len(answer.Aliases) > 0 {
		h.Alias = answer.Name
	}
	for _, address := range addressesOf(h.Asked[:]...) {
		h.Addresses = append(h.Addresses, HostAddress{Address: address, Network: exchange.NetworkOf(address)})
	}
	if reverse {
		for i := range h.Addresses[:min(len(h.Addresses), maxReverse)] {
			wait.Go(func() { a.reverse(ctx, &h.Addresses[i]) })
		}
	}
	wait.Wait()
}

// reverse looks up the names of an address, and whether one leads back.
func (a *Asker) reverse(ctx context.Context, h *HostAddress) {
	name, err := wire.ReverseName(h.Address.String())
	if err != nil {
		return
	}
	e := a.Ask(ctx, name, wire.PTR)
	h.Asked = append(h.Asked, e)
	h.Unknown = broke(e)
	family := wire.AAAA
	if h.Address.Is4() {
		family = wire.A
	}
	for i, r := range e.Answer().Records {
		target, ok := r.Target()
		if !ok || i >= maxHosts {
			break
		}
		h.Names = append(h.Names, target)
		back := a.Ask(ctx, target, family)
		h.Asked = append(h.Asked, back)
		h.Back = h.Back || slices.Contains(addressesOf(back), h.Address)
		h.Unknown = h.Unknown || broke(back)
	}
}

// tlsa looks up the certificates that a host vouches for in DNS (RFC 7672), and whether the chain of
// trust leads to them. Where that cannot be told, it looks whether the zone has keys at all: without,
// they count for nothing.
func (a *Asker) tlsa(ctx context.Context, h *Host) {
	name, err := h.Name.Child("_tcp")
	if err == nil {
		name, err = name.Child("_25")
	}
	if err != nil {
		return
	}
	h.TLSA = a.Ask(ctx, name, wire.TLSA)
	if len(h.TLSA.Answer().Records) == 0 && !broke(h.TLSA) {
		return
	}
	h.Signed = a.signatures(ctx, h.TLSA)
	if h.Signed != nil && h.Signed.State != dnssec.Indeterminate || broke(h.TLSA) {
		return
	}
	soa := a.Ask(ctx, h.Name, wire.SOA)
	zone := h.Name
	if soa.Reply != nil && len(soa.Answer().Records) == 0 {
		record, _, ok := exchange.Negative(soa.Reply)
		if !ok {
			return
		}
		zone = record.Name
	}
	if keys := a.Ask(ctx, zone, wire.DNSKEY); void(keys) {
		h.Unsigned = keys
	}
}

// preference is that of an MX record.
func preference(r wire.Record) uint16 {
	if len(r.Data) < 2 {
		return 0
	}
	return uint16(r.Data[0])<<8 | uint16(r.Data[1])
}
