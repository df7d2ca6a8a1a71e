package data

import (
	"net/netip"
	"time"

	"unquil/lab"
)

// Scenario is the simulated internet.
type Scenario struct {
	Story     string             `json:"story"`
	Begins    time.Time          `json:"begins"`
	Machine   netip.Addr         `json:"machine"` // the technician's
	Servers   []ScenarioServer   `json:"servers"`
	Resolvers []ScenarioResolver `json:"resolvers"`
	Faults    []ScenarioFault    `json:"faults"`
	Healthy   []ScenarioName     `json:"healthy"`
}

// ScenarioServer is an authoritative server.
type ScenarioServer struct {
	Host      string       `json:"host"`
	Addresses []netip.Addr `json:"addresses"`
	State     string       `json:"state"`
	Zones     []string     `json:"zones"`
}

// ScenarioResolver is a resolver.
type ScenarioResolver struct {
	Label     string       `json:"label"`
	Addresses []netip.Addr `json:"addresses"`
	Place     string       `json:"place"`
	State     string       `json:"state"`
}

// ScenarioFault is something wrong, and what is to be found.
type ScenarioFault struct {
	Name      string `json:"name"`
	Type      string `json:"type"`
	From      string `json:"from"`
	Complaint string `json:"complaint"`
	What      string `json:"what"`
	Finding   string `json:"finding"`
	Severity  string `json:"severity"` // "" means fault
	At        string `json:"at"`
}

// ScenarioName is a name with nothing wrong.
type ScenarioName struct {
	Name  string   `json:"name"`
	Types []string `json:"types"`
}

// OfScenario returns the simulated internet as JSON has it.
func OfScenario(s *lab.Scenario) Scenario {
	out := Scenario{Story: s.Story, Begins: s.Begins, Machine: s.Machine,
		Resolvers: each(s.Resolvers, func(r lab.Resolver) ScenarioResolver {
			return ScenarioResolver{r.Label, list(r.Addresses), r.Place, string(r.State)}
		}),
		Faults: each(s.Faults, func(f lab.Fault) ScenarioFault {
			return ScenarioFault{f.Name, f.Type, f.From, f.Complaint, f.What, f.Finding, f.Severity, f.At}
		}),
		Healthy: each(s.Healthy, func(h lab.Healthy) ScenarioName { return ScenarioName{h.Name, list(h.Types)} }),
	}
	for _, server := range s.Servers {
		j := ScenarioServer{server.Host, list(server.Addresses), string(server.State), []string{}}
		for _, z := range server.Zones {
			j.Zones = append(j.Zones, z.Name)
		}
		out.Servers = append(out.Servers, j)
	}
	return out
}

// Exported are the files that were written.
type Exported struct {
	Files []string `json:"files"`
}
