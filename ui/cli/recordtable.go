package cli

import (
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"unquil/core/conversation"
	"unquil/core/serverlog"
	"unquil/ui/data"
	"unquil/ui/files"
)

// recordTable is exchanges that are written one after the other, as a table or as servers record them.
type recordTable struct {
	app     *app
	to      string
	what    string // it is, in words
	split   data.Split
	columns *data.Columns
	cdns    *serverlog.CDNSWriter
	packed  io.WriteCloser
	outputs []*files.Output
	mark    string // of its files among those of others
	count   int
	err     error
}

// recordsTo is what --to and --split ask for; nil: packets, or nothing.
func (a *app) recordsTo(d *decoding) (*recordTable, error) {
	t := &recordTable{app: a, to: d.to}
	if d.split != "" {
		split, err := parseSplit(d.split)
		if err == nil && (d.to == "" || d.to == "-") {
			err = errSplitTo
		}
		if err != nil {
			return nil, usage(fmt.Errorf("--split %q: %w", shorten(d.split), err))
		}
		t.split, t.what = split, "Parquet"
	}
	bare := strings.TrimSuffix(strings.TrimSuffix(d.to, ".gz"), ".zst")
	switch {
	case t.what != "":
	case strings.HasSuffix(bare, ".parquet") && bare != d.to:
		return nil, usage(fmt.Errorf("--to %q: %w", shorten(d.to), errPacked))
	case strings.HasSuffix(bare, ".parquet"):
		t.what = "Parquet"
	case strings.HasSuffix(bare, ".cdns"):
		t.what = "C-DNS"
	default:
		return nil, nil
	}
	if d.follow {
		return nil, usage(fmt.Errorf("--follow-file with --to: %w", errTogether))
	}
	return t, nil
}

// parseSplit reads a time, a size, or both.
func parseSplit(text string) (split data.Split, err error) {
	for word := range strings.SplitSeq(text, ",") {
		if word == "1d" {
			word = "24h"
		}
		every, bad := time.ParseDuration(word)
		if bad != nil {
			size, err := parseSize(word)
			if err != nil || size < leastSplit {
				return split, errSplit
			}
			split.Bytes = size
			continue
		}
		if every < time.Minute || every > 24*time.Hour || (24*time.Hour)%every != 0 {
			return split, errSplit
		}
		split.Every = every
	}
	return split, nil
}

// leastSplit is the least size of a file.
const leastSplit = 1 << 20

// begin opens what is written, once it is known what is read.
func (t *recordTable) begin(paths []string) (err error) {
	h := fnv.New64a()
	host, _ := os.Hostname() // machines that do not know their names have the same
	fmt.Fprintf(h, "%s %q", host, paths)
	t.mark = fmt.Sprintf("%016x", h.Sum64())
	if t.what == "Parquet" {
		t.columns = data.NewColumns(t.split, t.open)
		if t.split == (data.Split{}) {
			_, err := t.create(t.to) // at once, so that a name that cannot be written costs no reading
			return err
		}
		return os.MkdirAll(t.to, 0o755)
	}
	out, err := t.create(t.to)
	if err != nil {
		return err
	}
	if t.packed, err = files.Packed(t.to, out); err == nil {
		t.cdns, err = serverlog.NewCDNSWriter(t.packed)
	}
	return err
}

func (t *recordTable) create(path string) (*files.Output, error) {
	out, err := t.app.files.Create(path)
	if err == nil {
		t.outputs = append(t.outputs, out)
	}
	return out, err
}

// open opens a file of a folder; "" is the only one.
func (t *recordTable) open(name string) (io.WriteCloser, error) {
	if name == "" {
		return leftOpen{t.outputs[0]}, nil
	}
	path := filepath.Join(t.to, filepath.FromSlash(filepath.Dir(name)), t.mark+"-"+filepath.Base(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	out, err := t.create(path)
	if err != nil {
		return nil, err
	}
	return leftOpen{out}, nil
}

// leftOpen is an output that the run puts in place.
type leftOpen struct{ io.Writer }

func (leftOpen) Close() error { return nil }

// tell writes an exchange.
func (t *recordTable) tell(p *conversation.Transaction) {
	switch {
	case t.err != nil:
		return
	case t.columns != nil:
		t.err = t.columns.Add(p)
	default:
		t.err = p.Recorded(t.cdns.Add)
	}
	t.count++
}

// end writes what is left, and puts it in place: nothing of a reading that the user cut short. What came before a
// file turned out to be damaged is whole.
func (t *recordTable) end() error {
	err := t.err
	if t.columns != nil {
		err = firstOf(err, t.columns.Close())
	} else {
		err = firstOf(err, t.cdns.Close(), t.packed.Close())
	}
	if err = firstOf(err, t.app.ctx.Err()); err != nil {
		for _, out := range t.outputs {
			out.Discard()
		}
		return fmt.Errorf("writing exchanges: %w", err)
	}
	for _, out := range slices.Backward(t.outputs) {
		err = errors.Join(err, t.app.commit(out))
	}
	if err != nil {
		return fmt.Errorf("writing exchanges: %w", err)
	}
	return nil
}
