package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
)

// label gives a host other labels.
func (r *rig) label(i int, labels map[string]string) {
	r.t.Helper()
	h, err := r.store.Host(r.t.Context(), r.hosts[i].Name)
	if err != nil {
		r.t.Fatal(err)
	}
	h.Labels = labels
	if _, err := r.store.LoadHosts(r.t.Context(), "ada", []view.Host{h}); err != nil {
		r.t.Fatal(err)
	}
}

// out gives how many hosts of each group were out at once at most, from the first step that
// changes something to the last.
func (r *rig) out(id int64, group func(host string) string) map[string]int {
	r.t.Helper()
	type span struct{ from, to time.Time }
	spans := map[string][]span{}
	for _, run := range r.show(id).runs {
		full, err := r.store.HostRun(r.t.Context(), id, run.Host)
		if err != nil {
			r.t.Fatal(err)
		}
		var s span
		for _, step := range full.Steps {
			if step.Step == ladder.Place {
				s.from = step.BegunAt
			}
			if !s.from.IsZero() && step.EndedAt != nil {
				s.to = *step.EndedAt
			}
		}
		spans[group(run.Host)] = append(spans[group(run.Host)], s)
	}
	most := map[string]int{}
	for g, all := range spans {
		for _, at := range all {
			n := 0
			for _, s := range all {
				if !s.from.After(at.from) && s.to.After(at.from) {
					n++
				}
			}
			most[g] = max(most[g], n)
		}
	}
	return most
}

// TestPoolsAreKept climbs two pools with a ladder that would take all at once: as many stay well
// as the definition keeps, neighbours are never out together, and where another host of a pool
// is ill, the climb waits and says so.
func TestPoolsAreKept(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 7)
	site := func(i int) string { return map[bool]string{true: "coast", false: "delta"}[i < 4] }
	for i := range r.hosts {
		labels := map[string]string{"role": "bulletin", "site": site(i)}
		if i < 2 {
			labels["rack"] = "r1"
		}
		r.label(i, labels)
	}
	r.load("pages", strings.Replace(pagesDefinition, "settle: 1s", "settle: 1s\npool: labels.site\nkeep: 2", 1))
	const text = "title: t\nreason: r\nservice: pages\nwhere: %s\ncount: 1..9\nedits: [{set: events/worker_connections, to: 1024}]\nladder: %s\n"
	for _, c := range []struct{ where, ladder, says string }{
		{`name == "b06"`, "{apart: hall}", "keeps hosts apart by their label hall, and none of them has it"},
		{`name == "b06"`, "{stages: [{named: [b05, b06]}]}", "names b05, which the plan does not have"},
		{`labels.role == "bulletin"`, "{at_once: 9}", ""},
	} {
		d := r.rehearse(r.drafted(fmt.Sprintf(text, c.where, c.ladder)))
		if said := fmt.Sprint(d.Rehearsal.Findings); !strings.Contains(said, c.says) || (d.Rehearsal.Digest == "") != (c.says != "") {
			t.Errorf("%s: %s", c.ladder, said)
		}
	}

	id := r.drafted(fmt.Sprintf(text, `labels.role == "bulletin"`, "{stages: [{hosts: all}], at_once: 9, apart: rack, soak: 1s}"))
	r.approved(id)
	r.hosts[6].Kill("nginx.service") // of delta are two well now, and the third is not
	r.begin(id)
	d := r.until(id, func(d shown) bool { return d.Counts[ladder.Done] == 4 && strings.HasPrefix(d.Climb.Why, "waits: ") })
	if want := "waits: the pool pages/delta has 2 hosts that are well and not under way, and its definition keeps 2"; d.Climb.Why != want || d.Counts[ladder.Queued] != 3 {
		t.Errorf("with an ill host it says %q, counts %v; want %q", d.Climb.Why, d.Counts, want)
	}
	r.hosts[6].Run("systemctl start nginx.service")
	d = r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
	if d.Climb.State != ladder.Completed || d.Counts[ladder.Done] != 7 {
		t.Errorf("%s (%s): %v", d.Climb.State, d.Climb.Why, d.Counts)
	}
	index := func(host string) (i int) { fmt.Sscanf(host, "b%d", &i); return i }
	if most := r.out(id, func(host string) string { return site(index(host)) }); most["coast"] > 2 || most["delta"] > 1 {
		t.Errorf("out at once, of each pool: %v", most)
	}
	if most := r.out(id, func(host string) string { return fmt.Sprint(index(host) < 2) }); most["true"] > 1 {
		t.Error("neighbours were out together")
	}

	for _, i := range []int{4, 5} {
		if err := r.store.SetAside(ctx, "tam", r.hosts[i].Name, "its fan", time.Now().Add(time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	d = r.rehearse(r.drafted(fmt.Sprintf(strings.Replace(text, "1024", "2048", 1), `name == "b06"`, "{at_once: 1}")))
	if said := fmt.Sprint(d.Rehearsal.Findings); !strings.Contains(said, "has 1 host, and its definition keeps 2: none may be out") {
		t.Error(said)
	}
}

// begin starts a climb and does not wait.
func (r *rig) begin(id int64) {
	r.t.Helper()
	if _, err := r.store.StartClimb(r.t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		r.t.Fatal(err)
	}
}

// TestNotReachedIsTriedAgain has hosts be away at their turn: one is back when all others are
// through, and one is passed over in the end. Ways to others go alone and last.
func TestNotReachedIsTriedAgain(t *testing.T) {
	t.Parallel()
	r := newRig(t, 5)
	id := r.draft("  - {set: events/worker_connections, to: 1024}", "{stages: [{up-to: 3}, {hosts: all}], at_once: 9, soak: 200ms, pause_after: 9}")
	r.approved(id)
	for _, i := range []int{0, 1} {
		r.hosts[i].Deaf(true)
	}
	r.begin(id)
	r.until(id, func(d shown) bool {
		return find(d, "b00").Stage == 2 && find(d, "b01").Stage == 2 && d.Counts[ladder.Done] == 3
	})
	r.hosts[0].Deaf(false)
	d := r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
	if d.Climb.State != ladder.Completed || find(d, "b00").State != ladder.Done || find(d, "b01").State != ladder.PassedOver || fmt.Sprint(d.Behind) != "[b01]" {
		t.Errorf("%s (%s): %v, behind %v", d.Climb.State, d.Climb.Why, d.runs, d.Behind)
	}
	if said := find(d, "b01").Why; !strings.Contains(said, "could not be worked on") {
		t.Errorf("b01: %s", said)
	}
}

// TestControlHosts has front pages fail while a climb goes on: where hosts that nobody changed, and
// that were well before, fail likewise, nothing is put back and the climb pauses; where they are
// well, or were ill all the while, the host is.
func TestControlHosts(t *testing.T) {
	t.Parallel()
	const everywhere, alone, likeOthers = "everywhere", "on the host alone", "elsewhere all the while"
	for _, name := range []string{everywhere, alone, likeOthers} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newRig(t, 3)
			id := r.draft(toThousand, "{stages: [{up-to: 1}, {hosts: all}], at_once: 1, soak: 3s}")
			r.approved(id)
			fail := func(hosts []*standin.Host) {
				for _, h := range hosts {
					h.Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections"})
				}
			}
			if name == likeOthers {
				fail(r.hosts[1:])
			}
			r.begin(id)
			r.until(id, func(d shown) bool { return find(d, "b00").State == ladder.Soaking })
			ill := r.hosts
			if name != everywhere {
				ill = ill[:1]
			}
			fail(ill)
			d := r.until(id, func(d shown) bool { return d.Climb.State == ladder.Paused })
			if name != everywhere {
				d = r.until(id, func(d shown) bool { return find(d, "b00").State.Final() })
				if run := find(d, "b00"); run.State != ladder.Restored && run.State != ladder.Stranded {
					t.Errorf("b00 is %s (%s)", run.State, run.Why)
				}
				return
			}
			if run := find(d, "b00"); run.State != ladder.Soaking || !strings.Contains(d.Climb.Why, "hosts that nobody changed, and that were well before, fail likewise: b01 (") {
				t.Errorf("b00 is %s (%s); the climb pauses: %s", run.State, run.Why, d.Climb.Why)
			}
			for _, h := range ill {
				h.Mend()
			}
			d = r.until(id, func(d shown) bool { return find(d, "b00").State.Final() })
			if run := find(d, "b00"); run.State != ladder.Done || run.Why != "" {
				t.Errorf("once all are well again, b00 is %s (%s)", run.State, run.Why)
			}
			if err := r.orders(id, ladder.Resume); err != nil {
				t.Fatal(err)
			}
			if d := r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running }); d.Climb.State != ladder.Completed {
				t.Errorf("%s (%s)", d.Climb.State, d.Climb.Why)
			}
		})
	}
}
