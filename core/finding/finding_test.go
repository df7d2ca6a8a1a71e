package finding

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCatalogueIsWhole(t *testing.T) {
	seen := map[Code]bool{}
	for _, e := range Catalogue {
		assert.False(t, seen[e.Code], "%s stands twice", e.Code)
		seen[e.Code] = true
		assert.NotEmpty(t, e.Meaning)
		assert.NotEmpty(t, e.Next)
	}
}

func TestSortAndWorst(t *testing.T) {
	all := []Finding{New(Slow, Concern, About{}, "a"), New(NoReply, Fault, About{}, "b", 3, 1, 3), New(Failed, Note, About{}, "c")}
	Sort(all)
	assert.Equal(t, []Severity{Fault, Concern, Note}, []Severity{all[0].Severity, all[1].Severity, all[2].Severity})
	assert.Equal(t, []int{1, 3}, all[0].Evidence, "in order and each once")
	assert.Equal(t, Fault, Worst(all))
	assert.Equal(t, Severity(""), Worst(nil))
}

func TestMergeKeepsTheWorstAndAllEvidence(t *testing.T) {
	about := About{Zone: "a.zone.", Server: "ns."}
	merged := Merge([]Finding{
		New(AnswersDiffer, Note, about, "for AAAA", 5),
		New(AnswersDiffer, Fault, about, "for A", 2),
		New(SerialsDiffer, Note, about, "serial", 3),
	})
	assert.Len(t, merged, 2)
	assert.Equal(t, Fault, merged[0].Severity)
	assert.Equal(t, "for A", merged[0].Text)
	assert.Equal(t, []int{2, 5}, merged[0].Evidence)
}
