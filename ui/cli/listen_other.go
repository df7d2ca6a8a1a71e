//go:build !linux

package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"

	"unquil/core/live"
)

// socketFinder is nobody: on this system it does not show whose a socket is.
func socketFinder() (finder live.Finder, end func()) { return nil, func() {} }

// dropPrivileges gives up what was only needed to begin to listen: whoever called sudo goes on as
// themselves.
func dropPrivileges(environ []string) error {
	uid, bad := strconv.Atoi(getenv(environ, "SUDO_UID"))
	gid, worse := strconv.Atoi(getenv(environ, "SUDO_GID"))
	if os.Geteuid() != 0 || errors.Join(bad, worse) != nil || uid <= 0 {
		return nil
	}
	if err := become(uid, gid); err != nil {
		return fmt.Errorf("giving up root: %w", err)
	}
	return nil
}
