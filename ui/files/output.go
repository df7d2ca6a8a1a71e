package files

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Output is a file that is being written. It is nothing to anybody else before Commit.
type Output struct {
	files  *Files
	name   string // as given
	target target
	w      io.Writer
	file   *os.File    // nil for standard output
	temp   string      // the name that it has while it is written; "" for what is written in place
	placed fs.FileInfo // once it has its final name while it is still being written
	done   bool
}

// Create opens an output: "-" is standard output, a device or a FIFO is written to as it
// is, and anything else is a new file that Commit puts in place. It refuses, by one of
// this package's errors, what must not be written over.
func (f *Files) Create(name string) (*Output, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.closed {
		return nil, errClosed
	}
	o := &Output{files: f, name: name}
	if name == "-" {
		return o, f.toStdout(o)
	}
	var err error
	if o.target, err = f.find(name); err != nil {
		return nil, err
	}
	if old := o.target.old; old != nil && !old.Mode().IsRegular() {
		// Without the lock: a FIFO opens when somebody reads it, and Close must not wait.
		f.mu.Unlock()
		o.file, err = os.OpenFile(o.target.path, os.O_WRONLY, 0)
		f.mu.Lock()
		if err != nil {
			return nil, fmt.Errorf("%w (%w)", &fs.PathError{Op: "writing", Path: name, Err: ErrKind}, err)
		}
	} else {
		// CreateTemp takes a name that nobody can know before, and no file that is there.
		if o.file, err = os.CreateTemp(filepath.Dir(o.target.path), ".unquil-*.part"); err != nil {
			return nil, err
		}
		o.temp = o.file.Name()
	}
	o.w = o.file
	f.outputs = append(f.outputs, o)
	return o, nil
}

func (f *Files) toStdout(o *Output) error {
	for _, other := range f.outputs {
		if other.name == "-" && !other.done {
			return &fs.PathError{Op: "writing", Path: "standard output", Err: ErrTwice}
		}
	}
	if file, ok := f.Stdout.(interface{ Stat() (fs.FileInfo, error) }); ok {
		info, err := file.Stat()
		if err == nil && info.Mode().IsRegular() && f.read(info) != nil {
			return &fs.PathError{Op: "writing", Path: "standard output", Err: ErrInput}
		}
	}
	o.w = f.Stdout
	f.outputs = append(f.outputs, o)
	return nil
}

// Name is the output as it was given.
func (o *Output) Name() string { return o.name }

// Replaces reports whether Commit takes the place of a file.
func (o *Output) Replaces() bool { return o.target.old != nil && o.temp != "" }

// Write writes to the output.
func (o *Output) Write(b []byte) (int, error) { return o.w.Write(b) }

// Discard leaves everything as it was. What was written in place stays written.
func (o *Output) Discard() {
	o.files.mu.Lock()
	defer o.files.mu.Unlock()
	o.remove()
}

// remove does what Discard does; the lock is held.
func (o *Output) remove() {
	if o.done {
		return
	}
	o.done = true
	if o.file != nil {
		o.file.Close()
	}
	if o.temp != "" {
		os.Remove(o.temp)
	}
}

// Commit puts the output in place, whole and on the disk. The error is the system's; what stood
// there stays then.
func (o *Output) Commit() error { return o.commit(o.target) }

// CommitAs puts the output in place under another name in the same folder, which
// [Files.Free] said is free. Errors are as there.
func (o *Output) CommitAs(name string) error {
	return o.commit(target{path: filepath.Join(filepath.Dir(o.target.path), filepath.Base(name))})
}

// Free reports, as an error, why no file of that name could come about beside the others.
func (f *Files) Free(name string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, err := f.find(name)
	return err
}

// PutNow puts the output in place as it is, to be written to there: whatever ends the run, what
// was written by then is to be found. Errors are those of Commit, which is still to be called.
func (o *Output) PutNow() error {
	if o.temp == "" {
		return nil // it is written in place
	}
	f := o.files
	f.mu.Lock()
	defer f.mu.Unlock()
	info, err := o.file.Stat()
	if err == nil {
		err = o.place(o.target, func() error { return nil })
	}
	o.done = false
	if err != nil {
		o.remove()
		if errors.Is(err, ErrExists) {
			err = &fs.PathError{Op: "writing", Path: o.name, Err: ErrExists} // nothing was written yet
		}
		return err
	}
	o.temp, o.placed = "", info
	return nil
}

// Truncate takes away what is behind the first bytes. Only a file has that.
func (o *Output) Truncate(size int64) error {
	if o.file == nil || o.temp == "" && o.placed == nil {
		return nil // what was sent on stays sent
	}
	_, err := o.file.Seek(size, io.SeekStart)
	return cmp.Or(o.file.Truncate(size), err)
}

// Remove takes a file away that this run put in place, if it still stands there.
func (o *Output) Remove() error {
	now, err := os.Stat(o.target.path)
	if err != nil || o.placed == nil || !os.SameFile(now, o.placed) {
		return err
	}
	return os.Remove(o.target.path)
}

func (o *Output) commit(to target) (err error) {
	if o.temp != "" && !o.done {
		err = o.file.Sync() // without the lock: a disk may take its time, and Close must not wait
	}
	f := o.files
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case o.done:
		return errCommitted
	case o.temp == "":
		o.done = true
		if o.file != nil {
			err = o.file.Close()
		}
		return err
	case err != nil:
		o.remove()
		return err
	}
	return o.place(to, o.file.Close)
}

// place gives the output its name, once it was closed where that is wanted; the lock is held.
func (o *Output) place(to target, closed func() error) (err error) {
	f := o.files
	if now, gone := os.Stat(to.path); gone == nil && f.read(now) != nil {
		o.remove()
		return &fs.PathError{Op: "writing", Path: o.name, Err: ErrInput}
	}
	if err = cmp.Or(o.file.Chmod(f.modeFor(to.old)), closed()); err != nil {
		o.remove()
		return err
	}
	if to.old != nil || f.Overwrite {
		err = os.Rename(o.temp, to.path)
	} else {
		err = renameNew(o.temp, to.path)
	}
	switch {
	case err == nil:
		o.done = true
	case errors.Is(err, fs.ErrExist):
		// Somebody was faster. What was written may be the only evidence there is.
		o.done = true
		err = fmt.Errorf("%w; what was written is in %s", &fs.PathError{Op: "writing", Path: o.name, Err: ErrExists}, o.temp)
	default:
		o.remove()
	}
	return err
}

// renameNew renames a file unless the new name is taken: a link comes about or does not.
func renameNew(from, to string) error {
	err := os.Link(from, to)
	switch {
	case err == nil:
		return os.Remove(from)
	case errors.Is(err, fs.ErrExist):
		return err
	}
	// A file system without links.
	if _, err := os.Lstat(to); err == nil {
		return fs.ErrExist
	}
	return os.Rename(from, to)
}
