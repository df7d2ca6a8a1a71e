package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// config is what unquil/config.toml says.
type config struct {
	Ask struct {
		From     []string
		Types    []string // asked for where --type says nothing
		Wait     duration
		Attempts int
		Tries    int // the same, in older files
	}
	Resolver map[string]struct {
		At    string // as after --from
		Place string // for a reader
	}
	Group map[string][]string // of labels, or of what --from takes

	Registry struct{ Bootstrap string } // as after --bootstrap
}

// duration is a time written as 2s or 500ms.
type duration time.Duration

func (d *duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err == nil && (v < minWait || v > maxWait) {
		err = errWait
	}
	*d = duration(v)
	return err
}

// readConfig reads --config, or the user's own file if there is one.
func (a *app) readConfig() error {
	path, asked := a.configFile, a.configFile != ""
	if !asked {
		folder := getenv(a.environ, "XDG_CONFIG_HOME")
		if folder == "" {
			var err error
			if folder, err = os.UserConfigDir(); err != nil {
				return nil // nowhere to look
			}
		}
		path = filepath.Join(folder, "unquil", "config.toml")
	}
	text, err := a.files.Read(path, maxSettings)
	switch {
	case !asked && errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return usage(fmt.Errorf("reading the configuration: %w", err))
	}
	decoder := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
	if err := decoder.Decode(&a.config); err != nil {
		if strict, ok := errors.AsType[*toml.StrictMissingError](err); ok && len(strict.Errors) > 0 {
			line, _ := strict.Errors[0].Position()
			return usage(fmt.Errorf("reading %s: line %d: %v: %w", path, line, strict.Errors[0].Key(), errSetting))
		}
		if at, ok := errors.AsType[*toml.DecodeError](err); ok {
			line, column := at.Position()
			return usage(fmt.Errorf("reading %s: line %d column %d: %w", path, line, column, err))
		}
		return usage(fmt.Errorf("reading %s: %w", path, err))
	}
	return nil
}

// ExampleConfig is a configuration that shows every setting.
const ExampleConfig = `# ~/.config/unquil/config.toml
[ask]
from = ["office", "isp"] # whom to ask where --from says nothing
types = ["A", "AAAA"]    # and which types, where --type says nothing
wait = "2s"
attempts = 2

[resolver.office]
at = "192.0.2.53"
place = "in the machine room"

[resolver.isp]
at = "tls://198.51.100.53"

[group]
both = ["office", "isp"]

[registry]
bootstrap = "/srv/registries" # where the lists of RFC 9224 are kept
`

// asksTypes are the commands that ask for the types of the configuration where --type says nothing.
var asksTypes = []string{"ask", "compare", "why"}

// configuredTypes has a command ask for the types of the configuration.
func (a *app) configuredTypes(cmd *cobra.Command) error {
	typed := cmd.Flags().Lookup("type")
	if typed == nil || typed.Changed || len(a.Ask.Types) == 0 || !slices.Contains(asksTypes, cmd.Name()) {
		return nil
	}
	if _, err := parseTypes(a.Ask.Types); err != nil {
		return fmt.Errorf("in the configuration: %w", err)
	}
	return typed.Value.(pflag.SliceValue).Replace(a.Ask.Types)
}

// maxNesting is how deep groups may name groups.
const maxNesting = 4

// expand replaces groups by what is in them.
func (c *config) expand(words []string, depth int) []string {
	var all []string
	for _, word := range words {
		if group, ok := c.Group[word]; ok && depth < maxNesting {
			all = append(all, c.expand(group, depth+1)...)
		} else {
			all = append(all, word)
		}
	}
	return all
}
