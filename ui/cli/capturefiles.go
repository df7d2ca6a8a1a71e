package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"golang.org/x/term"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/lab"
)

// captureFiles are the files of a run, as a study of them wants them.
type captureFiles struct {
	app    *app
	ctx    context.Context
	paths  []string
	follow bool  // they are still being written
	twice  bool  // they may be opened more than once
	size   int64 // of all of them, in bytes; 0 when it is not known
	files  []io.Closer
	spool  map[string]string // copies of what can be read but once, for the second reading
}

func (c *captureFiles) close() {
	for _, f := range c.files {
		f.Close()
	}
}

// Open opens them at their beginning.
func (c *captureFiles) Open() (readers []*capture.Reader, err error) {
	c.size = 0
	for _, path := range c.paths {
		file, err := c.file(path)
		if err != nil {
			return nil, fmt.Errorf("reading a capture: %w", err)
		}
		c.files = append(c.files, file)
		var in io.Reader = file
		if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
			c.size += info.Size()
		}
		if c.follow {
			in = capture.Follow(c.ctx, file)
		}
		reader, err := capture.NewReader(in)
		if err != nil {
			return nil, fmt.Errorf("reading %s: %w", path, err)
		}
		readers = append(readers, reader)
	}
	return readers, nil
}

// Again reports whether the files can be read once more, and end.
func (c *captureFiles) Again() bool {
	return !c.follow && (c.twice || !slices.ContainsFunc(c.paths, onlyOnce))
}

// onlyOnce reports whether a file can be read but once, as standard input and a FIFO can.
func onlyOnce(path string) bool {
	info, err := os.Stat(path)
	return path == "-" || err == nil && !info.Mode().IsRegular()
}

// file opens one file; "-" is standard input. What can be read but once is copied where it
// has to be read twice.
func (c *captureFiles) file(path string) (fs.File, error) {
	if copied, ok := c.spool[path]; ok {
		return os.Open(copied)
	}
	file, err := c.app.openCapture(path)
	if err != nil || !c.twice {
		return file, err
	}
	if info, err := file.Stat(); err == nil && info.Mode().IsRegular() && path != "-" {
		return file, nil
	}
	defer file.Close()
	folder, err := c.app.files.Scratch()
	if err != nil {
		return nil, err
	}
	copied, err := os.CreateTemp(folder, "capture-*")
	if err != nil {
		return nil, err
	}
	if c.spool == nil {
		c.spool = map[string]string{}
	}
	c.spool[path] = copied.Name()
	n, err := io.Copy(copied, io.LimitReader(reading{c.ctx, file}, maxSpool+1))
	if err = errors.Join(err, copied.Close()); err == nil && n > maxSpool {
		err = errSpool
	}
	if err != nil {
		return nil, err
	}
	return os.Open(copied.Name())
}

// maxSpool is how many bytes of a stream are copied to be read again.
const maxSpool = 2 << 30

// reading is a file that ends with the run.
type reading struct {
	ctx context.Context
	io.Reader
}

func (r reading) Read(b []byte) (int, error) {
	if r.ctx.Err() != nil {
		return 0, context.Cause(r.ctx)
	}
	return r.Reader.Read(b)
}

// openCapture opens a file, or with --lab one of the lab's captures by its name, where there is no file of that
// name.
func (a *app) openCapture(path string) (fs.File, error) {
	file, err := a.files.Open(path)
	if !a.lab {
		return file, err
	}
	ofLab, missing := lab.Captures().Open(path)
	switch {
	case missing != nil:
		return file, err
	case errors.Is(err, fs.ErrNotExist):
		return ofLab, nil
	}
	ofLab.Close()
	if err == nil && !a.toldOwn {
		a.toldOwn = true
		fmt.Fprintf(a.stderr, "unquil: %s is the file in this folder; the lab's capture of that name is not read\n", escape.Of(path))
	}
	return file, err
}

// readingProgress tells on a terminal's standard error how far the reading is,
// from half a second on. The returned function erases it.
func (a *app) readingProgress(o *conversation.Options, files *captureFiles) (stop func()) {
	file, ok := a.stderr.(outlet)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		return func() {}
	}
	begun, told := time.Now(), time.Now()
	shown := false
	o.Progress = func(offset int64) {
		now := time.Now()
		if now.Sub(begun) < 500*time.Millisecond || now.Sub(told) < 200*time.Millisecond || offset == 0 {
			return
		}
		told, shown = now, true
		of := ""
		if size := files.size; size > 0 && offset <= size {
			of = fmt.Sprintf(" of %d MB (%d %%)", size/1_000_000, 100*offset/size)
		}
		fmt.Fprintf(file, eraseLine+"read %d MB%s", offset/1_000_000, of)
	}
	return func() {
		if shown {
			fmt.Fprint(file, eraseLine)
		}
	}
}
