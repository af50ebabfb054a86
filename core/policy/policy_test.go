package policy

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/finding"
)

// calendar is what the cases below are held against.
const calendar = `
windows:
  - {name: nights, where: labels.tier == "core", days: [monday, tuesday, wednesday, thursday, friday], from: "22:00", to: "05:00", zone: Europe/Vienna}
  - {name: sunday noon, where: labels.tier == "core", days: [sunday], from: "12:00", to: "14:00", zone: Europe/Vienna}
  - {name: the small hours, where: labels.tier == "edge", from: "02:15", to: "02:45", zone: Europe/Vienna}
  - {name: day, where: labels.tier == "south", from: "09:00", to: "17:00", zone: Pacific/Auckland}
freezes:
  - {name: spring flood, where: labels.site == "delta", from: 2027-03-20 08:00, to: 2027-04-10 18:00, zone: Europe/Vienna, because: the gauges are read every minute}
  - {name: bulletin, where: labels.role == "bulletin", from: "05:30", to: "06:30", zone: Europe/Vienna}
  - {name: change of clocks, where: labels.tier == "clock", days: [sunday], from: "02:30", to: "03:00", zone: Europe/Vienna}
  - {name: whole friday, where: labels.tier == "friday", days: [friday], from: "00:00", to: "24:00", zone: UTC}
`

// TestCalendar walks moments, in UTC, and which hosts are held then, why and until when.
// Vienna is an hour ahead of UTC in winter and two in summer: in 2027 the hour from 02:00 is
// skipped on 28 March at 01:00 UTC, and that from 02:00 to 03:00 comes twice on 31 October,
// from 00:00 and from 01:00 UTC.
func TestCalendar(t *testing.T) {
	p, err := Parse("policy.yaml", []byte(calendar))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ at, labels, held, until string }{
		// A window from evening into the next day, and another for the same hosts.
		{"2027-01-11 20:59", "tier=core", "nights, sunday noon", "2027-01-11 21:00"}, // a Monday, 21:59 in Vienna
		{"2027-01-11 21:00", "tier=core", "", ""},
		{"2027-01-12 03:59", "tier=core", "", ""},
		{"2027-01-12 04:00", "tier=core", "nights, sunday noon", "2027-01-12 21:00"},
		{"2027-01-16 03:00", "tier=core", "", ""}, // Saturday morning, of Friday's window
		{"2027-01-16 22:00", "tier=core", "nights, sunday noon", "2027-01-17 11:00"},
		{"2027-01-17 11:00", "tier=core", "", ""},
		{"2027-01-17 13:00", "tier=core", "nights, sunday noon", "2027-01-18 21:00"},
		{"2027-01-11 12:00", "tier=web", "", ""},                                     // no window fits it
		{"2027-07-12 20:00", "tier=core", "", ""},                                    // in summer an hour earlier
		{"2027-07-12 19:59", "tier=core", "nights, sunday noon", "2027-07-12 20:00"}, //
		{"2027-01-11 12:00", "tier=core site=bay", "nights, sunday noon", "2027-01-11 21:00"},
		// The other end of the world: Monday 21:00 in Auckland is Monday 08:00 UTC.
		{"2027-01-10 19:59", "tier=south", "day", "2027-01-10 20:00"},
		{"2027-01-10 20:00", "tier=south", "", ""},
		{"2027-01-11 04:00", "tier=south", "day", "2027-01-11 20:00"},
		// A freeze with dates, over the change to summer time.
		{"2027-03-20 06:59", "site=delta", "", ""},
		{"2027-03-20 07:00", "site=delta", "spring flood", "2027-04-10 16:00"},
		{"2027-04-10 15:59", "site=delta", "spring flood", "2027-04-10 16:00"},
		{"2027-04-10 16:00", "site=delta", "", ""},
		// A freeze and a closed window: the one that lasts longer is told.
		{"2027-03-22 12:00", "tier=core site=delta", "spring flood", "2027-04-10 16:00"},
		{"2027-01-11 04:45", "tier=core role=bulletin", "nights, sunday noon", "2027-01-11 21:00"},
		{"2027-01-11 04:45", "role=bulletin", "bulletin", "2027-01-11 05:30"},
		{"2027-07-12 03:45", "role=bulletin", "bulletin", "2027-07-12 04:30"},
		// The hour that is skipped: a window within it does not exist on that day.
		{"2027-03-27 01:15", "tier=edge", "", ""},
		{"2027-03-28 00:59", "tier=edge", "the small hours", "2027-03-29 00:15"},
		{"2027-03-28 01:00", "tier=edge", "the small hours", "2027-03-29 00:15"},
		{"2027-03-28 01:20", "tier=edge", "the small hours", "2027-03-29 00:15"},
		{"2027-03-29 00:15", "tier=edge", "", ""},
		// The hour that comes twice: a window is read narrow, so it is in neither of the two; a
		// freeze is read wide, from the first 02:30 on.
		{"2027-10-31 00:20", "tier=edge", "the small hours", "2027-11-01 01:15"},
		{"2027-10-31 01:20", "tier=edge", "the small hours", "2027-11-01 01:15"},
		{"2027-10-31 00:29", "tier=clock", "", ""},
		{"2027-10-31 00:30", "tier=clock", "change of clocks", "2027-10-31 02:00"},
		{"2027-10-31 01:45", "tier=clock", "change of clocks", "2027-10-31 02:00"},
		{"2027-10-31 02:00", "tier=clock", "", ""},
		{"2027-03-28 01:00", "tier=clock", "", ""}, // from 02:30 to 03:00 is nothing on that day
		// A whole day.
		{"2027-01-14 23:59", "tier=friday", "", ""},
		{"2027-01-15 00:00", "tier=friday", "whole friday", "2027-01-16 00:00"},
		{"2027-01-15 23:59", "tier=friday", "whole friday", "2027-01-16 00:00"},
		{"2027-01-16 00:00", "tier=friday", "", ""},
	} {
		at, err := time.Parse(dated, c.at)
		if err != nil {
			t.Fatal(err)
		}
		labels := map[string]string{}
		for _, l := range strings.Fields(c.labels) {
			key, value, _ := strings.Cut(l, "=")
			labels[key] = value
		}
		hold, err := p.Holds([]map[string]string{{"tier": "none"}, labels}, at)
		if err != nil {
			t.Fatal(err)
		}
		held, until := "", ""
		if hold != nil {
			held, until = hold.Name, hold.Until.UTC().Format(dated)
		}
		if held != c.held || until != c.until {
			t.Errorf("at %s UTC hosts with %s are held by %q until %s; want %q until %s", c.at, c.labels, held, until, c.held, c.until)
		}
	}
	freeze, _ := p.Holds([]map[string]string{{"site": "delta"}}, time.Date(2027, 4, 1, 0, 0, 0, 0, time.UTC))
	if want := `the freeze "spring flood" lasts until Sat 2027-04-10 18:00 CEST: the gauges are read every minute`; freeze.String() != want {
		t.Errorf("it says %q; want %q", freeze, want)
	}
	window, _ := p.Holds([]map[string]string{{"tier": "core"}}, time.Date(2027, 1, 11, 12, 0, 0, 0, time.UTC))
	if want := `it is outside the window "nights, sunday noon", which opens Mon 2027-01-11 22:00 CET`; window.String() != want {
		t.Errorf("it says %q; want %q", window, want)
	}
}

// TestDemands walks who has approved, and what is missing yet.
func TestDemands(t *testing.T) {
	p, err := Parse("policy.yaml", []byte(`
teams: {gauges: [oda, per], night: [oda]}
approvals:
  - {needs: 1}
  - {where: labels.tier == "core", needs: 2}
  - {where: labels.site == "delta", needs: 1, from: gauges}
  - {where: labels.site == "bay", needs: 1, from: admin}
emergency: {by: night, lasts: 30m}
`))
	if err != nil {
		t.Fatal(err)
	}
	who := func(names string) (all []Who) {
		for _, name := range strings.Fields(names) {
			all = append(all, Who{name, map[string][]string{"ruth": {"reviewer", "admin"}}[name]})
		}
		return all
	}
	for _, c := range []struct{ labels, approvers, missing string }{
		{"tier=web", "", "1 approval"},
		{"tier=web", "kai", ""},
		{"tier=core", "", "2 approvals (hosts where labels.tier == \"core\")"},
		{"tier=core", "kai", "1 more approval (hosts where labels.tier == \"core\")"},
		{"tier=core", "kai ria", ""},
		{"site=delta", "", "1 approval from gauges (hosts where labels.site == \"delta\")"},
		{"tier=core site=delta", "", "2 approvals (hosts where labels.tier == \"core\"); 1 approval from gauges (hosts where labels.site == \"delta\")"},
		{"tier=core site=delta", "per", "1 more approval (hosts where labels.tier == \"core\")"},
		{"site=delta", "kai", "1 approval from gauges (hosts where labels.site == \"delta\")"},
		{"site=delta", "per", ""}, // one approval meets both
		{"tier=core site=delta", "kai ria", "1 approval from gauges (hosts where labels.site == \"delta\")"},
		{"tier=core site=delta", "kai oda", ""},
		{"site=bay", "kai", "1 approval from admin (hosts where labels.site == \"bay\")"},
		{"site=bay", "ruth", ""},
	} {
		var labels []map[string]string // a host for each: demands are of all hosts together
		for _, l := range strings.Fields(c.labels) {
			key, value, _ := strings.Cut(l, "=")
			labels = append(labels, map[string]string{key: value})
		}
		wanted, err := p.Wanted(labels)
		if err != nil {
			t.Fatal(err)
		}
		if missing := strings.Join(p.Missing(wanted, who(c.approvers)), "; "); missing != c.missing {
			t.Errorf("hosts with %s, approved by %q: missing %q; want %q", c.labels, c.approvers, missing, c.missing)
		}
	}
	var none Policy
	if wanted, _ := none.Wanted(nil); len(none.Missing(wanted, nil)) != 1 || none.Missing(wanted, who("kai")) != nil {
		t.Error("without a policy one approval does, and none does not")
	}
	if !p.MayAlone("oda") || p.MayAlone("per") || none.MayAlone("oda") || p.EmergencyLasts() != 30*time.Minute || p.ReviewWithin() != 24*time.Hour {
		t.Error("who may act alone, and for how long, is not as written")
	}
	few, _ := Parse("policy.yaml", []byte("approvals: [{where: 'labels.tier == \"core\"', needs: 1}]"))
	if wanted, _ := few.Wanted([]map[string]string{{"tier": "web"}}); len(few.Missing(wanted, nil)) != 1 {
		t.Error("a change that no demand fits needs no approval at all")
	}
}

// TestOverrides walks each veto, each place and each role.
func TestOverrides(t *testing.T) {
	codes := finding.Codes()
	if len(codes) < 40 {
		t.Fatalf("the table has %d vetoes", len(codes))
	}
	for _, code := range append(codes, "never-heard-of") {
		where := finding.Overriding(code)
		// The definition's despite.
		if finding.Known(code) {
			level, _ := finding.Hazard{Code: code}.Weighed([]string{code})
			if overridden := level != finding.Veto; overridden != where.Definition {
				t.Errorf("%s: despite: makes it a %s; the table says definition: %v", code, level, where.Definition)
			}
		} else if where.Definition && code != "not-proven" {
			t.Errorf("%s: the table says that a definition overrides it, and no definition can say so", code)
		}
		for _, by := range append(slices.Clone(roles[1:]), "network") {
			p, err := Parse("policy.yaml", fmt.Appendf(nil, "teams: {network: [nell]}\noverrides: [{finding: %s, by: %s}]", code, by))
			if !where.Policy {
				if err == nil || !strings.Contains(err.Error(), where.Why()) {
					t.Errorf("%s: policy lets %s override it (%v); want it refused with %q", code, by, err, where.Why())
				}
				p = &Policy{Teams: map[string][]string{"network": {"nell"}}, Overrides: []Override{{code, by}}} // as if it had been written past us
			} else if err != nil {
				t.Errorf("%s: %v", code, err)
				continue
			}
			for _, role := range roles {
				if may := p.MayOverride(code, Who{"kai", []string{role}}); may != (where.Policy && role == by) {
					t.Errorf("%s, by %s: somebody with the role %s may: %v", code, by, role, may)
				}
				if may := p.MayOverride(code, Who{"nell", []string{role}}); may != (where.Policy && (by == "network" || role == by)) {
					t.Errorf("%s, by %s: nell of network with the role %s may: %v", code, by, role, may)
				}
			}
			if where.Policy != (len(p.Overriders(code)) == 1) {
				t.Errorf("%s: it says that %v may override it", code, p.Overriders(code))
			}
			if p.MayOverride("expired-"+code, Who{"nell", roles}) {
				t.Errorf("%s: another code is overridden with it", code)
			}
		}
		if (&Policy{}).MayOverride(code, Who{"kai", roles}) {
			t.Errorf("%s: without a word in policy somebody with all roles may override it", code)
		}
	}
	for _, code := range []string{"refused", finding.OutsideRoots, "host-key-unknown", "host-key-changed", "not-to-be-asked", "edited", "own-way-in"} {
		if p := finding.Overriding(code); p.Definition || p.Policy || !strings.HasPrefix(p.Why(), "nobody: ") {
			t.Errorf("%s can be overridden: %s", code, p.Why())
		}
	}
	veto := func(code string) finding.Finding { return finding.Finding{Level: finding.Veto, Code: code} }
	for _, c := range []struct {
		codes []string
		ids   int
	}{{nil, 0}, {[]string{"port-taken"}, 1}, {[]string{"port-taken", "expired", "expired"}, 2}, {[]string{"port-taken", "refused"}, 0}} {
		var all []finding.Finding
		for _, code := range c.codes {
			all = append(all, veto(code))
		}
		if ids := finding.Barred(append(all, finding.Finding{Level: finding.Warn, Code: "clock"})); len(ids) != c.ids {
			t.Errorf("of %v, %v bar a host until they are overridden; want %d", c.codes, ids, c.ids)
		}
	}
}

// TestPoliciesRefused holds what is wrong in a policy against what is said of it.
func TestPoliciesRefused(t *testing.T) {
	for text, want := range map[string]string{
		"{}":                                    "says nothing",
		"approvals: [{needs: 0}]":               "approvals: number 1: needs: 0; want 1 or more",
		"approvals: [{needs: 1, from: gauges}]": `approvals: number 1: from: "gauges" is neither a team of this policy`,
		"teams: {a: [x]}\napprovals: [{needs: 2, from: a}]":                             "needs: 2 from a, a team of 1",
		"teams: {admin: [x]}":                                                           "teams: admin is the name of a role; give the team another",
		"teams: {a: []}":                                                                "teams: a: nobody is in it",
		"approvals: [{needs: 1, where: cores > 2}]":                                     "undeclared reference to 'cores'",
		"approvals-last: 2400h":                                                         "approvals-last: 2400h0m0s is longer than 90 days",
		"warnings: maybe":                                                               `warnings: "maybe" is neither shown nor acknowledged`,
		"threads: maybe":                                                                `threads: "maybe" is neither open nor settled`,
		"emergency: {by: night}":                                                        `emergency: by: "night" is not a team of this policy`,
		"teams: {n: [x]}\nemergency: {by: n, lasts: 48h}":                               "emergency: lasts: 48h0m0s is longer than a day",
		"overrides: [{finding: port-taken, by: viewer}]":                                `by: "viewer" is neither a team of this policy nor author`,
		"keep: {steps: 1h}":                                                             "keep: steps: 1h0m0s is shorter than a day",
		"freezes: [{name: a, from: 05:00, to: 06:00}]":                                  "zone: is empty",
		"freezes: [{name: a, from: '05:00', to: '06:00', zone: X}]":                     `zone: "X" is not a time zone`,
		"freezes: [{from: '05:00', to: '06:00', zone: UTC}]":                            "name: is empty",
		"windows: [{name: a, from: '25:00', to: '06:00', zone: UTC}]":                   `want two times of day such as 22:00`,
		"windows: [{name: a, from: 2027-01-02 10:00, to: 2027-01-02 09:00, zone: UTC}]": "to: is not after from",
		"windows: [{name: a, days: [monday], from: 2027-01-02 10:00, to: 2027-01-02 11:00, zone: UTC}]":                 "days: are for spans that come every week",
		"windows: [{name: a, days: [Mon], from: '10:00', to: '11:00', zone: UTC}]":                                      `days: "Mon" is not a weekday`,
		"windows: [{name: a, from: '10:00', to: '11:00', zone: UTC}, {name: a, from: '10:00', to: '11:00', zone: UTC}]": "another has this name",
		"approval: [{needs: 1}]": "did you mean approvals?",
	} {
		if _, err := Parse("policy.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s\n  is refused with %v; want %q", text, err, want)
		}
	}
}

// TestExampleOfTheDocs reads the policy that docs/review.md shows, and holds its table of
// vetoes against ours.
func TestExampleOfTheDocs(t *testing.T) {
	text, err := os.ReadFile("../../docs/review.md")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for block := range strings.SplitSeq(string(text), "```yaml\n") {
		if example, _, _ := strings.Cut(block, "```"); strings.HasPrefix(example, "teams:") {
			found++
			if _, err := Parse("docs/review.md", []byte(example)); err != nil {
				t.Error(err)
			}
		}
	}
	if found != 1 {
		t.Errorf("%d policies are shown", found)
	}
	_, table, _ := strings.Cut(string(text), "| veto |")
	rows, _, _ := strings.Cut(table, "\n\n")
	said := map[string]string{}
	for row := range strings.SplitSeq(rows, "\n") {
		if cells := strings.Split(row, "|"); len(cells) == 5 {
			for i, code := range strings.Split(cells[1], "`") {
				if i%2 == 1 && code != "despite" {
					said[code] = strings.TrimSpace(cells[2]) + " " + strings.TrimSpace(cells[3])
				}
			}
		}
	}
	word := map[bool]string{true: "yes", false: "no"}
	for _, code := range finding.Codes() {
		p := finding.Overriding(code)
		want := word[p.Definition] + " " + word[p.Policy]
		if got, there := said[code]; there && got != want || !there && want != "no no" {
			t.Errorf("docs/review.md says %q of %s; the table %q", got, code, want)
		}
	}
}

// TestAhead lists what the calendar has for some days, and holds each span against what it says of
// the moments at its ends.
func TestAhead(t *testing.T) {
	p, err := Parse("policy.yaml", []byte(calendar))
	if err != nil {
		t.Fatal(err)
	}
	at := func(text string) time.Time {
		when, err := time.Parse(dated, text)
		if err != nil {
			t.Fatal(err)
		}
		return when
	}
	all := p.Ahead(at("2027-03-19 12:00"), at("2027-04-02 12:00"))
	counts := map[string]int{}
	for i, c := range all {
		counts[c.Name]++
		if i > 0 && c.From.Before(all[i-1].From) {
			t.Errorf("%s begins before the one in front of it", c.Name)
		}
		if !c.Freeze || c.Where != "" && c.Name != "spring flood" {
			continue
		}
		labels := []map[string]string{{"site": "delta", "role": "bulletin"}}
		for _, edge := range []struct {
			at   time.Time
			held bool
		}{{c.From.Add(-time.Minute), false}, {c.From, true}, {c.To.Add(-time.Minute), true}} {
			if held, err := (&Policy{Freezes: slices.DeleteFunc(slices.Clone(p.Freezes), func(s Span) bool { return s.Name != c.Name })}).Holds(labels, edge.at); err != nil || (held != nil) != edge.held {
				t.Errorf("%s from %s to %s: at %s it holds: %v, %v", c.Name, c.From, c.To, edge.at, held, err)
			}
		}
	}
	for name, want := range map[string]int{"nights": 10, "sunday noon": 2, "spring flood": 1} {
		if counts[name] != want {
			t.Errorf("%s comes %d times; want %d: %v", name, counts[name], want, counts)
		}
	}
}
