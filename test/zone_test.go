package test

import "testing"

// What a zone's page says first, and which server it blames.
func TestZone(t *testing.T) {
	for _, tt := range []struct {
		zone string
		code int
		want []string
		not  []string
	}{
		{"valley.hollowtarn.example", 0, []string{"valley.hollowtarn.example works, with 3 concerns", "203.0.113.195 unreachable", "The zone lists ns2.farhost.test, and the parent does not."}, []string{" fault ", "asked for"}},
		{"hollowtarn.example", 0, []string{"works, with 1 concern", "203.0.113.77 2026030701", "ns.farhost.test has serial 2026030701"}, []string{"1 concerns"}},
		{"status.lifts.hollowtarn.example", 3, []string{"lifts.hollowtarn.example has 3 faults", "ns2.farhost.test", "one.lanternpost.test", "lame-server", "the walk to status.lifts.hollowtarn.example ends at lifts.hollowtarn.example"}, nil},
		{"gone.nowhere.example", 0, []string{"asked for gone.nowhere.example does not exist (NXDOMAIN); the zone that says so is example"}, nil},
		{"web.hollowtarn.example", 0, []string{"web.hollowtarn.example is a name in hollowtarn.example, not a zone itself"}, nil},
		{"gates.hollowtarn.example", 3, []string{"has 1 fault", "signatures bogus", "gates.hollowtarn.example the chain breaks here", "ran out at 06:00 on 9 March 2026"}, []string{"signers-differ"}},
		{"half-signed.works.example", 0, []string{"signatures secure", "ran out at 06:00 on 9 March 2026, as two.works.example gives it"}, nil},
		{"bare-too.works.example", 0, []string{"bare-too.works.example hashes its names 3 times more and with a salt for its denials (NSEC3): that costs its servers, and protects nothing"}, []string{"concern", "fault"}},
		{"snow.hollowtarn.example", 0, []string{"points (CNAME) to snow.fellcast.test, which is a name in fellcast.test"}, nil},
	} {
		t.Run(tt.zone, func(t *testing.T) {
			run(t, "zone", "--lab", tt.zone).holds(t, tt.code, tt.want, tt.not)
		})
	}
}
