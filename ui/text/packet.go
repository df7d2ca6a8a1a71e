package text

import (
	"fmt"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Packet draws one packet of a capture: what it is in a sentence, its headers, the message
// in it, and of which exchanges it is a part. everyByte names all of its bytes, as is done
// of one that cannot be read anyway.
func (v *View) Packet(l *conversation.WholePacket, of []*exchange.Exchange, everyByte bool) {
	m := read(l.Message)
	unreadable := l.Fault != nil || l.Message != nil && m.broken != nil
	v.flow("", 0, fmt.Sprintf("packet %d%s: %s", l.Record.Number, ends(l), packetSentence(l, &m)), plainStyle)
	v.line()
	v.packetRows(l)
	if len(of) == 0 && l.Message != nil && m.broken == nil && l.Report == nil {
		v.row("part of", "no exchange in the capture")
	}
	title := "part of"
	if l.Contents == capture.Segment {
		title = "ends of"
	}
	for i, e := range of {
		if i == maxPartOf {
			v.row("", fmt.Sprintf("and %d more", len(of)-i))
			break
		}
		v.row(title, fmt.Sprintf("exchange %d: %s", e.Number, exchangeSentence(e)))
		title = ""
	}
	if l.Message != nil && m.broken == nil {
		v.sections(&m.Message, l.Multicast())
	}
	if everyByte || unreadable {
		v.line()
		v.packetBytes(l)
	}
}

// maxPartOf is how many of the exchanges over one connection are listed.
const maxPartOf = 10

// ends are whom a packet is from and to.
func ends(l *conversation.WholePacket) string {
	if !l.From.IsValid() || l.Report != nil {
		return ""
	}
	return fmt.Sprintf(", %s to %s", l.From.Addr(), l.To.Addr())
}

// packetSentence is what a packet holds.
func packetSentence(l *conversation.WholePacket, m *reading) string {
	switch {
	case l.Fault != nil && len(l.Record.Data) < l.Record.Length:
		return severe["fault"].Render(fmt.Sprintf("it cannot be read, because the capture cut it off: %v", l.Fault))
	case l.Fault != nil:
		return severe["fault"].Render(fmt.Sprintf("it cannot be read: %v", l.Fault))
	case l.Report != nil:
		return fmt.Sprintf("%s reports that a packet from %s did not reach %s: %s", l.Report.By, l.From.Addr(), l.To.Addr(), l.Report.Says)
	case l.Message != nil && m.broken != nil && l.Cut:
		return severe["fault"].Render(fmt.Sprintf("the capture has only part of its message: %v", m.broken))
	case l.Message != nil && m.broken != nil:
		return severe["fault"].Render(fmt.Sprintf("its message cannot be read: %v", m.broken))
	case l.Message != nil:
		return messageSentence(l.Message, &m.Message, nil)
	}
	switch l.Contents {
	case capture.Datagram:
		return "a UDP datagram that is not expected to be a DNS message"
	case capture.Segment:
		return fmt.Sprintf("a TCP segment with %s of its stream", wording.Count(len(l.Payload), "byte", "bytes"))
	case capture.Fragment:
		return "a fragment of a datagram that is not complete yet"
	case capture.Unknown:
		return fmt.Sprintf("of link type %d, which is not supported", l.Record.Link)
	}
	return "neither UDP nor TCP, nor an error about one of them"
}

// packetRows are the headers of a packet and of its message in words.
func (v *View) packetRows(l *conversation.WholePacket) {
	r := &l.Record
	size := wording.Count(len(r.Data), "byte", "bytes")
	if len(r.Data) < r.Length {
		size = fmt.Sprintf("%d of its %d bytes", len(r.Data), r.Length)
	}
	when := "at a time that the file does not give"
	if at := r.Time(); !at.IsZero() {
		when = at.Format("2006-01-02 15:04:05.000000") + " UTC"
	}
	v.row("captured", when+"; "+size)
	for _, layer := range l.Layers {
		v.row(layer.Name, layerWords(layer))
	}
	if len(r.Comment) > 0 {
		v.row("comment", wire.Escape(string(evidence.Remark(r.Comment))))
	}
	if l.Message == nil {
		return
	}
	m := read(l.Message)
	for _, row := range messageRows {
		v.row(row.title, row.words(&m))
	}
}

// packetBytes draws all bytes of a packet, each header as one piece, and those of the
// message in it by their fields.
func (v *View) packetBytes(l *conversation.WholePacket) {
	data := l.Record.Data
	var pieces []wire.Piece
	next := 0
	piece := func(to int, name, words string) {
		if to > next {
			pieces = append(pieces, wire.Piece{Offset: next, Length: to - next, Part: "packet", Field: name, Value: words})
			next = to
		}
	}
	for _, layer := range l.Layers {
		if layer.Offset >= next && layer.Size > 0 {
			piece(layer.Offset, "not named", "")
			piece(layer.Offset+layer.Size, layer.Name, layerWords(layer))
		}
	}
	if l.Fault != nil {
		piece(l.Fault.Offset, "not named", "")
		piece(len(data), "unread", l.Fault.Error())
	}
	if l.At >= next {
		piece(l.At, "not named", "")
		if l.Message != nil {
			next += len(l.Message)
		} else {
			piece(l.At+len(l.Payload), "payload", "")
		}
	}
	piece(len(data), "behind it", "")
	v.pieces(data, pieces)
	if l.Message == nil {
		return
	}
	where := ", which begins at byte " + fmt.Sprint(l.At)
	if l.At < 0 {
		where = ", put together from fragments"
	}
	v.line()
	v.line(strong.Render("the message in it"), where)
	named, _ := wire.Pieces(l.Message)
	v.pieces(l.Message, named)
}
