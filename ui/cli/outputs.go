package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"unquil/core/escape"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/ui/files"
)

// maxSettings is how many bytes a file of settings may hold: a configuration, root hints,
// certificates.
const maxSettings = 4 << 20

// outputs are the files that the common options name. They are opened before anybody is
// asked anything, so that a name that cannot be written costs no evidence.
type outputs struct {
	keep, reportFile string
	evidence         *keeping
	given            any           // what a run was given, where its evidence holds that; nil: it does not
	page, capture    *files.Output // of the report; nil without one
	opened           bool
}

// openOutputs opens what --keep and --report name. What is read has been noted before.
func (a *app) openOutputs() (err error) {
	if a.opened {
		return nil
	}
	a.opened = true
	for _, path := range []string{a.roots, a.caFile} {
		if path != "" {
			a.files.Note(path)
		}
	}
	if a.evidence, err = a.newEvidence(); err != nil {
		return err
	}
	if a.reportFile != "" {
		if a.page, err = a.files.Create(a.reportFile); err != nil {
			return fmt.Errorf("writing the report: %w", err)
		}
		beside := strings.TrimSuffix(a.reportFile, filepath.Ext(a.reportFile)) + ".pcapng"
		if a.capture, err = a.files.Create(beside); err != nil {
			return fmt.Errorf("writing the report's capture: %w", err)
		}
	}
	return a.divertStdout()
}

// dropReport gives up the outputs of a report that were not put in place.
func (a *app) dropReport() {
	for _, o := range []*files.Output{a.page, a.capture} {
		if o != nil {
			o.Discard()
		}
	}
}

// divertStdout moves what a person reads out of the way of an output that goes to standard
// output.
func (a *app) divertStdout() error {
	if !a.files.UsesStdout() {
		return nil
	}
	if a.json || a.bare {
		return usage(fmt.Errorf("--json or --bare with an output to standard output: %w", errTogether))
	}
	a.stdout = a.stderr
	return nil
}

// commit puts an output in place. A run that was cut short replaces nothing: what stood
// there is whole, and this is not.
func (a *app) commit(o *files.Output) error {
	if a.ctx.Err() == nil || !o.Replaces() {
		return o.Commit()
	}
	o.Discard()
	fmt.Fprintf(a.stderr, "unquil: %s was left as it was\n", escape.Of(o.Name()))
	return nil
}

// keeping is the file that --keep names; without one it keeps nothing.
type keeping struct {
	mu     sync.Mutex // names are looked up beside the answers
	file   *files.Output
	packed io.WriteCloser // in front of it
	writer *evidence.Writer
	added  map[int]bool // by number, of those that may come again
}

func (a *app) keepFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.keep, "keep", "", "save every packet exchanged in `FILE.pcapng`, packed where the name ends in .gz or .zst")
}

func (a *app) newEvidence() (*keeping, error) {
	if a.keep == "" {
		return &keeping{}, nil
	}
	file, err := a.files.Create(a.keep)
	if err != nil {
		return nil, fmt.Errorf("keeping evidence: %w", err)
	}
	packed, err := files.Packed(a.keep, file)
	if err != nil {
		return nil, fmt.Errorf("keeping evidence: %w", err)
	}
	writer, err := evidence.New(packed)
	if err != nil {
		return nil, fmt.Errorf("keeping evidence: %w", err)
	}
	return &keeping{file: file, packed: packed, writer: writer}, nil
}

// keepSession writes all exchanges of the session to the file that --keep names.
func (a *app) keepSession() (err error) {
	defer a.keepEnd(&err)
	if a.evidence.writer == nil {
		return nil
	}
	if err := a.evidence.writer.AddAll(a.session.Exchanges(), a.given); err != nil {
		return fmt.Errorf("keeping evidence: %w", err)
	}
	return nil
}

// addOnce is add, of an exchange that may have been added before.
func (v *keeping) addOnce(e *exchange.Exchange) error {
	v.mu.Lock()
	known := v.added[e.Number]
	if v.added == nil {
		v.added = map[int]bool{}
	}
	v.added[e.Number] = true
	v.mu.Unlock()
	if known {
		return nil
	}
	return v.add(e)
}

func (v *keeping) add(e *exchange.Exchange) error {
	if v.writer == nil {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.writer.Add(e); err != nil {
		return fmt.Errorf("keeping evidence: %w", err)
	}
	return nil
}

// keepEnd puts the evidence in place; a failure counts when there is no other.
func (a *app) keepEnd(err *error) {
	if a.evidence.file == nil {
		return
	}
	e := a.evidence.packed.Close()
	if e == nil {
		e = a.commit(a.evidence.file)
	}
	if e != nil && (*err == nil || onlyFaults(*err)) {
		*err = fmt.Errorf("keeping evidence: %w", e)
	}
}

// writeEvidence writes exchanges as a capture, with what their run was given; nil is nothing.
func writeEvidence(w io.Writer, exchanges []exchange.Exchange, given any) error {
	writer, err := evidence.New(w)
	if err != nil {
		return err
	}
	return writer.AddAll(exchanges, given)
}
