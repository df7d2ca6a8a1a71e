package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"unquil/lab"
	"unquil/ui/data"
	"unquil/ui/files"
)

// newLab is `unquil lab`.
func newLab(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "lab",
		Short: "The simulated internet: who is in it, and what is wrong with it",
		Args:  onlyCommands,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	var workshop bool
	show := &cobra.Command{
		Use:   "show",
		Short: "Show the story, the servers, the resolvers and the faults",
		Args:  taking(0, 0),
		RunE: func(*cobra.Command, []string) error {
			scenario, err := lab.Load()
			if err != nil {
				return err
			}
			if a.json {
				d := a.document("lab show", nil)
				d.Result = data.OfScenario(scenario)
				return d.Write(a.stdout)
			}
			view := a.view()
			view.Scenario(scenario, workshop)
			return view.Err()
		},
	}
	show.Flags().BoolVar(&workshop, "workshop", false, "show the workshop, which has a name for each kind of fault, instead of the story")
	cmd.AddCommand(show)
	cmd.AddCommand(&cobra.Command{
		Use:   "export DIR",
		Short: "Write the lab's zones, captures, keys and scenario to a folder",
		Args:  taking(1, 1),
		RunE: func(_ *cobra.Command, names []string) error {
			written, err := a.exportLab(names[0])
			if err != nil {
				return fmt.Errorf("writing the lab: %w", err)
			}
			if a.json {
				d := a.document("lab export", nil)
				d.Result = data.Exported{Files: written}
				return d.Write(a.stdout)
			}
			view := a.view()
			view.Exported(names[0], written)
			return view.Err()
		},
	})
	return cmd
}

// exportLab writes the lab's files to a folder: all of them, or none where one is in the way.
func (a *app) exportLab(folder string) (written []string, err error) {
	var outputs []*files.Output
	err = lab.Export(func(name string, content []byte) error {
		path := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		o, err := a.files.Create(path)
		if err != nil {
			return err
		}
		outputs = append(outputs, o)
		_, err = o.Write(content)
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, o := range outputs {
		if err := a.commit(o); err != nil {
			return written, err
		}
		written = append(written, o.Name())
	}
	return written, nil
}
