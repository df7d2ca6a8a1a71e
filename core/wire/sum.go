package wire

// AnswerSum is the same for two answer sections that say the same: the same types with
// the same data, in whatever order and for however long. Names in the data count as they
// read, not as they are compressed or capitalised. It is another number each time the
// program runs.
func (v View) AnswerSum() (sum uint64) {
	c := v.Records()
	for c.Next() && c.Record.Section == AnswerSection {
		r := &c.Record
		sum += dataHash(v.msg, r.Type, r.Class, c.off-len(r.Data), c.off)
	}
	return sum
}

// dataHash hashes the type and the data of a record, which stands at msg[from:end].
func dataHash(msg []byte, t Type, c Class, from, end int) uint64 {
	h := fold64(hashSeed ^ uint64(t))
	row := rowOf(t, c)
	if row == nil {
		return hashBytes(h, borrow(msg[from:end]), 0)
	}
	rdata, at := borrow(msg[from:end]), 0
	for i := range row.fields {
		f := &row.fields[i]
		for n := 0; at < len(rdata) || f.due(n); n++ {
			if f.kind.holds != nil && f.kind.holds(rdata, at) {
				var err error
				if h, at, err = mixName(h, borrow(msg), from+at, end); err != nil {
					return h
				}
				at -= from
			} else if size, err := f.kind.span(rdata, at); err != nil {
				return hashBytes(h, rdata[at:], 0)
			} else {
				h = hashBytes(h, rdata[at:at+size], 0)
				at += size
			}
			if f.last() {
				break
			}
		}
	}
	return hashBytes(h, rdata[at:], 0)
}

// bit5 folds letters where it is set in every byte. What else it maps together differs
// in what no name has.
const bit5 = 0x2020202020202020

// hashBytes takes data into a hash, with the bits of set set in each eight bytes of it.
func hashBytes(h uint64, data string, set uint64) uint64 {
	h ^= uint64(len(data)) << 32
	for ; len(data) >= 8; data = data[8:] {
		h = fold64(h ^ (eightBytes(data) | set))
	}
	for i := range len(data) {
		h = h<<8 ^ h>>56 ^ (uint64(data[i]) | set&0xff)
	}
	return fold64(h)
}

// eightBytes are the first of data as one number.
func eightBytes(data string) uint64 {
	_ = data[7]
	return uint64(data[0]) | uint64(data[1])<<8 | uint64(data[2])<<16 | uint64(data[3])<<24 |
		uint64(data[4])<<32 | uint64(data[5])<<40 | uint64(data[6])<<48 | uint64(data[7])<<56
}

// mixName takes the name at msg[from:end] into a hash, letter case ignored, and
// returns the offset after it.
func mixName(h uint64, msg string, from, end int) (_ uint64, after int, err error) {
	for l := startLabels(from, end); ; {
		label, err := l.next(msg)
		if err != nil {
			return h, 0, err
		}
		if len(label) == 1 {
			return fold64(h), l.after, nil
		}
		h = hashBytes(h, label, bit5)
	}
}
