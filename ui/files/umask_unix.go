//go:build unix

package files

import (
	"io/fs"
	"sync"
	"syscall"
)

// umask is what the system takes from the permissions of new files. To read it is to
// set it: for that moment files are private, never wider.
var umask = sync.OnceValue(func() fs.FileMode {
	mask := syscall.Umask(0o077)
	syscall.Umask(mask)
	return fs.FileMode(mask)
})
