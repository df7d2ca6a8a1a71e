package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// ErrOthers says that something else has written to a journal.
var ErrOthers = errors.New("another program has written to it meanwhile")

// Journal is a file that grows by whole lines and keeps what it holds.
type Journal struct {
	file *os.File
	name string
	size int64
}

// Journal opens a file to go on with it, or begins it, readable by its owner alone. No output
// of the run takes its place. folders says that the folders above it may be made. The error is
// the system's, or says that it is no regular file.
func (f *Files) Journal(path string, folders bool) (*Journal, error) {
	if folders {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "writing", Path: path, Err: ErrNotFile}
	}
	file, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.inputs = append(f.inputs, input{path, info, true})
	return &Journal{file: file, name: path, size: info.Size()}, nil
}

// Size is how many bytes it holds.
func (j *Journal) Size() int64 { return j.size }

// Reader reads it from its beginning.
func (j *Journal) Reader() io.Reader { return io.NewSectionReader(j.file, 0, j.size) }

// Cut takes away what is behind its first bytes: a line of which only a part was written.
func (j *Journal) Cut(size int64) error {
	if size == j.size {
		return nil
	}
	err := j.file.Truncate(size)
	if err == nil {
		j.size = size
	}
	return err
}

// Append adds a line, unless the file was changed by others: that is ErrOthers.
func (j *Journal) Append(line []byte) error {
	info, err := j.file.Stat()
	if err != nil {
		return err
	}
	if info.Size() != j.size {
		return &fs.PathError{Op: "writing", Path: j.name, Err: ErrOthers}
	}
	n, err := j.file.Write(line)
	j.size += int64(n)
	return err
}

// Share adds a line whatever others wrote.
func (j *Journal) Share(line []byte) error {
	_, err := j.file.Write(line)
	return err
}

// Close closes it.
func (j *Journal) Close() error { return j.file.Close() }
