package store

import (
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
)

// TestRaces has two people, or a person and a server, do things at the same moment that
// do not go together: whoever is first, what holds afterwards is one of the two orders.
func TestRaces(t *testing.T) {
	stopped := `update climbs set state = 'stopped', ended_at = now(); update changes set state = 'approved'; update host_runs set state = 'passed-over', why = 'x' where state = 'queued'`
	for what, race := range map[string]func(t *testing.T, s *Store, id int64){
		"two who start": func(t *testing.T, s *Store, id int64) {
			exec(t, s, stopped)
			one, other := both(func() error { _, err := s.StartClimb(t.Context(), "oda", id, "scripts"); return err },
				func() error { _, err := s.StartClimb(t.Context(), "ben", id, "scripts"); return err })
			if (one == nil) == (other == nil) {
				t.Errorf("%v, %v", one, other)
			}
		},
		"declined and started": func(t *testing.T, s *Store, id int64) {
			exec(t, s, stopped+`; update changes set state = 'offered'`)
			var digest string
			if err := s.pool.QueryRow(t.Context(), `select digest from climbs limit 1`).Scan(&digest); err != nil {
				t.Fatal(err)
			}
			declined, started := both(func() error { return s.Judge(t.Context(), "ben", id, digest, change.Declined, "no") },
				func() error { _, err := s.StartClimb(t.Context(), "oda", id, "scripts"); return err })
			begun, err := s.Advance(t.Context(), me, 9)
			if declined == nil && (started == nil || len(begun) > 0) || err != nil {
				t.Errorf("declined %v, started %v, %d begun, %v", declined, started, len(begun), err)
			}
		},
		"withdrawn and gone on with": func(t *testing.T, s *Store, id int64) {
			var begun []*Claimed
			withdrawn, went := both(func() error { return s.WithdrawService(t.Context(), "ada", "s", digestOf("s"), "it leaks") },
				func() (err error) { begun, err = s.Advance(t.Context(), me, 1); return err })
			more, err := s.Advance(t.Context(), me, 9)
			if withdrawn != nil || went != nil || len(more) > 0 || err != nil {
				t.Errorf("%v, %v: %d begun at the same time, %d after it, %v", withdrawn, went, len(begun), len(more), err)
			}
		},
		"the reviewer's role and a start": func(t *testing.T, s *Store, id int64) {
			exec(t, s, stopped)
			_, _ = both(func() error {
				return s.tx(t.Context(), func(tx pgx.Tx) error {
					return s.carryOut(t.Context(), tx, "ada", "ada", rolesAsked, "account/oda", []byte(`{"Roles":["operator"]}`))
				})
			},
				func() error { _, err := s.StartClimb(t.Context(), "ben", id, "scripts"); return err })
			if begun, err := s.Advance(t.Context(), me, 9); len(begun) > 0 || err != nil {
				t.Errorf("%d begun on the word of who is no reviewer, %v", len(begun), err)
			}
		},
		"agreed to twice": func(t *testing.T, s *Store, id int64) {
			request, err := s.SetRoles(t.Context(), "ada", "ines", []string{"author", "admin"})
			if err != nil {
				t.Fatal(err)
			}
			one, other := both(func() error { return s.Decide(t.Context(), "ben", request, true) }, func() error { return s.Decide(t.Context(), "oda", request, true) })
			if (one == nil) == (other == nil) {
				t.Errorf("%v, %v", one, other)
			}
		},
		"agreed and taken back": func(t *testing.T, s *Store, id int64) {
			request, err := s.SetRoles(t.Context(), "ada", "ines", []string{"author"})
			if err != nil {
				t.Fatal(err)
			}
			agreed, taken := both(func() error { return s.Decide(t.Context(), "ben", request, true) }, func() error { return s.Decide(t.Context(), "ada", request, false) })
			p, err := s.person(t.Context(), "ines")
			if (agreed == nil) == (taken == nil) || err != nil || (len(p.Roles) == 1) != (agreed == nil) {
				t.Errorf("agreed %v, taken back %v, roles %v, %v", agreed, taken, p.Roles, err)
			}
		},
		"left out and begun": func(t *testing.T, s *Store, id int64) {
			var begun []*Claimed
			out, went := both(func() error { return s.LeaveOut(t.Context(), "oda", id, "h00", "its disk") },
				func() (err error) { begun, err = s.Advance(t.Context(), me, 9); return err })
			there := false
			for _, r := range begun {
				there = there || r.Host == "h00"
			}
			if went != nil || (out == nil) == there {
				t.Errorf("left out %v, begun %v, %v", out, there, went)
			}
		},
		"kept out and signed in": func(t *testing.T, s *Store, id int64) {
			var token string
			out, _ := both(func() error { _, err := s.Disable(t.Context(), "ada", "ines", true); return err },
				func() (err error) {
					token, err = s.SignIn(t.Context(), "ines", "a long password", "session", "x", "", 1e12)
					return err
				})
			if _, err := s.Who(t.Context(), token); out != nil || err == nil {
				t.Errorf("kept out %v, and let in: %v", out, err)
			}
		},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			for round := range 5 {
				s, _ := opened(t)
				id := started(t, s, 3)
				if _, err := s.AppendRecord(t.Context()); err != nil {
					t.Fatal(err)
				}
				race(t, s, id)
				if err := s.Sound(); err != nil {
					t.Errorf("round %d: %v", round, err)
				}
			}
		})
	}
}

// both does two things at the same moment.
func both(a, b func() error) (one, other error) {
	var all sync.WaitGroup
	start := make(chan struct{})
	all.Go(func() { <-start; one = a() })
	all.Go(func() { <-start; other = b() })
	close(start)
	all.Wait()
	return one, other
}

func exec(t *testing.T, s *Store, sql string) {
	t.Helper()
	if _, err := s.pool.Exec(t.Context(), sql); err != nil {
		t.Fatal(err)
	}
}
