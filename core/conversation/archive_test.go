package conversation_test

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/lab"
)

// held is a capture that is held in memory.
type held []byte

func (h held) Open() ([]*capture.Reader, error) {
	r, err := capture.NewReader(bytes.NewReader(h))
	return []*capture.Reader{r}, err
}

func (held) Again() bool { return true }

func morning(t testing.TB) held {
	t.Helper()
	file, err := lab.Captures().Open("valley-morning.pcapng")
	require.NoError(t, err)
	defer file.Close()
	var content bytes.Buffer
	_, err = content.ReadFrom(file)
	require.NoError(t, err)
	return held(content.Bytes())
}

// A choice knows its numbers by place and their places by number, however they are spread.
func TestChosen(t *testing.T) {
	draw := rand.New(rand.NewPCG(1, 2))
	for _, spread := range []int{1, 3, 70, 5000} {
		var want []int
		for n := 1; len(want) < 3000; n += 1 + draw.IntN(spread) {
			want = append(want, n)
		}
		shuffled := slices.Clone(want)
		draw.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		c := conversation.ChosenFrom(append(shuffled, shuffled[0], 0, -1))
		require.Equal(t, len(want), c.Count())
		for place, n := range want {
			require.Equal(t, n, c.Number(place), "spread %d", spread)
			require.Equal(t, place, c.Place(n))
			require.True(t, c.Has(n))
		}
		assert.Zero(t, c.Number(len(want)))
		assert.Zero(t, c.Number(-1))
		assert.Equal(t, len(want), c.Place(want[len(want)-1]+1000))
		assert.Equal(t, 0, c.Place(0))
	}
	assert.Zero(t, (&conversation.Chosen{}).Number(0))
}

// What an archive fetches is what one reading of all would have kept.
func TestArchiveFetches(t *testing.T) {
	source := morning(t)
	readers, err := source.Open()
	require.NoError(t, err)
	whole, err := conversation.Read(t.Context(), readers, conversation.Options{Keep: 100_000})
	require.NoError(t, err)

	a := conversation.Archive{Source: source}
	o, all, err := a.Survey(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, whole.Exchanges, all.Count())
	assert.Equal(t, whole.Exchanges, o.Exchanges)

	wanted := []int{3, 34, 360}
	some, err := a.Fetch(t.Context(), wanted)
	require.NoError(t, err)
	require.Len(t, some.Kept, len(wanted))
	for i, n := range wanted {
		assert.Equal(t, whole.Find(n).Attempts, some.Kept[i].Attempts)
		assert.Equal(t, whole.Lines[n].Packets, some.Lines[n].Packets)
	}
	packets, err := a.Whole(t.Context(), some, 34)
	require.NoError(t, err)
	assert.Len(t, packets, len(whole.Lines[34].Packets))
	nothing, err := a.Fetch(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, nothing.Kept)
}

func TestArchiveChooses(t *testing.T) {
	source := morning(t)
	a := conversation.Archive{Source: source}
	o, all, err := a.Survey(t.Context(), nil)
	require.NoError(t, err)
	client := netip.MustParseAddr("192.0.2.21")
	for _, tt := range []struct {
		name   string
		filter conversation.Filter
		fits   func(e *exchange.Exchange) bool
	}{
		{"all", conversation.Filter{}, func(*exchange.Exchange) bool { return true }},
		{"of a client", conversation.By(client), func(e *exchange.Exchange) bool { return e.Client.Addr() == client }},
		{"with a server", conversation.With(netip.MustParseAddr("192.0.2.66")), func(e *exchange.Exchange) bool { return e.Server.Address.Addr().String() == "192.0.2.66" }},
		{"about a name, and not those below it", conversation.About(o.Find(1).Question.Name), func(e *exchange.Exchange) bool { return e.Question.Name.Equal(o.Find(1).Question.Name) }},
		{"around a moment", conversation.By(client).Around(o.Find(1).Sent(), time.Second), func(e *exchange.Exchange) bool {
			return e.Client.Addr() == client && e.Sent().Sub(o.Find(1).Sent()).Abs() <= time.Second
		}},
		{"a condition", conversation.Filter{}.And(`type = AAAA`).And(`outcome in (no-data, no-name)`), func(e *exchange.Exchange) bool {
			return e.Question.Type.String() == "AAAA" && (e.Outcome == exchange.NoData || e.Outcome == exchange.NoName)
		}},
		{"a condition over values and the name", conversation.Filter{Where: `name like www.* and value = 203.0.113.120`}, func(e *exchange.Exchange) bool {
			return e.Question.Name.Spoken()[:4] == "www." && slices.Contains(exchange.Values(e.Answer().Records), "203.0.113.120")
		}},
		{"within others", conversation.Filter{Within: conversation.ChosenFrom([]int{2, 3, 4})}.And("number > 2"), func(e *exchange.Exchange) bool { return e.Number == 3 || e.Number == 4 }},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var want []int
			for i := range o.Kept {
				if tt.fits(&o.Kept[i]) {
					want = append(want, o.Kept[i].Number)
				}
			}
			require.NotEmpty(t, want)
			chosen, err := a.Choose(t.Context(), tt.filter, func(int, int64) {})
			require.NoError(t, err)
			var got []int
			for i := range chosen.Count() {
				got = append(got, chosen.Number(i))
			}
			assert.Equal(t, want, got)
		})
	}
	_, err = a.Choose(t.Context(), conversation.Filter{Where: "took >"}, func(int, int64) {})
	assert.ErrorIs(t, err, conversation.ErrCondition)

	// Every finding that has exchanges is shown by a choice that holds them.
	for i := range o.Findings {
		f := &o.Findings[i]
		if len(f.Evidence) == 0 {
			continue
		}
		chosen, err := a.Choose(t.Context(), conversation.Showing(f), func(int, int64) {})
		require.NoError(t, err)
		for _, n := range f.Evidence {
			assert.True(t, chosen.Has(n), "%s: exchange %d", f.Code, n)
		}
		assert.LessOrEqual(t, chosen.Count(), all.Count())
	}
	assert.NotEmpty(t, conversation.Showing(&finding.Finding{Code: finding.Failed, About: finding.About{Address: "192.0.2.53", Outcome: "no-name"}}).Servers)
}
