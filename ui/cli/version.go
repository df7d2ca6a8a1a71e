package cli

import (
	"cmp"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"unquil/ui/data"
)

// Release is the version that this source is on the way to.
const Release = "0.2.0"

func buildOf() data.Build {
	b := data.Build{Version: Release, Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH, Schema: data.Schema}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	changed := ""
	for _, setting := range info.Settings {
		switch {
		case setting.Key == "vcs.revision":
			b.Commit = setting.Value
		case setting.Key == "vcs.modified" && setting.Value == "true":
			changed = "+"
		}
	}
	if b.Commit != "" {
		b.Commit += changed
	}
	return b
}

// version is the release and, where the build knows it, the commit.
func version() string {
	if b := buildOf(); b.Commit != "" {
		return Release + "+" + b.Commit[:min(12, len(b.Commit))]
	}
	return Release
}

// newVersion is `unquil version`.
func newVersion(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Which build of the program is this?",
		Example: "  unquil version",
		Args:    taking(0, 0),
		RunE: func(*cobra.Command, []string) error {
			b := buildOf()
			if a.json {
				d := a.document("version", nil)
				d.Result = b
				return d.Write(a.stdout)
			}
			view := a.view()
			view.Rows([][2]string{{"version", b.Version}, {"commit", cmp.Or(b.Commit, "unknown: not built from a repository")}, {"built with", b.Go}, {"for", b.Platform}, {"JSON schema", "1"}})
			return view.Err()
		},
	}
}
