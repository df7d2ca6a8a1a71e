package machine

import (
	"context"
	"io/fs"
	"os/exec"
	"time"
)

// caveat is what is not read of this system.
const caveat = ""

// readOwn reads the set-up of this machine: its files, and what its dynamic store says.
func readOwn(files func(string) fs.FS) (Setup, error) {
	setup, err := Read(files("/"))
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	out, failed := exec.CommandContext(ctx, "/usr/sbin/scutil", "--dns").Output()
	if failed != nil {
		setup.Unread = append(setup.Unread, "the system's dynamic store: "+failed.Error())
		return setup, err
	}
	if setup.readDynamicStore(string(out)); len(setup.Resolvers) > 0 {
		err = nil
	}
	return setup, err
}
