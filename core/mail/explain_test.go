package mail

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSPF(t *testing.T) {
	terms, ok := SPF("v=spf1 mx ip4:203.0.113.0/24 include:lanternpost.test ?exists:%{i}.tarn.example ~a redirect=x.example later=1 tarn -all")
	assert.True(t, ok)
	var meanings []string
	for _, term := range terms[1:] {
		meanings = append(meanings, term.Meaning)
	}
	assert.Equal(t, []string{
		"the mail hosts of this name: may send", "this IPv4 range: may send", "whoever this other name lets send: may send",
		"everybody for whom this made-up name exists: nothing is said about them (neutral)", "the addresses of this name: should not send (softfail)",
		"look at this other name instead", "an unknown modifier: it is ignored", "not an SPF term: the whole record is in error",
		"everybody else: must not send (fail)",
	}, meanings)
	for _, other := range []string{"", "v=spf10 all", "tarn"} {
		_, ok := SPF(other)
		assert.False(t, ok)
	}
}
