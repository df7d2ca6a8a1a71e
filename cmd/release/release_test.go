package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An archive holds the program and what all platforms share, and is the same bytes whenever it is made.
func TestArchive(t *testing.T) {
	at := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	common, program := t.TempDir(), filepath.Join(t.TempDir(), "unquil")
	require.NoError(t, os.Mkdir(filepath.Join(common, "man"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(common, "man", "unquil.1"), []byte("page"), 0o600))
	require.NoError(t, os.WriteFile(program, []byte("program"), 0o755))
	want := map[string]int64{"u/unquil": 0o755, "u/man/unquil.1": 0o644}
	for name, tt := range map[string]struct {
		zipped bool
		list   func(path string) map[string]int64
	}{"u.tar.gz": {false, tarred}, "u.zip": {true, zipped}} {
		t.Run(name, func(t *testing.T) {
			var made [2][]byte
			for i := range made {
				folder := t.TempDir()
				require.NoError(t, archive(folder, "u", program, common, tt.zipped, at))
				path := filepath.Join(folder, name)
				assert.Equal(t, want, tt.list(path))
				var err error
				made[i], err = os.ReadFile(path)
				require.NoError(t, err)
				require.NoError(t, checksums(folder))
				sums, err := os.ReadFile(filepath.Join(folder, "SHA256SUMS"))
				require.NoError(t, err)
				assert.Regexp(t, `^[0-9a-f]{64}  `+name+"\n$", string(sums))
				later := time.Now().Add(time.Hour)
				require.NoError(t, os.Chtimes(program, later, later))
			}
			assert.Equal(t, made[0], made[1])
		})
	}
}

// tarred are the modes of the files in a packed archive, by name.
func tarred(path string) map[string]int64 {
	modes := map[string]int64{}
	file, _ := os.Open(path)
	defer file.Close()
	in, _ := gzip.NewReader(file)
	for r := tar.NewReader(in); ; {
		head, err := r.Next()
		if errors.Is(err, io.EOF) {
			return modes
		}
		modes[head.Name] = head.Mode
	}
}

func zipped(path string) map[string]int64 {
	modes := map[string]int64{}
	r, _ := zip.OpenReader(path)
	defer r.Close()
	for _, f := range r.File {
		modes[f.Name] = int64(f.Mode().Perm())
	}
	return modes
}

// A module's licence is told by its text; one that is not known stops the release.
func TestLicences(t *testing.T) {
	for text, want := range map[string]string{
		"Apache License\n Version 2.0": "Apache-2.0", "Permission is hereby granted,\n free of charge, to any": "MIT",
		"Redistribution and use in source and\nbinary forms ... Neither the name of": "BSD-3-Clause", "Redistribution and use in source and binary forms": "BSD-2-Clause", "All mine.": "",
	} {
		folder := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(folder, "LICENSE.txt"), []byte(text), 0o600))
		got, err := licenceOf(folder)
		assert.Equal(t, want, got)
		assert.Equal(t, want == "", err != nil)
	}
	_, err := licenceOf(t.TempDir())
	require.ErrorIs(t, err, os.ErrNotExist)
	t.Setenv("SOURCE_DATE_EPOCH", "1773042000")
	at, err := committed()
	require.NoError(t, err)
	assert.Equal(t, "2026-03-09T07:40:00Z", at.Format(time.RFC3339))
}
