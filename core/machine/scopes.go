package machine

import (
	"bufio"
	"cmp"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Scope is resolvers that a system asks only for some names, or only over one interface.
type Scope struct {
	Domains   []string // for names in these; nil: for all
	Interface string   // over this one; "": whatever the way
	Resolvers []netip.AddrPort
	Source    string // what says so: a file, or a part of the system
	// Named are the names in the certificates of those that are to be asked over TLS: the network hands them out
	// (DNR, RFC 9463), or somebody set them by hand.
	Named map[netip.AddrPort]string
}

// readScopes reads what is kept in files beside etc/resolv.conf: resolvers of single domains (etc/resolver, as macOS
// has it), and those of single links, as the stub of a Linux system keeps them.
func (s *Setup) readScopes(root fs.FS) {
	for _, file := range filesOf(root, "etc/resolver") {
		scope := Scope{Domains: []string{path.Base(file)}, Source: file}
		port := uint16(53)
		lines(root, file, "#;", func(_ int, words []string) {
			if len(words) < 2 {
				return
			}
			switch words[0] {
			case "nameserver":
				if a, err := netip.ParseAddr(words[1]); err == nil {
					scope.Resolvers = append(scope.Resolvers, netip.AddrPortFrom(a, 0))
				}
			case "domain":
				scope.Domains = []string{words[1]}
			case "port":
				if n, err := strconv.ParseUint(words[1], 10, 16); err == nil && n > 0 {
					port = uint16(n)
				}
			}
		})
		for i, a := range scope.Resolvers {
			scope.Resolvers[i] = netip.AddrPortFrom(a.Addr(), port)
		}
		s.addScope(scope)
	}
	for _, file := range filesOf(root, "run/systemd/resolve/netif") {
		scope := Scope{Interface: "interface " + path.Base(file), Source: file}
		lines(root, file, "", func(_ int, words []string) { // a # within a line is none of a comment
			key, first, _ := strings.Cut(words[0], "=")
			switch words[0] = first; key {
			case "SERVERS":
				for _, word := range words {
					host, name, named := strings.Cut(word, "#")
					end, err := netip.ParseAddrPort(host)
					if a, isAddress := netip.ParseAddr(host); isAddress == nil {
						end, err = netip.AddrPortFrom(a, 53), nil
					}
					if err != nil {
						continue
					}
					if scope.Resolvers = append(scope.Resolvers, end); named && len(scope.Named) < maxScopes {
						if scope.Named == nil {
							scope.Named = map[netip.AddrPort]string{}
						}
						scope.Named[end] = name
					}
				}
			case "DOMAINS":
				for _, word := range words {
					if word = strings.TrimPrefix(word, "~"); word != "" && word != "." {
						scope.Domains = append(scope.Domains, word)
					}
				}
			}
		})
		s.addScope(scope)
	}
}

// maxScopes is how many scopes a set-up has at the most.
const maxScopes = 64

func (s *Setup) addScope(scope Scope) {
	if len(scope.Resolvers) > 0 && len(s.Scopes) < maxScopes {
		scope.Resolvers = scope.Resolvers[:min(len(scope.Resolvers), maxResolvers)]
		s.Scopes = append(s.Scopes, scope)
	}
}

// filesOf are the files of a folder, by their names; none where it cannot be read.
func filesOf(root fs.FS, folder string) (files []string) {
	entries, _ := fs.ReadDir(root, folder) // most systems have none
	for _, entry := range entries[:min(len(entries), maxScopes)] {
		if !entry.IsDir() && !strings.HasPrefix(entry.Name(), ".") {
			files = append(files, folder+"/"+entry.Name())
		}
	}
	return files
}

// container is a file that a container has, and no other machine.
var containers = []string{".dockerenv", "run/.containerenv"}

// inContainer reports whether the files are those of a container, whose list of resolvers somebody else writes.
func inContainer(root fs.FS) bool {
	return slices.ContainsFunc(containers, func(file string) bool {
		_, err := fs.Stat(root, file)
		return err == nil
	})
}

// readDynamicStore reads what macOS says of its resolvers, as the command scutil --dns writes it: the first resolver
// without a domain is the usual one, others are for domains, and those of the second part for interfaces.
func (s *Setup) readDynamicStore(text string) {
	const source = "the system's dynamic store"
	var now Scope
	var search []string
	multicast, scoped, usual := false, false, len(s.Resolvers) > 0
	end := func() {
		defer func() { now, search, multicast = Scope{Source: source}, nil, false }()
		switch {
		case multicast || len(now.Resolvers) == 0:
		case !scoped && len(now.Domains) == 0 && !usual:
			s.Resolvers, s.Search, usual = now.Resolvers, orElse(search, s.Search), true
		case !scoped && len(now.Domains) == 0 && slices.Equal(now.Resolvers, s.Resolvers):
			s.Search = orElse(search, s.Search)
		default:
			if !scoped {
				now.Interface = ""
			}
			s.addScope(now)
		}
	}
	scanner := bufio.NewScanner(strings.NewReader(text))
	for n := 0; scanner.Scan() && n < maxLines; n++ {
		line := strings.TrimSpace(scanner.Text())
		if strings.HasPrefix(line, "resolver #") || strings.HasPrefix(line, "DNS configuration") {
			end()
			scoped = scoped || strings.Contains(line, "scoped queries")
			continue
		}
		key, value, ok := strings.Cut(line, ":")
		if key, value = strings.TrimSpace(key), strings.TrimSpace(value); !ok || value == "" {
			continue
		}
		switch key, _, _ = strings.Cut(key, "["); key {
		case "nameserver":
			if a, err := netip.ParseAddr(value); err == nil {
				now.Resolvers = append(now.Resolvers, netip.AddrPortFrom(a, 53))
			}
		case "domain":
			now.Domains = append(now.Domains, strings.TrimSuffix(value, "."))
		case "search domain":
			search = append(search, value)
		case "options":
			multicast = strings.Contains(value, "mdns")
		case "if_index":
			if _, name, ok := strings.Cut(value, "("); ok {
				now.Interface = strings.TrimSuffix(name, ")")
			}
		}
	}
	end()
}

// orElse is the first of two lists that is not empty.
func orElse(a, b []string) []string {
	if len(a) > 0 {
		return a
	}
	return b
}

// Adapter is an interface of a Windows system with what it is set up with.
type Adapter struct {
	Name      string
	Up        bool
	Metric    int // the least is asked first
	Resolvers []netip.AddrPort
	Suffix    string // of the connection
}

// Policy is a row of the name resolution policy table of a Windows system.
type Policy struct {
	Names     []string // suffixes with a dot before them, or names
	Resolvers []netip.AddrPort
}

// setAdapters makes the set-up of a Windows system: the resolvers of the adapter with the least metric are asked
// first; search is the list of suffixes, and domain the machine's own, where the list is empty.
func (s *Setup) setAdapters(adapters []Adapter, policies []Policy, search []string, domain string) {
	adapters = slices.DeleteFunc(slices.Clone(adapters), func(a Adapter) bool { return !a.Up || len(a.Resolvers) == 0 })
	slices.SortStableFunc(adapters, func(a, b Adapter) int { return cmp.Compare(a.Metric, b.Metric) })
	for i, a := range adapters {
		resolvers := slices.DeleteFunc(slices.Clone(a.Resolvers), func(r netip.AddrPort) bool { return siteLocal.Contains(r.Addr()) })
		for _, r := range resolvers {
			if !slices.Contains(s.Resolvers, r) && len(s.Resolvers) < maxResolvers {
				s.Resolvers = append(s.Resolvers, r)
			}
		}
		if i > 0 {
			scope := Scope{Interface: a.Name, Resolvers: resolvers, Source: "the adapter"}
			if a.Suffix != "" {
				scope.Domains = []string{a.Suffix}
			}
			s.addScope(scope)
		}
	}
	for _, p := range policies {
		scope := Scope{Resolvers: p.Resolvers, Source: "the name resolution policy table"}
		for _, name := range p.Names {
			scope.Domains = append(scope.Domains, strings.TrimPrefix(name, "."))
		}
		s.addScope(scope)
	}
	if s.Search = search; len(search) == 0 {
		for _, suffix := range append([]string{domain}, suffixesOf(adapters)...) {
			if suffix != "" && !slices.Contains(s.Search, suffix) {
				s.Search = append(s.Search, suffix)
			}
		}
	}
}

func suffixesOf(adapters []Adapter) (all []string) {
	for _, a := range adapters {
		all = append(all, a.Suffix)
	}
	return all
}

// siteLocal are addresses that Windows lists where an adapter has no resolver of IPv6; nothing is there (RFC 3879).
var siteLocal = netip.MustParsePrefix("fec0::/10")
