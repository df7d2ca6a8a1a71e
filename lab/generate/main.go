// Command generate writes the lab's captures: go run ./lab/generate lab/captures
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"unquil/lab"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: generate FOLDER")
		os.Exit(2)
	}
	for name, make := range lab.Files {
		content, err := make()
		if err == nil {
			err = os.WriteFile(filepath.Join(os.Args[1], name), content, 0o644)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "generate:", err)
			os.Exit(1)
		}
	}
}
