package dnssec

import "unquil/core/wire"

// Spent is how many signatures a validator has checked.
func (v *Validator) Spent() int { return maxChecks - v.checks.left }

// Deny says what some records prove of a name that is said not to be there, and how many names that
// took to hash.
func Deny(zone wire.Name, records []wire.Record, name wire.Name) (proves string, hashed int) {
	d := readDenials(zone, []*Set{{Records: records}})
	return map[proof]string{unproven: "unproven", proven: "proven", optedOut: "opted out", tooCostly: "too costly"}[d.noName(name)], d.work
}
