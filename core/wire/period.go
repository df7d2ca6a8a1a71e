package wire

import (
	"strconv"
	"strings"
)

// units are the letters that master files allow after a number of seconds.
var units = []struct {
	letter byte
	size   uint64
	one    string
	many   string
}{{'W', 604800, "week", "weeks"}, {'D', 86400, "day", "days"}, {'H', 3600, "h", "h"}, {'M', 60, "min", "min"}, {'S', 1, "s", "s"}}

// ParseTTL reads a period in seconds, plain (5400) or with units (1h30m).
// It has to fit 32 bits.
func ParseTTL(text string) (uint32, bool) {
	if text == "" || text[0] < '0' || text[0] > '9' {
		return 0, false
	}
	var total, v uint64
	digits := false
next:
	for i := range len(text) {
		c := text[i]
		if c >= '0' && c <= '9' {
			v, digits = v*10+uint64(c-'0'), true
			if v > 1<<32 {
				return 0, false
			}
			continue
		}
		for _, u := range units {
			if c&^0x20 == u.letter && digits {
				total, v, digits = total+v*u.size, 0, false
				continue next
			}
		}
		return 0, false
	}
	if total += v; total > 1<<32-1 {
		return 0, false
	}
	return uint32(total), true
}

// Period says a number of seconds the way people do, in at most two units:
// "41 min 20 s", "1 h", "7 days".
func Period(s uint32) string {
	var parts []string
	rest := uint64(s)
	for _, u := range units {
		n := rest / u.size
		rest %= u.size
		if n == 0 {
			if len(parts) > 0 {
				break
			}
			continue
		}
		word := u.one
		if n > 1 {
			word = u.many
		}
		parts = append(parts, strconv.FormatUint(n, 10)+" "+word)
		if len(parts) == 2 {
			break
		}
	}
	if len(parts) == 0 {
		return "0 s"
	}
	return strings.Join(parts, " ")
}
