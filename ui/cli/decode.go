package cli

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/ui/data"
)

// newDecode is `unquil decode`.
func newDecode(a *app) *cobra.Command {
	var message string
	cmd := &cobra.Command{
		Use:     "decode FILE...",
		Short:   "What happened in this capture: what failed and what was slow?",
		Example: "  unquil decode --lab valley-morning.pcapng\n  unquil decode --lab --message signed-answer.dns",
		RunE: func(cmd *cobra.Command, paths []string) error {
			if cmd.Flags().Changed("message") {
				if err := taking(0, 0)(cmd, paths); err != nil {
					return err
				}
				return a.decodeMessage(message)
			}
			if err := taking(1, many)(cmd, paths); err != nil {
				return err
			}
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
	cmd.Flags().StringVar(&message, "message", "", "instead of a capture, one DNS message: `HEX|BASE64|FILE`; every byte of it is named")
	return cmd
}

// decodeMessage names every byte of one message.
func (a *app) decodeMessage(text string) error {
	message, err := a.messageBytes(text)
	if err != nil {
		return err
	}
	m, broken := wire.ReadMessage(message)
	pieces, _ := wire.Pieces(message)
	var found []finding.Finding
	if broken != nil {
		found = append(found, finding.New(finding.Malformed, finding.Fault, finding.About{}, fmt.Sprintf("The message cannot be read to its end: %v.", broken)))
	}
	if a.json {
		d := a.document("decode", found)
		d.Result = data.OfMessage(message, &m, pieces, broken)
		return firstOf(d.Write(a.stdout), verdictOn(found))
	}
	view := a.view()
	view.Message(message, &m, pieces, broken, found)
	return firstOf(view.Err(), verdictOn(found))
}

// messageBytes takes a message from a file, which may hold the bytes themselves
// or their hex or base64, or from the command line.
func (a *app) messageBytes(text string) ([]byte, error) {
	if file, err := a.openCapture(text); err == nil {
		defer file.Close()
		content, err := io.ReadAll(io.LimitReader(file, 4*65536))
		if err != nil {
			return nil, fmt.Errorf("reading %s: %w", text, err)
		}
		if len(content) == 0 {
			return nil, fmt.Errorf("reading %s: %w", text, capture.ErrEmpty)
		}
		if decoded, ok := fromText(string(content)); ok {
			return decoded, nil
		}
		return content[:min(len(content), 65535)], nil
	}
	if decoded, ok := fromText(text); ok {
		return decoded, nil
	}
	return nil, usage(fmt.Errorf("--message %q: %w", shorten(text), errMessage))
}

// fromText reads hex or base64, white space left aside.
func fromText(text string) ([]byte, bool) {
	joined := strings.Join(strings.Fields(text), "")
	if decoded, err := hex.DecodeString(joined); err == nil && len(decoded) > 0 {
		return decoded, true
	}
	decoded, err := base64.StdEncoding.DecodeString(joined)
	return decoded, err == nil && len(decoded) > 0
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
