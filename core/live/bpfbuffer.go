package live

import "encoding/binary"

// bpfPackets calls each with every packet of a buffer that a BPF device of macOS filled (bpf(4)):
// when it passed, how many bytes it had, and those that were kept. What does not fit is left.
func bpfPackets(buffer []byte, each func(at int64, length int, data []byte)) {
	order := binary.NativeEndian
	for len(buffer) >= 18 {
		kept, length, header := int(order.Uint32(buffer[8:])), int(order.Uint32(buffer[12:])), int(order.Uint16(buffer[16:]))
		if header < 18 || kept < 0 || kept > len(buffer)-header {
			return
		}
		each(int64(order.Uint32(buffer))*1e9+int64(order.Uint32(buffer[4:]))*1e3, length, buffer[header:header+kept])
		buffer = buffer[min((header+kept+3)&^3, len(buffer)):]
	}
}
