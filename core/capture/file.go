package capture

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// expand reads through gzip or zstd where the file begins like one.
func expand(file io.Reader) (io.Reader, error) {
	var magic [4]byte
	n, err := io.ReadFull(file, magic[:])
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	in := io.MultiReader(bytes.NewReader(magic[:n]), file)
	var plain io.Reader
	switch {
	case n >= 2 && magic[0] == 0x1f && magic[1] == 0x8b:
		plain, err = gzip.NewReader(in)
	case string(magic[:n]) == "\x28\xb5\x2f\xfd":
		plain, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderLowmem(true))
	default:
		return in, nil
	}
	if err != nil {
		return nil, fmt.Errorf("unpacking: %w: %w", ErrDamaged, err)
	}
	return bufio.NewReaderSize(unpacked{plain}, 256<<10), nil
}

// unpacked tells the damage of a packed file as that of the capture.
type unpacked struct{ r io.Reader }

func (u unpacked) Read(b []byte) (int, error) {
	n, err := u.r.Read(b)
	switch {
	case err == nil || err == io.EOF:
	case errors.Is(err, io.ErrUnexpectedEOF):
		err = io.EOF // the capture's own reader says where it was cut
	default:
		err = fmt.Errorf("unpacking: %w: %w", ErrDamaged, err)
	}
	return n, err
}

// Follow reads a file that is still being written: at its end it waits for more,
// until ctx ends.
func Follow(ctx context.Context, r io.Reader) io.Reader { return &follower{ctx, r} }

type follower struct {
	ctx context.Context
	r   io.Reader
}

// pollEvery is how often a growing file is looked at.
const pollEvery = 200 * time.Millisecond

func (f *follower) Read(b []byte) (int, error) {
	for {
		n, err := f.r.Read(b)
		if n > 0 || err != nil && err != io.EOF {
			return n, err
		}
		select {
		case <-f.ctx.Done():
			return 0, io.EOF
		case <-time.After(pollEvery):
		}
	}
}

// Merge yields the packets of several captures by their time, numbered anew from
// 1; those without a time follow the one before them. The *Record is that of one
// of the readers, and is overwritten by the next step of that one. An error of a
// file ends that file; all errors come at the end, joined, with a nil Record.
func Merge(readers []*Reader) iter.Seq2[*Record, error] {
	if len(readers) == 1 {
		return readers[0].Records()
	}
	return func(yield func(*Record, error) bool) {
		heads := make([]*Record, len(readers))
		for i, r := range readers {
			heads[i] = r.advance()
		}
		number := 0
		for {
			first := -1
			for i, head := range heads {
				if head != nil && (first < 0 || head.At < heads[first].At) {
					first = i
				}
			}
			if first < 0 {
				break
			}
			number++
			record := *heads[first]
			record.Number = number
			if !yield(&record, nil) {
				return
			}
			heads[first] = readers[first].advance()
		}
		var errs []error
		for _, r := range readers {
			errs = append(errs, r.err)
		}
		if err := errors.Join(errs...); err != nil {
			yield(nil, err)
		}
	}
}
