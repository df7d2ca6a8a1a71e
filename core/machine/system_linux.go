package machine

import "io/fs"

// caveat is what the files do not tell of this system: what the files say is what programs use.
const caveat = ""

// readOwn reads the set-up of this machine, which is in its files.
func readOwn(files func(string) fs.FS) (Setup, error) { return Read(files("/")) }
