package page

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wire"
)

const evil = "<script>alert(1)</script>\"'&\x1b[31m|`*"

// hostile is a report in which everything that can come from the network is evil.
func hostile(t *testing.T) *Report {
	name, err := wire.Root.Child(evil)
	require.NoError(t, err)
	q := wire.Question{Name: name, Type: wire.TXT, Class: wire.IN}
	query := wire.Message{ID: 1, Questions: []wire.Question{q}}
	reply := wire.Message{ID: 1, Flags: wire.QR | wire.AA, Questions: query.Questions, Answer: []wire.Record{{Name: name, Type: wire.TXT, Class: wire.IN, TTL: 60, Data: string(rune(len(evil))) + evil}}}
	ask, err := query.Bytes()
	require.NoError(t, err)
	answer, err := reply.Bytes()
	require.NoError(t, err)
	at := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	server := exchange.Server{Address: netip.MustParseAddrPort("192.0.2.53:53"), Label: evil}
	e := exchange.Exchange{Number: 4, Server: server, Question: q, Outcome: exchange.Answered, Reply: &reply,
		Attempts: []exchange.Attempt{{Transport: exchange.UDP, Sent: at, Received: at.Add(30 * time.Millisecond), Query: ask, Reply: answer,
			Rejected: []exchange.Rejected{{At: at, From: server.Address, Data: answer[:9], Err: exchange.ErrWrongID}}}}}
	lost := exchange.Exchange{Number: 5, Server: server, Question: q, Outcome: exchange.NoReply, Attempts: []exchange.Attempt{{Transport: exchange.UDP, Sent: at.Add(time.Second), Query: ask}}}
	step := &delegation.Step{Zone: name, Name: name, Question: q, Replies: []*delegation.Reply{
		{Host: name, Address: server.Address.Addr(), Exchange: &e, Stance: delegation.Answers}, {Host: name, Address: server.Address.Addr(), Exchange: &lost, Stance: delegation.Silent}, {Host: name, Stance: delegation.NotAsked, Why: evil}}}
	f := finding.New(finding.CacheStale, finding.Fault, finding.About{Name: name.String(), Server: evil}, evil, 4, 5, 99)
	walk := &delegation.Walk{Question: q, Steps: []*delegation.Step{step}, End: delegation.EndNoServer, Findings: []finding.Finding{f}}
	v := diagnosis.Verdict{Name: name, Names: []wire.Name{name}, Types: []wire.Type{wire.TXT}, Severity: finding.Fault, Cause: []finding.Finding{f}, Where: diagnosis.TheResolver, At: evil, Text: evil, Next: evil,
		Checks: []diagnosis.Check{{What: evil, State: diagnosis.Wrong, Saw: evil}}, Compared: []probe.Compared{{Walk: walk}}}
	return &Report{Command: "unquil why", Version: "0", Made: at, Headline: evil, Verdicts: []diagnosis.Verdict{v}, Findings: []finding.Finding{f}, Exchanges: []exchange.Exchange{e, lost},
		Tables: []Table{{evil, []string{evil}, [][]string{{evil}}}}, Evidence: "evidence.pcapng"}
}

// What comes from the network is text in the page and nothing else: no element, no
// script, no address elsewhere; and every link leads somewhere.
func TestHTMLIsSelfContainedAndEscaped(t *testing.T) {
	text, err := Text(HTML, hostile(t))
	require.NoError(t, err)
	assert.False(t, strings.Contains(string(text), "\x1b"))
	root, err := html.Parse(strings.NewReader(string(text)))
	require.NoError(t, err)
	ids, links := map[string]bool{}, []string{}
	elements := map[string]int{}
	for n := range root.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		elements[n.Data]++
		for _, a := range n.Attr {
			assert.False(t, strings.HasPrefix(a.Key, "on"), "%s %s", n.Data, a.Key)
			switch a.Key {
			case "id":
				assert.False(t, ids[a.Val], "id %s stands twice", a.Val)
				ids[a.Val] = true
			case "href":
				links = append(links, a.Val)
			case "src":
				t.Errorf("%s has a source", n.Data)
			}
		}
	}
	assert.Zero(t, elements["script"]+elements["iframe"]+elements["img"])
	assert.Equal(t, 3, elements["svg"], "the way, the ladder, the latencies")
	assert.Equal(t, 2, elements["details"])
	for _, link := range links {
		if anchor, inside := strings.CutPrefix(link, "#"); inside {
			assert.True(t, ids[anchor], "nothing is called %s", anchor)
		} else {
			assert.Contains(t, []string{"data:,", "evidence.pcapng"}, link)
		}
	}
	for _, part := range []string{"it stops here", "QNAME", "was not asked", "the reply has a different ID"} {
		assert.Contains(t, string(text), part)
	}
}

func TestMarkdown(t *testing.T) {
	text, err := Text(Markdown, hostile(t))
	require.NoError(t, err)
	assert.False(t, strings.Contains(string(text), "<script"))
	assert.False(t, strings.Contains(string(text), "\x1b"))
	for _, part := range []string{"## fault: ", "cache-stale: The resolver", "where: the resolver", "evidence: exchanges 4, 5, 99", "| 5 | "} {
		assert.Contains(t, string(text), part)
	}
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "| wrong") {
			assert.Equal(t, 4, strings.Count(strings.ReplaceAll(line, `\|`, ""), "|"), "a cell breaks no row: %s", line)
		}
	}
}

func TestReportsAreBounded(t *testing.T) {
	r := hostile(t)
	for n := range 1200 {
		e := r.Exchanges[n%2] // one that was answered, one that was not
		e.Number = 100 + n
		r.Exchanges = append(r.Exchanges, e)
	}
	text, err := Text(HTML, r)
	require.NoError(t, err)
	assert.Equal(t, maxShown, strings.Count(string(text), "<details"))
	assert.Contains(t, string(text), `id="x4"`, "evidence is shown first")
	assert.Contains(t, string(text), "952 more are not shown here, and in evidence.pcapng")
	assert.LessOrEqual(t, strings.Count(string(text), "stroke:currentColor"), maxPoints+50, "and no more points than a plot can show")
	empty, err := Text(HTML, &Report{Headline: "nothing"})
	require.NoError(t, err)
	assert.NotContains(t, string(empty), "<svg")
}
