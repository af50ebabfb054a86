package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
)

// TestTakenLater has a climb pass hosts over, and takes them later under the same approval:
// the one that stands as it was reviewed, not the one that somebody edited. A follow-up brings
// the edits to what is left, and to a host that came since.
func TestTakenLater(t *testing.T) {
	t.Parallel()
	odd := strings.Replace(confText, "server {", "gzip on;\n    server {", 1)
	r := newRig(t, 6, func(i int, c *standin.Config) {
		if i == 5 {
			c.Image = map[string]string{confPath: odd}
		}
	})
	ctx := t.Context()
	if err := r.store.Retire(ctx, "ada", "b05", "not there yet"); err != nil {
		t.Fatal(err)
	}
	id := r.draft("  - {set: events/worker_connections, to: 2048}", "{stages: [{hosts: all}], at_once: 4, soak: 200ms, pause_after: 9}")
	r.approved(id)
	if _, err := r.store.TakeLater(ctx, "oda", id, host.ScriptsDigest()); err == nil || !strings.Contains(err.Error(), "cannot be taken-later") {
		t.Errorf("hosts are taken later before a climb: %v", err)
	}
	// b01 is edited by hand and that is undone later; b02 is edited for good; b03 is left out.
	was := r.file(1)
	r.hosts[1].Files.Write(confPath, []byte("# by hand\n"+was))
	r.hosts[2].Files.Write(confPath, []byte("# by hand\n"+was))
	if err := r.store.LeaveOut(ctx, "ines", id, "b03", "it is watched tonight"); err != nil {
		t.Fatal(err)
	}
	d := r.climb(id)
	if d.State != change.Completed || d.Counts[ladder.Done] != 2 || !slices.Equal(d.Behind, []string{"b01", "b02"}) {
		t.Fatalf("the climb ended %s with %v, behind are %v", d.State, d.Counts, d.Behind)
	}
	r.hosts[1].Files.Write(confPath, []byte(was))
	if _, err := r.store.TakeLater(ctx, "ines", id, host.ScriptsDigest()); err == nil || !strings.Contains(err.Error(), "another operator") {
		t.Errorf("its author takes them: %v", err)
	}
	if _, err := r.store.TakeLater(ctx, "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool { return d.Climb.State == ladder.Completed })
	if len(d.runs) != 2 || d.Counts[ladder.Done] != 1 || !slices.Equal(d.Behind, []string{"b02"}) || len(d.Earlier) != 1 || d.Earlier[0].Done != 2 || d.State != change.Completed {
		t.Errorf("taken later: %v of %d, behind are %v, earlier %+v, it is %s", d.Counts, len(d.runs), d.Behind, d.Earlier, d.State)
	}
	if !strings.Contains(r.file(1), "2048") || strings.Contains(r.file(2), "2048") || strings.Contains(r.file(3), "2048") {
		t.Error("what stands on b01, b02 and b03 is not new, old and old")
	}
	if _, err := r.store.TakeLater(ctx, "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return d.Climb.State == ladder.Paused && len(d.Earlier) == 2 }) // no host came through
	if err := r.store.Order(ctx, "oda", id, ladder.Stop, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return d.State == change.Stopped })

	// A host that came since, and those that are left.
	load := view.Host{Name: "b06", Address: r.hosts[5].Address, Login: "root", HostKey: r.hosts[5].HostKey(), Labels: map[string]string{"role": "bulletin"}}
	if _, err := r.store.LoadHosts(ctx, "ada", []view.Host{load}); err != nil {
		t.Fatal(err)
	}
	next, err := r.engine.FollowUp(ctx, "ines", id, "")
	if err != nil {
		t.Fatal(err)
	}
	d = r.rehearse(next)
	var groups []string
	for _, g := range d.Rehearsal.Groups {
		groups = append(groups, fmt.Sprintf("%s %d", strings.Join(g.Hosts, " "), g.Known))
	}
	if want := []string{"b02 0", "b06 0", fmt.Sprintf("b03 %d", id)}; !slices.Equal(groups, want) || d.Follows != id || d.Rehearsal.Planned != 3 {
		t.Errorf("the follow-up has the groups %q, it follows %d; want %q", groups, d.Follows, want)
	}
	d = r.approved(next)
	if d = r.climb(next); d.Counts[ladder.Done] != 3 {
		t.Errorf("the follow-up ended with %v", d.Counts)
	}
	if d := r.show(id); !slices.Equal(d.FollowedBy, []int64{next}) {
		t.Errorf("change %d is followed by %v", id, d.FollowedBy)
	}
	if _, err := r.engine.FollowUp(ctx, "ines", id, ""); err == nil || !strings.Contains(err.Error(), "is done with change") {
		t.Errorf("a second follow-up, with nobody left: %v", err)
	}
	r.verifyRecord()
}
