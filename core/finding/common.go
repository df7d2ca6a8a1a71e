package finding

import (
	"fmt"
	"time"

	"unquil/core/exchange"
)

// AboutExchange says which question of which server an exchange was.
func AboutExchange(e *exchange.Exchange) About {
	return About{Name: e.Question.Name.String(), Type: e.Question.Type.String(), Server: e.Server.Name(), Address: e.Server.AddressText()}
}

// SlowAfter is from when on a live answer counts as slow.
const SlowAfter = time.Second

// SlowReply is the finding that a reply took long; ok is false when it did not. who is its
// server in words.
func SlowReply(about About, who string, e *exchange.Exchange) (f Finding, ok bool) {
	if e == nil || e.Took() <= SlowAfter {
		return f, false
	}
	return New(Slow, Concern, about, fmt.Sprintf("%s took %.1f s to answer.", who, e.Took().Seconds()), e.Number), true
}

// EDNSBroken is the finding that a server answers only without EDNS; ok is false when it
// answers with it, or not at all. who is the server in words.
func EDNSBroken(about About, who string, e *exchange.Exchange) (f Finding, ok bool) {
	if e == nil || e.EDNSBroke == "" {
		return f, false
	}
	return New(EDNSBreaks, Concern, about, fmt.Sprintf("%s answers only without EDNS; with it: %s.", who, e.EDNSBroke), e.Number), true
}

// AddNSRecords is what to do where a parent does not delegate a zone. Names are in text form
// without the final dot.
func AddNSRecords(parent, zone string) string {
	return fmt.Sprintf("Ask the operator of %s to add the NS records of %s to it.", parent, zone)
}
