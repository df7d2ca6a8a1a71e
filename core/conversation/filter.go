package conversation

import (
	"errors"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// ErrCondition says that a condition cannot be understood, or does not fit the fields.
var ErrCondition = errors.New("not a condition over the fields of an exchange")

// Fields are what conditions can be made of, under the names in the tags.
type Fields struct {
	Number     int      `expr:"number"`    // of the exchange, from 1
	Time       float64  `expr:"time"`      // seconds since 1970 UTC
	Client     string   `expr:"client"`    // its address
	Server     string   `expr:"server"`    // its address
	Port       int      `expr:"port"`      // the server's
	Name       string   `expr:"name"`      // asked for, in lower case, without the final dot
	Type       string   `expr:"type"`      // asked for, by mnemonic
	Outcome    string   `expr:"outcome"`   // one word
	RCode      string   `expr:"rcode"`     // of the reply, by mnemonic; "" without one
	Took       float64  `expr:"took"`      // seconds from the question to the reply; 0 without one
	Waited     float64  `expr:"waited"`    // the same from the first try
	Attempts   int      `expr:"attempts"`  // how often it was asked
	ID         int      `expr:"id"`        // of the message
	Transport  string   `expr:"transport"` // udp or tcp
	Size       int      `expr:"size"`      // of the reply in bytes; 0 without one
	Authority  bool     `expr:"authority"` // the reply is the zone's own server's word
	Values     []string `expr:"values"`    // what the answer says, in master-file form
	FindingsOf []string `expr:"findings"`  // codes of what is remarkable about it
}

// Filter says which exchanges of a capture count. The zero Filter is all of them.
type Filter struct {
	Names            []string           // patterns with * and ?
	Exactly          wire.Name          // this name and no other
	Within           *Chosen            // these; nil: all
	Asking           map[wire.Name]bool // for one of these names, in lower case; nil: all
	Under            wire.Name
	Types            []wire.Type
	Outcomes         []exchange.Outcome
	Clients, Servers []netip.Prefix
	ID               *uint16
	Slower           time.Duration
	From, To         time.Time // when it was asked; the zero Time is no bound
	Finding          finding.Code
	Where            string // a condition over [Fields]

	patterns []string // Names as they are matched
	program  *vm.Program
	machine  *vm.VM
	wants    wants
}

// wants are the fields that a condition names: those that it does not are not made.
type wants map[string]bool

// Visit notes a field that is named, for [ast.Walk].
func (w wants) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.IdentifierNode:
		w[n.Value] = true
	}
}

// any reports whether one of some fields is wanted; $env is all of them.
func (w wants) any(fields ...string) bool {
	return w["$env"] || slices.ContainsFunc(fields, func(f string) bool { return w[f] })
}

// matched is a pattern or a name in the form in which the two are matched: an asterisk
// of path.Match does not match a slash, which a name may have (RFC 2317 §4).
func matched(text string) string {
	return strings.ReplaceAll(strings.ToLower(strings.TrimSuffix(text, ".")), "/", "\x00")
}

// Compile makes the choice ready, and returns it as a function; nil when all
// exchanges count. The error wraps ErrCondition.
func (c *Filter) Compile() (func(*Transaction) bool, error) {
	c.patterns = nil
	for _, pattern := range c.Names {
		c.patterns = append(c.patterns, matched(pattern))
		if _, err := path.Match(pattern, ""); err != nil {
			return nil, fmt.Errorf("%q: %w", pattern, ErrCondition)
		}
	}
	if c.Where != "" {
		program, err := expr.Compile(c.Where, expr.Env(Fields{}), expr.AsBool())
		if err != nil {
			first, _, _ := strings.Cut(err.Error(), "\n")
			return nil, fmt.Errorf("%w: %s", ErrCondition, first)
		}
		c.program, c.machine, c.wants = program, &vm.VM{}, wants{}
		node := program.Node()
		ast.Walk(&node, c.wants)
	}
	if len(c.Names)+len(c.Types)+len(c.Outcomes)+len(c.Clients)+len(c.Servers) == 0 && c.Under.IsZero() && c.Exactly.IsZero() && c.Within == nil && c.Asking == nil && c.ID == nil &&
		c.Slower == 0 && c.From.IsZero() && c.To.IsZero() && c.Finding == "" && c.Where == "" {
		return nil, nil
	}
	return c.matches, nil
}

func (c *Filter) matches(p *Transaction) bool {
	in := func(list []netip.Prefix, a netip.Addr) bool {
		return len(list) == 0 || slices.ContainsFunc(list, func(n netip.Prefix) bool { return n.Contains(a) })
	}
	sent := p.First.At
	switch {
	case c.Within != nil && !c.Within.Has(p.Number), !in(c.Clients, p.Client().Addr()), !in(c.Servers, p.Server().Addr()),
		len(c.Types) > 0 && !slices.Contains(c.Types, p.View().QType()),
		len(c.Outcomes) > 0 && !slices.Contains(c.Outcomes, p.Outcome()),
		c.ID != nil && p.unpackQuestion().id != *c.ID,
		c.Slower > 0 && p.Waited() < c.Slower && p.Answered(), c.Slower > 0 && !p.Answered(),
		!c.From.IsZero() && sent < c.From.UnixNano(), !c.To.IsZero() && sent > c.To.UnixNano(),
		c.Finding != "" && !slices.Contains(p.Codes, c.Finding):
		return false
	}
	text := ""
	if c.Asking != nil || len(c.patterns) > 0 || !c.Under.IsZero() || !c.Exactly.IsZero() || c.wants.any("name") {
		name, err := p.View().QName()
		if err != nil || name.IsZero() || !c.Exactly.IsZero() && !name.Equal(c.Exactly) || !c.Under.IsZero() && !name.IsSubdomainOf(c.Under) {
			return false
		}
		if c.Asking != nil && !c.Asking[name.Fold()] {
			return false
		}
		if len(c.patterns) > 0 || c.wants.any("name") {
			text = name.Fold().Spoken()
		}
	}
	if len(c.patterns) > 0 && !slices.ContainsFunc(c.patterns, func(pattern string) bool {
		ok, _ := path.Match(pattern, matched(text))
		return ok
	}) {
		return false
	}
	if c.program == nil {
		return true
	}
	result, err := c.machine.Run(c.program, p.fields(text, c.wants))
	chosen, ok := result.(bool)
	return err == nil && ok && chosen
}

func (p *Transaction) fields(name string, w wants) *Fields {
	f := &Fields{
		Number: p.Number, Time: float64(p.First.At) / 1e9, Port: int(p.Server().Port()),
		Name: name, Outcome: string(p.Outcome()), Took: p.Took().Seconds(), Waited: p.Waited().Seconds(),
		Attempts: p.Asked(), ID: int(p.unpackQuestion().id),
	}
	if w.any("client", "server") {
		f.Client, f.Server = p.Client().Addr().String(), p.Server().Addr().String()
	}
	if w.any("type") {
		f.Type = p.View().QType().String()
	}
	if w.any("transport") {
		f.Transport = string(p.Transport())
	}
	if p.Answered() && w.any("rcode", "authority", "size") {
		reply := p.unpackReply()
		f.Size = len(reply.Bytes())
		f.RCode, f.Authority = reply.Flags().RCode().String(), reply.Flags().Has(wire.AA)
	}
	if p.Answered() && w.any("values") {
		e := p.Exchange()
		f.Values = exchange.Values(e.Answer().Records)
	}
	for _, code := range p.Codes {
		if !w.any("findings") {
			break
		}
		f.FindingsOf = append(f.FindingsOf, string(code))
	}
	return f
}
