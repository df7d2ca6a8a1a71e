package page

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/delegation"
	"unquil/core/wire"
)

// Thirteen servers with two addresses each take one line where they say the same; who differs has one of its own.
func TestManyServersAreFolded(t *testing.T) {
	step := &delegation.Step{Zone: wire.Root}
	for i := range 13 {
		for _, prefix := range []string{"192.0.2.", "2001:db8::"} {
			step.Replies = append(step.Replies, &delegation.Reply{Host: wire.MustParseName(fmt.Sprintf("%c.roots.test.", 'a'+i)), Address: netip.MustParseAddr(fmt.Sprint(prefix, i+1)), Stance: delegation.Refers})
		}
	}
	step.Replies[7].Stance = delegation.LameRefuses
	assert.Equal(t, []drawnServer{{"25 server addresses, each: refers further down", false}, {"d.roots.test 2001:db8::4: refuses the zone", true}}, serversOf(&delegation.Walk{}, step))
	step.Replies = step.Replies[:6]
	assert.Len(t, serversOf(&delegation.Walk{}, step), 6)
}
