// Package zonefile reads and writes master files (RFC 1035 §5, with $TTL of RFC
// 2308 §4, the generic forms of RFC 3597, and service bindings of RFC 9460).
//
// Reading streams: memory does not grow with the file. A record that cannot be
// read is told with its file, line and column, and reading goes on after it.
package zonefile

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"

	"unquil/core/wire"
)

// What can be wrong with a master file, besides what [wire.TextError] says of
// a record's own fields.
var (
	ErrQuote     = errors.New("a quoted string is not closed on its line")
	ErrParen     = errors.New("parentheses do not match")
	ErrOwner     = errors.New("the first record has no owner name")
	ErrNoType    = errors.New("record type is missing")
	ErrNoTTL     = errors.New("no TTL: neither here, nor in $TTL, nor before")
	ErrDirective = errors.New("directive is not known here")
	ErrInclude   = errors.New("no other file may be read from here")
	ErrDepth     = errors.New("files include each other more than 8 deep")
	ErrLong      = errors.New("entry is longer than 1 MiB")
	ErrClass     = errors.New("class differs from that of the records before")
)

// Error says what is wrong in a master file, and where. Line and Column count
// from 1; the column is in bytes.
type Error struct {
	File         string
	Line, Column int
	Field        string // as the record type's document names it, or "owner", "TTL", …
	Err          error
}

func (e *Error) Error() string {
	return fmt.Sprintf("%s line %d column %d: %s: %v", e.File, e.Line, e.Column, e.Field, e.Err)
}

func (e *Error) Unwrap() error { return e.Err }

// Options says how to read a master file. The zero value is ready to use.
type Options struct {
	File    string    // the name that errors give; "" means "master file"
	Origin  wire.Name // of relative names until $ORIGIN; the zero Name means the root
	Include fs.FS     // the folder that $INCLUDE may read from; nil: none
}

// maxDepth is how deep files may include each other.
const maxDepth = 8

// Records yields the records in file order, those of included files in their
// place. An error comes with a zero Record and is an *Error when reading goes on
// after it; the error of r itself comes last. Range over it once.
func Records(r io.Reader, o Options) iter.Seq2[wire.Record, error] {
	return func(yield func(wire.Record, error) bool) {
		newParser(r, o).all(yield)
	}
}

// maxErrors is how many errors of one file [Read] keeps.
const maxErrors = 50

// Read returns all records of a master file. The error joins what Records
// would give, up to the first 50; the records that could be read are returned
// with it.
func Read(r io.Reader, o Options) ([]wire.Record, error) {
	var records []wire.Record
	var errs []error
	for record, err := range Records(r, o) {
		if err == nil {
			records = append(records, record)
		} else if errs = append(errs, err); len(errs) == maxErrors {
			break
		}
	}
	return records, errors.Join(errs...)
}

// Write writes records as a master file that reads back to the same records in
// the same order: one a line, names absolute. The error is the writer's.
func Write(w io.Writer, records iter.Seq[wire.Record]) error {
	out := bufio.NewWriterSize(w, 64<<10)
	var line []byte
	for r := range records {
		line = append(r.Append(line[:0]), '\n')
		if _, err := out.Write(line); err != nil {
			return err
		}
	}
	return out.Flush()
}
