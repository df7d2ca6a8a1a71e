// Package files is the one place that opens what the program reads and writes.
//
// An output comes about beside its final name and takes that name only when it is
// whole: until then, and whenever something goes wrong, what stood there stays as it
// was. Nothing that is being read is ever written over, and nothing that exists unless
// that was asked for.
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
)

// Why a file is not opened.
var (
	ErrExists    = errors.New("it exists already")
	ErrInput     = errors.New("it is being read")
	ErrTwice     = errors.New("two outputs have this name")
	ErrFolder    = errors.New("it is a folder")
	ErrNoFolder  = errors.New("its folder is not there")
	ErrDangling  = errors.New("it is a symbolic link to a file that is not there")
	ErrKind      = errors.New("nothing can be written to a file of its kind")
	ErrLarge     = errors.New("it is larger than such a file ever is")
	ErrOutside   = errors.New("it is not below the folder of the file that includes it")
	ErrNotFile   = errors.New("it is not a regular file")
	errClosed    = errors.New("the program is ending")
	errCommitted = errors.New("already written")
)

// Files are the files of one run. The zero value is ready to use; Close it when done.
// It is safe for use by many goroutines.
type Files struct {
	Overwrite bool      // an output may take the place of a file that exists
	Stdout    io.Writer // what "-" stands for as an output
	Stdin     *os.File  // what "-" stands for as an input

	mu      sync.Mutex
	closed  bool
	inputs  []input
	outputs []*Output
	scratch string
}

// input is a file that is read.
type input struct {
	name    string
	info    fs.FileInfo
	private bool // its permissions bind what is made of it
}

// Open opens a file to read it; "-" is standard input. From now on it is an input: no
// output takes its place, and none is readable by more people than it is. The error is the
// system's, or ErrFolder.
func (f *Files) Open(path string) (*os.File, error) { return f.open(path, true) }

func (f *Files) open(path string, private bool) (file *os.File, err error) {
	if path == "-" {
		file = f.Stdin
	} else if file, err = os.Open(path); err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && info.IsDir() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrFolder}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if known := f.read(info); known != nil && known.name == path { // opened again
		known.private = known.private || private
	} else {
		f.inputs = append(f.inputs, input{path, info, private})
	}
	return file, nil
}

// Beside is the folder that a file lies in, for what the file includes: nothing above the
// folder can be reached, not by a link either, and what is read there becomes an input.
func (f *Files) Beside(path string) fs.FS { return beside{f, filepath.Dir(path)} }

type beside struct {
	files  *Files
	folder string
}

// Open opens a regular file in the folder or below it.
func (b beside) Open(name string) (fs.File, error) {
	file, info, err := b.open(name)
	if err != nil {
		var system *fs.PathError // which names a call that nobody made
		if errors.As(err, &system) {
			err = system.Err
		}
		return nil, &fs.PathError{Op: "reading", Path: name, Err: err}
	}
	b.files.mu.Lock()
	defer b.files.mu.Unlock()
	b.files.inputs = append(b.files.inputs, input{filepath.Join(b.folder, name), info, true})
	return file, nil
}

func (b beside) open(name string) (*os.File, fs.FileInfo, error) {
	if !filepath.IsLocal(name) {
		return nil, nil, ErrOutside
	}
	root, err := os.OpenRoot(b.folder)
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	info, err := root.Stat(name)
	if err != nil {
		return nil, nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, nil, ErrNotFile
	}
	file, err := root.Open(name)
	return file, info, err
}

// Note makes a file an input without opening it, for what is read later. One that cannot
// be looked at is left to whoever opens it.
func (f *Files) Note(path string) {
	var info fs.FileInfo
	var err error
	if path == "-" {
		info, err = f.Stdin.Stat()
	} else {
		info, err = os.Stat(path)
	}
	if err == nil {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.inputs = append(f.inputs, input{path, info, true})
	}
}

// Read returns what a small file holds: a configuration, a key, certificates. One of
// more than most bytes is ErrLarge.
func (f *Files) Read(path string, most int64) ([]byte, error) {
	file, err := f.open(path, false)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, most+1))
	if err == nil && int64(len(text)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrLarge}
	}
	return text, err
}

// Scratch is a folder of this run for temporary files, which Close removes. The error is the
// system's.
func (f *Files) Scratch() (string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.closed {
		return "", errClosed
	}
	if f.scratch == "" {
		folder, err := os.MkdirTemp("", "unquil-")
		if err != nil {
			return "", err
		}
		f.scratch = folder
	}
	return f.scratch, nil
}

// ScratchFile makes a temporary file, which is gone when it is closed, and at the latest when
// the run ends. The error is the system's.
func (f *Files) ScratchFile() (*Temporary, error) {
	folder, err := f.Scratch()
	if err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(folder, "scratch-*")
	if err != nil {
		return nil, err
	}
	return &Temporary{file}, nil
}

// Temporary is a file that is gone when it is closed.
type Temporary struct{ *os.File }

// Close removes the file. The error is that of closing or removing it.
func (t *Temporary) Close() error { return errors.Join(t.File.Close(), os.Remove(t.Name())) }

// Close removes the temporary files, and with them every output that was not committed.
// Nothing can be opened after it.
func (f *Files) Close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	for _, o := range f.outputs {
		o.remove()
	}
	if f.scratch != "" {
		os.RemoveAll(f.scratch)
	}
	f.outputs, f.scratch = nil, ""
}

// UsesStdout reports whether an output goes to standard output.
func (f *Files) UsesStdout() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, o := range f.outputs {
		if o.name == "-" && !o.done {
			return true
		}
	}
	return false
}

// read returns the input that a file is; nil when it is none.
func (f *Files) read(info fs.FileInfo) *input {
	for i := range f.inputs {
		if os.SameFile(f.inputs[i].info, info) {
			return &f.inputs[i]
		}
	}
	return nil
}

// target is where an output goes.
type target struct {
	path string      // with every link resolved
	old  fs.FileInfo // what stands there; nil: nothing
}

// find looks where an output of that name goes, and refuses what it must not replace.
func (f *Files) find(name string) (t target, err error) {
	refuse := func(why error) (target, error) {
		return t, &fs.PathError{Op: "writing", Path: name, Err: why}
	}
	info, err := os.Stat(name)
	switch {
	case err == nil:
		if t.path, err = filepath.EvalSymlinks(name); err != nil {
			return t, err
		}
		t.old = info
	case errors.Is(err, fs.ErrNotExist):
		if _, link := os.Lstat(name); link == nil {
			return refuse(ErrDangling)
		}
		folder, base := filepath.Split(name)
		if folder, err = filepath.EvalSymlinks(filepath.Clean(folder)); err != nil {
			return refuse(ErrNoFolder)
		}
		t.path = filepath.Join(folder, base)
	default:
		return t, err
	}
	if t.path, err = filepath.Abs(t.path); err != nil {
		return t, err
	}
	for _, o := range f.outputs {
		if !o.done && o.name != "-" && o.target.path == t.path {
			return refuse(ErrTwice)
		}
	}
	if t.old == nil {
		return t, nil
	}
	if in := f.read(t.old); in != nil {
		if in.name == name {
			return refuse(ErrInput)
		}
		return refuse(fmt.Errorf("%w (as %s)", ErrInput, in.name))
	}
	switch {
	case t.old.IsDir():
		return refuse(ErrFolder)
	case t.old.Mode().IsRegular() && !f.Overwrite:
		return refuse(ErrExists)
	}
	return t, nil
}

// modeFor is what a finished output may be read and written by: what the system gives a
// new file or the old one had, and no more than any input allows.
func (f *Files) modeFor(old fs.FileInfo) fs.FileMode {
	mode := 0o666 &^ umask()
	if old != nil {
		mode = old.Mode().Perm()
	}
	for _, in := range f.inputs {
		if in.private && in.info.Mode().IsRegular() {
			mode &= in.info.Mode().Perm()
		}
	}
	return mode
}
