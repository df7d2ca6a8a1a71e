// Package machine reads what a computer is set up to do with a name.
package machine

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"strconv"
	"strings"
)

// ErrNoResolver says that the set-up names no resolver.
var ErrNoResolver = errors.New("this machine's set-up names no resolver")

// Setup is what the resolver configuration says.
type Setup struct {
	Resolvers []netip.AddrPort // in the order in which they are tried
	Search    []string         // suffixes, as written
	Dots      int              // a name with fewer dots is tried with the suffixes first (ndots)
}

// Read reads etc/resolv.conf under root. What a line says that is not
// understood is skipped, as the system's own resolver does. The error wraps
// that of the file system, or is ErrNoResolver beside the rest of the set-up.
func Read(root fs.FS) (Setup, error) {
	setup := Setup{Dots: 1}
	file, err := root.Open("etc/resolv.conf")
	if err != nil {
		return setup, fmt.Errorf("reading this machine's resolvers: %w", err)
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) < 2 {
			continue
		}
		switch words[0] {
		case "nameserver":
			if a, err := netip.ParseAddr(words[1]); err == nil {
				setup.Resolvers = append(setup.Resolvers, netip.AddrPortFrom(a, 53))
			}
		case "search", "domain":
			setup.Search = words[1:]
		case "options":
			for _, option := range words[1:] {
				if n, ok := strings.CutPrefix(option, "ndots:"); ok {
					if dots, err := strconv.Atoi(n); err == nil && dots >= 0 {
						setup.Dots = min(dots, 15)
					}
				}
			}
		}
	}
	if err := lines.Err(); err != nil {
		return setup, fmt.Errorf("reading this machine's resolvers: %w", err)
	}
	if len(setup.Resolvers) == 0 {
		return setup, ErrNoResolver
	}
	return setup, nil
}
