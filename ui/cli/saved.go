package cli

import (
	"bytes"
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"unquil/core/casework"
	"unquil/ui/data"
	"unquil/ui/files"
)

// saving is what --save and --changes-from are about.
type saving struct {
	save, changesFrom string
	saved             *files.Output
	before            *casework.Step
	shown             io.Writer    // where the changes go, and nothing else
	written           bytes.Buffer // of this run, with --json
}

// savers are the commands whose results can be saved, and held against those of another day.
var savers = []string{"ask", "compare", "trace", "zone", "why", "mail"}

func (a *app) saveFlags(cmd *cobra.Command) {
	if slices.Contains(savers, cmd.Name()) {
		cmd.Flags().StringVar(&a.save, "save", "", "save what the run came to in `FILE`, for --changes-from on another day")
		cmd.Flags().StringVar(&a.changesFrom, "changes-from", "", "tell only what changed since the run that was saved in `FILE`")
	}
}

// saves reports whether the run is saved, or held against another.
func (a *app) saves() bool { return a.save != "" || a.changesFrom != "" }

// beginSaving opens what the options name, before anybody is asked.
func (a *app) beginSaving() error {
	if a.changesFrom != "" {
		a.files.Note(a.changesFrom)
		text, err := a.files.Read(a.changesFrom, maxSaved)
		if err == nil {
			a.before, err = data.ReadSaved(text)
		}
		if err != nil {
			return fmt.Errorf("reading %s: %w", a.changesFrom, err)
		}
	}
	if a.save != "" {
		var err error
		if a.saved, err = a.files.Create(a.save); err != nil {
			return fmt.Errorf("saving the result: %w", err)
		}
	}
	if a.changesFrom != "" {
		a.shown, a.stdout = a.stdout, io.Discard
	}
	if a.json {
		a.stdout = io.MultiWriter(a.stdout, &a.written)
	}
	return nil
}

// maxSaved is how many bytes a saved result may have.
const maxSaved = 256 << 20

// endSaving saves what the run came to, and tells what changed. failed is what the run returned.
func (a *app) endSaving(command string, failed error) error {
	if failed != nil && !onlyFaults(failed) || a.ctx.Err() != nil {
		return failed
	}
	text := a.written.Bytes()
	if !a.json {
		d := a.document(command, a.told.findings)
		made := a.now().UTC()
		d.Made = &made
		var b bytes.Buffer
		if err := d.Write(&b); err != nil {
			return err
		}
		text = b.Bytes()
	}
	if a.saved != nil {
		_, err := a.saved.Write(text)
		if err == nil {
			err = a.saved.Commit()
		}
		if err != nil {
			return fmt.Errorf("saving the result: %w", err)
		}
	}
	if a.before == nil {
		return failed
	}
	after, err := data.ReadSaved(text)
	if err != nil {
		return err
	}
	a.stdout = a.shown
	changes := casework.Compare(a.before, after)
	var worse error
	if changes.Worse() {
		worse = errFault
	}
	if a.json {
		d := data.Document{Unquil: version(), Command: command, Result: data.OfChanges(a.before, &changes)}
		return firstOf(d.Write(a.stdout), worse)
	}
	view := a.view()
	view.Changes(a.before, &changes)
	return firstOf(view.Err(), worse)
}
