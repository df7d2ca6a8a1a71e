package diagnosis_test

import (
	"bytes"
	"cmp"
	"crypto/x509"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/redact"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/labtest"
	"unquil/ui/page"
)

var update = flag.Bool("update", false, "write docs/faults.md from what the bench gives")

// bench runs why in the lab.
type bench struct {
	t           *testing.T
	lab         *lab.Lab
	once        bool // do what need not be done with every seed: redact each verdict, and judge its packets
	authorities *x509.CertPool
	// shuffled says that each reply comes late by chance.
	shuffled bool
}

// why asks why as a fault is seen: over its path, from its root hints, by its clock and anchors. Where
// that has somebody listen, what passes is heard meanwhile: so it is of all once, since it must not make
// a difference where the machine does nothing with its packets.
func (b bench) why(c diagnosis.Case, f lab.Fault) diagnosis.Verdict {
	path, hints, listen := f.Path, f.Hints, f.Listen
	network := b.lab.Network()
	if path != "" {
		var err error
		network, err = b.lab.NetworkOver(path)
		require.NoError(b.t, err)
	}
	if listen || b.once {
		var heard *lab.Wire
		network, heard = network.Heard(b.lab.Clock)
		c.Wire = &diagnosis.Tapped{Capture: heard.Capture, Wait: benchWait, Own: b.lab.Scenario.IsMachine}
	}
	client := b.lab.Enter(&exchange.Client{Options: exchange.Options{Wait: benchWait, Attempts: 2, CAs: b.authorities}})
	client.Network = network
	defer client.Close()
	prober := probe.Prober{Session: &exchange.Session{Client: client}, Roots: delegation.Roots(b.lab.Hints()), Anchors: b.lab.Anchors(), AsOf: b.lab.Now(), Seed: rand.Uint64()}
	if f.Clock != "" {
		off, err := time.ParseDuration(f.Clock)
		require.NoError(b.t, err)
		prober.AsOf = prober.AsOf.Add(off)
	}
	if f.Anchors != nil {
		records, err := lab.ReadLines(f.Anchors)
		require.NoError(b.t, err)
		prober.Anchors = records
	}
	if hints != nil {
		records, err := lab.ReadLines(hints)
		require.NoError(b.t, err)
		prober.Roots = delegation.Roots(records)
	}
	if c.Registry == nil {
		c.Registry = labtest.Registries(b.t, b.lab, client)
	}
	begun := time.Now()
	run := diagnosis.Run{Cases: []diagnosis.Case{c}}
	v := run.Verdicts(b.t.Context(), prober)[0]
	assert.LessOrEqual(b.t, time.Since(begun), b.patience(path), "%s: what can be waited for at once is", c.Name)
	if b.once {
		b.tellsNothing(c.Name, v, prober.Session.Exchanges())
		b.retold(c, &v, prober.Session.Exchanges(), nil)
		b.retold(c, &v, prober.Session.Exchanges(), run.Given())
	}
	b.consistent(c, &v, prober.Session.Exchanges())
	return v
}

// patience is how long a round may take over a path: a silent server costs two waits, and a
// third where it is asked in other ways; a resolver that has to ask it takes its own time.
// Where packets are lost, each step can cost that. Where replies are shuffled, a resolver in a
// loop of delegations may find out too late once in hundreds of rounds, and is asked again.
func (b bench) patience(path string) time.Duration {
	switch path {
	case "first-lost", "every-third", "one-in-ten":
		return 9 * benchWait
	}
	if b.shuffled {
		return 4*benchWait + benchWait/2
	}
	return 3*benchWait + benchWait/2
}

// consistent holds that a verdict does not contradict itself: what it rests on was asked, no
// check is fine whose answer it calls wrong, and nothing is both certain and open.
func (b bench) consistent(c diagnosis.Case, v *diagnosis.Verdict, exchanges []exchange.Exchange) {
	if len(v.Cause) == 0 {
		assert.NotEqual(b.t, finding.Fault, finding.Worst(v.Also), "%s: nothing is wrong, and yet %v", c.Name, v.Also)
		return
	}
	open := strings.Contains(v.Against, "would look the same")
	assert.Equal(b.t, open || v.Cause[0].Sure == finding.Likely, v.Sure != finding.Certain, "%s: %s, but %s", c.Name, v.Sure, v.Against)
	assert.NotEmpty(b.t, v.Who, c.Name)
	assert.NotEmpty(b.t, v.Next, c.Name)
	for _, out := range v.RuledOut {
		assert.NotEmpty(b.t, out.Seen, "%s: %s", c.Name, out.What)
		for _, n := range out.Seen {
			assert.LessOrEqual(b.t, n, len(exchanges), c.Name)
		}
	}
	for _, check := range v.Checks {
		for _, f := range v.Cause {
			about := strings.HasPrefix(check.What, f.About.Server+", asked for ") && f.About.Zone == ""
			assert.False(b.t, about && check.State == diagnosis.Fine && v.Severity == finding.Fault, "%s: %s is at fault, and its check is fine: %s", c.Name, f.About.Server, check.Saw)
		}
	}
}

// sameOnTheWire are causes that only further questions tell apart: what was found live, and
// what its packets are rightly certain to show.
var sameOnTheWire = map[string]string{"recursion-unavailable": "refused", "edns-breaks": "failed"}

// retold holds that the packets of a verdict, judged as a capture, tell the same story. With
// what the run was given, as evidence holds it, they give the same verdict. Without it they do
// not contradict it: of a healthy name they show no fault, and they are certain of nothing else.
func (b bench) retold(c diagnosis.Case, live *diagnosis.Verdict, exchanges []exchange.Exchange, given any) {
	var packets bytes.Buffer
	writer, err := evidence.New(&packets)
	require.NoError(b.t, err)
	require.NoError(b.t, writer.AddAll(exchanges, given))
	inquest := diagnosis.Inquest{Names: []wire.Name{live.Name}, Types: c.Types}
	all, _, err := inquest.Of(b.t.Context(), kept(packets.Bytes()))
	if len(exchanges) == 0 || given == nil && errors.As(err, new(diagnosis.AbsentError)) {
		return // nothing was asked for the name itself
	}
	require.NoError(b.t, err, c.Name)
	for i := range all {
		of := &all[i]
		found, _, _ := said(of)
		want, _, _ := said(live)
		switch {
		case given != nil:
			assert.Equal(b.t, whole(live), whole(of), "%s: from its evidence", c.Name)
		case len(live.Cause) == 0:
			assert.False(b.t, len(of.Cause) > 0 && of.Severity == finding.Fault, "%s: is healthy, and in its own packets it is %s: %s", c.Name, found, of.Text)
		case of.Sure == finding.Certain && len(of.Cause) > 0:
			assert.True(b.t, found == want || found == sameOnTheWire[want], "%s: is %s, and its own packets are certain of %s: %s", c.Name, want, found, of.Text)
		}
	}
}

// whole is all that a verdict says, line by line.
func whole(v *diagnosis.Verdict) string {
	var b strings.Builder
	fmt.Fprintln(&b, row("", v.Name.String(), "", "", true, v))
	fmt.Fprintln(&b, v.Severity, v.At, v.Text, v.Because, v.RuledOut, v.Against, v.Next, v.Elsewhere, v.Checks, v.Ends.Unix())
	for _, f := range slices.Concat(v.Cause, v.Follows, v.Also) {
		f.Evidence = nil // of questions that are alike it may name another
		fmt.Fprintln(&b, f)
	}
	return b.String()
}

// kept is a capture in memory.
type kept []byte

func (k kept) Open() ([]*capture.Reader, error) {
	r, err := capture.NewReader(bytes.NewReader(k))
	return []*capture.Reader{r}, err
}

func (kept) Again() bool { return true }

// tellsNothing holds that a redacted report on a verdict has no trace of the name, of an
// address, or of a client, be it as a page, as a text, or in its capture.
func (b bench) tellsNothing(name wire.Name, v diagnosis.Verdict, exchanges []exchange.Exchange) {
	if name.IsRoot() {
		return // which is no secret
	}
	redactor := redact.New([]wire.Name{name}, redact.Clients(exchanges), page.Common)
	report := redact.Copy(redactor, page.Report{Command: "unquil why " + name.Spoken(), Headline: name.Spoken(), Verdicts: []diagnosis.Verdict{v}, Findings: v.Findings(), Exchanges: exchanges})
	var packets bytes.Buffer
	writer, err := evidence.New(&packets)
	require.NoError(b.t, err)
	for i := range report.Exchanges {
		require.NoError(b.t, writer.Add(&report.Exchanges[i]))
	}
	finder := redactor.Finder()
	assert.Empty(b.t, finder.FindIn(report.Exchanges), name)
	assert.Empty(b.t, finder.Find(packets.Bytes()), name)
	forms := []func(io.Writer, *page.Report) error{page.Markdown}
	if !strings.HasSuffix(name.String(), "works.example.") { // a page takes a while to draw
		forms = append(forms, page.HTML)
	}
	for _, draw := range forms {
		drawn, err := page.Text(draw, &report)
		require.NoError(b.t, err)
		assert.Empty(b.t, finder.Find(drawn), name)
		for _, secret := range []string{name.Spoken(), "203.0.113.", "198.51.100.", "2001:db8:"} {
			assert.False(b.t, bytes.Contains(drawn, []byte(secret)), "%s: %s", name, secret)
		}
	}
}

// benchWait is for one try. A silent server costs two of them, and a third where it is
// asked in other ways.
const benchWait = 1600 * time.Millisecond

func types(t *testing.T, words ...string) (list []wire.Type) {
	for _, word := range words {
		typ, err := wire.ParseType(word)
		require.NoError(t, err)
		list = append(list, typ)
	}
	return list
}

// of is the case that a fault of the scenario describes.
func (b bench) of(f lab.Fault) diagnosis.Case {
	c := diagnosis.Case{Name: wire.MustParseName(f.Name), Types: types(b.t, strings.Split(f.Type, ",")...), Typed: f.Typed}
	if address, err := netip.ParseAddr(f.Typed); err == nil {
		c.Typed, c.Address = "", address
	} else if f.Typed != "" {
		c.Name = wire.MustParseName(f.Typed + ".")
	}
	if f.From != "" {
		c.Resolvers = []exchange.Server{labtest.Resolver(b.t, b.lab, f.From)}
		return c
	}
	setup, err := machine.Read(lab.Machine(f.Machine))
	c.Setup, c.SetupErr = &setup, err
	for _, address := range setup.Resolvers {
		c.Resolvers = append(c.Resolvers, exchange.Server{Address: address})
	}
	return c
}

// said is what a verdict says, in the words of the table.
func said(v *diagnosis.Verdict) (code, at, where string) {
	if len(v.Cause) == 0 {
		return "nothing wrong", "", ""
	}
	return string(v.Cause[0].Code), v.At, string(v.Where)
}

// Every fault of the scenario is named right, no healthy name raises an alarm, and whoever
// answers first decides nothing: with every reply held up by chance the whole verdict is the
// same. Time is simulated: a busy machine makes no server slow.
func TestFaultBench(t *testing.T) {
	var scenario *lab.Scenario
	var rows []string
	synctest.Test(t, func(t *testing.T) { scenario, rows = runBench(t, 0) })
	runs, _ := strconv.Atoi(os.Getenv("UNQUIL_BENCH_RUNS"))
	if runs = max(runs, 2); testing.Short() {
		runs = 0 // where races are looked for, the order of replies is not
	}
	for seed := range runs {
		var shuffled []string
		synctest.Test(t, func(t *testing.T) { _, shuffled = runBench(t, uint64(seed+1)) })
		for i, line := range shuffled {
			assert.Equal(t, rows[i], line, "with the replies in another order (seed %d)", seed+1)
		}
	}
	page, err := os.ReadFile("../../docs/faults.md")
	require.NoError(t, err)
	for _, line := range rows {
		fmt.Println(line)
		assert.True(t, *update || strings.Contains(string(page), line), "docs/faults.md lacks %s: read what changed, then run this test with -update", line)
	}
	if *update {
		require.NoError(t, os.WriteFile("../../docs/faults.md", []byte(faultsPage(scenario, rows)), 0o644))
	}
}

// runBench asks why of everything at once, and returns the table's rows. With a seed every
// reply comes by up to 40 ms later, as it happens.
func runBench(t *testing.T, seed uint64) (*lab.Scenario, []string) {
	options := lab.Options{InMemory: true}
	if seed > 0 {
		var mu sync.Mutex
		chance := rand.New(rand.NewPCG(seed, seed))
		options.Jitter = func() time.Duration {
			mu.Lock()
			defer mu.Unlock()
			return time.Duration(chance.IntN(40)) * time.Millisecond
		}
	}
	l, err := lab.New(options)
	require.NoError(t, err)
	authorities, err := l.CAs()
	require.NoError(t, err)
	b := bench{t: t, lab: l, authorities: authorities, once: seed == 0 && !testing.Short(), shuffled: seed > 0}
	rows := make([]string, len(l.Scenario.Faults)+len(l.Scenario.Healthy)+len(l.Scenario.Cares))
	right := make([]bool, len(rows))
	var wait sync.WaitGroup
	for i, f := range l.Scenario.Faults {
		wait.Go(func() {
			v := b.why(b.of(f), f)
			code, at, where := said(&v)
			right[i] = code == f.Finding && (f.At == "" || at == f.At) && (f.Place == "" || where == f.Place) && v.Severity == finding.Severity(cmp.Or(f.Severity, "fault"))
			if f.Severity == "note" || f.Severity == "also" {
				right[i] = (f.Severity == "also" || len(v.Cause) == 0) && slices.ContainsFunc(v.Also, func(n finding.Finding) bool { return string(n.Code) == f.Finding })
				code = f.Finding
			}
			for _, or := range f.Or {
				right[i] = right[i] || code == or.Finding && at == or.At
			}
			rows[i] = row(f.What, words(f.Name, f.Type, f.From, f.Machine, f.Path, map[bool]string{true: "--roots"}[len(f.Hints) > 0], map[bool]string{true: "--listen"}[f.Listen], map[bool]string{true: "--as-of"}[f.Clock != ""], map[bool]string{true: "--anchor"}[f.Anchors != nil]), expected(f), strings.TrimSpace(code+" "+at), right[i], &v)
		})
	}
	for n, h := range l.Scenario.Healthy {
		wait.Go(func() {
			i := len(l.Scenario.Faults) + n
			c := diagnosis.Case{Name: wire.MustParseName(h.Name), Types: types(t, h.Types...), Resolvers: []exchange.Server{labtest.Resolver(t, l, cmp.Or(h.From, "office"))}}
			v := b.why(c, lab.Fault{Path: h.Path})
			code, at, _ := said(&v)
			right[i] = len(v.Cause) == 0
			rows[i] = row(cmp.Or(h.What, "an ordinary name"), words(h.Name, strings.Join(h.Types, ","), h.From, "", h.Path), "nothing wrong", strings.TrimSpace(code+" "+at), right[i], &v)
		})
	}
	for n, c := range l.Scenario.Cares {
		wait.Go(func() {
			i := len(l.Scenario.Faults) + len(l.Scenario.Healthy) + n
			rows[i], right[i] = b.care(c)
		})
	}
	wait.Wait()
	l.Close()
	time.Sleep(time.Minute) // what still waits in the lab ends
	for i, line := range rows {
		assert.True(t, right[i], line)
	}
	return l.Scenario, rows
}

// care looks after a signed zone: what is found is what the scenario says, and so are the stages of its
// roll-overs, and whether they may go on.
func (b bench) care(c lab.Care) (line string, right bool) {
	client := b.lab.Enter(&exchange.Client{Options: exchange.Options{Wait: benchWait, Attempts: 2}})
	defer client.Close()
	prober := probe.Prober{Session: &exchange.Session{Client: client}, Roots: delegation.Roots(b.lab.Hints()), Anchors: b.lab.Anchors(), AsOf: b.lab.Now(), Seed: rand.Uint64()}
	z, ok := prober.Zone(b.t.Context(), wire.MustParseName(c.Zone), probe.ZonePlan{})
	if !ok || z.Signing == nil {
		return c.Zone + ": is no signed zone", false
	}
	var stages []string
	safe, named := true, len(c.Stages) == len(z.Signing.Stages)
	for i, s := range z.Signing.Stages {
		stages, safe = append(stages, s.Name), safe && s.Safe
		named = named && strings.HasPrefix(s.Name, c.Stages[i])
	}
	codes, want := labtest.Codes(z.AllFindings()), slices.Clone(c.Findings)
	slices.Sort(codes)
	slices.Sort(want)
	right = named && safe != c.Unsafe && slices.Equal(codes, want)
	next := ""
	if len(stages) > 0 {
		next = map[bool]string{true: "may go on", false: "must not go on yet"}[safe]
	}
	line = fmt.Sprintf("| %s | %s | %s | %s | %s | %s |", map[bool]string{true: "right", false: "WRONG"}[right], c.What, c.Zone, strings.Join(codes, ", "), strings.Join(stages, "; "), next)
	if !right {
		line += fmt.Sprintf("\n    found: %v", z.AllFindings())
	}
	return line, right
}

// row is the whole of a verdict that a person acts on, as a row of the table.
func row(what, asked, want, got string, right bool, v *diagnosis.Verdict) string {
	until := ""
	if v.Lasts > 0 {
		until = wire.Period(v.Lasts)
	}
	line := fmt.Sprintf("| %s | %s | %s | %s | %s | %s | %s | %s |", what, asked, want, got, v.Where, v.Sure, v.Who, until)
	if right {
		return "| right " + line
	}
	return "| WRONG " + line + fmt.Sprintf("\n    said: %s\n    found: %v\n    checks: %v", v.Text, labtest.Codes(v.Findings()), v.Checks)
}

func words(all ...string) string {
	return strings.Join(slices.DeleteFunc(all, func(s string) bool { return s == "" }), " ")
}

func expected(f lab.Fault) string {
	want := words(f.Finding, f.At)
	for _, or := range f.Or {
		want += " or " + words(or.Finding, or.At)
	}
	return want
}

// faultsPage is docs/faults.md: what stands in the lab, and what why made of it when
// the page was written.
func faultsPage(s *lab.Scenario, rows []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# The fault bench\n\nThe lab holds %d faults, %d unusual but healthy names, and %d signed zones that somebody looks after. A test runs `unquil why` on each of them and `unquil zone` on each of the zones, and compares the verdicts with what the scenario says. This page is written by `go test ./core/diagnosis -run TestFaultBench -update`; every run prints the table.\n\nTo see one yourself: `unquil why --lab NAME --type TYPE --from RESOLVER`, with `--lab-machine` or `--lab-path` where the table names one, and with root hints of your own where it says `--roots`.\n", len(s.Faults), len(s.Healthy), len(s.Cares))
	head := "| verdict | what is wrong | query, and where it is asked | expected | given | where | how sure | who can fix it | ends within |\n|---|---|---|---|---|---|---|---|---|\n"
	b.WriteString("\n## Faults\n\n" + head + strings.Join(rows[:len(s.Faults)], "\n") + "\n\n## Unusual and healthy\n\n" + head + strings.Join(rows[len(s.Faults):len(s.Faults)+len(s.Healthy)], "\n") + "\n\n## Signed zones\n\n| verdict | what is special | zone | found | roll-over | its next step |\n|---|---|---|---|---|---|\n" + strings.Join(rows[len(s.Faults)+len(s.Healthy):], "\n") + "\n\n## Equally right\n\nWhere nothing on the wire tells two causes apart, either verdict is correct.\n\n")
	for _, f := range s.Faults {
		for _, or := range f.Or {
			fmt.Fprintf(&b, "- %s (%s): `%s` or `%s`: %s.\n", f.What, f.Name, f.Finding, words(or.Finding, or.At), or.Why)
		}
	}
	return b.String()
}
