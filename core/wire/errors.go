package wire

import (
	"errors"
	"fmt"
)

// What can be wrong with a message or with the text of a name or record.
// A [ParseError] or [TextError] wraps one of these.
var (
	ErrShort       = errors.New("the message ends too soon")
	ErrPointer     = errors.New("compression pointer does not point back to a name")
	ErrSecondOPT   = errors.New("a message has one OPT record at most")
	ErrLabelType   = errors.New("label type is neither a length nor a pointer")
	ErrNameLong    = errors.New("name is longer than 255 bytes")
	ErrLabelLong   = errors.New("label is longer than 63 bytes")
	ErrLabelEmpty  = errors.New("empty label")
	ErrEscape      = errors.New(`escape is not \X or \DDD up to \255`)
	ErrRDataLong   = errors.New("RDATA has bytes left over")
	ErrRDataShort  = errors.New("RDATA ends too soon")
	ErrRDataSize   = errors.New("RDATA is longer than 65535 bytes")
	ErrMessageSize = errors.New("message is longer than 65535 bytes")
	ErrValue       = errors.New("value is not valid here")
	ErrMissing     = errors.New("value is missing")
	ErrSurplus     = errors.New("more values than the type has")
	ErrUnknownType = errors.New("unknown record type")
	ErrStringLong  = errors.New("string is longer than 255 bytes")
)

// ParseError says which field of a message could not be read, and at which
// byte of the message (from 0).
type ParseError struct {
	Field  string
	Offset int
	Err    error
}

func (e *ParseError) Error() string {
	return fmt.Sprintf("%s at byte %d: %v", e.Field, e.Offset, e.Err)
}

func (e *ParseError) Unwrap() error { return e.Err }

// TextError says which word of a record's text could not be read. Word counts
// from 0 within the RDATA's words; it is the number of words when one is missing.
type TextError struct {
	Field string
	Word  int
	Err   error
}

func (e *TextError) Error() string { return fmt.Sprintf("%s: %v", e.Field, e.Err) }

func (e *TextError) Unwrap() error { return e.Err }
