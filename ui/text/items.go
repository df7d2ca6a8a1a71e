package text

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/sequence"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Drawn is what draw draws, line by line.
func Drawn(width int, colour Colour, draw func(v *View)) []string {
	var out bytes.Buffer
	draw(New(&out, width, colour, nil))
	if out.Len() == 0 {
		return nil
	}
	return strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
}

// item draws one item of a list: cut to a line, or whole.
func (v *View) item(lead string, indent int, text string, whole bool) {
	if whole {
		v.flow(lead, indent, text, plainStyle)
		return
	}
	v.line(cut(pad(lead, indent)+text, v.room()))
}

// FindingItem draws a finding; whole: with what shows it and what to do.
func (v *View) FindingItem(f *finding.Finding, whole bool) {
	const indent = 9
	v.item(severe[f.Severity].Render(string(f.Severity)), indent, f.Text, whole)
	if !whole {
		return
	}
	detail := string(f.Code)
	if n := len(f.Evidence); n > 0 {
		detail += "; evidence: " + wording.Exchanges(f.Evidence[:min(n, maxNumbers)])
		if n > maxNumbers {
			detail += fmt.Sprintf(" and %d more", n-maxNumbers)
		}
	}
	v.flow("", indent, detail, quiet)
	if f.Severity != finding.Note {
		v.flow("", indent, "next: "+f.Next, plainStyle)
	}
}

// maxNumbers is how many exchanges a finding of a list names.
const maxNumbers = 12

// ExchangeItem draws an exchange of a capture; whole: with what it has to do with. A marked one
// is to be written, and note is what somebody noted about it.
func (v *View) ExchangeItem(e *exchange.Exchange, line conversation.Line, marked bool, note string, whole bool) {
	lead := fmt.Sprintf("%7s  ", wording.Number(e.Number))
	if marked {
		lead = good.Render("*") + lead[1:]
	} else {
		lead = quiet.Render(lead)
	}
	noted := ""
	if note != "" && !whole {
		noted = good.Render("noted ")
	}
	text := fmt.Sprintf("%s  %s%s: %s %s", e.Sent().Format(clock), noted, e.Asked(), resultWords(e), quiet.Render(fmt.Sprintf("(%s queried %s)", e.Client.Addr(), e.Server.Name())))
	v.item(lead, 9, text, whole)
	if !whole {
		return
	}
	for _, words := range relatedWords(line) {
		v.flow("", 9, words, quiet)
	}
	if len(line.Codes) > 0 {
		var words []string
		for _, code := range line.Codes {
			if !slices.Contains(words, string(code)) {
				words = append(words, string(code))
			}
		}
		v.flow("", 9, "findings: "+strings.Join(words, ", "), quiet)
	}
	if note != "" {
		v.flow("", 9, "note: "+note, good)
	}
}

// Unfetched draws an exchange that is still to be read.
func (v *View) Unfetched(number int) {
	v.line(quiet.Render(fmt.Sprintf("%7s  …", wording.Number(number))))
}

// StatItem draws a name, server or client with its counts; peers are those on the other side.
func (v *View) StatItem(r conversation.Row, peers string, whole bool) {
	s := r.Stat
	failed := fmt.Sprintf("%9s failed", wording.Number(s.Failed))
	if s.Failed > 0 {
		failed = severe[finding.Fault].Render(failed)
	}
	counts := fmt.Sprintf("%9s asked ", wording.Number(s.Exchanges)) + failed
	median := ""
	if s.Latency.Count() > 0 {
		median = fmt.Sprintf("%9s median", wording.Span(s.Latency.Quantile(50)))
	}
	key := r.Key
	if r.Host != "" {
		key += " " + r.Host
	}
	room := max(v.width-16-16-17, 12)
	if v.Linear {
		v.line(key + ": " + strings.Join(strings.Fields(ansi.Strip(counts+" "+median)), " "))
	} else {
		v.line(cut(pad(cut(key, room), room)+counts+median, v.room()))
	}
	if !whole {
		return
	}
	if cut(key, room) != key && !v.Linear {
		v.flow("", 2, key, plainStyle)
	}
	words := []string{fmt.Sprintf("%s with no such name", wording.Number(s.NoName)), wording.Count(s.Peers(), strings.TrimSuffix(peers, "s"), peers)}
	if s.Latency.Count() > 0 {
		words = append(words, fmt.Sprintf("95th percentile %s, longest %s", wording.Span(s.Latency.Quantile(95)), wording.Span(s.Latency.Max)))
	}
	if s.HasCache() {
		words = append(words, "a cache: its TTLs count down")
	}
	v.flow("", 2, strings.Join(words, "; "), quiet)
}

// EpisodeItem draws what a client asked in one go.
func (v *View) EpisodeItem(p *sequence.Episode, whole bool) {
	failed := ""
	if p.Failed > 0 {
		failed = ", " + severe[finding.Fault].Render(fmt.Sprintf("%d failed", p.Failed))
	}
	about := ""
	if len(p.Asked) > 0 {
		about = ", first " + p.Asked[0].Exchange.Asked()
	}
	v.item("", 0, fmt.Sprintf("%s  %s sent %s%s%s", p.Begins.Format(clock), subject.Render(p.Client.String()), wording.Count(len(p.Asked), "query", "queries"), failed, about), whole)
	if whole && p.Took > 0 {
		v.flow("", 14, "within "+wording.Span(p.Took), quiet)
	}
}

// WalkItem draws a walk of a resolver.
func (v *View) WalkItem(p *sequence.ResolverWalk, whole bool) {
	end := good.Render("reaches " + resultWords(p.Last()))
	if !p.Ended() {
		end = severe[finding.Fault].Render("stops at "+p.Last().Server.Name()+": ") + resultWords(p.Last())
	}
	v.item("", 0, fmt.Sprintf("%s  %s %s", p.Begins.Format(clock), subject.Render(p.Question.Spoken()), end), whole)
	if whole {
		v.flow("", 14, fmt.Sprintf("by %s, %s, %s in all", p.Resolver, wording.Count(len(p.Steps), "step", "steps"), wording.Span(p.Took)), quiet)
	}
}

// LocalItem draws a name of the local link.
func (v *View) LocalItem(n *conversation.LocalName, whole bool) {
	claims := "nobody claims it"
	if len(n.Claims) > 0 {
		var hosts []string
		for _, c := range n.Claims {
			hosts = append(hosts, c.Host.String())
		}
		slices.Sort(hosts)
		claims = "claimed by " + strings.Join(slices.Compact(hosts), ", ")
	}
	v.item("", 0, fmt.Sprintf("%s  asked %s, %s", subject.Render(n.Name.Spoken()), wording.Count(n.Asked, "time", "times"), claims), whole)
	if !whole {
		return
	}
	for _, c := range n.Claims {
		v.flow("  "+c.Host.String(), 20, fmt.Sprintf("says %s (packet %d, %s)", strings.Join(c.Values, ", "), c.Packet, wording.Count(c.Times, "time", "times")), quiet)
	}
}

// SlotItem draws a span of time, with a bar as long as its share of the most.
func (v *View) SlotItem(begins time.Time, s conversation.Slot, most int) {
	text := fmt.Sprintf("%s  %9s asked", begins.UTC().Format(clock), wording.Number(s.Asked))
	if s.Failed > 0 {
		text += severe[finding.Fault].Render(fmt.Sprintf("%9s failed", wording.Number(s.Failed)))
	} else {
		text += strings.Repeat(" ", 16)
	}
	room := max(v.width-48, 4)
	v.line(cut(text+"  "+good.Render(strings.Repeat("▇", (s.Asked*room+most-1)/max(most, 1))), v.room()))
}

// Heading draws a line above an item.
func (v *View) Heading(text string) { v.line(cut(strong.Render(text), v.room())) }

// PieceItem draws some bytes of a packet or message with their name; whole: with all of them,
// and what they mean.
func (v *View) PieceItem(p wire.Piece, data []byte, whole bool) {
	bytes := hex.EncodeToString(data[p.Offset : p.Offset+p.Length])
	style := plainStyle
	if p.Field == "unread" || p.Field == "trailing bytes" {
		style = severe[finding.Fault]
	}
	v.line(cut(pad(quiet.Render(fmt.Sprintf("%5d", p.Offset)), bytesColumn)+pad(quiet.Render(cut(bytes, 16)), fieldColumn-bytesColumn)+
		pad(cut(p.Field, valueColumn-fieldColumn-1), valueColumn-fieldColumn)+style.Render(p.Value), v.room()))
	if !whole {
		return
	}
	if len(bytes) > 16 {
		for i, line := range wrap(bytes, max(v.width-bytesColumn, 16)) {
			if i == maxHexLines {
				v.flow("", bytesColumn, "…", quiet)
				break
			}
			v.flow("", bytesColumn, line, quiet)
		}
	}
	where := "byte " + fmt.Sprint(p.Offset)
	if p.Length > 1 {
		where = fmt.Sprintf("bytes %d to %d", p.Offset, p.Offset+p.Length-1)
	}
	v.flow("", bytesColumn, fmt.Sprintf("%s: %s, %s", p.Part, p.Field, where), lipgloss.NewStyle().Bold(true))
	if ansi.StringWidth(p.Value) > v.width-valueColumn {
		v.flow("", bytesColumn, p.Value, style)
	}
	if p.Meaning != "" {
		v.flow("", bytesColumn, p.Meaning, plainStyle)
	}
}

// maxHexLines is how many lines of bytes an item shows.
const maxHexLines = 6

// PacketPieces are all bytes of a packet by name: the headers a piece each, the message in it
// field by field. The bytes are those of the packet, or those of the message where it was put
// together from several.
func PacketPieces(l *conversation.WholePacket) (data []byte, pieces []wire.Piece) {
	if l.Message != nil && l.At < 0 {
		pieces, _ = wire.Pieces(l.Message)
		return l.Message, pieces
	}
	data = l.Record.Data
	next := 0
	add := func(to int, part, name, words string) {
		if to = min(to, len(data)); to > next {
			pieces = append(pieces, wire.Piece{Offset: next, Length: to - next, Part: part, Field: name, Value: words})
			next = to
		}
	}
	for _, layer := range l.Layers {
		if layer.Offset >= next && layer.Size > 0 {
			add(layer.Offset, "packet", "not named", "")
			add(layer.Offset+layer.Size, "header", layer.Name, layerWords(layer))
		}
	}
	if l.Message != nil && l.At >= next {
		add(l.At, "packet", "not named", "")
		named, _ := wire.Pieces(l.Message)
		for _, p := range named {
			p.Offset += l.At
			pieces = append(pieces, p)
		}
		next = l.At + len(l.Message)
	}
	name := "behind it"
	if l.Message == nil {
		name = "payload"
	}
	add(len(data), "packet", name, "")
	return data, pieces
}

// HostOf is the address that a row of servers or clients is about; the zero Addr for a name.
func HostOf(r conversation.Row) netip.Addr {
	text, _, _ := strings.Cut(r.Key, "#")
	a, _ := netip.ParseAddr(text)
	return a
}

// Noted draws what somebody noted.
func (v *View) Noted(note string) {
	v.line()
	v.flow("  "+good.Render("note"), labelWidth, note, plainStyle)
}

// Rows draws labelled rows, the labels as wide as the widest of them.
func (v *View) Rows(rows [][2]string) {
	widest := 0
	for _, row := range rows {
		widest = max(widest, len([]rune(row[0])))
	}
	for _, row := range rows {
		v.flow("  "+strong.Render(row[0]), widest+4, row[1], plainStyle)
	}
}
