// Package machine reads what a computer is set up to do with a name, and says
// what it would ask.
package machine

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"unquil/core/wire"
)

var (
	// ErrNoResolver says that the set-up names no resolver.
	ErrNoResolver = errors.New("no resolver is configured on this machine")
	// ErrUnread says that etc/resolv.conf could not be read; it stands beside the reason.
	ErrUnread = errors.New("this machine's list of resolvers cannot be read")
)

// Setup is what the machine's files say about names.
type Setup struct {
	Resolvers []netip.AddrPort // in the order in which they are tried
	Search    []string         // suffixes, as written
	Dots      int              // a name with fewer dots is tried with the suffixes first (ndots)
	Options   []string         // of the resolver, as written
	Sources   []string         // of host names, in order, as the name service switch says; nil when it does not
	Hosts     []HostsLine
	Behind    []netip.AddrPort // the resolvers that a stub on this machine passes questions to, where that can be read
	Scopes    []Scope          // resolvers for single domains or interfaces
	Container bool             // the files are those of a container
	Unread    []string         // files that could not be read, with the reason
	Caveat    string           // what these files do not tell on the system that they are from; "" for nothing
}

// HostsLine is one line of the hosts file.
type HostsLine struct {
	Number  int // from 1
	Address netip.Addr
	Names   []string
}

// Bounds on what is read of one file.
const (
	maxLines     = 100_000
	maxBytes     = 16 << 20
	maxResolvers = 16 // the systems themselves ask three
)

// Read reads the set-up under root: etc/resolv.conf, etc/nsswitch.conf and
// etc/hosts. What a line says that is not understood is skipped, as the system's
// own resolver does. The error is ErrUnread or ErrNoResolver, beside the rest of the
// set-up; what else cannot be read is listed in Unread.
func Read(root fs.FS) (Setup, error) {
	setup := Setup{Dots: 1}
	err := lines(root, "etc/resolv.conf", "#;", func(_ int, words []string) { setup.resolver(words) })
	sources := lines(root, "etc/nsswitch.conf", "#", func(_ int, words []string) {
		if words[0] == "hosts:" {
			setup.Sources = words[1:]
		}
	})
	for _, e := range []error{sources, setup.readHosts(root, "etc/hosts")} {
		if e != nil && !errors.Is(e, fs.ErrNotExist) {
			setup.Unread = append(setup.Unread, e.Error())
		}
	}
	setup.readScopes(root)
	setup.Container = inContainer(root)
	if slices.ContainsFunc(setup.Resolvers, func(a netip.AddrPort) bool { return a.Addr().IsLoopback() }) {
		setup.Behind = behindStub(root)
	}
	if err != nil {
		return setup, fmt.Errorf("%w: %w", ErrUnread, err)
	}
	if len(setup.Resolvers) == 0 {
		return setup, ErrNoResolver
	}
	return setup, nil
}

// ReadOwn is [Read] of the machine that this program runs on; files opens a folder of it. Errors
// are as there.
func ReadOwn(files func(folder string) fs.FS) (Setup, error) {
	setup, err := readOwn(files)
	setup.Caveat = caveat
	return setup, err
}

// readHosts reads a hosts file.
func (s *Setup) readHosts(root fs.FS, path string) error {
	return lines(root, path, "#", func(number int, words []string) {
		if a, err := netip.ParseAddr(words[0]); err == nil && len(words) > 1 {
			s.Hosts = append(s.Hosts, HostsLine{number, a, words[1:]})
		}
	})
}

// behindStub reads the list that a stub resolver keeps of those it passes
// questions to, where systems that have one write it.
func behindStub(root fs.FS) (behind []netip.AddrPort) {
	lines(root, "run/systemd/resolve/resolv.conf", "#;", func(_ int, words []string) {
		if a, err := netip.ParseAddr(words[len(words)-1]); err == nil && words[0] == "nameserver" {
			behind = append(behind, netip.AddrPortFrom(a, 53))
		}
	})
	return behind
}

// lines calls each for every line that has words, comments cut off.
func lines(root fs.FS, path, comments string, each func(number int, words []string)) error {
	file, err := root.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	scanner := bufio.NewScanner(io.LimitReader(file, maxBytes))
	for number := 1; scanner.Scan() && number <= maxLines; number++ {
		text := scanner.Text()
		if at := strings.IndexAny(text, comments); at >= 0 {
			text = text[:at]
		}
		if words := strings.Fields(text); len(words) > 0 {
			each(number, words)
		}
	}
	return scanner.Err()
}

func (s *Setup) resolver(words []string) {
	if len(words) < 2 {
		return
	}
	switch words[0] {
	case "nameserver":
		if a, err := netip.ParseAddr(words[1]); err == nil && len(s.Resolvers) < maxResolvers {
			s.Resolvers = append(s.Resolvers, netip.AddrPortFrom(a, 53))
		}
	case "search", "domain":
		s.Search = words[1:]
	case "options":
		s.Options = append(s.Options, words[1:]...)
		for _, option := range words[1:] {
			if n, ok := strings.CutPrefix(option, "ndots:"); ok {
				if dots, err := strconv.Atoi(n); err == nil && dots >= 0 {
					s.Dots = min(dots, 15)
				}
			}
		}
	}
}

// How long the systems wait for a resolver and how often they ask it, where the options do not
// say, and the most that they take (resolv.conf: timeout and attempts).
const (
	usualWait, mostWait   = 5 * time.Second, 30 * time.Second
	usualTries, mostTries = 2, 5
)

// Patience is how long the machine waits for one resolver before it asks the next, and how
// often it goes through all of them.
func (s *Setup) Patience() (wait time.Duration, tries int) {
	wait, tries = usualWait, usualTries
	for _, option := range s.Options {
		name, value, _ := strings.Cut(option, ":")
		n, err := strconv.Atoi(value)
		switch {
		case err != nil || n < 1:
		case name == "timeout":
			wait = min(time.Duration(n)*time.Second, mostWait)
		case name == "attempts":
			tries = min(n, mostTries)
		}
	}
	return wait, tries
}

// Candidate is a name that the machine would ask for, and the suffix that was
// put behind what was typed; "" for the name as it is.
type Candidate struct {
	Name   wire.Name
	Suffix string
}

// Candidates are the names that the machine asks for one after the other, until
// one is there, when typed is given to it: absolute as parsed, typed says whether
// it ends in a dot (then it is never extended).
func (s Setup) Candidates(typed string, absolute wire.Name) []Candidate {
	asIs := Candidate{Name: absolute}
	if strings.HasSuffix(typed, ".") {
		return []Candidate{asIs}
	}
	var extended []Candidate
	for _, suffix := range s.Search {
		origin, err := wire.ParseName(suffix)
		if err != nil || origin.IsRoot() {
			continue
		}
		if name, err := wire.ParseNameIn(strings.TrimSuffix(absolute.String(), "."), origin); err == nil {
			extended = append(extended, Candidate{name, strings.TrimSuffix(suffix, ".")})
		}
	}
	if absolute.Labels()-1 >= s.Dots {
		return append([]Candidate{asIs}, extended...)
	}
	return append(extended, asIs)
}

// InHosts returns the lines of the hosts file that give the name an address. The
// hosts file holds names as they are typed, case ignored.
func (s Setup) InHosts(name string) (found []HostsLine) {
	name = strings.TrimSuffix(name, ".")
	for _, line := range s.Hosts {
		if slices.ContainsFunc(line.Names, func(n string) bool { return strings.EqualFold(strings.TrimSuffix(n, "."), name) }) {
			found = append(found, line)
		}
	}
	return found
}
