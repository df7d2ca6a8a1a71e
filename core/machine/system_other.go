//go:build !linux && !darwin && !windows

package machine

import "io/fs"

// caveat is what the files do not tell of this system.
const caveat = "other programs on this system may use resolvers that these files do not name"

// readOwn reads the set-up of this machine, as far as it is in its files.
func readOwn(files func(string) fs.FS) (Setup, error) { return Read(files("/")) }
