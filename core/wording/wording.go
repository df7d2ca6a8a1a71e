// Package wording says numbers and lists the way people write them. What several sentences
// say is said here once.
package wording

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"unquil/core/wire"
)

// Number is n with its thousands grouped: 27,618.
func Number(n int) string {
	digits := strconv.Itoa(n)
	from := 0
	if n < 0 {
		from = 1
	}
	for at := len(digits) - 3; at > from; at -= 3 {
		digits = digits[:at] + "," + digits[at:]
	}
	return digits
}

// Count is n of something: 1 packet, 27,618 packets.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(n) + " " + many
}

// Times is how often: once, twice, 27 times.
func Times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return Number(n) + " times"
}

// List is words as a list in a sentence: a, b and c.
func List(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// Either is words as a choice in a sentence: a, b or c.
func Either(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// Exchanges names exchanges by their numbers, as evidence is cited: exchange 3,
// exchanges 3, 5, 8.
func Exchanges(numbers []int) string {
	words := make([]string, len(numbers))
	for i, n := range numbers {
		words[i] = strconv.Itoa(n)
	}
	if len(words) == 1 {
		return "exchange " + words[0]
	}
	return "exchanges " + strings.Join(words, ", ")
}

// Span says a time with what precision it deserves: 0.21 ms, 35 ms, 1.5 s, 41 min 20 s.
func Span(d time.Duration) string {
	switch {
	case d >= 2*time.Minute:
		return wire.Period(uint32(min(d.Round(time.Second).Seconds(), math.MaxUint32)))
	case d >= 10*time.Second:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d >= time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d >= 10*time.Millisecond:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d == 0:
		return "0 ms"
	case d < 100*time.Microsecond:
		return fmt.Sprintf("%.2f ms", float64(d.Microseconds())/1000)
	}
	return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
}

// Names is names in a list, without their final dots.
func Names(names []wire.Name) string {
	words := make([]string, len(names))
	for i, n := range names {
		words[i] = n.Spoken()
	}
	return strings.Join(words, ", ")
}

// Spoken is a name in text form without its final dot; the root keeps it.
func Spoken(name string) string {
	if name == "." {
		return name
	}
	return strings.TrimSuffix(name, ".")
}

// Serial is a zone's serial; one that is made of a date and a count, as many are, with that:
// 2026030701 (7 March 2026, change 1).
func Serial(serial uint32) string {
	text := strconv.FormatUint(uint64(serial), 10)
	if day, change, ok := DatedSerial(serial); ok {
		return text + " (" + day.Format("2 January 2006") + ", change " + strconv.Itoa(change) + ")"
	}
	return text
}

// DatedSerial takes a serial apart that is made of a date and a count (YYYYMMDDnn); ok is
// false for others.
func DatedSerial(serial uint32) (day time.Time, change int, ok bool) {
	text := strconv.FormatUint(uint64(serial), 10)
	if len(text) != 10 {
		return day, 0, false
	}
	day, err := time.Parse("20060102", text[:8])
	change, _ = strconv.Atoi(text[8:])
	return day, change, err == nil && day.Year() >= 1987 && day.Year() < 2100 // when there was DNS, and soon
}

// Moment is a time as it stands in a sentence, in UTC.
func Moment(t time.Time) string { return t.UTC().Format("15:04 on 2 January 2006") }
