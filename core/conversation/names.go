package conversation

import (
	"time"

	"unquil/core/wire"
)

// names counts exchanges by the name that was asked for. There are many names, so that
// it takes a good part of all work: it is done in the goroutine that reads, which has
// less to do than the one that pairs.
type names struct {
	table
	spelled map[uint64]wire.Name
}

// byName is what is counted of one exchange by its name.
type byName struct {
	name, client uint64 // hashes
	took         time.Duration
	spelling     int32 // where it lies in the chunk's spellings
	size         uint8 // of the spelling in bytes; 0: it was handed over before
	bucket       int8  // as in entry
	how          how
}

// lately is how many names are remembered to have been handed over with their spelling.
const lately = 1 << 12

// name hands an exchange over to be counted by its name.
func (o *Overview) name(p *Pair, e entry) {
	c := o.now
	n := byName{name: p.name, client: p.client, took: e.took, bucket: int8(e.bucket), how: e.how}
	if known := &o.handed[p.name%lately]; *known != p.name {
		*known = p.name
		question := p.message.QuestionBytes()
		spelling := question[:max(len(question)-4, 0)]
		n.spelling, n.size = int32(len(c.spellings)), uint8(len(spelling))
		c.spellings = append(c.spellings, spelling...)
	}
	c.byName = append(c.byName, n)
}

// take counts the exchanges that were handed over with a chunk.
func (n *names) take(c *chunk) {
	for i := range c.byName {
		x := &c.byName[i]
		row, fresh := n.of(x.name)
		if fresh {
			if name, err := wire.NameFromWire(string(c.spellings[x.spelling:][:x.size])); err == nil {
				n.spelled[x.name] = name.Fold()
			}
		}
		row.add(entry{x.how, int(x.bucket), x.took}, x.client)
	}
}
