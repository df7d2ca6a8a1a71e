package page

import (
	"fmt"
	"html"
	"html/template"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wording"
)

// svg collects the parts of a picture. Its colours are classes of the style sheet,
// so that they fit a light page, a dark one and paper.
type svg struct {
	b             strings.Builder
	width, height int
}

func (s *svg) line(class string, x1, y1, x2, y2 int) {
	fmt.Fprintf(&s.b, `<line class="%s" x1="%d" y1="%d" x2="%d" y2="%d"/>`, class, x1, y1, x2, y2)
}

// text writes text at a place; what is longer than most characters is cut, and told
// whole to who points at it.
func (s *svg) text(class string, x, y, most int, text string) {
	shown, title := text, ""
	if runes := []rune(text); len(runes) > most {
		shown, title = string(runes[:most-1])+"…", "<title>"+html.EscapeString(text)+"</title>"
	}
	fmt.Fprintf(&s.b, `<text class="%s" x="%d" y="%d">%s%s</text>`, class, x, y, html.EscapeString(shown), title)
}

func (s *svg) circle(class string, x, y, r int) {
	fmt.Fprintf(&s.b, `<circle class="%s" cx="%d" cy="%d" r="%d"/>`, class, x, y, r)
}

func (s *svg) cross(x, y int) {
	s.line("bad", x-4, y-4, x+4, y+4)
	s.line("bad", x-4, y+4, x+4, y-4)
}

func (s *svg) picture(label string) template.HTML {
	return template.HTML(fmt.Sprintf(`<svg role="img" aria-label="%s" viewBox="0 0 %d %d" width="%d" height="%d">%s</svg>`,
		html.EscapeString(label), s.width, s.height, s.width, s.height, s.b.String()))
}

// stances are what a server's reply makes of it, in words.
var stances = map[delegation.Stance]string{
	delegation.Refers: "refers further down", delegation.LameRefuses: "refuses the zone", delegation.LameElsewhere: "refers elsewhere",
	delegation.LameNoAuthority: "answers without authority", delegation.NotAsked: "was not asked",
}

// walkPicture draws a walk as a tree from the root down: a node for each zone, its
// servers below it, and a mark where it breaks.
func walkPicture(w *delegation.Walk) template.HTML {
	const row, step, left, textWidth = 20, 26, 20, 92
	s := &svg{width: 800}
	y, depth := 24, 0
	lastY := 0
	for i, zone := range w.Steps {
		if i > 0 && !w.Steps[i-1].Child.Equal(zone.Zone) {
			if !zone.Name.Equal(w.Steps[i-1].Name) {
				depth, lastY = 0, 0
				s.text("quiet", left, y, textWidth, "the alias leads on to "+zone.Name.Spoken())
				y += row + 6
			} else {
				depth = max(depth-1, 0)
			}
		}
		x := left + depth*step
		if lastY > 0 {
			s.line("way", x-step, lastY, x-step, y-4)
			s.line("way", x-step, y-4, x, y-4)
		}
		class, title := "good", zone.Zone.Spoken()
		if zone.Zone.IsRoot() {
			title = ". (the root)"
		}
		if zone.Given {
			title = "where the walk begins"
		}
		if zone.Chosen == nil {
			class, title = "bad", title+": it stops here"
		}
		trust, words := trustWords(w, zone.Zone, i == len(w.Steps)-1)
		if trust == "bad-text" {
			class = "bad"
		}
		s.circle(class, x, y-4, 6)
		s.text("strong "+class+"-text", x+14, y, textWidth-2*depth, title)
		lastY = y - 4
		y += row
		if words != "" {
			s.text("small "+trust, x+14, y, textWidth+16-3*depth, words)
			y += row - 2
		}
		for _, server := range serversOf(w, zone) {
			if server.bad {
				s.cross(x+20, y-4)
				s.text("small bad-text", x+32, y, textWidth+12-3*depth, server.text)
			} else {
				s.circle("dot", x+20, y-4, 2)
				s.text("small", x+32, y, textWidth+12-3*depth, server.text)
			}
			y += row - 3
		}
		if n := zone.Spared(); n > 0 {
			s.text("small quiet", x+32, y, textWidth+12-3*depth, wording.Count(n, "more address was not asked: a few will do", "more addresses were not asked: a few will do"))
			y += row - 3
		}
		y += 8
		depth++
	}
	s.height = y + 4
	return s.picture("The way from the root, zone by zone")
}

// drawnServer is one server of a zone in the picture, or many that say the same.
type drawnServer struct {
	text string
	bad  bool
}

// foldFrom is from how many servers on those that say the same are drawn as one.
const foldFrom = 7

// serversOf are the servers that were asked in a step, those that say the same as one where there are many.
func serversOf(w *delegation.Walk, zone *delegation.Step) (all []drawnServer) {
	alike := map[string]int{}
	says := make([]string, len(zone.Replies))
	for i, r := range zone.Replies {
		words := stances[r.Stance]
		switch {
		case r.Stance == delegation.Answers:
			words = "says " + said(r.Exchange)
		case words == "" && r.Exchange != nil:
			words = string(r.Exchange.Outcome)
		case r.Stance == delegation.NotAsked:
			words += ": " + r.Why
		}
		says[i] = words
		bad := blamed(w, zone, r)
		server := drawnServer{bad: bad != "" && r.Stance.Usable() || !r.Stance.Usable() && r.Stance != delegation.NotAsked}
		if bad != "" && r.Stance.Usable() {
			words += ": " + bad
		}
		address := ""
		if r.Address.IsValid() {
			address = " " + r.Address.String()
		}
		if server.text = r.Host.Spoken() + address + ": " + words; !server.bad {
			alike[says[i]]++
		}
		all = append(all, server)
	}
	var folded []drawnServer
	told := map[string]bool{}
	for i, server := range all {
		switch n := alike[says[i]]; {
		case server.bad || n < foldFrom:
			folded = append(folded, server)
		case !told[says[i]]:
			told[says[i]] = true
			folded = append(folded, drawnServer{text: fmt.Sprintf("%d server addresses, each: %s", n, says[i])})
		}
	}
	return folded
}

// blamed is the code of a fault that the walk found with a server that answers; ""
// without one.
func blamed(w *delegation.Walk, s *delegation.Step, r *delegation.Reply) string {
	for _, f := range w.Findings {
		if f.Severity == finding.Fault && f.About.Zone == s.Zone.String() && f.About.Server == r.Host.String() && f.About.Address == r.Address.String() {
			return string(f.Code)
		}
	}
	return ""
}

// ladder draws exchanges between the asker and those asked, from top to bottom in
// the order of time. It returns how many there was no room for.
func ladder(exchanges []*exchange.Exchange, evidence, shown map[int]bool) (picture template.HTML, left int) {
	const row, top, room, most = 34, 56, 270, 920
	var lanes []string
	var drawn []*exchange.Exchange
	byTime := slices.Clone(exchanges)
	slices.SortStableFunc(byTime, func(a, b *exchange.Exchange) int { return a.Sent().Compare(b.Sent()) })
	for _, wanted := range []bool{true, false} { // there is room for the evidence first
		for _, e := range byTime {
			if evidence[e.Number] != wanted {
				continue
			}
			known := slices.Contains(lanes, e.Server.Name())
			if e.Sent().IsZero() || len(drawn) == maxLadder || !known && len(lanes) == maxLanes {
				left++
				continue
			}
			if !known {
				lanes = append(lanes, e.Server.Name())
			}
			drawn = append(drawn, e)
		}
	}
	if len(drawn) == 0 {
		return "", left
	}
	slices.SortStableFunc(drawn, func(a, b *exchange.Exchange) int { return a.Sent().Compare(b.Sent()) })
	first := map[string]int{}
	for i, e := range drawn {
		if _, known := first[e.Server.Name()]; !known {
			first[e.Server.Name()] = i
		}
	}
	slices.SortFunc(lanes, func(a, b string) int { return first[a] - first[b] })
	laneWidth := min(max((most-room)/len(lanes), 80), 150)
	s := &svg{width: room + laneWidth*len(lanes) + 50, height: top + row*len(drawn) + 20}
	x := func(lane int) int { return room + laneWidth*lane + laneWidth/2 }
	s.text("strong", 96, 20, 20, "asker")
	s.line("lane", 110, 30, 110, s.height-10)
	for i, name := range lanes {
		s.text("small strong", x(i)-laneWidth/2, 20+16*(i%2), laneWidth/4, name)
		s.line("lane", x(i), 42, x(i), s.height-10)
	}
	begins := drawn[0].Sent()
	for i, e := range drawn {
		y, to := top+row*i, x(slices.Index(lanes, e.Server.Name()))
		s.text("small quiet", 4, y+4, 12, "+"+wording.Span(e.Sent().Sub(begins)))
		label := fmt.Sprintf("%d  %s", e.Number, e.Question.Spoken())
		if shown[e.Number] {
			fmt.Fprintf(&s.b, `<a href="#x%d">`, e.Number)
		}
		class := "small"
		if evidence[e.Number] {
			class += " strong"
		}
		s.text(class, 116, y-3, 42, label)
		if shown[e.Number] {
			s.b.WriteString("</a>")
		}
		s.arrow("way", 110, y, to, y)
		if e.Reply == nil {
			s.cross(to-12, y)
			s.text("small bad-text", 116, y+14, 30, said(e))
			continue
		}
		line, words := "back", "small quiet"
		if !e.Outcome.Good() && e.Outcome != exchange.Referral {
			line, words = "bad", "small bad-text"
		}
		s.arrow(line, to, y+13, 110, y+13)
		s.text(words, 124, y+10, 40, fmt.Sprintf("%s, %s", said(e), wording.Span(e.Waited())))
	}
	return s.picture("Exchanges in the order of time"), left
}

// arrow is a line with a head at its end; it goes from left to right or back.
func (s *svg) arrow(class string, x1, y1, x2, y2 int) {
	s.line(class, x1, y1, x2, y2)
	back := 6
	if x2 < x1 {
		back = -6
	}
	s.line(class, x2-back, y2-3, x2, y2)
	s.line(class, x2-back, y2+3, x2, y2)
}

// maxPoints is how many replies of one server are drawn.
const maxPoints = 200

// maxServers is how many servers a plot of latencies has room for.
const maxServers = 14

// latencyPlot draws a point for each reply: how long it took, on a logarithmic axis, in
// a row for each server; "" without replies.
func latencyPlot(exchanges []exchange.Exchange) template.HTML {
	var servers []string
	points := map[string][]float64{}
	least, most := math.Inf(1), 0.0
	for i := range exchanges {
		e := &exchanges[i]
		ms := float64(e.Took()) / float64(time.Millisecond)
		name := e.Server.Name()
		if ms <= 0 || points[name] == nil && len(servers) == maxServers {
			continue
		}
		if points[name] == nil {
			servers = append(servers, name)
		}
		if len(points[name]) == maxPoints { // every other one stays, as a sample
			for k := range maxPoints / 2 {
				points[name][k] = points[name][2*k]
			}
			points[name] = points[name][:maxPoints/2]
		}
		points[name] = append(points[name], ms)
		least, most = min(least, ms), max(most, ms)
	}
	if len(servers) == 0 {
		return ""
	}
	const left, width, row, top = 210, 560, 26, 12
	from, to := math.Floor(math.Log10(least)), math.Ceil(math.Log10(most)+0.01)
	x := func(ms float64) int { return left + int(width*(math.Log10(ms)-from)/(to-from)) }
	s := &svg{width: 800, height: top + row*len(servers) + 48}
	bottom := top + row*len(servers)
	for power := from; power <= to; power++ {
		at := math.Pow(10, power)
		s.line("lane", x(at), top, x(at), bottom+4)
		s.text("small quiet", x(at)-8, bottom+18, 8, strconv.FormatFloat(at, 'f', -1, 64))
		for part := 2.0; part < 10 && power < to; part++ {
			s.line("lane", x(part*at), bottom-2, x(part*at), bottom+4)
		}
	}
	s.line("axis", left, bottom, left+width, bottom)
	s.text("small quiet", left, bottom+36, 60, "milliseconds, on a logarithmic axis")
	for i, name := range servers {
		y := top + row*i + row/2
		s.text("small", 4, y+4, 30, name)
		for _, ms := range points[name] {
			s.circle("ring", x(ms), y, 3)
		}
	}
	return s.picture("How long replies took, by server")
}
