package lab

import (
	"io/fs"
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"
)

// Export writes what the lab is made of to a folder: the scenario, the zones' master
// files, the technician's machine, the captures, and the keys that open transfers. It
// returns the files written, and takes the place of none that is there.
func Export(folder string) (written []string, err error) {
	put := func(name string, content []byte) error {
		path := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			return err
		}
		defer file.Close()
		written = append(written, path)
		_, err = file.Write(content)
		return err
	}
	err = fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		content, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		return put(name, content)
	})
	if err != nil {
		return written, err
	}
	scenario, err := Load()
	if err != nil {
		return written, err
	}
	for _, key := range scenario.Keys {
		text, err := toml.Marshal(map[string]string{"name": key.Name, "algorithm": key.Algorithm, "secret": key.Secret})
		if err != nil {
			return written, err
		}
		if err := put("keys/"+key.Name+"toml", text); err != nil {
			return written, err
		}
	}
	return written, nil
}
