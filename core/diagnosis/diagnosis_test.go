package diagnosis

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/finding"
)

func TestDecide(t *testing.T) {
	at := func(code finding.Code, severity finding.Severity, zone, server string, evidence int) finding.Finding {
		return finding.New(code, severity, finding.About{Zone: zone, Server: server}, server+" fails.", evidence)
	}
	const fault, concern = finding.Fault, finding.Concern
	for _, tt := range []struct {
		name  string
		found []finding.Finding
		cause []string // the servers blamed
		where Place
		at    string
	}{
		{"nothing found is nothing wrong", nil, nil, NowhereFound, ""},
		{"a concern has a place too", []finding.Finding{at(finding.Unreachable, concern, "a.north.", "n2.", 1)}, []string{"n2."}, OneServer, "n2."},
		{"a note has none", []finding.Finding{at(finding.SerialsDiffer, finding.Note, "a.north.", "n2.", 1)}, nil, NowhereFound, ""},
		{"lame servers explain the resolver's failure", []finding.Finding{at(finding.ServerFailure, fault, "", "office", 1), at(finding.LameServer, fault, "a.lifts.", "a.", 2), at(finding.LameServer, fault, "a.lifts.", "b.", 3)},
			[]string{"a.", "b."}, TheDeleg, "a.lifts."},
		{"servers of one zone fail together, each in its way", []finding.Finding{at(finding.NoReply, fault, "a.camera.", "a.", 1), at(finding.Unreachable, fault, "a.camera.", "b.", 2)}, []string{"a.", "b."}, ZoneServers, "a.camera."},
		{"a stale cache comes before the server it came from", []finding.Finding{at(finding.AnswersDiffer, fault, "a.zone.", "ns.", 1), at(finding.CacheStale, fault, "", "office", 2)}, []string{"office"}, TheResolver, "office"},
		{"a lagging server alone", []finding.Finding{at(finding.AnswersDiffer, fault, "a.zone.", "ns.", 1), at(finding.SerialsDiffer, concern, "a.zone.", "ns.", 2)}, []string{"ns."}, OneServer, "ns."},
		{"a silent resolver is a matter of the way to it", []finding.Finding{at(finding.NoReply, fault, "", "kiosk", 1)}, []string{"kiosk"}, PathOut, "kiosk"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			v := decide(Verdict{}, tt.found, sight{})
			var blamed []string
			for _, f := range v.Cause {
				blamed = append(blamed, f.About.Server)
			}
			assert.Equal(t, tt.cause, blamed)
			assert.Equal(t, tt.where, v.Where)
			assert.Equal(t, tt.at, v.At)
			assert.Len(t, v.Findings(), len(tt.found), "nothing found is lost")
			assert.Equal(t, finding.Worst(tt.found) != fault, v.OK())
		})
	}
}

// unplaced are the findings without a place: notes, and what only local, zone, transfer and decode find.
var unplaced = []finding.Code{
	finding.SuffixDetour, finding.StubInPath, finding.EncryptedFails, finding.EDNSIgnored,
	finding.RecursionOpen, finding.SOATimers, finding.TransferRefused, finding.TransferOpen, finding.TransferBroken, finding.ContentDiffers, finding.AliasWithData,
	finding.Unanswered, finding.RepeatedQuery, finding.NoNameBurst, finding.ReadableNames, finding.Undecodable, finding.NameConflict, finding.OneSided,
}

// Every finding has a rule that places it and says who can fix it, but for those that make
// nobody fail.
func TestEveryFindingHasARule(t *testing.T) {
	for _, kind := range finding.Catalogue {
		assert.NotEqual(t, slices.Contains(unplaced, kind.Code), slices.ContainsFunc(rules, func(r rule) bool { return r.code == kind.Code }), kind.Code)
	}
	for _, r := range rules {
		_, known := finding.Of(r.code)
		assert.True(t, known, r.code)
		assert.NotEmpty(t, r.place, r.code)
		assert.NotEmpty(t, r.who, r.code)
		assert.NotEmpty(t, r.sure, r.code)
	}
}
