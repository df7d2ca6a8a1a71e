// Package labtest sets the simulated internet up for tests.
package labtest

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unquil/core/delegation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/mail"
	"unquil/core/probe"
	"unquil/core/registry"
	"unquil/lab"
)

// Prober asks a simulated internet of the test's own.
func Prober(t *testing.T) (probe.Prober, *lab.Lab) {
	l, err := lab.New(lab.Options{})
	require.NoError(t, err)
	authorities, err := l.CAs()
	require.NoError(t, err)
	client := l.Enter(&exchange.Client{Options: exchange.Options{Wait: time.Second, Attempts: 1, CAs: authorities}})
	t.Cleanup(func() { client.Close(); l.Close() })
	return probe.Prober{Session: &exchange.Session{Client: client}, Roots: delegation.Roots(l.Hints())}, l
}

// Resolver is the lab's resolver with that label.
func Resolver(t *testing.T, l *lab.Lab, label string) exchange.Server {
	address, ok := l.Resolver(label)
	require.True(t, ok, label)
	return exchange.Server{Address: address, Label: escape.Of(label)}
}

// Codes are severity and code of each finding, in order of the alphabet.
func Codes(found []finding.Finding) (list []string) {
	for _, f := range found {
		list = append(list, fmt.Sprintf("%s %s", f.Severity, f.Code))
	}
	slices.Sort(list)
	return list
}

// Registries asks the lab's registries with a client, whose authorities have to be the lab's.
func Registries(t *testing.T, l *lab.Lab, client *exchange.Client) *registry.Asker {
	asker := &mail.Asker{Session: &exchange.Session{Client: client}, Resolvers: []exchange.Server{Resolver(t, l, "office")}}
	return &registry.Asker{Client: client, Location: lab.Lists, LookUp: asker.Addresses}
}
