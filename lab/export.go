package lab

import (
	"io/fs"

	"github.com/pelletier/go-toml/v2"
)

// Export hands over what the lab is made of, file by file: the scenario, the zones' master
// files, the technician's machine, the captures, and the keys that open transfers. Names
// have slashes. An error of put ends it and is returned.
func Export(put func(name string, content []byte) error) error {
	err := fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
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
		return err
	}
	scenario, err := Load()
	if err != nil {
		return err
	}
	for _, key := range scenario.Keys {
		text, err := toml.Marshal(map[string]string{"name": key.Name, "algorithm": key.Algorithm, "secret": key.Secret})
		if err != nil {
			return err
		}
		if err := put("keys/"+key.Name+"toml", text); err != nil {
			return err
		}
	}
	return nil
}
