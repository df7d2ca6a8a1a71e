package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"
)

// packed is one file of an archive.
type packed struct {
	name, from string
	mode       fs.FileMode
}

// contents are the files of an archive in order: the program, and what all platforms share.
func contents(name, program, common string) ([]packed, error) {
	all := []packed{{path.Join(name, filepath.Base(program)), program, 0o755}}
	err := filepath.WalkDir(common, func(file string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		below, err := filepath.Rel(common, file)
		all = append(all, packed{path.Join(name, filepath.ToSlash(below)), file, 0o644})
		return err
	})
	return all, err
}

// archive packs the program for one platform: as zip, or as tar.gz.
func archive(folder, name, program, common string, zipped bool, at time.Time) error {
	all, err := contents(name, program, common)
	if err != nil {
		return err
	}
	pack, end := tarball, ".tar.gz"
	if zipped {
		pack, end = zipball, ".zip"
	}
	out, err := os.Create(filepath.Join(folder, name+end))
	if err != nil {
		return err
	}
	if err := pack(out, all, at); err != nil {
		out.Close()
		return err
	}
	return out.Close()
}

func tarball(out *os.File, all []packed, at time.Time) error {
	zw, err := gzip.NewWriterLevel(out, gzip.BestCompression)
	if err != nil {
		return err
	}
	tw := tar.NewWriter(zw)
	for _, p := range all {
		data, err := os.ReadFile(p.from)
		if err != nil {
			return err
		}
		head := tar.Header{Name: p.name, Mode: int64(p.mode), Size: int64(len(data)), ModTime: at, Format: tar.FormatUSTAR}
		if err := tw.WriteHeader(&head); err != nil {
			return err
		}
		if _, err := tw.Write(data); err != nil {
			return err
		}
	}
	if err := tw.Close(); err != nil {
		return err
	}
	return zw.Close()
}

func zipball(out *os.File, all []packed, at time.Time) error {
	zw := zip.NewWriter(out)
	for _, p := range all {
		data, err := os.ReadFile(p.from)
		if err != nil {
			return err
		}
		head := zip.FileHeader{Name: p.name, Method: zip.Deflate, Modified: at}
		head.SetMode(p.mode)
		w, err := zw.CreateHeader(&head)
		if err != nil {
			return err
		}
		if _, err := w.Write(data); err != nil {
			return err
		}
	}
	return zw.Close()
}

// recipe is what the packager makes packages by.
const recipe = `name: unquil
arch: %s
platform: linux
version: %s
section: net
priority: optional
maintainer: The founders of Unquil <unquil@hollowtarn.example>
description: |
  Finds out where and why name resolution fails.
  Unquil queries resolvers, compares their answers, traces the delegation from the
  root and decodes packet captures.
license: Apache-2.0
mtime: %s
contents:
  - {src: %s, dst: /usr/bin/unquil, file_info: {mode: 0755}}
  - {src: %s/man/*.1, dst: /usr/share/man/man1/}
  - {src: %[5]s/completions/unquil.bash, dst: /usr/share/bash-completion/completions/unquil}
  - {src: %[5]s/completions/_unquil, dst: /usr/share/zsh/vendor-completions/_unquil}
  - {src: %[5]s/completions/unquil.fish, dst: /usr/share/fish/vendor_completions.d/unquil.fish}
  - {src: %[5]s/config.toml, dst: /usr/share/doc/unquil/examples/config.toml}
  - {src: %[5]s/modules.txt, dst: /usr/share/doc/unquil/modules.txt}
  - {src: %[5]s/README.md, dst: /usr/share/doc/unquil/README.md}
  - {src: %[5]s/LICENSE, dst: /usr/share/doc/unquil/copyright}
`

// packages makes the packages for one processor.
func packages(folder, program, common, version, arch string, at time.Time) error {
	file := filepath.Join(folder, "recipe.yaml")
	defer os.Remove(file)
	if err := os.WriteFile(file, fmt.Appendf(nil, recipe, arch, version, at.Format(time.RFC3339), program, common), 0o644); err != nil {
		return err
	}
	for _, kind := range []string{"deb", "rpm", "apk"} {
		cmd := exec.Command("go", "run", packager, "package", "--config", file, "--packager", kind, "--target", folder+string(filepath.Separator))
		cmd.Env = append(os.Environ(), fmt.Sprintf("SOURCE_DATE_EPOCH=%d", at.Unix()), "GOFLAGS=-mod=mod")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("packaging as %s: %w: %s", kind, err, strings.TrimSpace(string(out)))
		}
	}
	return nil
}
