package conversation

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/wire"
)

// conditionPackets are three exchanges: answered late after a second try, a name that is not there, no reply.
func conditionPackets() []packet {
	return []packet{
		{client: desk, id: 1, name: "www.tarn.example"},
		{at: 300 * time.Millisecond, client: desk, id: 1, name: "www.tarn.example", reply: true},
		{at: time.Second, client: till, id: 2, name: "mail.lake.test", t: wire.AAAA},
		{at: 1010 * time.Millisecond, client: till, id: 2, name: "mail.lake.test", t: wire.AAAA, reply: true, code: wire.NXDomain},
		{at: 3 * time.Second, client: isp, id: 3, name: "host.tarn.example"},
	}
}

// Each condition chooses the exchanges that it says.
func TestConditions(t *testing.T) {
	clock := begin.Add(500 * time.Millisecond).UTC().Format("15:04:05.000")
	for text, want := range map[string][]int{
		"took > 200ms and not outcome = no-name":         {1},
		"took >= 10ms and took <= 0.3s":                  {1, 2},
		"outcome in (no-name, OPEN)":                     {2, 3},
		"outcome != nxdomain":                            {1, 3},
		"type in (A, aaaa) and not type = A":             {2},
		"name under tarn.example":                        {1, 3},
		"name = WWW.Tarn.Example.":                       {1},
		"name like *.TARN.*":                             {1, 3},
		`name like "mail.lake.tes?"`:                     {2},
		"name like *tarn.exampl":                         nil,
		"client in 192.0.2.22/31 or client = 192.0.2.21": {1, 2},
		"client in (192.0.2.21, 192.0.2.22)":             {1, 2},
		"server != 198.51.100.53":                        nil,
		"value = 192.0.2.1":                              {1},
		"value like 192.*":                               {1},
		"value != 192.0.2.1":                             {2, 3},
		"rcode = NXDOMAIN":                               {2},
		"rcode = NOERROR":                                {1},
		"has finding failed":                             {2},
		"not (has finding failed or has finding slow)":   {1, 3},
		"time after " + clock:                            {2, 3},
		"time before " + clock:                           {1},
		"time after " + begin.Add(2*time.Second).UTC().Format(time.RFC3339): {3},
		"number <= 2 and attempts = 1 and port = 53 and transport = udp":    {1, 2},
		"id = 3 or size > 100000":                   {3},
		"is authoritative":                          nil,
		"not not number = 1":                        {1},
		"number = 1 or number = 2 and number = 3":   {1},
		"(number = 1 or number = 2) and number = 2": {2},
	} {
		t.Run(text, func(t *testing.T) {
			filter := Filter{Where: text}
			choose, err := filter.Compile()
			require.NoError(t, err)
			o, err := Read(t.Context(), []*capture.Reader{file(t, conditionPackets()...)}, Options{Choose: choose})
			require.NoError(t, err)
			var got []int
			for _, e := range o.Kept {
				got = append(got, e.Number)
			}
			assert.Equal(t, want, got)
		})
	}
}

// A mistake is told with its place, and with what was meant where that is near.
func TestWrongConditions(t *testing.T) {
	for text, want := range map[string]string{
		"tok > 200ms":                  `at character 1, "tok" is not a field; did you mean took?`,
		"took > 200":                   `at character 8, "200" has no unit: ms, s or us, as in took > 200ms`,
		"took > soon":                  `"soon" is not a time with its unit`,
		"took like 2*":                 "at character 6, took is followed by =, !=, <, <=, >, >= or in",
		"outcome == no-name":           `at character 9, "==" is written = here`,
		"outcome = noname":             `"noname" is not an outcome; did you mean no-name?`,
		"type = AAA":                   `"AAA" is not a record type; did you mean`,
		"rcode = SERVFIAL":             "did you mean SERVFAIL?",
		"has finding slwo":             "did you mean slow?",
		"has slow":                     "has is followed by finding and a code: has finding slow",
		"is odd":                       "is authoritative",
		"finding = slow":               "finding is asked for like this: has finding slow",
		"took > 1s && id = 1":          `at character 11, "&&" stands where and, or, or the end belongs`,
		"took > 1s id = 1":             `at character 11, "id" stands where`,
		"(took > 1s":                   "at character 11, a bracket is not closed",
		"took >":                       "at character 7, a value belongs here",
		"took":                         "at character 5, took is followed by",
		"":                             "it ends where a field belongs",
		"not":                          "it ends where a field belongs",
		"client = 192.0.2.0/24":        "a range is asked for like this: client in 192.0.2.0/24",
		"client in office":             `"office" is not an address`,
		"type in A":                    "in takes a list in brackets",
		"type in (A AAAA)":             "a comma or the closing bracket belongs here",
		"time after noon":              `"noon" is neither a time of day`,
		"name under a..b":              `"a..b" is not a name`,
		`name = "a`:                    "a quotation mark is never closed",
		"port = 5x":                    `"5x" is not a whole number`,
		"transport = quick":            `"quick" is not a transport`,
		strings.Repeat("not ", 200):    "it is nested too deeply",
		strings.Repeat("id = 1 ", 500): "it has more words than are read",
	} {
		_, err := parseCondition(text)
		require.ErrorIs(t, err, ErrCondition, text)
		assert.ErrorContains(t, err, want)
	}
	for i := range Fields { // each field's own example is a condition
		_, err := parseCondition(Fields[i].Example)
		assert.NoError(t, err, Fields[i].Name)
	}
}

// A condition costs no allocation an exchange.
func TestConditionsAllocateNothing(t *testing.T) {
	var all Copies
	_, err := Read(t.Context(), []*capture.Reader{file(t, conditionPackets()...)}, Options{Each: all.Add})
	require.NoError(t, err)
	filter := Filter{Where: "name like *.tarn.* and value in (192.0.2.1, a.example) and took > 1ms and time after 00:00 and client in 192.0.2.0/24 or rcode = REFUSED", Names: []string{"*"}, Under: wire.MustParseName("example")}
	choose, err := filter.Compile()
	require.NoError(t, err)
	run := func() {
		for i := range all.All() {
			choose(&all.All()[i])
		}
	}
	run()
	assert.Zero(t, testing.AllocsPerRun(10, run))
}

// No condition makes it panic, and what it takes it can test.
func FuzzCondition(f *testing.F) {
	for i := range Fields {
		f.Add(Fields[i].Example)
	}
	f.Add(`not (a = "b" or took in (1s, 2s)) and name like *?*`)
	var all Copies
	_, err := Read(f.Context(), []*capture.Reader{file(f, conditionPackets()...)}, Options{Each: all.Add})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := parseCondition(text)
		if err != nil {
			require.ErrorIs(t, err, ErrCondition)
			return
		}
		for i := range all.All() {
			c.test(&all.All()[i])
		}
	})
}
