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
	if err := write(filepath.Join(os.Args[1], "valley-morning.pcapng")); err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

func write(path string) (err error) {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() {
		if e := file.Close(); err == nil {
			err = e
		}
	}()
	return lab.ValleyMorning(file)
}
