package diagnosis_test

import (
	"context"
	"encoding/json"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/registry"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/labtest"
)

// listening are registries that note what they are told, and answer all the same.
type listening struct {
	mu     sync.Mutex
	told   []string
	answer registry.Answer
	owner  string
}

func (l *listening) hear(what string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !slices.Contains(l.told, what) {
		l.told = append(l.told, what)
	}
}

func (l *listening) AnswerAbout(_ context.Context, domain wire.Name) registry.Answer {
	l.hear(domain.String())
	return l.answer
}

func (l *listening) Contact(_ context.Context, address netip.Addr) (string, bool) {
	l.hear(address.String())
	return l.owner, true
}

// A registry is told of a name only where it may know why that fails, and what it says stands
// beside what was asked: it hides nothing, and where it cannot be asked nothing else changes.
func TestWhoIsToldOfAName(t *testing.T) {
	out := registry.Answer{Problem: "it is closed today"}
	unknown := registry.Answer{Unknown: true, From: "rdap.registry.test"}
	for _, tt := range []struct {
		what, name string
		answer     registry.Answer
		owner      string
		told       []string
		code       finding.Code // of the cause; "" for none
		next       string
	}{
		{"a healthy name", "www.hollowtarn.example.", unknown, "", nil, "", ""},
		{"a name that is not there, in a zone that is", "nothing.hollowtarn.example.", unknown, "", nil, "", ""},
		{"a top-level domain that is not there", "nobodys.nowhere.", unknown, "", []string{"nobodys.nowhere."}, finding.DomainUnregistered, ""},
		{"a domain that is not there", "www.nobodys.example.", unknown, "", []string{"nobodys.example."}, finding.DomainUnregistered, "Check how the name is spelt"},
		{"and nobody to ask", "www.nobodys.example.", out, "", []string{"nobodys.example."}, "", "Check the spelling first"},
		{"a zone below a domain, of no registry", "status.lifts.hollowtarn.example.", unknown, "", nil, finding.LameServer, ""},
		{"a domain that cannot be found", "www.mirror.example.", out, "", []string{"mirror.example."}, finding.Loop, ""},
		{"servers that are silent", "summit.camera.hollowtarn.example.", out, "Fell Farms (noc@fell.test)", []string{"203.0.113.151"}, finding.NoReply, "203.0.113.151 is an address of Fell Farms (noc@fell.test)."},
		{"and nobody knows whose they are", "summit.camera.hollowtarn.example.", out, "", []string{"203.0.113.151"}, finding.NoReply, "port 53."},
	} {
		synctest.Test(t, func(t *testing.T) {
			l, err := lab.New(lab.Options{InMemory: true})
			require.NoError(t, err)
			client := l.Enter(&exchange.Client{Options: exchange.Options{Wait: benchWait, Attempts: 2}})
			session := &exchange.Session{Client: client}
			listener := &listening{answer: tt.answer, owner: tt.owner}
			c := diagnosis.Case{Name: wire.MustParseName(tt.name), Types: []wire.Type{wire.A}, Resolvers: []exchange.Server{labtest.Resolver(t, l, "office")}, Registry: listener}
			run := diagnosis.Run{Cases: []diagnosis.Case{c}}
			v := run.Verdicts(t.Context(), probe.Prober{Session: session, Roots: delegation.Roots(l.Hints())})[0]
			assert.Equal(t, tt.told, listener.told, tt.what)
			if tt.code == "" {
				assert.Empty(t, v.Cause, tt.what)
			} else if assert.NotEmpty(t, v.Cause, tt.what) {
				assert.Equal(t, tt.code, v.Cause[0].Code, tt.what)
			}
			assert.Contains(t, v.Next, tt.next, tt.what)
			told := slices.ContainsFunc(v.Checks, func(c diagnosis.Check) bool { return len(c.What) > 12 && c.What[:12] == "the registry" })
			assert.Equal(t, len(tt.told) > 0, told, "%s: whoever is told is told of", tt.what)
			assert.Equal(t, len(tt.told) > 0, run.Heard != nil, tt.what)
			kept, err := json.Marshal(run.Given())
			require.NoError(t, err)
			var again diagnosis.Run
			require.NoError(t, json.Unmarshal(kept, &again))
			assert.Equal(t, run.Heard, again.Heard, "%s: as it is kept", tt.what)
			client.Close()
			l.Close()
			time.Sleep(time.Minute)
		})
	}
}
