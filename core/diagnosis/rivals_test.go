package diagnosis

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// A verdict is certain when an exchange contradicts each rival of its cause, and says which is
// left where none does.
func TestRivals(t *testing.T) {
	made := func(number int, server, local string, over exchange.Transport, outcome exchange.Outcome, change func(e *exchange.Exchange)) *exchange.Exchange {
		e := &exchange.Exchange{Number: number, Server: exchange.Server{Address: netip.MustParseAddrPort(server)}, Outcome: outcome,
			Attempts: []exchange.Attempt{{Transport: over, Local: netip.MustParseAddrPort(local)}}}
		if !outcome.Silent() {
			e.Reply = &wire.Message{Flags: wire.QR}
		}
		if change != nil {
			change(e)
		}
		return e
	}
	const here = "192.0.2.10:5000"
	root := made(3, "198.51.100.1:53", here, exchange.UDP, exchange.Referral, nil)
	withEDNS := made(4, "198.51.100.1:53", here, exchange.UDP, exchange.Referral, func(e *exchange.Exchange) {
		e.Reply.Additional = []wire.Record{wire.EDNS{Size: 1232}.Record(0)}
	})
	overTCP := made(5, "198.51.100.1:53", here, exchange.TCP, exchange.Answered, nil)
	near := made(6, "192.0.2.53:53", here, exchange.UDP, exchange.ServerFailure, nil)
	far := made(7, "198.51.100.53:53", here, exchange.UDP, exchange.ServerFailure, nil)
	private := made(8, "10.0.0.53:53", "10.9.9.9:5000", exchange.UDP, exchange.ServerFailure, nil)
	question := wire.Question{Name: wire.MustParseName("www.camera.example"), Type: wire.A, Class: wire.IN}
	answers := func(number int, server, address, subnet string) *exchange.Exchange {
		return made(number, server, here, exchange.UDP, exchange.Answered, func(e *exchange.Exchange) {
			e.Question = question
			e.Reply.Questions = []wire.Question{question}
			e.Reply.Answer = []wire.Record{{Name: question.Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: string(netip.MustParseAddr(address).AsSlice())}}
			if subnet != "" {
				e.Reply.Flags |= wire.AA
				o := wire.NewSubnet(netip.MustParsePrefix(subnet))
				o.Data = o.Data[:3] + "\x18" + o.Data[4:] // it is for that network alone
				e.Reply.Additional = []wire.Record{wire.EDNS{Size: 1232, Options: []wire.Option{o}}.Record(0)}
			}
		})
	}
	stale := answers(9, "192.0.2.66:53", "203.0.113.80", "")
	about := finding.About{Zone: "camera.example.", Server: "eye1.camera.example.", Address: "203.0.113.151"}
	for _, tt := range []struct {
		name      string
		code      finding.Code
		zone      bool
		exchanges []*exchange.Exchange
		resolvers []*exchange.Exchange
		sure      string
		out       int // rivals that are ruled out
	}{
		{"silence, and nothing else is known", finding.NoReply, true, nil, nil, finding.Likely, 0},
		{"silence, and others answer", finding.NoReply, true, []*exchange.Exchange{root}, nil, finding.Likely, 1},
		{"silence, and a resolver elsewhere fails too", finding.NoReply, true, []*exchange.Exchange{root}, []*exchange.Exchange{far}, finding.Certain, 2},
		{"silence, and a resolver of this network fails too", finding.NoReply, true, []*exchange.Exchange{root}, []*exchange.Exchange{near}, finding.Likely, 1},
		{"silence, and a resolver behind the same door fails too", finding.NoReply, true, []*exchange.Exchange{root}, []*exchange.Exchange{private}, finding.Likely, 1},
		{"no EDNS, and no other has any", finding.EDNSBreaks, true, []*exchange.Exchange{root}, nil, finding.Likely, 0},
		{"no EDNS, and others have it", finding.EDNSBreaks, true, []*exchange.Exchange{withEDNS}, nil, finding.Certain, 1},
		{"no TCP, and others have it", finding.Truncated, true, []*exchange.Exchange{root, overTCP}, nil, finding.Certain, 1},
		{"a silent resolver is down, or the way to it is", finding.NoReply, false, []*exchange.Exchange{root}, nil, finding.Possible, 0},
		{"an older answer, and the zone gives its network another", finding.CacheStale, false, []*exchange.Exchange{answers(10, "203.0.113.151:53", "203.0.113.140", "192.0.2.0/24")}, []*exchange.Exchange{stale}, finding.Likely, 1},
		{"an older answer, and the zone gives its network the same", finding.CacheStale, false, []*exchange.Exchange{answers(10, "203.0.113.151:53", "203.0.113.80", "192.0.2.0/24")}, []*exchange.Exchange{stale}, finding.Likely, 0},
		{"an older answer, and the zone gives another network another", finding.CacheStale, false, []*exchange.Exchange{answers(10, "203.0.113.151:53", "203.0.113.140", "198.51.100.0/24")}, []*exchange.Exchange{stale}, finding.Likely, 0},
		{"what has no rival", finding.GlueMissing, true, nil, nil, finding.Certain, 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			of := about
			if !tt.zone {
				of = finding.About{Server: "kiosk", Address: "192.0.2.66"}
			}
			v := decide(Verdict{}, []finding.Finding{finding.New(tt.code, finding.Fault, of, "It fails.", 1)}, sight{exchanges: append(tt.exchanges, tt.resolvers...), resolvers: tt.resolvers})
			assert.Equal(t, tt.sure, v.Sure)
			assert.Len(t, v.RuledOut, tt.out)
			assert.Equal(t, tt.sure != finding.Certain, v.Against != "", v.Against)
		})
	}
}
