// Command manual writes what the program says of itself: the reference in Markdown, or man pages.
//
//	go run ./cmd/manual docs/reference.md
//	go run ./cmd/manual -date "9 March 2026" man-folder/
package main

import (
	"flag"
	"fmt"
	"os"
	"strings"

	"unquil/ui/cli"
)

//go:generate go run . ../../docs/reference.md

func main() {
	date := flag.String("date", "", "of the release, on the man pages")
	schemas := flag.String("schemas", "", "write the JSON Schemas to this folder")
	flag.Parse()
	err := error(nil)
	if *schemas != "" {
		err = writeSchemas(*schemas)
	} else {
		err = write(flag.Arg(0), *date)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
}

func write(to, date string) (err error) {
	if strings.HasSuffix(to, "/") {
		if err = os.MkdirAll(to, 0o755); err == nil {
			err = cli.WriteManual(to, date)
		}
		return err
	}
	file, err := os.Create(to)
	if err != nil {
		return err
	}
	if err = cli.WriteReference(file); err != nil {
		file.Close()
		return err
	}
	return file.Close()
}
