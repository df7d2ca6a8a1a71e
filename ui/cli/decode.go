package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/lab"
	"unquil/ui/data"
)

// newDecode is `unquil decode`.
func newDecode(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "decode FILE...",
		Short:   "What happened in this capture: what failed and what was slow?",
		Example: "  unquil decode --lab valley-morning.pcapng",
		Args:    taking(1, many),
		RunE: func(cmd *cobra.Command, paths []string) error {
			var failed []error
			for i, path := range paths {
				if i > 0 && !a.json {
					fmt.Fprintln(a.stdout)
				}
				failed = append(failed, a.decode(path))
			}
			return errors.Join(failed...)
		},
	}
}

// decode reads one capture and shows it; what was read before an error is shown too.
func (a *app) decode(path string) error {
	file, err := a.openCapture(path)
	if err != nil {
		return fmt.Errorf("reading a capture: %w", err)
	}
	defer file.Close()
	reader, err := capture.NewReader(file)
	if err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	var each func(exchange.Exchange)
	lines := json.NewEncoder(a.stdout)
	lines.SetEscapeHTML(false)
	var written error
	if a.json {
		each = func(e exchange.Exchange) {
			if written == nil {
				written = lines.Encode(data.OfExchange(&e))
			}
		}
	}
	overview, err := conversation.Read(reader, each)
	if err != nil {
		err = fmt.Errorf("reading %s: %w", path, err)
	}
	if a.json {
		if written == nil {
			written = lines.Encode(map[string]any{"unquil": version(), "command": "decode", "schema": data.Schema, "file": path, "summary": data.OfOverview(overview)})
		}
		return firstOf(written, err, verdictOn(overview.Findings))
	}
	view := a.view()
	view.Overview(path, overview)
	return firstOf(view.Err(), err, verdictOn(overview.Findings))
}

// openCapture opens a file, or with --lab one of the lab's captures by its name.
func (a *app) openCapture(path string) (fs.File, error) {
	if a.lab {
		if file, err := lab.Captures().Open(path); err == nil {
			return file, nil
		}
	}
	return os.Open(path)
}
