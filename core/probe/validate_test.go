package probe

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// TestValidationFindings: what a server says of its own checks, and what it does, are held against what
// its records come to.
func TestValidationFindings(t *testing.T) {
	name, err := wire.ParseName("www.hollowtarn.example")
	assert.NoError(t, err)
	for _, c := range []struct {
		state   dnssec.State
		claims  bool
		outcome exchange.Outcome
		want    finding.Code
	}{
		{dnssec.Secure, true, exchange.Answered, ""},
		{dnssec.Secure, false, exchange.Answered, ""},
		{dnssec.Insecure, false, exchange.Answered, ""},
		{dnssec.Insecure, true, exchange.Answered, finding.ValidationDiffers},
		{dnssec.Bogus, true, exchange.Answered, finding.ValidationDiffers},
		{dnssec.Bogus, false, exchange.Answered, finding.ValidationOff},
		{dnssec.Bogus, false, exchange.NoName, finding.ValidationOff},
		{dnssec.Bogus, false, exchange.ServerFailure, ""},
		{dnssec.Indeterminate, true, exchange.Answered, ""},
	} {
		asked := &exchange.Exchange{Number: 1, Outcome: c.outcome, Question: wire.Question{Name: name, Type: wire.A}}
		v := Validated{Exchange: asked, Signed: &exchange.Exchange{Number: 2}, Result: dnssec.Result{State: c.state}, Claims: c.claims}
		found := v.findings()
		if c.want == "" {
			assert.Empty(t, found, c)
			continue
		}
		if assert.Len(t, found, 1, c) {
			assert.Equal(t, c.want, found[0].Code, c)
			assert.Equal(t, []int{1, 2}, found[0].Evidence, c)
		}
	}
}
