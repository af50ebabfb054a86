package expr

import "testing"

// TestVersions holds versions as packages write them against the one before in the list.
func TestVersions(t *testing.T) {
	for _, ascending := range [][]string{
		{"1.9", "1.10", "1.10.1", "2"},
		{"2.0rc1", "2.0", "2.0.1"},
		{"9.2", "9.2p1", "9.2p2", "9.3"},
		{"10.11.6-MariaDB", "11.4"},
		{"5.7.9~rc1", "5.7.9"},
		{"8.2alpha1", "8.2beta1", "8.2rc1", "8.2"},
	} {
		for i := range ascending {
			for k := range ascending {
				want := map[bool]int{true: -1}[i < k]
				if i > k {
					want = 1
				}
				if got := Compare(ascending[i], ascending[k]); got != want {
					t.Errorf("%s to %s: %d, want %d", ascending[i], ascending[k], got, want)
				}
			}
		}
	}
	if Compare("2.0", "2") != 0 {
		t.Error("2.0 is not 2")
	}
	for from, want := range map[string]string{"1:1.22.1-9+deb12u1": "1.22.1", "1.20.1-14.el9": "1.20.1", "252": "252", "1:9.2p1-2": "9.2p1", "2.4-1-3": "2.4-1"} {
		if got := Upstream(from); got != want {
			t.Errorf("%s: %s, want %s", from, got, want)
		}
	}
	host := Host{Traits: Traits{Units: []string{"nginx.service"}, Packages: map[string]string{"nginx": "1:1.22.1-9"}}}
	for source, want := range map[string]bool{
		`"nginx.service" in units`: true, `"ssh.service" in units`: false, `atLeast(packages.nginx, "1.22")`: true,
		`atLeast(packages.nginx, "1.25")`: false, `atLeast(packages.apache2, "2")`: false, `packages.apache2 == ""`: true,
	} {
		if got, err := Holds(source, HostVars, host.Vars()); err != nil || got != want {
			t.Errorf("%s: %v, %v", source, got, err)
		}
	}
	if _, err := Holds(`"nginx.service" in units`, HostVars, Host{}.Vars()); err != nil {
		t.Errorf("of a host that was never surveyed: %v", err)
	}
}
