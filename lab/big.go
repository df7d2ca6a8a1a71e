package lab

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"time"
)

// WriteBig writes a pcap file of that many packets: clients of one network that ask
// two resolvers for some thousand names, now and then for one that does not exist.
func WriteBig(w io.Writer, packets int) error {
	l, set, err := still()
	if err != nil {
		return err
	}
	begin := set(0)
	names := []string{"www.hollowtarn.example.", "web.hollowtarn.example.", "piste.hollowtarn.example.", "tickets.hollowtarn.example.", "mx1.hollowtarn.example.", "phone.hollowtarn.example.", "www.farhost.test.", "nothing.hollowtarn.example."}
	const clients, perClient = 200, 40
	var pairs [][2][]byte
	for i := range clients * perClient {
		name := names[i%len(names)]
		if i%4 == 1 {
			name = fmt.Sprintf("part%d.guest.hollowtarn.example.", i%997)
		}
		server := officeAt
		if i%5 == 0 {
			server = ispAt
		}
		m := moment{at: time.Duration(i), client: fmt.Sprintf("192.0.2.%d", 100+i%clients%150), server: server, name: name, took: time.Millisecond}
		two, err := l.play(m, both[i/2%2], begin)
		if err != nil {
			return err
		}
		if len(two) == 2 {
			pairs = append(pairs, [2][]byte{two[0].bytes, two[1].bytes})
		}
	}
	out := bufio.NewWriterSize(w, 1<<20)
	out.Write(pcap(nil))
	var header [16]byte
	at := begin.UnixMicro()
	for i := 0; i < packets; i += 2 {
		pair := pairs[i/2*7919%len(pairs)]
		for side, b := range pair {
			// A new ID each time, so that no two exchanges are one.
			binary.BigEndian.PutUint16(b[14+20+8:], uint16(i/2/len(pairs)*31+i))
			when := at + int64(i)*60 + int64(side)*900
			binary.LittleEndian.PutUint32(header[0:], uint32(when/1e6))
			binary.LittleEndian.PutUint32(header[4:], uint32(when%1e6))
			binary.LittleEndian.PutUint32(header[8:], uint32(len(b)))
			binary.LittleEndian.PutUint32(header[12:], uint32(len(b)))
			out.Write(header[:])
			if _, err := out.Write(b); err != nil {
				return err
			}
		}
	}
	return out.Flush()
}
