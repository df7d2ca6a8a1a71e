// Package wire reads and writes DNS messages (RFC 1035 §4) and the text of
// their records (RFC 1035 §5.1).
//
// [View] reads a message in place and allocates nothing: use it on captures.
// [Message] owns what it holds: use it to ask and to answer. [Pieces] names
// every byte of a message for a person. None of them panics on any input.
//
// A record type is one row of one table (types.go); reading, writing, text,
// JSON and the naming of bytes all walk that row.
package wire
