package engine

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/view"
	"wladder/standin"
	"wladder/store"
)

// TestForeseen has a change say, while it is written, what its rehearsal says of it later: over
// hosts that nobody asks, and on one host, by a copy that is read once.
func TestForeseen(t *testing.T) {
	t.Parallel()
	text := strings.Replace(confText, "http {", "http {\n    index swordfish-99;", 1)
	r := newRig(t, 8, func(_ int, c *standin.Config) { c.Image = map[string]string{confPath: text} })
	r.load("pages", fleetDefinition)
	r.label(1, map[string]string{"role": "bulletin", "site": "delta"})
	r.label(2, map[string]string{"role": "bulletin", "site": "delta"})
	r.label(7, map[string]string{"role": "gauge"})
	ctx := t.Context()
	if _, _, err := r.engine.Survey(ctx, ""); err != nil {
		t.Fatal(err)
	}
	if _, err := r.store.PutSecret(ctx, "ada", "page-name", "tide-First_11", &view.Binding{Services: []string{"pages"}, Hosts: "true"}); err != nil {
		t.Fatal(err)
	}
	written := func(where, edits string) string {
		return "title: More connections\nreason: a flood\nservice: pages\nwhere: " + where + "\ncount: 1..8\nedits:\n" + edits + "ladder: " + quick + "\nprobes:\n  - {name: answers, ask: 'tcp :22', expect: connected}\n  - {name: sent, ask: 'tcp :80 send=x', expect: connected}\n"
	}
	foresee := func(text string) (out view.DraftChecked) {
		t.Helper()
		spec, err := change.Parse("change", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		all, fit, err := r.engine.Targets(ctx, spec.Where)
		if err == nil {
			err = r.engine.Foresee(ctx, spec, all, fit, &out)
		}
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	const edits = `  - {set: events/worker_connections, compute: 'min(cores * 1024, 3000)'}
  - {set: http/gzip, by: labels.site, table: {delta: "on"}, otherwise: "off", where: name > "b01"}
  - {set: http/index, secret: page-name}
  - {set: http/tcp_nodelay, compute: 'present.main["http/gzip"]'}
`
	out := foresee(written(`'name >= "b00"'`, edits))
	for i, want := range []string{
		"8 2048 on 4 (b00 b02 b04 b06), 3000 on 4 (b01 b03 b05 b07)", "6 off on 5 (b03 b04 b05 b06 b07), on on 1 (b02)", "8 secret page-name on 8 (b00 b01 b02 b03 b04 b05 b06 b07)", "0 it asks what stands in the host's files",
	} {
		e := out.Edits[i]
		var values []string
		for _, v := range e.Values {
			values = append(values, fmt.Sprintf("%s on %d (%s)", v.Value, v.Hosts, strings.Join(v.First, " ")))
		}
		if got := fmt.Sprintf("%d %s", e.Hosts, strings.Join(values, ", ")+e.Why); !strings.HasPrefix(got, want) {
			t.Errorf("edit %d comes to %s; want %s", i+1, got, want)
		}
	}
	if out.Without != 1 || out.Outline == nil || len(out.Doubts) > 0 {
		t.Errorf("%d hosts do not carry the service; want b07: %+v", out.Without, out)
	}
	if p := out.Probes; len(p) != 2 || p[0].Waits != "" || !strings.Contains(p[1].Waits, "text of its own") {
		t.Errorf("probes: %+v", p)
	}
	for text, want := range map[string]string{
		strings.Replace(written("'true'", edits), "count: 1..8", "count: 3", 1):                                                  "where matches 8 hosts; the change counts on 3",
		strings.Replace(written("'true'", edits), "{stages: [{up-to: 1}", "{stages: [{named: [nobody]}, {up-to: 1}", 1):          "names nobody, which the plan does not have",
		strings.Replace(written("'true'", edits), quick, strings.Replace(quick, "at_once: 3", "at_once: 3, apart: river", 1), 1): "none of them has it",
		written("'true'", "  - {set: events/worker_connections, to: 70000}\n"):                                                   "events/worker_connections: 70000 is out of range",
		written("'true'", "  - {set: events/worker_connections, compute: cores * 20000}\n"):                                      "events/worker_connections: 80000 is out of range",
	} {
		if d := foresee(text).Doubts; len(d) != 1 || !strings.Contains(d[0], want) {
			t.Errorf("doubts: %q; want %q", d, want)
		}
	}

	// The rehearsal of the same says the same.
	simple := written(`'labels.role == "bulletin"'`, "  - {set: events/worker_connections, to: 2048}\n")
	foreseen := foresee(simple).Outline
	id := r.drafted(simple)
	rehearsed := r.rehearse(id)
	if plan := rehearsed.Rehearsal.Plan; plan == nil || !reflect.DeepEqual(foreseen.Stages, plan.Stages) || foreseen.Least != plan.Least || !reflect.DeepEqual(foreseen.Pools, plan.Pools) || !reflect.DeepEqual(foreseen.Probes, plan.Probes[:len(foreseen.Probes)]) {
		t.Errorf("foreseen:\n%+v\nrehearsed:\n%+v\n%+v", foreseen, plan, rehearsed.Rehearsal.Findings)
	}

	preview := func(text, name string, again bool) (view.Preview, error) {
		t.Helper()
		spec, err := change.Parse("change", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return r.engine.Preview(ctx, spec, name, again)
	}
	first, err := preview(simple, "b00", false)
	if want := rehearsed.Rehearsal.Groups[0].Diff; err != nil || first.Diff != want || first.Act != "reload" || len(first.Alterations) != 1 {
		t.Errorf("on b00: %+v, %v; want the diff %s", first, err, want)
	}
	now, _ := r.hosts[0].Files.Read(confPath)
	r.hosts[0].Files.Write(confPath, []byte(strings.Replace(string(now), "512", "768", 1)))
	typed := strings.Replace(simple, "2048", "4096", 1)
	if p, err := preview(typed, "b00", false); err != nil || !p.ReadAt.Equal(first.ReadAt) || !strings.Contains(p.Diff, "-    worker_connections 512;") || !strings.Contains(p.Diff, "+    worker_connections 4096;") {
		t.Errorf("by the copy: %+v, %v", p, err)
	}
	if p, err := preview(strings.Replace(simple, "2048", "70000", 1), "b00", false); err != nil || !strings.Contains(fmt.Sprint(p.Findings), "out of range") {
		t.Errorf("a value that may not be: %+v, %v", p, err)
	}
	if p, err := preview(simple, "b00", true); err != nil || !p.ReadAt.After(first.ReadAt) || !strings.Contains(p.Diff, "-    worker_connections 768;") {
		t.Errorf("read again: %+v, %v", p, err)
	}
	if p, err := preview(written("'true'", edits), "b00", false); err != nil || strings.Contains(fmt.Sprintf("%+v", p), "swordfish") || strings.Contains(fmt.Sprintf("%+v", p), "tide-First") || strings.Contains(p.Diff, "standin") || !strings.Contains(p.Diff, "+    worker_connections 2048;") {
		t.Errorf("with secrets: %+v, %v", p, err)
	}
	if p, err := preview(simple, "b07", false); err != nil || p.Diff != "" || !strings.Contains(fmt.Sprint(p.Findings), "does not carry it") {
		t.Errorf("where the service is not: %+v, %v", p, err)
	}
	var missing *store.NotFound
	if _, err := preview(simple, "nobody", false); !errors.As(err, &missing) {
		t.Errorf("nobody: %v", err)
	}
}
