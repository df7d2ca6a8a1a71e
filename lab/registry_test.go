package lab

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each registry tells of what is its own, in the form of the standard.
func TestRegistriesTell(t *testing.T) {
	l, err := New(Options{InMemory: true})
	require.NoError(t, err)
	defer l.Close()
	ask := func(address, host, path string) (status int, o map[string]any) {
		request := httptest.NewRequest(http.MethodGet, "https://"+host+path, nil)
		recorder := httptest.NewRecorder()
		l.tells(l.registries[netip.MustParseAddr(address)]).ServeHTTP(recorder, request)
		json.Unmarshal(recorder.Body.Bytes(), &o)
		return recorder.Code, o
	}
	for _, tt := range []struct {
		address, host, path string
		status              int
		member              string // of the object
		want                any
	}{
		{"198.51.100.23", "rdap.infra.test", "/lists/dns.json", 200, "version", "1.0"},
		{"198.51.100.23", "rdap.infra.test", "/lists/asn.json", 200, "version", "1.0"},
		{"198.51.100.23", "rdap.infra.test", "/lists/other.json", 404, "errorCode", 404.0},
		{"198.51.100.13", "rdap.registry.test", "/lists/dns.json", 404, "errorCode", 404.0},
		{"198.51.100.13", "rdap.registry.test", "/domain/hollowtarn.example", 200, "ldhName", "hollowtarn.example"},
		{"198.51.100.13", "rdap.registry.test", "/domain/HOLLOWTARN.example.", 200, "ldhName", "hollowtarn.example"},
		{"198.51.100.13", "rdap.registry.test", "/domain/mirror.example", 200, "ldhName", "mirror.example"},
		{"198.51.100.13", "rdap.registry.test", "/domain/nobodys.example", 404, "errorCode", 404.0},
		{"198.51.100.13", "rdap.registry.test", "/domain/a..b", 404, "errorCode", 404.0},
		{"198.51.100.13", "rdap.elsewhere.test", "/domain/hollowtarn.example", 404, "", nil},
		{"203.0.113.79", "rdap.farhost.test", "/domain/hollowtarn.example", 200, "ldhName", "hollowtarn.example"},
		{"198.51.100.24", "rdap.numbers.test", "/ip/203.0.113.5", 200, "name", "HOLLOWTARN-WEB"},
		{"198.51.100.24", "rdap.numbers.test", "/ip/203.0.113.0/24", 200, "name", "HOLLOWTARN-WEB"},
		{"198.51.100.24", "rdap.numbers.test", "/ip/203.0.113.250", 200, "name", "UPLAND-NET"},
		{"198.51.100.24", "rdap.numbers.test", "/ip/10.0.0.1", 404, "errorCode", 404.0},
		{"198.51.100.24", "rdap.numbers.test", "/ip/x", 404, "errorCode", 404.0},
		{"198.51.100.24", "rdap.numbers.test", "/autnum/64500", 200, "name", "UPLAND-AS"},
		{"198.51.100.24", "rdap.numbers.test", "/autnum/0", 404, "errorCode", 404.0},
		{"198.51.100.13", "rdap.registry.test", "/domain/busy.example", 429, "", nil},
		{"198.51.100.13", "rdap.registry.test", "/domain/failing.example", 503, "", nil},
		{"198.51.100.13", "rdap.registry.test", "/domain/looping.example", 302, "", nil},
		{"198.51.100.13", "rdap.registry.test", "/domain/ghost.example", 404, "", nil},
	} {
		status, o := ask(tt.address, tt.host, tt.path)
		assert.Equal(t, tt.status, status, tt.path)
		if tt.member != "" {
			assert.Equal(t, tt.want, o[tt.member], tt.path)
		}
	}
	_, registry := ask("198.51.100.13", "rdap.registry.test", "/domain/summit-huts.example")
	_, registrar := ask("203.0.113.79", "rdap.farhost.test", "/domain/summit-huts.example")
	assert.Contains(t, registry, "status")
	assert.NotContains(t, registrar, "status", "a registrar tells of the holder, and the registry of the rest")
	assert.Contains(t, registrar, "redacted")
	assert.NotContains(t, registrar, "entities", "and what it withholds is not there")
}

// A domain that a zone file delegates is registered as it is delegated, for longer than the
// story lasts.
func TestDelegatedIsRegistered(t *testing.T) {
	l, err := New(Options{InMemory: true})
	require.NoError(t, err)
	defer l.Close()
	seen := map[string]int{}
	for _, d := range l.registered {
		seen[d.Name.String()]++
		if d.Name.String() == "echo.example." {
			assert.Len(t, d.Servers, 2)
			assert.True(t, d.Expires.After(l.Scenario.Begins.Add(31*24*time.Hour)))
		}
	}
	for name, count := range seen {
		assert.Equal(t, 1, count, name)
	}
	for _, name := range []string{"hollowtarn.example.", "works.example.", "mirror.example.", "echo.example.", "fellcast.test.", "farhost.test.", "lanternpost.test."} {
		assert.Contains(t, seen, name)
	}
}
