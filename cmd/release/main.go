// Command release makes everything that is handed out of a commit: the program for each system in an archive,
// packages for Debian, RPM and Alpine, man pages, completions, the modules with their licences, and checksums. The
// same commit gives the same bytes.
//
//	go run ./cmd/release dist/
package main

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"unquil/ui/cli"
)

// platforms are the systems that the program is built for; packages says that it is packaged there too.
var platforms = []struct {
	system, arch, arm string
	packages          bool
}{
	{"linux", "amd64", "", true}, {"linux", "arm64", "", true}, {"linux", "arm", "7", true}, {"linux", "riscv64", "", true},
	{"darwin", "amd64", "", false}, {"darwin", "arm64", "", false},
	{"windows", "amd64", "", false}, {"windows", "arm64", "", false},
	{"freebsd", "amd64", "", false},
}

// packager makes packages; it is run as a Go tool, and is no part of the program.
const packager = "github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0"

func main() {
	only := ""
	args := os.Args[1:]
	if len(args) > 1 && strings.HasPrefix(args[0], "--only=") {
		only, args = strings.TrimPrefix(args[0], "--only="), args[1:]
	}
	if len(args) != 1 {
		fmt.Fprintln(os.Stderr, "usage: go run ./cmd/release [--only=SYSTEM/ARCH] FOLDER")
		os.Exit(2)
	}
	if err := release(args[0], only); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

// release makes all of it in a folder, or what is for one platform.
func release(folder, only string) error {
	version := cli.Release
	at, err := committed()
	if err != nil {
		return err
	}
	common := filepath.Join(folder, "common")
	if err := shared(common, at); err != nil {
		return err
	}
	for _, p := range platforms {
		label := p.system + "/" + p.arch
		if only != "" && label != only {
			continue
		}
		fmt.Println(label + p.arm)
		name := fmt.Sprintf("unquil-%s-%s-%s", version, p.system, p.arch)
		if p.arm != "" {
			name += "v" + p.arm
		}
		program := filepath.Join(folder, name, "unquil")
		if p.system == "windows" {
			program += ".exe"
		}
		if err := build(program, p.system, p.arch, p.arm); err != nil {
			return err
		}
		if err := archive(folder, name, program, common, p.system == "windows", at); err != nil {
			return err
		}
		if p.packages {
			if err := packages(folder, program, common, version, p.arch+p.arm, at); err != nil {
				return err
			}
		}
		if err := os.RemoveAll(filepath.Join(folder, name)); err != nil {
			return err
		}
	}
	if err := os.Rename(filepath.Join(common, "modules.txt"), filepath.Join(folder, "modules.txt")); err != nil {
		return err
	}
	if err := os.RemoveAll(common); err != nil {
		return err
	}
	return checksums(folder)
}

// committed is when the commit was made that is built; now, outside a repository, is no answer.
func committed() (time.Time, error) {
	if epoch := os.Getenv("SOURCE_DATE_EPOCH"); epoch != "" {
		seconds, err := strconv.ParseInt(epoch, 10, 64)
		return time.Unix(seconds, 0).UTC(), err
	}
	out, err := output("git", "log", "-1", "--format=%ct")
	if err != nil {
		return time.Time{}, fmt.Errorf("when it was committed is not known: %w", err)
	}
	seconds, err := strconv.ParseInt(strings.TrimSpace(out), 10, 64)
	return time.Unix(seconds, 0).UTC(), err
}

func output(name string, args ...string) (string, error) {
	var errs bytes.Buffer
	cmd := exec.Command(name, args...)
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		err = fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(errs.String()))
	}
	return string(out), err
}

// build builds the program for a platform.
func build(to, system, arch, arm string) error {
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=true", "-ldflags", "-s -w -buildid=", "-o", to, "./cmd/unquil")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+arch, "GOARM="+arm, "GOFLAGS=")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("building for %s/%s: %w: %s", system, arch, err, out)
	}
	return nil
}

// shared makes what is the same on all platforms: man pages, completions, the list of modules, an example of a
// configuration, and what there is to read.
func shared(folder string, at time.Time) error {
	for _, below := range []string{"man", "completions"} {
		if err := os.MkdirAll(filepath.Join(folder, below), 0o755); err != nil {
			return err
		}
	}
	if err := cli.WriteManual(filepath.Join(folder, "man"), at.Format("2 January 2006")); err != nil {
		return err
	}
	for shell, file := range map[string]string{"bash": "unquil.bash", "zsh": "_unquil", "fish": "unquil.fish", "powershell": "unquil.ps1"} {
		var out, errs bytes.Buffer
		if code := cli.Main(context.Background(), []string{"completion", shell}, &out, &errs, []string{"HOME=" + folder}); code != 0 {
			return fmt.Errorf("completion for %s: %s", shell, errs.String())
		}
		if err := os.WriteFile(filepath.Join(folder, "completions", file), out.Bytes(), 0o644); err != nil {
			return err
		}
	}
	list, err := modules()
	if err == nil {
		err = os.WriteFile(filepath.Join(folder, "modules.txt"), []byte(list), 0o644)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(folder, "config.toml"), []byte(cli.ExampleConfig), 0o644)
	}
	for _, file := range []string{"README.md", "LICENSE"} {
		text, bad := os.ReadFile(file)
		if err = cmp.Or(err, bad); err == nil {
			err = os.WriteFile(filepath.Join(folder, file), text, 0o644)
		}
	}
	return err
}

// modules lists the modules that the program is made of, with the licence of each (SPDX).
func modules() (string, error) {
	out, err := output("go", "list", "-deps", "-f", "{{with .Module}}{{.Path}} {{.Version}} {{.Dir}}{{end}}", "./cmd/unquil")
	if err != nil {
		return "", err
	}
	var b strings.Builder
	lines := strings.Split(strings.TrimSpace(out), "\n")
	slices.Sort(lines)
	for _, line := range slices.Compact(lines) {
		words := strings.Fields(line)
		if len(words) != 3 { // the program's own module
			continue
		}
		licence, err := licenceOf(words[2])
		if err != nil {
			return "", fmt.Errorf("%s: %w", words[0], err)
		}
		fmt.Fprintf(&b, "%s %s %s\n", words[0], words[1], licence)
	}
	return b.String(), nil
}

// licences tell a licence (SPDX) by words of its text, the first that fits.
var licences = []struct{ id, words string }{
	{"Apache-2.0", "Apache License"},
	{"MPL-2.0", "Mozilla Public License"},
	{"MIT", "Permission is hereby granted, free of charge"},
	{"BSD-3-Clause", "Neither the name of"},
	{"BSD-2-Clause", "Redistribution and use in source and binary forms"},
	{"ISC", "Permission to use, copy, modify, and/or distribute"},
}

// licenceOf is the licence of the module in a folder.
func licenceOf(folder string) (string, error) {
	files, err := filepath.Glob(filepath.Join(folder, "LICEN[CS]E*"))
	if err != nil || len(files) == 0 {
		return "", fmt.Errorf("it has no file with its licence: %w", os.ErrNotExist)
	}
	text, err := os.ReadFile(files[0])
	if err != nil {
		return "", err
	}
	words := strings.Join(strings.Fields(string(text)), " ")
	for _, l := range licences {
		if strings.Contains(words, l.words) {
			return l.id, nil
		}
	}
	return "", fmt.Errorf("%s is no licence that is known here", files[0])
}

// checksums writes SHA256SUMS of all files of a folder.
func checksums(folder string) error {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	var b strings.Builder
	for _, entry := range entries {
		if entry.IsDir() || entry.Name() == "SHA256SUMS" {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, entry.Name()))
		if err != nil {
			return err
		}
		fmt.Fprintf(&b, "%x  %s\n", sha256.Sum256(data), entry.Name())
	}
	return os.WriteFile(filepath.Join(folder, "SHA256SUMS"), []byte(b.String()), 0o644)
}
