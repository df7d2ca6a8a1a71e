package exchange

import (
	"errors"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// toldOfErrors says whether ICMP errors reach an unconnected socket here.
const toldOfErrors = true

// prepare asks the kernel to report ICMP errors on an unconnected socket (ip(7),
// IP_RECVERR), so that a refusal is told from silence, and to send no broadcast, which
// Go allows otherwise.
func prepare(network, _ string, c syscall.RawConn) error {
	var err error
	controlErr := c.Control(func(fd uintptr) {
		if strings.HasSuffix(network, "6") {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_RECVERR, 1)
		} else {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_RECVERR, 1)
		}
		err = errors.Join(err, unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 0))
	})
	if controlErr != nil {
		return controlErr
	}
	return err
}
