package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/charmbracelet/colorprofile"
	"github.com/spf13/cobra"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/wording"
	"unquil/ui/browse"
	"unquil/ui/data"
	"unquil/ui/page"
	"unquil/ui/text"
)

// newBrowse is `unquil browse`.
func newBrowse(a *app) *cobra.Command {
	var plain bool
	var ports []uint
	var https []string
	cmd := &cobra.Command{
		Use:   "browse FILE...",
		Short: "Walk through a capture, from what went wrong down to the byte",
		Long: "Shows the findings of a capture, the worst first. Enter goes down: to the exchanges that show one, to an exchange whole, to its bytes, each named; Esc goes back up. " +
			"Files of any size can be browsed, and one that is still being written goes on growing. Question mark lists the keys.",
		Example: "  unquil browse --lab valley-morning.pcapng\n  unquil browse --lab --plain valley-morning.pcapng",
		Args:    taking(1, many),
		RunE: func(cmd *cobra.Command, paths []string) error {
			plan, err := (&decoding{paths: paths, ports: ports, https: https}).reading()
			if err != nil {
				return err
			}
			files := &captureFiles{app: a, ctx: cmd.Context(), paths: paths, twice: true}
			defer files.close()
			if _, err := files.Open(); err != nil { // what cannot be read is told before the screen is taken
				return err
			}
			files.close()
			for _, path := range paths {
				a.files.Note(path)
			}
			debug.SetMemoryLimit(browseMemory)
			source := browse.Source{Title: string(escape.Of(strings.Join(bases(paths), ", "))), Size: files.now,
				Archive: &conversation.Archive{Source: again{files}, Ports: plan.Ports, HTTPS: plan.HTTPS}}
			source.Write = func(ctx context.Context, path string, chosen *conversation.Chosen, notes map[int]string) (string, error) {
				return a.writeBrowsed(ctx, files, plan, path, chosen, notes)
			}
			colour := text.Colour(a.colour)
			if plain || !isTerminal(a.files.Stdin) || a.quietOut() {
				return browse.RunPlain(cmd.Context(), browse.New(source, text.Never), reading{cmd.Context(), a.files.Stdin}, a.stdout)
			}
			if colour == text.Auto {
				colour = text.Never
				if colorprofile.Detect(a.stdout, a.environ) > colorprofile.ASCII {
					colour = text.Always
				}
			}
			return browse.Run(cmd.Context(), browse.New(source, colour), a.files.Stdin, a.stdout, a.environ)
		},
	}
	flags := cmd.Flags()
	flags.BoolVar(&plain, "plain", false, "lines of words instead of a screen with keys, for a screen reader or a pipe")
	flags.UintSliceVar(&ports, "port", nil, "also look for DNS on these `PORTS`")
	flags.StringSliceVar(&https, "https-host", nil, "`HOSTS` that serve DNS over HTTPS")
	return cmd
}

// browseMemory is how many bytes the program tries to do with while it browses: what it does not
// hold it reads again.
const browseMemory = 72 << 20

// again are files of which one reading ends before the next begins.
type again struct{ *captureFiles }

// Open opens them at their beginning, and closes what the reading before had open.
func (f again) Open() ([]*capture.Reader, error) {
	f.close()
	f.files = nil
	return f.captureFiles.Open()
}

// bases are the names of files without their folders.
func bases(paths []string) (names []string) {
	for _, path := range paths {
		names = append(names, filepath.Base(path))
	}
	return names
}

// now is how many bytes the files have by now.
func (c *captureFiles) now() (size int64) {
	for _, path := range c.paths {
		if file, err := c.app.openCapture(path); err == nil {
			if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
				size += info.Size()
			}
			file.Close()
		}
	}
	return size
}

// writeBrowsed writes exchanges to a file, by the ending of its name, and says what it wrote.
func (a *app) writeBrowsed(ctx context.Context, from *captureFiles, plan conversation.Plan, path string, chosen *conversation.Chosen, notes map[int]string) (said string, err error) {
	out := &app{ctx: ctx, files: a.files, stdout: io.Discard, stderr: io.Discard, environ: a.environ, args: a.args, labOptions: a.labOptions}
	plan.Choose, plan.Settled, plan.Keep = chosen.Choose, true, -1
	end := strings.ToLower(filepath.Ext(path))
	exchanges := wording.Count(chosen.Count(), "exchange", "exchanges")
	if reportKinds[end] != nil {
		plan.Keep, plan.Select = keptExchanges, conversation.SelectForReport
		plan.Notes = notes
		out.reportFile = path
		defer out.dropReport()
		if err := out.openOutputs(); err != nil {
			return "", err
		}
		study, err := conversation.NewStudy(ctx, again{from}, plan)
		if err != nil {
			return "", err
		}
		report := out.captureReport(&decoding{paths: from.paths}, study)
		report.tables = append(notesTable(notes), report.tables...)
		return "report on " + exchanges + " written to " + string(escape.Of(path)), out.report(report)
	}
	var rows *data.Rows
	switch end {
	case ".pcapng":
		plan.Select, plan.Notes = conversation.SelectAll, notes
	case ".csv":
	default:
		return "", fmt.Errorf("%q: %w", shorten(path), errWritten)
	}
	file, err := a.files.Create(path)
	if err != nil {
		return "", err
	}
	defer file.Discard()
	if end == ".csv" {
		rows = data.NewRows(file)
		if err := rows.Write(data.ExchangeColumns...); err != nil {
			return "", err
		}
		plan.Tell = func(t *conversation.Transaction) {
			e := t.Exchange()
			err = firstOf(err, rows.Write(data.ExchangeRow(&e)...))
		}
	}
	study, failed := conversation.NewStudy(ctx, again{from}, plan)
	if err = firstOf(err, failed, ctx.Err()); err != nil {
		return "", err
	}
	said = exchanges + " written to " + string(escape.Of(path))
	if rows != nil {
		err = rows.End()
	} else {
		var packets int
		packets, err = study.WriteSelection(file)
		said = fmt.Sprintf("%s of %s", wording.Count(packets, "packet", "packets"), said)
	}
	return said, firstOf(err, file.Commit())
}

// notesTable are the notes as a table of a report.
func notesTable(notes map[int]string) []page.Table {
	t := page.Table{Title: "Notes", Columns: []string{"exchange", "note"}}
	for _, n := range slices.Sorted(maps.Keys(notes)) {
		t.Rows = append(t.Rows, []string{fmt.Sprint(n), notes[n]})
	}
	if len(t.Rows) == 0 {
		return nil
	}
	return []page.Table{t}
}
