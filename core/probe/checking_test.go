package probe

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/dnssec"
	"unquil/core/exchange"
)

// TestChecking: what one answer shows of whether a server checks signatures itself.
func TestChecking(t *testing.T) {
	for _, c := range []struct {
		what     string
		state    dnssec.State
		outcome  exchange.Outcome
		claims   bool
		unsigned bool
		want     Checking
	}{
		{"it says so", dnssec.Secure, exchange.Answered, true, false, ChecksAndSays},
		{"it says so of what does not exist", dnssec.Secure, exchange.NoName, true, false, ChecksAndSays},
		{"it says so of what is bogus, wrongly", dnssec.Bogus, exchange.Answered, true, false, ChecksAndSays},
		{"it does not hand on what is bogus", dnssec.Bogus, exchange.ServerFailure, false, false, ChecksBogus},
		{"it hands on what is bogus", dnssec.Bogus, exchange.Answered, false, false, ChecksNot},
		{"it hands on a bogus denial", dnssec.Bogus, exchange.NoName, false, false, ChecksNot},
		{"it does not say", dnssec.Secure, exchange.Answered, false, false, ChecksUnsaid},
		{"it fails for what is good", dnssec.Secure, exchange.ServerFailure, false, false, ChecksUnknown},
		{"it refuses", dnssec.Bogus, exchange.Refused, false, false, ChecksUnknown},
		{"the name is not signed", dnssec.Insecure, exchange.Answered, false, false, ChecksUnknown},
		{"the keys are not there", dnssec.Indeterminate, exchange.Answered, false, false, ChecksUnknown},
		{"it takes signatures away", dnssec.Indeterminate, exchange.Answered, false, true, ChecksUnknown},
		{"it takes them away, and says that it has checked them", dnssec.Indeterminate, exchange.Answered, true, true, ChecksAndSays},
	} {
		v := Validated{Exchange: &exchange.Exchange{Outcome: c.outcome}, Result: dnssec.Result{State: c.state}, Claims: c.claims, Unsigned: c.unsigned}
		assert.Equal(t, c.want, v.Checking(), c.what)
	}
}
