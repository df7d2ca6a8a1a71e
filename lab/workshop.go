package lab

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// The workshop's zone, and what every plot in it has unless it says otherwise.
const (
	workshopZone = "works.example."
	workshopText = "$TTL 3600\n@ SOA top1 keeper 7 7200 900 1209600 600\n@ NS top1\n@ NS top2\ntop1 A 198.51.100.110\ntop2 A 203.0.113.110\none A 198.51.100.111\ntwo A 203.0.113.111\ntwo AAAA 2001:db8:0:111::111\nold A 198.51.100.112\n"
	plotRecords  = "@ A 203.0.113.120\nwww A 203.0.113.120\nwww AAAA 2001:db8:113::120\n"
)

// plant makes servers of the pairs that go wrong, has the servers serve the plots,
// and lists both in the workshop's zone.
func (s *Scenario) plant() error {
	var parent, first, second strings.Builder // first and second: where the parent's servers differ
	for i, odd := range s.Odds {
		for half, network := range []string{"198.51.100.", "192.0.2."} {
			host, address := fmt.Sprintf("%s%d", odd.Label, half+1), fmt.Sprintf("%s%d", network, 130+i)
			at, err := netip.ParseAddr(address)
			if err != nil {
				return fmt.Errorf("odd %s: %w", odd.Label, err)
			}
			if _, known := quirks[odd.Quirk]; odd.Quirk != "" && !known {
				return fmt.Errorf("odd %s: no quirk is called %q", odd.Label, odd.Quirk)
			}
			s.Servers = append(s.Servers, Server{Host: host + "." + workshopZone, Workshop: true, Addresses: []netip.Addr{at}, State: odd.State, Quirk: odd.Quirk, WithoutTCP: odd.TCP == "closed"})
			fmt.Fprintf(&parent, "%s A %s\n", host, address)
		}
	}
	var plots []Plot
	for _, f := range s.Faults {
		plots = append(plots, f.Plots...)
	}
	for _, h := range s.Healthy {
		plots = append(plots, h.Plots...)
	}
	for _, c := range s.Cares {
		plots = append(plots, c.Plots...)
	}
	if len(s.Mails) > 0 {
		plots = append(plots, s.mailPlot())
	}
	for _, p := range plots {
		at := &parent
		if len(p.Apart) > 0 {
			at = &first
		}
		for _, host := range p.NS {
			fmt.Fprintf(at, "%s NS %s\n", p.Zone, fromWorkshop(host))
		}
		for _, host := range p.Apart {
			fmt.Fprintf(&second, "%s NS %s\n", p.Zone, fromWorkshop(host))
		}
		for _, line := range p.Lines {
			fmt.Fprintln(&parent, line)
		}
		if err := s.serve(p); err != nil {
			return err
		}
		if p.Signed != nil {
			signing := *p.Signed
			signing.Zone = p.Zone + "." + workshopZone
			for i, host := range signing.Lags {
				signing.Lags[i] = fromWorkshop(host)
			}
			for _, k := range signing.Keys {
				for i, host := range k.Missing {
					k.Missing[i] = fromWorkshop(host)
				}
			}
			s.Signed = append(s.Signed, signing)
		}
	}
	s.Signed = append(s.Signed, Signing{Zone: workshopZone})
	text := workshopText + parent.String()
	for i := range s.Servers {
		switch s.Servers[i].Host {
		case "top1." + workshopZone:
			s.Servers[i].Zones = append(s.Servers[i].Zones, Served{Name: workshopZone, Text: text + first.String()})
		case "top2." + workshopZone:
			s.Servers[i].Zones = append(s.Servers[i].Zones, Served{Name: workshopZone, Text: text + second.String()})
		}
	}
	return nil
}

// mailPlot is the zone of the domains with mail.
func (s *Scenario) mailPlot() Plot {
	var text strings.Builder
	zone := mailZone + "." + workshopZone
	fmt.Fprintf(&text, "@ A 203.0.113.120\n")
	for _, m := range s.Mails {
		if m.Domain == "" {
			fmt.Fprintf(&text, "$ORIGIN %s.%s\n%s\n", m.Label, zone, strings.TrimSpace(m.Records))
		}
	}
	return Plot{Zone: mailZone, NS: []string{"one", "two"}, Records: text.String()}
}

// serve gives a plot's zone to the servers that have it.
func (s *Scenario) serve(p Plot) error {
	own, servers := p.Own, p.Servers
	if len(own) == 0 {
		own = p.NS
	}
	if len(servers) == 0 {
		servers = p.NS
	}
	var text strings.Builder
	fmt.Fprintf(&text, "$TTL 3600\n@ SOA %s %s %d 7200 900 1209600 600\n", fromWorkshop("one"), fromWorkshop("keeper"), cmp.Or(p.Serial, 1))
	for _, host := range own {
		fmt.Fprintf(&text, "@ NS %s\n", fromWorkshop(host))
	}
	text.WriteString(cmp.Or(p.Records, plotRecords))
	served := Served{Name: p.Zone + "." + workshopZone, Text: text.String(), For: p.For}
	for i := range s.Resolvers {
		if slices.Contains(p.Copied, s.Resolvers[i].Label) {
			s.Resolvers[i].Copies = append(s.Resolvers[i].Copies, served)
		}
	}
	for _, host := range servers {
		if host == "nobody" {
			continue
		}
		at := slices.IndexFunc(s.Servers, func(server Server) bool { return server.Host == fromWorkshop(host) })
		if at >= 0 {
			s.Servers[at].Zones = append(slices.Clip(s.Servers[at].Zones), served)
		}
	}
	return nil
}

// fromWorkshop is a host name as the workshop's plots write it.
func fromWorkshop(host string) string {
	if strings.HasSuffix(host, ".") {
		return host
	}
	return host + "." + workshopZone
}
