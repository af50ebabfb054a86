package main

import (
	"flag"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
)

var steered = flag.Int("steered", 0, "how many hosts TestSteeredAtScale climbs; 0 leaves it to the engine's tests of few")

// TestSteeredAtScale halts a climb of many hosts in the middle, lifts that, and rolls the climb back
// halfway through: no host is placed on behind the halt but those whose step was under way, and
// every host is as it was in the end.
func TestSteeredAtScale(t *testing.T) {
	if *steered == 0 {
		t.Skip("SKIPPED: it takes minutes; -args -steered 1000")
	}
	w := newWorld(t, 100, 0) // as TestScale has it: not beside that
	ctx := t.Context()
	w.kill()
	w.lease = "15s"
	w.start()
	w.elsewhere(*steered)
	w.load(*steered)
	c := w.as("ines")
	id := w.climb(`labels.role == "bulletin"`, *steered, "{stages: [{up-to: 25%}, {up-to: 50%}, {hosts: all}], at_once: 100, soak: 2s}")
	begun := time.Now()
	w.untilEvery(50*time.Millisecond, id, func(d view.ChangeDetail) bool { return d.Counts[ladder.Done] >= *steered/8 })
	asked := time.Now()
	number, err := c.Halt(ctx, "", "in the middle")
	if err != nil {
		t.Fatal(err)
	}
	accepted := time.Now()
	quiet := w.untilEvery(50*time.Millisecond, id, func(d view.ChangeDetail) bool { return d.Counts[ladder.Soaking] == 0 })
	var placed, late int
	if err := w.db.QueryRow(ctx, `select count(*), count(*) filter (where begun_at > $1) from steps where step = 'place' and outcome = 'done'`, accepted).Scan(&placed, &late); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	var after int
	if err := w.db.QueryRow(ctx, `select count(*) from steps where step = 'place' and outcome = 'done'`).Scan(&after); err != nil {
		t.Fatal(err)
	}
	t.Logf("halted after %v: accepted within %v; hosts %v; placed on so far %d, begun behind it %d, two seconds later %d more", asked.Sub(begun).Round(time.Millisecond), accepted.Sub(asked).Round(time.Millisecond), quiet.Counts, placed, late, after-placed)
	if late > 0 || after != placed {
		t.Errorf("%d hosts were placed on behind the halt, %d more while it held", late, after-placed)
	}
	if err := c.LiftHalt(ctx, number, "go on"); err != nil {
		t.Fatal(err)
	}
	w.untilEvery(50*time.Millisecond, id, func(d view.ChangeDetail) bool { return d.Counts[ladder.Done] >= *steered/2 })
	ordered := time.Now()
	if err := c.Order(ctx, id, ladder.RollBack, "halfway"); err != nil {
		t.Fatal(err)
	}
	d := w.untilEvery(100*time.Millisecond, id, func(d view.ChangeDetail) bool { return d.Climb.RollsBack && d.Climb.State.Final() })
	var changed int
	if err := w.db.QueryRow(ctx, `select count(*) from host_runs r join climbs c on c.id = r.climb where c.change = $1 and c.returns is null and r.state = 'done'
		and not exists (select from climbs k join host_runs b on b.climb = k.id where k.returns = c.id and b.host_id = r.host_id and b.state = 'done')`, id).Scan(&changed); err != nil {
		t.Fatal(err)
	}
	t.Logf("rolled back: %v in %v", d.Counts, time.Since(ordered).Round(time.Millisecond))
	if changed > 0 || d.State != "countered" {
		t.Errorf("%d hosts are changed still; the change is %s", changed, d.State)
	}
}
