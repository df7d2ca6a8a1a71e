package capture

import "fmt"

// Layer is one header of a packet in words, and where it lies.
type Layer struct {
	Name   string
	Fields [][2]string
	Offset int // of its first byte in the record; -1 where that is not one of the record's
	Size   int // in bytes
}

// Fault is what is wrong with a packet's headers.
type Fault struct {
	What   string // which header, or which part of the packet
	Offset int    // of its first byte in the record; -1 in a datagram that was put together
	Says   string
}

func (f *Fault) Error() string {
	if f.Offset < 0 {
		return f.What + " in the datagram that was put together: " + f.Says
	}
	return fmt.Sprintf("%s at byte %d: %s", f.What, f.Offset, f.Says)
}

// What can be wrong with headers.
const (
	tooShort     = "the packet ends too soon"
	tooDeep      = "it lies within too many others"
	smallHeader  = "its header is said to be smaller than it can be"
	largeHeader  = "its header is said to be larger than what follows"
	smallTotal   = "it is said to be smaller than its header"
	largeTotal   = "it is said to be larger than what carries it"
	otherVersion = "it is of neither IP version"
)

// Fault is what is wrong with the packet that was [Malformed] last.
func (d *Decoder) Fault() *Fault {
	fault := d.fault
	return &fault
}

// bad says what is wrong with the part of the packet that begins with data.
func (d *Decoder) bad(what string, data []byte, says string) Contents {
	d.fault = Fault{what, d.Offset(data), says}
	return Malformed
}

// Offset is where data, such as a payload, begins in the record that was decoded last; -1
// when it lies elsewhere, since it was put together from fragments. What is cut off its end
// does not matter: its capacity goes on to that of the record.
func (d *Decoder) Offset(data []byte) int {
	if d.lends {
		return -1
	}
	return cap(d.rec.Data) - cap(data)
}

func (d *Decoder) note(name string, header []byte, fields ...string) {
	layer := Layer{Name: name, Offset: -1, Size: len(header)}
	if header != nil {
		layer.Offset = d.Offset(header)
	}
	for i := 0; i+1 < len(fields); i += 2 {
		layer.Fields = append(layer.Fields, [2]string{fields[i], fields[i+1]})
	}
	*d.Layers = append(*d.Layers, layer)
}
