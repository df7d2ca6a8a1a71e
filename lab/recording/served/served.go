// Package served makes the records that a DNS server at the place of the morning's capture would have written.
package served

import (
	"bytes"
	"context"
	"net/netip"
	"slices"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/serverlog"
	"unquil/lab/recording"
)

// Files are what is made, by name.
var Files = map[string]func() ([]byte, error){"valley-morning.dnstap": dnstapFile, "valley-morning.cdns": cdnsFile}

// morning is the capture that they are made of.
const morning = "valley-morning.pcapng"

// recorded are the exchanges of the morning as a server at its place would have recorded them, by their time.
func recorded() (all []serverlog.Exchange, err error) {
	content, err := recording.Files[morning]()
	if err != nil {
		return nil, err
	}
	reader, err := capture.NewReader(bytes.NewReader(content))
	if err != nil {
		return nil, err
	}
	_, err = conversation.Read(context.Background(), []*capture.Reader{reader}, conversation.Options{Keep: -1, Each: func(t *conversation.Transaction) {
		_ = t.Recorded(func(e *serverlog.Exchange) error {
			e.Query, e.Reply = bytes.Clone(e.Query), bytes.Clone(e.Reply)
			all = append(all, *e)
			return nil
		})
	}})
	slices.SortStableFunc(all, func(a, b serverlog.Exchange) int { return int(a.Sent - b.Sent) })
	return all, err
}

// dnstapFile is the morning as the office's resolver recorded it.
func dnstapFile() ([]byte, error) {
	all, err := recorded()
	if err != nil {
		return nil, err
	}
	var messages []serverlog.Message
	for _, e := range all {
		m := serverlog.Message{At: e.Sent, From: e.Client, To: e.Server, Over: e.Over, Data: e.Query}
		messages = append(messages, m)
		if len(e.Reply) > 0 {
			m.At, m.From, m.To, m.Data = e.Received, e.Server, e.Client, e.Reply
			messages = append(messages, m)
		}
	}
	slices.SortStableFunc(messages, func(a, b serverlog.Message) int { return int(a.At - b.At) })
	var b bytes.Buffer
	w, err := serverlog.NewDnstapWriter(&b, "office.resolvers.test")
	if err != nil {
		return nil, err
	}
	own := netip.MustParseAddr("192.0.2.53")
	for _, m := range messages {
		reply := m.Data[2]&0x80 != 0
		asks := m.From
		if reply {
			asks = m.To
		}
		kind := serverlog.Client
		if asks.Addr() == own {
			kind = serverlog.Resolver
		}
		if err := w.Message(&m, kind, reply); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// cdnsFile is the same as C-DNS.
func cdnsFile() ([]byte, error) {
	all, err := recorded()
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	w, err := serverlog.NewCDNSWriter(&b)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if err := w.Add(&all[i]); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
