package files

import (
	"os"
	"path/filepath"
)

// Keep writes a file that the program keeps for itself, in a folder of its own that it makes
// where it is not there; whoever reads it meanwhile sees the old or the new one whole. What
// cannot be kept is not, which the program has to be able to do without.
func Keep(path string, text []byte) {
	folder := filepath.Dir(path)
	if os.MkdirAll(folder, 0o700) != nil {
		return
	}
	file, err := os.CreateTemp(folder, ".new-*")
	if err != nil {
		return
	}
	_, err = file.Write(text)
	if err2 := file.Close(); err == nil {
		err = err2
	}
	if err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		os.Remove(file.Name())
	}
}
