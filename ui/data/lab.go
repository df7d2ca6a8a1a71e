package data

import "unquil/lab"

// OfScenario returns the simulated internet as JSON has it.
func OfScenario(s *lab.Scenario) any {
	servers, resolvers, faults, healthy := []any{}, []any{}, []any{}, []any{}
	for _, server := range s.Servers {
		zones := []string{}
		for _, z := range server.Zones {
			zones = append(zones, z.Name)
		}
		servers = append(servers, map[string]any{"host": server.Host, "addresses": server.Addresses, "state": string(server.State), "zones": zones})
	}
	for _, r := range s.Resolvers {
		resolvers = append(resolvers, map[string]any{"label": r.Label, "addresses": r.Addresses, "place": r.Place, "state": string(r.State)})
	}
	for _, f := range s.Faults {
		faults = append(faults, map[string]any{"name": f.Name, "type": f.Type, "from": f.From, "complaint": f.Complaint, "what": f.What, "finding": f.Finding, "severity": f.Severity, "at": f.At})
	}
	for _, h := range s.Healthy {
		healthy = append(healthy, map[string]any{"name": h.Name, "types": h.Types})
	}
	return map[string]any{"story": s.Story, "begins": s.Begins, "machine": s.Machine, "servers": servers, "resolvers": resolvers, "faults": faults, "healthy": healthy}
}
