//go:build !unix

package files

import "io/fs"

// umask is nothing where files have no such permissions.
func umask() fs.FileMode { return 0 }
