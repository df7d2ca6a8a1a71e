package text

import (
	"encoding/hex"
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Columns of the naming of bytes: where each begins. The bytes take eight a line.
const (
	bytesColumn = 7
	fieldColumn = bytesColumn + 16 + 2
	valueColumn = fieldColumn + 16 + 1
)

// Message draws one message: what it is in a sentence, what is wrong with it,
// then every byte with its name.
func (v *View) Message(data []byte, m *wire.Message, pieces []wire.Piece, broken error, found []finding.Finding) {
	v.flow("", 0, messageSentence(data, m, broken), plainStyle)
	v.Findings("what to note", found)
	if len(found) > 0 {
		v.line()
	}
	if m.Trailing > 0 {
		v.flow("  "+severe["concern"].Render("trailing"), labelWidth, wording.Count(m.Trailing, "byte follows", "bytes follow")+" the message", plainStyle)
	}
	v.pieces(data, pieces)
}

// messageSentence is what kind of message it is, about what, and how it came out.
func messageSentence(data []byte, m *wire.Message, broken error) string {
	kind := "a question"
	if m.Flags.Has(wire.QR) {
		kind = "a reply"
	}
	if o := m.Flags.Opcode(); o != wire.OpQuery {
		kind += " of opcode " + o.String()
	}
	about := "with no question in it"
	if len(m.Questions) > 0 {
		q := m.Questions[0]
		about = "about " + nameText(q.Name) + " " + q.Type.String()
		// What a broken reply would have said cannot be known.
		if m.Flags.Has(wire.QR) && broken == nil {
			about += ": " + exchange.Judge(q, m).Words()
		}
	}
	return fmt.Sprintf("%s %s, %s", kind, about, wording.Count(len(data), "byte", "bytes"))
}

// Wire draws the bytes of each exchange's last question and its reply.
func (v *View) Wire(exchanges []*exchange.Exchange) {
	for _, e := range exchanges {
		if len(e.Attempts) == 0 {
			continue
		}
		last := e.Attempts[len(e.Attempts)-1]
		for _, side := range []struct {
			what string
			data []byte
		}{{"asked of", last.Query}, {"replied by", last.Reply}} {
			if side.data == nil {
				continue
			}
			v.WireOf(fmt.Sprintf("exchange %d, %s %s", e.Number, side.what, e.Server.Name()), side.data)
		}
	}
}

// WireOf draws the bytes of one message.
func (v *View) WireOf(title string, data []byte) {
	v.line()
	v.flow("", 0, strong.Render(title), plainStyle)
	pieces, broken := wire.Pieces(data)
	if broken != nil {
		v.flow("  "+severe["fault"].Render("broken"), labelWidth, broken.Error(), plainStyle)
	}
	v.pieces(data, pieces)
}

// pieces draws each piece as a row: offset, bytes, field, then the value and
// below it what it means.
func (v *View) pieces(data []byte, pieces []wire.Piece) {
	part := ""
	for _, p := range pieces {
		if p.Part != part {
			part = p.Part
			v.line("  ", subject.Render(part))
		}
		style := plainStyle
		if p.Field == "unread" || p.Field == "trailing bytes" {
			style = severe["fault"]
		}
		room := max(v.width-valueColumn, 24)
		said := styled(wrap(p.Value, room), style)
		switch {
		case p.Meaning == "":
		case len(p.Value)+2+len(p.Meaning) <= room:
			said[0] += "  " + quiet.Render(p.Meaning)
		default:
			said = append(said, styled(wrap(p.Meaning, room), quiet)...)
		}
		bytes := wrap(hex.EncodeToString(data[p.Offset:p.Offset+p.Length]), 16)
		fields := wrap(p.Field, valueColumn-fieldColumn-1)
		for i := range max(len(said), len(bytes), len(fields)) {
			offset := ""
			if i == 0 {
				offset = fmt.Sprintf("%5d", p.Offset)
			}
			v.line(pad(quiet.Render(offset), bytesColumn), pad(quiet.Render(at(bytes, i)), fieldColumn-bytesColumn),
				pad(at(fields, i), valueColumn-fieldColumn), at(said, i))
		}
	}
}

func styled(lines []string, style lipgloss.Style) []string {
	for i, line := range lines {
		lines[i] = style.Render(line)
	}
	return lines
}

func at(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return ""
}

func pad(s string, width int) string {
	return s + strings.Repeat(" ", max(width-ansi.StringWidth(s), 0))
}
