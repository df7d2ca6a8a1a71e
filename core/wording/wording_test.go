package wording

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWording(t *testing.T) {
	for n, want := range map[int]string{0: "0", 7: "7", 999: "999", 1000: "1,000", 27618: "27,618", 1234567: "1,234,567", -1: "-1", -999: "-999", -1000: "-1,000", math.MinInt64: "-9,223,372,036,854,775,808"} {
		assert.Equal(t, want, Number(n))
	}
	assert.Equal(t, "1 packet", Count(1, "packet", "packets"))
	assert.Equal(t, "0 packets", Count(0, "packet", "packets"))
	assert.Equal(t, "12,000 packets", Count(12000, "packet", "packets"))
	assert.Equal(t, []string{"once", "twice", "3 times"}, []string{Times(1), Times(2), Times(3)})
	assert.Equal(t, []string{"", "a", "a and b", "a, b and c"}, []string{List(nil), List([]string{"a"}), List([]string{"a", "b"}), List([]string{"a", "b", "c"})})
	for serial, want := range map[uint32]string{2026030701: "2026030701 (7 March 2026, change 1)", 2026130701: "2026130701", 9: "9", 4294967295: "4294967295"} {
		assert.Equal(t, want, Serial(serial))
	}
	assert.Equal(t, []string{"a", "a, b or c"}, []string{Either([]string{"a"}), Either([]string{"a", "b", "c"})})
	assert.Equal(t, []string{".", "a.example"}, []string{Spoken("."), Spoken("a.example.")})
	assert.Equal(t, []string{"exchange 3", "exchanges 3, 1005"}, []string{Exchanges([]int{3}), Exchanges([]int{3, 1005})})
}

// A misspelled word stands for the nearest one, where one is near.
func TestNearest(t *testing.T) {
	words := []string{"took", "type", "outcome", "no-name", "server-failure"}
	for word, want := range map[string]string{"tok": "took", "tpye": "type", "OUTCME": "outcome", "noname": "no-name", "servfail": "", "took": "", "xyz": "", "": ""} {
		assert.Equal(t, want, Nearest(word, words), word)
	}
	assert.Equal(t, "; did you mean type?", OrNearest("typ", words))
	assert.Empty(t, OrNearest("type", words))
}
