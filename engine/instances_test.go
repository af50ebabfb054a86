package engine

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
)

const instancesDefinition = `
service: intake
title: Gauge intake, one for each river
where: '"gauge-intake@10-coast.service" in units'
instances: {unit: "gauge-intake@*.service"}
packages: [gauge-intake-light, gauge-intake]
unit: gauge-intake@{instance}.service
files:
  main:
    format: ini
    paths: {any: "/etc/gauge-intake/{instance:path}.ini"}
    versions: [{since: "1.9", paths: {any: /nowhere}}, {since: "2.0", paths: {any: "/etc/rivers/{instance:2}.ini"}}]
acts: [{name: restart, command: [systemctl, restart, "gauge-intake@{instance}.service"]}]
in-force: {ask: "unit gauge-intake@{instance}.service", expect: renewed > 0}
settings: [{address: intake/poll_seconds, type: integer, range: 1..600}]
probes: [{name: unit, ask: "unit gauge-intake@{instance}.service", expect: state == "active"}]
settle: 500ms
`

// TestInstances changes the instances that each host has, in files that lie elsewhere in a
// newer version of the software, and puts all of a host back where one of them fails.
func TestInstances(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	at := func(host int, river string) string {
		if host == 2 {
			return "/etc/rivers/" + river + ".ini"
		}
		return "/etc/gauge-intake/" + map[string]string{"coast": "10", "delta": "20"}[river] + "/" + river + ".ini"
	}
	r := newRig(t, 5, func(i int, c *standin.Config) {
		c.Packages = map[string]string{"gauge-intake": "1:1.8.2-3+deb12u1"}
		if i == 2 {
			c.Packages["gauge-intake"] = "2.10.0~rc1-1"
		}
		c.Image = map[string]string{confPath: confText}
		for n, river := range []string{"coast", "delta"} {
			if n == 1 && i == 1 || i == 4 { // the second host has one alone, the last one none
				continue
			}
			path := at(i, river)
			c.Image[path] = fmt.Sprintf("[intake]\nport = %d\npoll_seconds = 60\nmax_gauges = 40\n", 18470+n)
			c.Units = append(c.Units, standin.UnitConfig{Name: fmt.Sprintf("gauge-intake@%d0-%s.service", n+1, river), Checker: "gauge-intake", Read: standin.Intake(path)})
		}
	})
	r.load("intake", instancesDefinition)
	if _, failed, err := r.engine.Survey(ctx, ""); err != nil || len(failed) > 0 {
		t.Fatal(failed, err)
	}
	h, err := r.store.Host(ctx, "b02")
	if err != nil || len(h.Traits.Units) != 3 || h.Traits.Packages["gauge-intake"] != "2.10.0~rc1-1" {
		t.Fatalf("b02: %+v, %v", h.Traits, err)
	}
	r.hosts[3].Script(&standin.Fault{Do: standin.RefuseStart, When: "poll_seconds = 120"})
	notes := make([]*acted, len(r.hosts))
	for i, h := range r.hosts {
		notes[i] = &acted{}
		notes[i].watch(h)
	}
	const change = `
title: Slower intake
reason: a flood is coming
service: intake
where: labels.role == "bulletin"
count: 5
edits: [{set: intake/poll_seconds, compute: 'instance == "10-coast" ? 90 : 120'}]
probes: [{name: it answers, ask: "unit gauge-intake@{instance}.service", expect: 'restarts == 0'}]
ladder: {stages: [{hosts: all}], soak: 200ms, at_once: 9, pause_after: 9}
`
	id := r.drafted(change)
	d := r.approved(id)
	if text := fmt.Sprint(d.Rehearsal.Groups); d.Rehearsal.Planned != 4 || !strings.Contains(text, "does not carry it") {
		t.Errorf("%d planned: %s", d.Rehearsal.Planned, text)
	}
	d = r.climb(id)
	polls := func(host int, river string) string {
		data, _ := r.hosts[host].Files.Read(at(host, river))
		_, rest, _ := strings.Cut(string(data), "poll_seconds = ")
		value, _, _ := strings.Cut(rest, "\n")
		return value
	}
	const coast, delta = "restart gauge-intake@10-coast", "restart gauge-intake@20-delta"
	for i, want := range []struct {
		state        ladder.RunState
		coast, delta string
		acts         string
	}{
		{ladder.Done, "90", "120", coast + ", " + delta},
		{ladder.Done, "90", "", coast},
		{ladder.Done, "90", "120", coast + ", " + delta},
		{ladder.Restored, "60", "60", coast + ", " + delta + ", " + delta + ", " + coast},
	} {
		run := find(d, r.hosts[i].Name)
		if run.State != want.state || polls(i, "coast") != want.coast || polls(i, "delta") != want.delta || notes[i].String() != want.acts {
			t.Errorf("%s is %s (%s), polls every %q and %q s; asked of systemctl: %s", run.Host, run.State, run.Why, polls(i, "coast"), polls(i, "delta"), notes[i])
		}
		if run.State == ladder.Done && run.Proof != ladder.ProofInForce {
			t.Errorf("%s rests on %s", run.Host, run.Proof)
		}
	}
	full, err := r.store.HostRun(ctx, id, "b00")
	if text := fmt.Sprint(full.Steps); err != nil || !strings.Contains(text, "intake 20-delta") {
		t.Errorf("the steps of b00 do not say which instance: %s, %v", text, err)
	}

	// The opposite says of which instance each edit is.
	back, err := r.engine.Counter(ctx, "ines", id, "the flood is over")
	if err != nil {
		t.Fatal(err)
	}
	source, err := r.store.Change(ctx, back)
	if err != nil || !strings.Contains(source.Source, `instance == "10-coast"`) || !strings.Contains(source.Source, `instance == "20-delta" && name in`) {
		t.Errorf("%s, %v", source.Source, err)
	}
	r.approved(back)
	d = r.climb(back)
	for i := range 3 {
		if polls(i, "coast") != "60" || i != 1 && polls(i, "delta") != "60" {
			t.Errorf("b0%d is not put back: %q, %q (%s)", i, polls(i, "coast"), polls(i, "delta"), find(d, r.hosts[i].Name).Why)
		}
	}

	// By a label; and a label that names none, or no name.
	r.load("intake", strings.NewReplacer(`{unit: "gauge-intake@*.service"}`, `{label: rivers}`, `'"gauge-intake@10-coast.service" in units'`, `'labels.rivers != ""'`).Replace(instancesDefinition))
	var load []view.Host
	for i, rivers := range []string{"20-delta", "", "../../etc/passwd, 10-coast"} {
		h, err := r.store.Host(ctx, r.hosts[i].Name)
		if err != nil {
			t.Fatal(err)
		}
		h.Labels = map[string]string{"role": "bulletin", "rivers": rivers}
		load = append(load, h)
	}
	if _, err := r.store.LoadHosts(ctx, "ada", load); err != nil {
		t.Fatal(err)
	}
	d = r.rehearse(r.drafted(change))
	diffs := ""
	for _, g := range d.Rehearsal.Groups {
		diffs += g.Diff
	}
	if d.Rehearsal.Planned != 2 || strings.Count(diffs, "+poll_seconds = ") != 2 || !strings.Contains(diffs, "/etc/rivers/coast.ini") || strings.Contains(diffs, "passwd") {
		t.Errorf("%d planned:\n%s", d.Rehearsal.Planned, diffs)
	}
}
