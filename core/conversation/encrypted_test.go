package conversation

import (
	"bytes"
	"cmp"
	"net/netip"
	"testing"
	"time"
	"unquil/core/capture"
	"unquil/lab/labtest"

	"github.com/quic-go/quic-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What cannot be read is counted, with whom it goes to where the handshake shows it.
func TestEncrypted(t *testing.T) {
	var buf bytes.Buffer
	w, err := capture.NewWriter(&buf, capture.Ethernet)
	require.NoError(t, err)
	at := begin
	connection := func(port, server string, host string) {
		from, to := netip.MustParseAddrPort("192.0.2.21:"+port), netip.MustParseAddrPort(server)
		s := capture.NewStream(from, to)
		for _, frame := range append(s.Open(), s.Append(nil, from, labtest.ClientHello(labtest.ServerNameExtension(host))), s.Append(nil, to, make([]byte, 50))) {
			at = at.Add(5 * time.Millisecond)
			require.NoError(t, w.Packet(at, frame, ""))
		}
	}
	connection("5001", "203.0.113.200:853", "tarn.example")
	connection("5002", "203.0.113.201:443", "dns.tarn.example")
	connection("5003", "203.0.113.202:443", "shop.tarn.example")
	connection("5004", "203.0.113.203:443", "quiet.tarn.example")
	datagrams := func(port, server string, data ...[]byte) {
		for _, d := range data {
			at = at.Add(time.Millisecond)
			require.NoError(t, w.Packet(at, capture.AppendFrame(nil, netip.MustParseAddrPort("192.0.2.21:"+port), netip.MustParseAddrPort(server), d), ""))
		}
	}
	datagrams("5005", "203.0.113.204:853", make([]byte, 60))
	datagrams("5006", "203.0.113.205:853", labtest.QUICOpening(t, "tarn.example", quic.Version1)...)
	datagrams("5006", "203.0.113.205:853", labtest.QUICOpening(t, "other.example", quic.Version2)...) // from the same port
	datagrams("5007", "203.0.113.206:443", labtest.QUICOpening(t, "dns.tarn.example", quic.Version2)...)
	datagrams("5008", "203.0.113.207:443", labtest.QUICOpening(t, "shop.tarn.example", quic.Version1)...)
	r, err := capture.NewReader(&buf)
	require.NoError(t, err)
	o, err := Read(t.Context(), []*capture.Reader{r}, Options{HTTPS: []string{"quiet.tarn.example"}})
	require.NoError(t, err)
	var got []string
	for _, e := range o.Encrypted {
		got = append(got, string(e.Over)+" "+e.Server.String()+" "+string(cmp.Or(e.Host, "-")))
	}
	assert.Equal(t, []string{"tls 203.0.113.200:853 tarn.example", "https 203.0.113.201:443 dns.tarn.example", "https 203.0.113.203:443 quiet.tarn.example", "quic 203.0.113.204:853 -",
		"quic 203.0.113.205:853 tarn.example", "https 203.0.113.206:443 dns.tarn.example"}, got)
	assert.Positive(t, o.Encrypted[0].Handshake)
	assert.Zero(t, o.Exchanges)
}
