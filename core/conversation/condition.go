package conversation

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// ErrCondition says that a condition cannot be understood.
var ErrCondition = errors.New("not a condition")

// ConditionError is what is wrong with a condition, and where. It unwraps to ErrCondition.
type ConditionError struct {
	At   int // character, from 1
	Says string
}

func (e *ConditionError) Error() string {
	return fmt.Sprintf("%s: at character %d, %s", ErrCondition, e.At, e.Says)
}

func (e *ConditionError) Unwrap() error { return ErrCondition }

// condition is a condition that was understood.
type condition struct {
	test     func(*Transaction) bool
	findings bool // it depends on what later packets may show
}

// ConditionGrammar is how conditions are written (ISO/IEC 14977), rule by rule.
var ConditionGrammar = [][2]string{
	{"condition", `both, { "or", both } ;`},
	{"both", `part, { "and", part } ;`},
	{"part", `"not", part | "(", condition, ")" | test ;`},
	{"test", `field, ( "=" | "!=" | "<" | "<=" | ">" | ">=" | "under" | "like" | "before" | "after" ), value | field, "in", ( network | "(", value, { ",", value }, ")" ) | "has", "finding", code | "is", "authoritative" ;`},
}

// parseCondition reads a condition, as [ConditionGrammar] has it. The error is a [*ConditionError].
func parseCondition(text string) (*condition, error) {
	c := &conditionParser{text: text}
	if err := c.split(); err != nil {
		return nil, err
	}
	test, err := c.condition()
	if err == nil && c.next < len(c.words) {
		err = c.fail(fmt.Sprintf("%q stands where and, or, or the end belongs", c.peek().text))
	}
	if err != nil {
		return nil, err
	}
	return &condition{test, c.findings}, nil
}

// word is one word of a condition.
type word struct {
	text   string
	at     int // character, from 1
	quoted bool
}

// conditionParser reads a condition, and holds what its tests use at each exchange.
type conditionParser struct {
	text     string
	words    []word
	next     int
	depth    int
	findings bool

	buffer []byte
	reader wire.Reader
	answer exchange.Answer
	said   exchange.Said
}

// Bounds on conditions.
const (
	maxConditionWords = 1000
	maxConditionDepth = 100
)

// split cuts a condition into words: at blanks, and around brackets, commas and comparisons. A word in
// quotes stands as it is.
func (c *conditionParser) split() error {
	for at := 0; at < len(c.text); {
		end := at + 1
		w := word{at: at + 1}
		switch b := c.text[at]; {
		case b == ' ' || b == '\t' || b == '\n' || b == '\r':
			at++
			continue
		case b == '"':
			for end < len(c.text) && c.text[end] != '"' {
				end++
			}
			if end == len(c.text) {
				return &ConditionError{at + 1, "a quotation mark is never closed"}
			}
			w.text, w.quoted = c.text[at+1:end], true
			end++
		case strings.IndexByte("(),", b) >= 0:
			w.text = c.text[at:end]
		case strings.IndexByte(comparing, b) >= 0:
			for end < len(c.text) && strings.IndexByte(comparing, c.text[end]) >= 0 {
				end++
			}
			w.text = c.text[at:end]
		default:
			for end < len(c.text) && strings.IndexByte(" \t\n\r\"(),"+comparing, c.text[end]) < 0 {
				end++
			}
			w.text = c.text[at:end]
		}
		if c.words = append(c.words, w); len(c.words) > maxConditionWords {
			return &ConditionError{at + 1, "it has more words than are read"}
		}
		at = end
	}
	return nil
}

const comparing = "=!<>&|"

// instead are comparisons that are written otherwise here.
var instead = map[string]string{"==": "=", "<>": "!=", "=<": "<=", "=>": ">=", "&&": "and", "||": "or", "&": "and", "|": "or", "!": "not"}

func (c *conditionParser) peek() word {
	if c.next < len(c.words) {
		return c.words[c.next]
	}
	return word{at: len(c.text) + 1}
}

func (c *conditionParser) take() word {
	w := c.peek()
	c.next++
	return w
}

// is takes the next word if it is this one.
func (c *conditionParser) is(text string) bool {
	if w := c.peek(); w.quoted || !strings.EqualFold(w.text, text) || w.text == "" {
		return false
	}
	c.next++
	return true
}

func (c *conditionParser) fail(says string) error { return c.failAt(c.peek(), says) }

func (c *conditionParser) failAt(w word, says string) error { return &ConditionError{w.at, says} }

func (c *conditionParser) condition() (func(*Transaction) bool, error) {
	first, err := c.both()
	for err == nil && c.is("or") {
		var second func(*Transaction) bool
		if second, err = c.both(); err == nil {
			one := first
			first = func(p *Transaction) bool { return one(p) || second(p) }
		}
	}
	return first, err
}

func (c *conditionParser) both() (func(*Transaction) bool, error) {
	first, err := c.part()
	for err == nil && c.is("and") {
		var second func(*Transaction) bool
		if second, err = c.part(); err == nil {
			one := first
			first = func(p *Transaction) bool { return one(p) && second(p) }
		}
	}
	return first, err
}

func (c *conditionParser) part() (func(*Transaction) bool, error) {
	if c.depth++; c.depth > maxConditionDepth {
		return nil, c.fail("it is nested too deeply")
	}
	defer func() { c.depth-- }()
	switch {
	case c.is("not"):
		test, err := c.part()
		return func(p *Transaction) bool { return !test(p) }, err
	case c.is("("):
		test, err := c.condition()
		if err == nil && !c.is(")") {
			err = c.fail("a bracket is not closed")
		}
		return test, err
	case c.is("has"):
		return c.hasFinding()
	case c.is("is"):
		if !c.is("authoritative") {
			return nil, c.fail("is takes one word: is authoritative")
		}
		return func(p *Transaction) bool { v, ok := p.ReplyView(); return ok && v.Flags().Has(wire.AA) }, nil
	}
	return c.test()
}

func (c *conditionParser) hasFinding() (func(*Transaction) bool, error) {
	if !c.is("finding") {
		return nil, c.fail("has is followed by finding and a code: has finding slow")
	}
	w := c.take()
	code := finding.Code(strings.ToLower(w.text))
	if _, known := finding.Of(code); !known {
		return nil, c.failAt(w, c.unknown(w, "the code of a finding", finding.Codes()))
	}
	c.findings = true
	return func(p *Transaction) bool { return slices.Contains(p.Codes, code) }, nil
}

// unknown says that a word is not what belongs there.
func (c *conditionParser) unknown(w word, what string, among []string) string {
	if w.text == "" {
		return "it ends where " + what + " belongs"
	}
	return fmt.Sprintf("%q is not %s", w.text, what) + wording.OrNearest(w.text, among)
}

func (c *conditionParser) test() (func(*Transaction) bool, error) {
	w := c.take()
	at := slices.IndexFunc(Fields, func(f Field) bool { return !w.quoted && strings.EqualFold(f.Name, w.text) })
	if at < 0 {
		all := []string{"not", "has", "is"}
		for i := range Fields {
			all = append(all, Fields[i].Name)
		}
		if meant := instead[w.text]; meant != "" {
			return nil, c.failAt(w, fmt.Sprintf("%q is written %s here", w.text, meant))
		}
		return nil, c.failAt(w, c.unknown(w, "a field", all))
	}
	f := &Fields[at]
	operator := c.take()
	allowed := strings.Fields(f.kind.operators)
	if f.kind.test == nil {
		return nil, c.failAt(operator, fmt.Sprintf("%s is asked for like this: %s", f.Name, f.Example))
	}
	if !slices.Contains(allowed, strings.ToLower(operator.text)) || operator.quoted {
		says := fmt.Sprintf("%s is followed by %s", f.Name, wording.Either(allowed))
		if meant := instead[operator.text]; slices.Contains(allowed, meant) {
			says = fmt.Sprintf("%q is written %s here", operator.text, meant)
		}
		return nil, c.failAt(operator, says)
	}
	op := strings.ToLower(operator.text)
	if op != "in" || f.kind == hosts && !(c.peek().text == "(" && !c.peek().quoted) {
		return c.compared(f, op)
	}
	if !c.is("(") {
		return nil, c.fail(fmt.Sprintf("in takes a list in brackets, as in %s in (a, b)", f.Name))
	}
	var any []func(*Transaction) bool
	for {
		op := "="
		if f.kind == hosts {
			op = "in"
		}
		one, err := c.compared(f, op)
		if err != nil {
			return nil, err
		}
		any = append(any, one)
		if c.is(")") {
			break
		}
		if !c.is(",") {
			return nil, c.fail("a comma or the closing bracket belongs here")
		}
	}
	return func(p *Transaction) bool {
		return slices.ContainsFunc(any, func(test func(*Transaction) bool) bool { return test(p) })
	}, nil
}

// compared reads a value and compares a field with it.
func (c *conditionParser) compared(f *Field, operator string) (func(*Transaction) bool, error) {
	value := c.take()
	if value.text == "" && !value.quoted || !value.quoted && strings.ContainsAny(value.text, "()"+comparing) {
		return nil, c.failAt(value, fmt.Sprintf("a value belongs here, as in %s", f.Example))
	}
	return f.kind.test(c, f, operator, value)
}
