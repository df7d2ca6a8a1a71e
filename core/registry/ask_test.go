package registry_test

import (
	"context"
	"crypto/x509"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/idn"
	"unquil/core/registry"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/labtest"
)

// asking asks the registries of a lab of the test's own, over loopback.
func asking(t *testing.T) *registry.Asker {
	l, err := lab.New(lab.Options{})
	require.NoError(t, err)
	authorities, err := l.CAs()
	require.NoError(t, err)
	client := l.Enter(&exchange.Client{Options: exchange.Options{Wait: 500 * time.Millisecond, Attempts: 2, CAs: authorities}})
	t.Cleanup(func() { client.Close(); l.Close() })
	return labtest.Registries(t, l, client)
}

func TestAsk(t *testing.T) {
	a := asking(t)
	d, err := a.Domain(t.Context(), wire.MustParseName("hollowtarn.example."))
	require.NoError(t, err)
	assert.Equal(t, []string{"Farhost Names", "Hollow Tarn Cableways"}, []string{string(d.Registrar), string(d.Holder.Name)}, "the holder by the registrar alone")
	assert.Len(t, d.Sources, 2)
	again, err := a.Domain(t.Context(), wire.MustParseName("HOLLOWTARN.example."))
	require.NoError(t, err)
	assert.Same(t, d, again, "nobody is asked twice")
	d, err = a.Domain(t.Context(), wire.MustParseName("works.example."))
	require.NoError(t, err)
	assert.Contains(t, d.Missing, "rdap.cairn.test", "a registrar that cannot be believed")

	var busy registry.BusyError
	_, err = a.Domain(t.Context(), wire.MustParseName("busy.example."))
	require.ErrorAs(t, err, &busy)
	assert.Equal(t, 2*time.Minute, busy.After)
	_, err = a.Domain(t.Context(), wire.MustParseName("nobodys.example."))
	assert.ErrorAs(t, err, &busy, "who asks to be left alone is")
	_, err = a.Domain(t.Context(), wire.MustParseName("fellcast.test."))
	assert.NoError(t, err, "others are asked all the same")

	_, err = asking(t).Domain(t.Context(), wire.MustParseName("tarn.nowhere."))
	assert.ErrorIs(t, err, registry.ErrNoService)
	_, err = a.Number(t.Context(), 65000)
	assert.ErrorIs(t, err, registry.ErrNoService)
	n, err := a.Number(t.Context(), 64500)
	require.NoError(t, err)
	assert.Equal(t, "UPLAND-AS", string(n.Name))
	_, err = a.Number(t.Context(), 64501)
	assert.ErrorIs(t, err, registry.ErrUnknown)
}

func TestAQuestionANetwork(t *testing.T) {
	a := asking(t)
	asked := map[string]bool{}
	var addresses []netip.Addr
	for _, text := range []string{"203.0.113.40", "203.0.113.41", "203.0.113.50", "198.51.100.70", "2001:db8::1", "2001:db8:1::1", "203.0.113.70", "10.0.0.1", "203.0.113.40"} {
		addresses = append(addresses, netip.MustParseAddr(text))
	}
	known, why := a.Networks(t.Context(), addresses)
	assert.Empty(t, why)
	assert.Len(t, known, 7, "all but the private one, each once")
	for _, n := range known {
		asked[n.Source.URL] = true
	}
	assert.Len(t, asked, 4, "networks")
	_, none := known[netip.MustParseAddr("10.0.0.1")]
	assert.False(t, none, "no registry is told of an address inside a network")
}

// kept is a shelf in memory.
type kept map[string]registry.Kept

func (k kept) Get(key string) (registry.Kept, bool) { v, ok := k[key]; return v, ok }
func (k kept) Put(key string, v registry.Kept)      { k[key] = v }

func TestListsAreKept(t *testing.T) {
	shelf := kept{}
	domain := wire.MustParseName("hollowtarn.example.")
	key := lab.Lists + "dns.json"
	a := asking(t)
	a.Shelf = shelf
	_, err := a.Domain(t.Context(), domain)
	require.NoError(t, err)
	require.Contains(t, shelf, key)
	assert.Equal(t, 24*time.Hour, shelf[key].Fresh)

	reachable := func(fresh time.Duration, at time.Time) (*registry.Asker, error) {
		old := shelf[key]
		old.Fresh, old.At = fresh, at
		shelf[key] = old
		a := asking(t)
		a.Shelf = shelf
		look := a.LookUp
		a.LookUp = func(ctx context.Context, host wire.Name) []netip.Addr {
			if strings.HasPrefix(host.String(), "rdap.infra") {
				return nil // the location cannot be reached
			}
			return look(ctx, host)
		}
		_, err := a.Domain(t.Context(), domain)
		return a, err
	}
	a, err = reachable(24*time.Hour, a.Client.Now().Add(-time.Hour))
	assert.NoError(t, err)
	assert.Empty(t, a.Notes(), "what is fresh is used without asking")
	a, err = reachable(time.Hour, a.Client.Now().Add(-48*time.Hour))
	assert.NoError(t, err)
	assert.Contains(t, strings.Join(a.Notes(), " "), "is as it was on "+a.Client.Now().Add(-48*time.Hour).Format("2 January 2006"))
	delete(shelf, key)
	_, err = reachable(0, time.Time{})
	assert.Error(t, err)

	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "dns.json"), []byte(`{"services": [[["example"], ["http://rdap.registry.test/", "https://rdap.registry.test/"]], [["sub.example"], ["http://plain.example/"]], []]}`), 0o600))
	a = asking(t)
	a.Folder = func(file string) ([]byte, error) { return os.ReadFile(filepath.Join(folder, file)) }
	_, err = a.Domain(t.Context(), domain)
	assert.NoError(t, err)
	_, err = a.Domain(t.Context(), wire.MustParseName("tarn.sub.example."))
	assert.ErrorIs(t, err, registry.ErrScheme, "the longest name decides, and plain HTTP is not asked")
	_, err = a.Address(t.Context(), netip.MustParseAddr("192.0.2.1"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestReadSubject(t *testing.T) {
	for _, tt := range []struct {
		text string
		kind registry.Kind
		says string
		err  error
	}{
		{"203.0.113.7", registry.AnAddress, "203.0.113.7/32", nil},
		{"::ffff:203.0.113.7", registry.AnAddress, "203.0.113.7/32", nil},
		{"2001:db8::1%eth0", registry.AnAddress, "2001:db8::1/128", nil},
		{"203.0.113.77/24", registry.ARange, "203.0.113.0/24", nil},
		{"203.0.113.64 - 203.0.113.127", registry.ARange, "203.0.113.64/26", nil},
		{"AS64500", registry.ANumber, "64500", nil},
		{"as64500", registry.ANumber, "64500", nil},
		{"hollowtarn.example", registry.ADomain, "hollowtarn.example.", nil},
		{"a.b.hollowtarn.example.", registry.AHost, "a.b.hollowtarn.example.", nil},
		{"10.1.2.3", "", "", registry.ErrOwn},
		{"100.64.0.1", "", "", registry.ErrOwn},
		{"fe80::1", "", "", registry.ErrOwn},
		{"127.0.0.1/8", "", "", registry.ErrOwn},
		{"203.0.113.0/33", "", "", registry.ErrSubject},
		{".", "", "", registry.ErrSubject},
	} {
		s, err := registry.ReadSubject(tt.text, idn.Parse, idn.Registrable)
		if tt.err != nil {
			assert.ErrorIs(t, err, tt.err, tt.text)
			continue
		}
		require.NoError(t, err, tt.text)
		assert.Equal(t, tt.kind, s.Kind, tt.text)
		switch {
		case s.Prefix.IsValid():
			assert.Equal(t, tt.says, s.Prefix.String())
		case s.Kind == registry.ANumber:
			assert.EqualValues(t, 64500, s.Number)
		default:
			assert.Equal(t, tt.says, s.Name.String())
		}
	}
	for _, text := range []string{"AS99999999999", "AS4294967296", "a..b"} {
		_, err := registry.ReadSubject(text, idn.Parse, idn.Registrable)
		assert.Error(t, err, text)
	}
}

// Registries of one's own may be on this machine; what they lead to may not.
func TestRegistriesOfOnesOwn(t *testing.T) {
	paused := false
	mux := http.NewServeMux()
	mux.HandleFunc("/domain/tarn.example", func(w http.ResponseWriter, _ *http.Request) {
		if !paused {
			paused = true
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		w.Header().Set("Content-Type", "application/rdap+json; charset=utf-8")
		io.WriteString(w, `{"objectClassName": "domain", "ldhName": "TARN.EXAMPLE", "links": [{"rel": "related", "type": "application/rdap+json", "href": "https://127.0.0.9/domain/tarn.example"}]}`)
	})
	mux.HandleFunc("/domain/moved.example", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://127.0.0.9/", http.StatusFound)
	})
	server := httptest.NewTLSServer(mux)
	defer server.Close()
	pool := x509.NewCertPool()
	pool.AddCert(server.Certificate())
	client := &exchange.Client{Network: exchange.Internet{}, Now: time.Now, Options: exchange.Options{Wait: time.Second, CAs: pool}}
	defer client.Close()
	of := func(own bool) *registry.Asker {
		return &registry.Asker{Client: client, Own: own, Folder: func(string) ([]byte, error) {
			return []byte(`{"services": [[["example"], ["` + server.URL + `/"]]]}`), nil
		}}
	}
	tarn := wire.MustParseName("tarn.example.")
	d, err := of(true).Domain(t.Context(), tarn)
	require.NoError(t, err, "a short pause is waited for")
	assert.Contains(t, d.Missing, registry.ErrInside.Error())
	_, err = of(false).Domain(t.Context(), tarn)
	assert.ErrorIs(t, err, registry.ErrInside)
	_, err = of(true).Domain(t.Context(), wire.MustParseName("moved.example."))
	assert.ErrorIs(t, err, registry.ErrInside)
}
