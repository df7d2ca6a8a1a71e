package cli

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"strings"

	"unquil/core/capture"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/ui/data"
)

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
