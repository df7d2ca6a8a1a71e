package exchange

import (
	"cmp"
	"crypto/rand"
	"crypto/x509"
	"encoding/binary"
	"net/netip"
	"time"

	"unquil/core/wire"
)

// Options says how to ask. The zero value is ready to use.
type Options struct {
	Wait     time.Duration // for one try; 0 means 2 s
	Attempts int           // over UDP; 0 means 2

	Iterative        bool // leave recursion desired clear, as one does with a zone's own servers
	CheckingDisabled bool // ask a validating resolver not to validate (RFC 4035 §3.2.2)
	Checked          bool // ask a resolver to say whether it has validated the answer (AD, RFC 6840 §5.7)
	Opcode           wire.Opcode
	ID               *uint16 // nil: a random one each try

	WithoutEDNS bool
	Size        uint16       // largest UDP reply, in bytes, as offered (RFC 6891 §6.2.3); 0 means 1232
	DNSSEC      bool         // ask for DNSSEC records (DO, RFC 3225)
	Subnet      netip.Prefix // ask for what clients there would get (RFC 7871); invalid: do not
	NSID        bool         // ask which of its machines answers (RFC 5001)
	Expire      bool         // ask a secondary how long it would go on without its primary (RFC 7314)
	Cookie      bool         // send a client cookie (RFC 7873)

	HTTPGet bool           // over HTTPS, GET and not POST (RFC 8484 §4.1)
	CAs     *x509.CertPool // for TLS, HTTPS and QUIC; nil: the system's
	TLSName string         // the name to check certificates for; "": the server's own
}

func (o Options) wait() time.Duration { return cmp.Or(o.Wait, 2*time.Second) }

// NewQuery returns the message that asks q.
func NewQuery(q wire.Question, o Options) wire.Message {
	m := wire.Message{Questions: []wire.Question{q}, Flags: wire.Flags(0).WithOpcode(o.Opcode)}
	if o.ID != nil {
		m.ID = *o.ID
	} else {
		m.ID = randomID()
	}
	if !o.Iterative {
		m.Flags |= wire.RD
	}
	if o.CheckingDisabled {
		m.Flags |= wire.CD
	}
	if o.Checked {
		m.Flags |= wire.AD
	}
	if o.WithoutEDNS {
		return m
	}
	e := wire.EDNS{Size: cmp.Or(o.Size, 1232), DO: o.DNSSEC}
	if o.NSID {
		e.Options = append(e.Options, wire.Option{Code: wire.NSID})
	}
	if o.Expire {
		e.Options = append(e.Options, wire.Option{Code: wire.Expire})
	}
	if o.Subnet.IsValid() {
		e.Options = append(e.Options, wire.NewSubnet(o.Subnet))
	}
	if o.Cookie {
		var cookie [8]byte
		rand.Read(cookie[:])
		e.Options = append(e.Options, wire.Option{Code: wire.Cookie, Data: string(cookie[:])})
	}
	m.Additional = []wire.Record{e.Record(wire.NoError)}
	return m
}

func randomID() uint16 {
	var id [2]byte
	rand.Read(id[:])
	return binary.BigEndian.Uint16(id[:])
}
