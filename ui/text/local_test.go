package text

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a machine's files say of sources and options is said in words too.
func TestLocalWords(t *testing.T) {
	assert.Equal(t, []string{"files", "mdns4_minimal (if it has no such name, the look-up ends there)", "dns (odd=thing)"}, sourceWords([]string{"files", "mdns4_minimal", "[NOTFOUND=return]", "dns", "[odd=thing]"}))
	assert.Equal(t, []string{"[first]"}, sourceWords([]string{"[first]"}))
	assert.Equal(t, []string{"rotate (the resolvers are asked in turn)", "timeout:1 (seconds of patience with each)", "strange:3"}, optionWords([]string{"rotate", "timeout:1", "strange:3"}))
}
