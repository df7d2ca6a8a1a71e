package files

import (
	"io"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Packed is w behind what the ending of a name asks for: .gz or .zst. Close ends what was packed, and leaves w open.
// The error is never one of w.
func Packed(name string, w io.Writer) (io.WriteCloser, error) {
	switch {
	case strings.HasSuffix(name, ".gz"):
		return gzip.NewWriter(w), nil
	case strings.HasSuffix(name, ".zst"):
		return zstd.NewWriter(w, zstd.WithEncoderConcurrency(1))
	}
	return unpacked{w}, nil
}

type unpacked struct{ io.Writer }

func (unpacked) Close() error { return nil }
