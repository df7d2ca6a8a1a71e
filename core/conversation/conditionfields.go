package conversation

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Field is what conditions can be about. Docs are made of this table.
type Field struct {
	Name, Says string
	Example    string
	kind       *fieldKind
	number     func(*Transaction) int64
	host       func(*Transaction) netip.Addr
}

// fieldKind is how values of a field are written and compared.
type fieldKind struct {
	operators string // separated by blanks
	what      string // a value is, of those whose values are words of a list
	// test reads a value, and returns what compares an exchange's own with it.
	test func(c *conditionParser, f *Field, operator string, value word) (func(*Transaction) bool, error)
}

// Fields are all of them.
var Fields = []Field{
	{Name: "name", Says: "the name asked for, letter case aside", Example: "name under hollowtarn.example", kind: names},
	{Name: "type", Says: "the record type asked for", Example: "type in (A, AAAA)", kind: types},
	{Name: "outcome", Says: "how it ended, in one word", Example: "outcome != answered", kind: outcomes},
	{Name: "rcode", Says: "the response code of the reply", Example: "rcode = SERVFAIL", kind: rcodes},
	{Name: "value", Says: "any value of the answer, in master-file form", Example: "value = 203.0.113.80", kind: values},
	{Name: "took", Says: "the time from the question to the reply; no reply takes no time", Example: "took > 200ms", kind: durations, number: func(p *Transaction) int64 { return int64(p.Took()) }},
	{Name: "waited", Says: "the same, from the first try", Example: "waited >= 1.5s", kind: durations, number: func(p *Transaction) int64 { return int64(p.Waited()) }},
	{Name: "time", Says: "when it was asked (UTC)", Example: "time after 07:40", kind: moments},
	{Name: "client", Says: "the address of who asked", Example: "client in 192.0.2.0/24", kind: hosts, host: func(p *Transaction) netip.Addr { return p.Client().Addr() }},
	{Name: "server", Says: "the address of who was asked", Example: "server = 192.0.2.53", kind: hosts, host: func(p *Transaction) netip.Addr { return p.Server().Addr() }},
	{Name: "port", Says: "the port of the server", Example: "port != 53", kind: numeric, number: func(p *Transaction) int64 { return int64(p.Server().Port()) }},
	{Name: "transport", Says: "udp or tcp", Example: "transport = tcp", kind: transports},
	{Name: "attempts", Says: "how often the question was sent", Example: "attempts > 1", kind: numeric, number: func(p *Transaction) int64 { return int64(p.Asked()) }},
	{Name: "size", Says: "bytes of the reply", Example: "size > 1232", kind: numeric, number: func(p *Transaction) int64 { return int64(len(p.Reply())) }},
	{Name: "number", Says: "the number of the exchange", Example: "number <= 100", kind: numeric, number: func(p *Transaction) int64 { return int64(p.Number) }},
	{Name: "id", Says: "the ID of the messages", Example: "id = 4711", kind: numeric, number: func(p *Transaction) int64 { return int64(p.unpackQuestion().id) }},
	{Name: "finding", Says: "what is remarkable about it, by its code", Example: "has finding slow", kind: findings},
	{Name: "authoritative", Says: "the reply is the word of the zone's own server", Example: "is authoritative", kind: flags},
}

// The kinds of fields, and what can be asked of each.
var (
	numeric    = &fieldKind{"= != < <= > >= in", "", testNumber(readNumber)}
	durations  = &fieldKind{"= != < <= > >= in", "", testNumber(readDuration)}
	moments    = &fieldKind{"before after", "", testMoment}
	hosts      = &fieldKind{"= != in", "", testHost}
	names      = &fieldKind{"= != in under like", "", testName}
	values     = &fieldKind{"= != in like", "", testValue}
	types      = &fieldKind{"= != in", "a record type", testWord(readType, func(p *Transaction) wire.Type { return p.of })}
	outcomes   = &fieldKind{"= != in", "an outcome", testWord(readOutcome, (*Transaction).Outcome)}
	transports = &fieldKind{"= != in", "a transport", testWord(readTransport, (*Transaction).Transport)}
	rcodes     = &fieldKind{"= != in", "a response code", testWord(readRCode, rcodeOf)}
	findings   = &fieldKind{"has", "", nil}
	flags      = &fieldKind{"is", "", nil}
)

// ordered are the comparisons of numbers.
var ordered = map[string]func(a, b int64) bool{
	"=": func(a, b int64) bool { return a == b }, "!=": func(a, b int64) bool { return a != b },
	"<": func(a, b int64) bool { return a < b }, "<=": func(a, b int64) bool { return a <= b },
	">": func(a, b int64) bool { return a > b }, ">=": func(a, b int64) bool { return a >= b },
}

func testNumber(read func(text string) (int64, string)) func(*conditionParser, *Field, string, word) (func(*Transaction) bool, error) {
	return func(c *conditionParser, f *Field, operator string, value word) (func(*Transaction) bool, error) {
		want, wrong := read(value.text)
		if wrong != "" {
			return nil, c.failAt(value, fmt.Sprintf("%q %s, as in %s", value.text, wrong, f.Example))
		}
		compare := ordered[operator]
		return func(p *Transaction) bool { return compare(f.number(p), want) }, nil
	}
}

func readNumber(text string) (int64, string) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, "is not a whole number"
	}
	return n, ""
}

func readDuration(text string) (int64, string) {
	d, err := time.ParseDuration(text)
	if _, number := strconv.ParseFloat(text, 64); err != nil && number == nil {
		return 0, "has no unit: ms, s or us"
	} else if err != nil {
		return 0, "is not a time with its unit"
	}
	return int64(d), ""
}

// clocks are the forms of a time of day.
var clocks = []string{"15:04", "15:04:05"}

func testMoment(c *conditionParser, f *Field, operator string, value word) (func(*Transaction) bool, error) {
	after := operator == "after"
	if at, err := time.Parse(time.RFC3339, value.text); err == nil {
		limit := at.UnixNano()
		return func(p *Transaction) bool { return p.First.At != limit && p.First.At > limit == after }, nil
	}
	for _, form := range clocks {
		if clock, err := time.Parse(form, value.text); err == nil {
			limit := int64(clock.Sub(clock.Truncate(24 * time.Hour)))
			return func(p *Transaction) bool {
				day := p.First.At % int64(24*time.Hour) // days have no leap seconds in UTC as computers count it
				return day != limit && day > limit == after
			}, nil
		}
	}
	return nil, c.failAt(value, fmt.Sprintf("%q is neither a time of day, as in %s, nor a moment such as 2026-03-09T07:40:00Z", value.text, f.Example))
}

func testHost(c *conditionParser, f *Field, operator string, value word) (func(*Transaction) bool, error) {
	network, err := netip.ParsePrefix(value.text)
	address, bad := netip.ParseAddr(value.text)
	if bad == nil {
		network = netip.PrefixFrom(address, address.BitLen())
	}
	if err != nil && bad != nil || operator != "in" && bad != nil {
		return nil, c.failAt(value, fmt.Sprintf("%q is not an address; a range is asked for like this: %s in 192.0.2.0/24", value.text, f.Name))
	}
	not := operator == "!="
	return func(p *Transaction) bool { return network.Contains(f.host(p)) != not }, nil
}

// testWord makes the test of a field whose values are words of a list.
func testWord[T comparable](read func(text string) (T, []string, bool), of func(*Transaction) T) func(*conditionParser, *Field, string, word) (func(*Transaction) bool, error) {
	return func(c *conditionParser, f *Field, operator string, value word) (func(*Transaction) bool, error) {
		want, among, ok := read(value.text)
		if !ok {
			return nil, c.failAt(value, c.unknown(value, f.kind.what, among))
		}
		not := operator == "!="
		return func(p *Transaction) bool { return of(p) == want != not }, nil
	}
}

func readType(text string) (wire.Type, []string, bool) {
	t, err := wire.ParseType(text)
	var all []string
	for _, known := range wire.Types() {
		all = append(all, known.String())
	}
	return t, all, err == nil
}

func readOutcome(text string) (exchange.Outcome, []string, bool) {
	outcome, ok := exchange.ParseOutcome(text)
	return outcome, exchange.OutcomeWords(), ok
}

func readTransport(text string) (exchange.Transport, []string, bool) {
	t := exchange.Transport(strings.ToLower(text))
	return t, []string{"udp", "tcp"}, t == exchange.UDP || t == exchange.TCP
}

func readRCode(text string) (int, []string, bool) {
	code, err := wire.ParseRCode(text)
	return int(code), wire.RCodes(), err == nil
}

// rcodeOf is the response code in the header of the reply; -1 without one.
func rcodeOf(p *Transaction) int {
	if v, ok := p.ReplyView(); ok {
		return int(v.Flags().RCode())
	}
	return -1
}

func testName(c *conditionParser, f *Field, operator string, value word) (func(*Transaction) bool, error) {
	if operator == "like" {
		pattern := folded(value.text)
		return func(p *Transaction) bool {
			q, ok := p.View().Question()
			if !ok {
				return false
			}
			c.buffer = q.Name.AppendSpoken(c.buffer[:0])
			return like(pattern, c.buffer)
		}, nil
	}
	name, err := wire.ParseName(value.text)
	if err != nil {
		return nil, c.failAt(value, fmt.Sprintf("%q is not a name: %v", value.text, err))
	}
	not := operator == "!="
	return func(p *Transaction) bool {
		q, ok := p.View().Question()
		switch {
		case !ok:
			return not
		case operator == "under":
			return q.Name.IsSubdomainOf(name)
		}
		return q.Name.Equal(name) != not
	}, nil
}

// testValue compares the values of the answer, addresses and names as such: == when any is, != when none is.
func testValue(c *conditionParser, _ *Field, operator string, value word) (func(*Transaction) bool, error) {
	want, not := folded(value.text), operator == "!="
	is := func(value []byte) bool { return like(want, value) }
	if operator != "like" {
		plain := []byte(want)
		if address, err := netip.ParseAddr(value.text); err == nil {
			plain = []byte(address.String())
		}
		dotted := append(slices.Clone(plain), '.') // a name, whose final dot is left out
		is = func(value []byte) bool { return sameFolded(value, plain) || sameFolded(value, dotted) }
	}
	return func(p *Transaction) bool {
		q, ok := p.View().Question()
		if reply := p.Reply(); ok && reply != nil {
			if m, err := c.reader.Read(reply); err == nil {
				c.answer.Read(q, m)
				c.said.Read(c.answer.Records)
				for i := range c.said.Len() {
					if is(c.said.At(i)) {
						return !not
					}
				}
			}
		}
		return not
	}, nil
}

// folded is a pattern or name in lower case without the final dot.
func folded(text string) string {
	if len(text) > 1 {
		text = strings.TrimSuffix(text, ".")
	}
	return strings.ToLower(text)
}

func lower(b byte) byte {
	if b-'A' < 26 {
		return b + 'a' - 'A'
	}
	return b
}

func sameFolded(a, b []byte) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if lower(a[i]) != lower(b[i]) {
			return false
		}
	}
	return true
}

// like reports whether text matches a pattern in lower case, in which * stands for any letters and ? for one.
func like(pattern string, text []byte) bool {
	star, again := -1, 0 // where the last * stands, and from where in the text on it was tried
	at, i := 0, 0
	for i < len(text) {
		switch {
		case at < len(pattern) && pattern[at] == '*':
			star, again = at, i
			at++
		case at < len(pattern) && (pattern[at] == '?' || pattern[at] == lower(text[i])):
			at, i = at+1, i+1
		case star >= 0:
			again++
			at, i = star+1, again
		default:
			return false
		}
	}
	return strings.Trim(pattern[at:], "*") == ""
}
