package idn

import (
	"strings"

	"golang.org/x/net/publicsuffix"

	"unquil/core/wire"
)

// Registrable is the domain that somebody registered to have a name: one label below a suffix
// under which people register, by the public list of those. For a suffix it is the name itself.
func Registrable(name wire.Name) wire.Name {
	text, err := publicsuffix.EffectiveTLDPlusOne(strings.ToLower(name.Spoken()))
	if err != nil {
		return name
	}
	registrable, err := wire.ParseName(text)
	if err != nil {
		return name
	}
	return registrable
}
