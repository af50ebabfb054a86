package store

import (
	"errors"
	"strings"
	"testing"

	"wladder/core/ladder"
	"wladder/core/view"
)

// TestPermitted walks what keeps a plan from starting hosts, at each place where that
// is checked: at the start, when a paused climb goes on, and when a server goes on
// with a climb that runs. Hosts under way are not touched by any of it.
func TestPermitted(t *testing.T) {
	for _, c := range []struct{ what, sql, why string }{
		{"nothing", `select 1`, ""},
		{"the approval has ended", `update approvals set ends_at = now() - interval '1 second'`, "by oda has ended"},
		{"it is nearly at its end", `update approvals set ends_at = now() + interval '1 minute'`, ""},
		{"it is said to last longer", `update approvals set ends_at = now() + interval '1 year'`, ""},
		{"the reviewer is none any more", `update accounts set roles = '{author}' where name = 'oda'`, "is not a reviewer of it any more"},
		{"the reviewer is kept out", `update accounts set disabled = true where name = 'oda'`, "is not a reviewer of it any more"},
		{"the author approved", `update approvals set account = 'ines'`, "the record"},
		{"somebody declined since", `insert into approvals (change, digest, account, verdict, because) select change, digest, 'ben', 'declined', 'x' from approvals`, "nobody approved"},
		{"the approval is gone", `delete from approvals`, "nobody approved"},
		{"it is of another digest", `update approvals set digest = repeat('0', 64)`, "nobody approved"},
		{"its entry is gone", `alter table record disable trigger user; delete from record where kind = 'change.approved'`, "the record"},
		{"its entry is another's", `alter table record disable trigger user; update record set actor = 'ben' where kind = 'change.approved'`, "the record"},
		{"its secret may go elsewhere now", "bind", "where secret kept may go was changed since the plan"},
		{"somebody wrote where its secret may go", `update secret_bindings set hosts = 'true'`, "in the database is not what the record tells of"},
		{"the definition was withdrawn", ``, "withdrawn the definition of s under which this was approved (it leaks)"},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			ctx := t.Context()
			id := started(t, s, 3)
			var err error
			if c.sql == "bind" {
				err = s.BindSecret(ctx, "ada", "kept", view.Binding{Services: []string{"s", "other"}})
			} else if c.sql == "" {
				err = s.WithdrawService(ctx, "ben", "s", digestOf("s"), "it leaks")
			} else {
				_, err = s.pool.Exec(ctx, c.sql)
			}
			if err != nil {
				t.Fatal(err)
			}
			refused := func(where string, err error) {
				var conflict *Conflict
				if (err != nil) != (c.why != "") || err != nil && (!errors.As(err, &conflict) || !strings.Contains(err.Error(), c.why)) {
					t.Errorf("%s: %v; want %q", where, err, c.why)
				}
			}
			begun, err := s.Advance(ctx, me, 1)
			d, err2 := s.Change(ctx, id)
			if err != nil || err2 != nil {
				t.Fatal(err, err2)
			}
			if paused := d.Climb.State == ladder.Paused; paused != (c.why != "") || len(begun) > 0 == paused || !strings.Contains(d.Climb.Why, c.why) {
				t.Errorf("going on: %d begun, %s: %s; want %q", len(begun), d.Climb.State, d.Climb.Why, c.why)
			}
			if c.why == "" {
				if err := s.Order(ctx, "oda", id, ladder.Pause, "it has to be", "scripts"); err != nil {
					t.Fatal(err)
				}
			}
			refused("a climb that goes on", s.Order(ctx, "oda", id, ladder.Resume, "it has to be", "scripts"))
			if _, err := s.pool.Exec(ctx, `update changes set state = 'approved'; update climbs set state = 'stopped', ended_at = now()`); err != nil {
				t.Fatal(err)
			}
			_, err = s.StartClimb(ctx, "oda", id, "scripts")
			refused("a climb that starts", err)
			if _, err = s.StartClimb(ctx, "ines", id, "scripts"); err == nil {
				t.Error("the author starts it")
			}
		})
	}
}
