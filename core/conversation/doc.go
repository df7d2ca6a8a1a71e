// Package conversation pairs the messages of captures to exchanges, counts them and judges
// them, in one pass and in constant memory, however large the files are.
//
// How a capture flows through it:
//
//   - A [feed] reads and decodes packets in goroutines of its own, and fills chunks with the
//     DNS messages that they hold. Of each message there is one line of the processor's cache
//     (capturedMessage); the rest, its envelope, is made only when somebody looks at it.
//   - A [pairer] takes the messages in the order of the capture. A question opens a
//     [Transaction]; its reply is found by one hash of all that ties the two. Most exchanges
//     are ordinary and are settled as their reply comes: what is left of them is 64 bytes,
//     from which one is taken up again should more come of it (settled.go). What a client
//     asked before is found by [recent] tables, which forget in the order of the capture, so
//     that the same capture comes to the same in each run.
//   - When nothing more can come of a transaction it is emitted to the [Overview], which
//     counts it by name, server and client, has the judges say what is remarkable about it
//     (judge.go), and keeps it whole as an exchange.Exchange while there is room. Findings are
//     gathered in groups, a kind of trouble with one server or client each (groups.go), and
//     become sentences at the end.
//
// A transaction goes through these states: open (asked, no reply yet), answered (its reply
// came; copies and contradicting replies may still come), emitted (judged and counted), and
// revived (emitted, and taken up again since more came of it; it holds no reply then).
//
// What only later packets show of an exchange that was judged already, a second reading is
// told ([LaterFindings]); what was only counted, it can fetch. [NewStudy] is the door: it
// reads captures as often as a [Plan] takes, and no more. A [Filter] chooses exchanges by
// their fields.
package conversation
