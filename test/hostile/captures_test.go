//go:build linux

package hostile

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The parts of capture files.
var (
	pcapHead   = []byte("\xd4\xc3\xb2\xa1\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x04\x00\x01\x00\x00\x00")
	pcapngHead = []byte("\x0a\x0d\x0d\x0a\x1c\x00\x00\x00\x4d\x3c\x2b\x1a\x01\x00\x00\x00\xff\xff\xff\xff\xff\xff\xff\xff\x1c\x00\x00\x00")
	face       = []byte("\x01\x00\x00\x00\x14\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x14\x00\x00\x00")
)

// framed is a packet in a pcap file, at a second.
func framed(at uint32, packet []byte) []byte {
	b := binary.LittleEndian.AppendUint32(nil, at)
	b = binary.LittleEndian.AppendUint32(b, 0)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(packet)))
	b = binary.LittleEndian.AppendUint32(b, uint32(len(packet)))
	return append(b, packet...)
}

// fragment is part of a UDP datagram over IPv4 on Ethernet.
func fragment(id uint16, offset int, more bool, data []byte) []byte {
	b := append(bytes.Repeat([]byte{2}, 12), 8, 0, 0x45, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(20+len(data)))
	b = binary.BigEndian.AppendUint16(b, id)
	flags := uint16(offset / 8)
	if more {
		flags |= 0x2000
	}
	b = append(binary.BigEndian.AppendUint16(b, flags), 64, 17, 0, 0, 192, 0, 2, 10, 192, 0, 2, 53)
	return append(b, data...)
}

// block is one of a pcapng file.
func block(kind uint32, body []byte) []byte {
	body = append(body, make([]byte, -len(body)&3)...)
	b := binary.LittleEndian.AppendUint32(nil, kind)
	b = binary.LittleEndian.AppendUint32(b, uint32(12+len(body)))
	return binary.LittleEndian.AppendUint32(append(b, body...), uint32(12+len(body)))
}

// names is a block that gives an address a name.
func names(n int, name string) []byte {
	value := append([]byte{10, byte(n >> 16), byte(n >> 8), byte(n)}, name...)
	value = append(value, 0)
	body := binary.LittleEndian.AppendUint16(nil, 1)
	body = binary.LittleEndian.AppendUint16(body, uint16(len(value)))
	body = append(append(body, value...), make([]byte, -len(value)&3)...)
	return block(4, append(body, 0, 0, 0, 0))
}

// mostMemory is what reading any of these files may take, in kB.
const mostMemory = 200_000

// peak is the most memory that a process has had so far, in kB; 0 when it has gone.
func peak(pid int) (kB int) {
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	fmt.Sscan(rest, &kB)
	return kB
}

// Files that mean harm are read in little memory, and to a sentence or an overview.
func TestCapturesThatMeanHarm(t *testing.T) {
	many := func(n int, head []byte, each func(i int) []byte) func() []byte {
		return func() []byte {
			b := bytes.NewBuffer(bytes.Clone(head))
			for i := range n {
				b.Write(each(i))
			}
			return b.Bytes()
		}
	}
	same := func(b []byte) func(int) []byte { return func(int) []byte { return b } }
	eight := bytes.Repeat([]byte("x"), 8)
	for _, tt := range []struct {
		name   string
		file   func() []byte
		packed bool
		code   int
		want   string
	}{
		{"interfaces without end", many(6_000_000, pcapngHead, same(face)), true, 1, "more than 65536 interfaces"},
		{"host names without end", many(12_000, append(bytes.Clone(pcapngHead), face...), func(i int) []byte { return names(i, strings.Repeat("n", 16_000)) }), true, 0, ""},
		{"sections without end", many(3_000_000, pcapngHead, same(pcapngHead)), true, 0, ""},
		{"empty packets", many(2_000_000, pcapHead, same(framed(1_773_042_000, nil))), false, 0, "2,000,000 packets cannot be read"},
		{"fragments with holes", many(400_000, pcapHead, func(i int) []byte { return framed(1_773_042_000, fragment(uint16(i/4000), 16*(i%4000), true, eight)) }), false, 0, ""},
		{"fragments of as many datagrams", many(400_000, pcapHead, func(i int) []byte { return framed(1_773_042_000, fragment(uint16(i), 8, true, eight)) }), false, 0, ""},
		{"messages cut short", many(1_000_000, pcapHead, func(i int) []byte {
			return framed(1_773_042_000, fragment(1, 0, false, []byte("\x0f\xa0\x00\x35\x00\x10\x00\x00\x00\x07\x01\x00\x00\x01\x00\x00")))
		}), false, 0, "1,000,000 packets cannot be read"},
		{"times beyond reason", func() []byte {
			return append(append(bytes.Clone(pcapHead), framed(1, fragment(1, 0, false, eight))...), framed(4_294_967_295, fragment(2, 0, false, eight))...)
		}, false, 0, "the times are absurd"},
		{"nothing but zeros", many(1, nil, same(make([]byte, 64<<20))), true, 1, "neither a capture nor a server's record"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			s := setting{folder: t.TempDir()}
			file := tt.file()
			if tt.packed {
				var b bytes.Buffer
				w, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed)
				w.Write(file)
				require.NoError(t, w.Close())
				file = b.Bytes()
			}
			s.put(t, "file", file)
			ctx, stop := context.WithTimeout(t.Context(), limit)
			defer stop()
			cmd, stdout, stderr := s.start(ctx, "decode", "file")
			require.NoError(t, cmd.Start())
			most, ended := 0, make(chan struct{})
			watched := make(chan struct{})
			go func() {
				defer close(watched)
				for {
					most = max(most, peak(cmd.Process.Pid))
					select {
					case <-ended:
						return
					case <-time.After(10 * time.Millisecond):
					}
				}
			}()
			err := cmd.Wait()
			close(ended)
			<-watched
			if err != nil {
				require.ErrorAs(t, err, new(*exec.ExitError))
			}
			require.NoError(t, ctx.Err(), "it did not end")
			assert.Equal(t, tt.code, cmd.ProcessState.ExitCode(), stderr.String())
			assert.Contains(t, strings.Join(strings.Fields(stdout.String()+stderr.String()), " "), tt.want)
			assert.NotContains(t, stderr.String(), "goroutine")
			assert.Less(t, most, mostMemory, "kB")
			t.Logf("%d kB at the most, of a file of %d", most, len(file)/1000)
		})
	}
}

// Settings that are no such files are refused, and read no further than such files go.
func TestSettingsThatHaveNoEnd(t *testing.T) {
	s := setting{folder: t.TempDir()}
	for _, args := range [][]string{
		{"ask", "www.hollowtarn.example", "--config", "/dev/zero"},
		{"ask", "www.hollowtarn.example", "--ca", "/dev/zero"},
		{"trace", "www.hollowtarn.example", "--roots", "/dev/zero"},
		{"transfer", "hollowtarn.example", "--from", "ns.farhost.test", "--key", "/dev/zero"},
	} {
		o := s.run(t, args...)
		assert.Contains(t, []int{1, 2}, o.code, "%v", args)
		assert.Contains(t, o.stderr, "larger than such a file ever is", "%v", args)
	}
}
