package conversation

import (
	"unquil/core/exchange"
	"unquil/core/serverlog"
)

// overs are the ways as servers record them.
var overs = map[exchange.Transport]serverlog.Over{exchange.UDP: serverlog.UDP, exchange.TCP: serverlog.TCP, exchange.TLS: serverlog.TLS, exchange.HTTPS: serverlog.HTTPS, exchange.QUIC: serverlog.QUIC}

// Recorded hands on the exchange as a server would record it: each time that it was asked, and with the last before the
// reply, that. It is good until the transaction goes.
func (p *Transaction) Recorded(each func(*serverlog.Exchange) error) error {
	e := serverlog.Exchange{Client: p.Client().AddrPort(), Server: p.Server().AddrPort(), Over: overs[p.Transport()], Query: p.View().Bytes()}
	sent := p.Sent()
	for i, try := range sent {
		e.Sent, e.Received, e.Reply = try.At, 0, nil
		if last := i+1 == len(sent) || sent[i+1].At > p.Received; p.Answered() && try.At <= p.Received && last {
			e.Received, e.Reply = p.Received, p.Reply()
		}
		if err := each(&e); err != nil {
			return err
		}
	}
	return nil
}
