package delegation

import (
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"unquil/core/wire"
	"unquil/core/zonefile"
)

// published are the addresses of the thirteen root servers as IANA publishes them.
//
//go:embed roots.zone
var published string

// ErrNoRoots says that a hints file names no root server with an address.
var ErrNoRoots = errors.New("it has no root server with an address")

// PublishedRoots returns the built-in root hints.
func PublishedRoots() []Server {
	roots, err := ReadRoots(strings.NewReader(published), "built-in root hints")
	if err != nil {
		panic(err) // built in: a test holds that it reads
	}
	return roots
}

// PublishedAddresses are all addresses of the published root servers.
func PublishedAddresses() (all []netip.Addr) {
	for _, root := range PublishedRoots() {
		all = append(all, root.Addresses...)
	}
	return all
}

// ReadRoots reads root hints in master-file form: NS records of the root and
// the addresses of their hosts. The error wraps what the file's reader says, or
// ErrNoRoots.
func ReadRoots(r io.Reader, file string) ([]Server, error) {
	records, err := zonefile.Read(r, zonefile.Options{File: file})
	if err != nil {
		return nil, err
	}
	roots := Roots(records)
	for _, root := range roots {
		if len(root.Addresses) > 0 {
			return roots, nil
		}
	}
	return nil, fmt.Errorf("%s: %w", file, ErrNoRoots)
}

// Roots returns the root servers that NS records of the root and address records name.
func Roots(records []wire.Record) []Server {
	var hosts []wire.Name
	for _, r := range records {
		if host, ok := r.Target(); ok && r.Type == wire.NS && r.Name.IsRoot() {
			hosts = append(hosts, host)
		}
	}
	return withAddresses(hosts, records, wire.Root)
}
