// Command generate writes the lab's captures: go run ./lab/generate lab/captures
//
// With --big it writes one large capture of ordinary packets instead, to measure
// with: go run ./lab/generate --big 7000000 /tmp/big.pcap (or big.pcapng);
// with --varied, one as a busy network has it, with many names, clients and servers.
package main

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strconv"

	"unquil/lab/recording"
	"unquil/lab/recording/served"
)

func main() {
	err := run(os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	switch {
	case len(args) == 3 && (args[0] == "--big" || args[0] == "--varied"):
		packets, err := strconv.Atoi(args[1])
		if err != nil {
			return err
		}
		file, err := os.Create(args[2])
		if err != nil {
			return err
		}
		defer file.Close()
		form := recording.Pcap
		if filepath.Ext(args[2]) == ".pcapng" {
			form = recording.Pcapng
		}
		if args[0] == "--varied" {
			_, err := recording.WriteVaried(file, packets, form)
			return err
		}
		return recording.WriteBig(file, packets, form)
	case len(args) == 1:
		files := maps.Clone(recording.Files)
		maps.Copy(files, served.Files)
		for name, make := range files {
			content, err := make()
			if err == nil {
				err = os.WriteFile(filepath.Join(args[0], name), content, 0o644)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	return fmt.Errorf("usage: generate FOLDER, or generate --big|--varied PACKETS FILE")
}
