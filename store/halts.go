package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/expr"
	"wladder/core/view"
)

// The entries of halts. They stand in the record alone, so that nobody lifts one past it.
const (
	haltGiven  = "halt.given"
	haltLifted = "halt.lifted"
)

type haltTold struct {
	Halt    int64  `json:"halt"`
	Where   string `json:"where,omitempty"` // empty: everywhere
	Because string `json:"because"`
}

// halt is one that holds.
type halt struct {
	view.Halt
	program *expr.Program // nil: everywhere
}

// climbMoment is what tells whether a halt holds hosts of a climb.
type climbMoment struct {
	RollsBack bool
	StartedAt time.Time
}

// holds tells whether the halt concerns a climb: all but roll-backs that were ordered after it.
func (h halt) holds(c climbMoment) bool { return !c.RollsBack || c.StartedAt.Before(h.At) }

func (h halt) fits(of view.Host) (bool, error) {
	if h.program == nil {
		return true, nil
	}
	return h.program.Bool(of.Expr().Vars())
}

// haltedBy says which of the halts holds a host in a climb; empty where none does.
func haltedBy(all []halt, c climbMoment, of view.Host) (string, error) {
	for _, h := range all {
		if !h.holds(c) {
			continue
		}
		if fits, err := h.fits(of); err != nil || fits {
			return h.Words(), err
		}
	}
	return "", nil
}

// halts gives those that nobody lifted, the oldest first.
func (s *Store) halts(ctx context.Context, q querier) (all []halt, err error) {
	entries, err := s.entriesOf(ctx, q, `change = 0 and kind = any($1)`, ``, ``, []string{haltGiven, haltLifted})
	if err != nil {
		return nil, err
	}
	for _, e := range slices.Backward(entries) {
		var told haltTold
		if err := json.Unmarshal(e.Body, &told); err != nil {
			return nil, err
		}
		if e.Kind == haltLifted {
			all = slices.DeleteFunc(all, func(h halt) bool { return h.Number == told.Halt })
			continue
		}
		h := halt{Halt: view.Halt{Number: told.Halt, Where: told.Where, By: e.Actor, At: e.At, Because: told.Because}}
		if told.Where != "" {
			if h.program, err = expr.Compile(told.Where, expr.HostVars, expr.Bool); err != nil {
				return nil, err
			}
		}
		all = append(all, h)
	}
	return all, nil
}

// Halts gives the halts that hold.
func (s *Store) Halts(ctx context.Context) ([]view.Halt, error) {
	all, err := s.halts(ctx, s.pool)
	out := []view.Halt{}
	for _, h := range all {
		out = append(out, h.Halt)
	}
	return out, err
}

// Halt has no climb start hosts that where fits, nor place anything on those under way, until it
// is lifted; an empty where is all hosts.
func (s *Store) Halt(ctx context.Context, actor, where, because string) (number int64, err error) {
	if err := saidWhy(because, "why all is to halt"); err != nil {
		return 0, err
	}
	if where != "" {
		if _, err := expr.Compile(where, expr.HostVars, expr.Bool); err != nil {
			return 0, unfit("where: %v", err)
		}
	}
	err = s.tx(ctx, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `select nextval('halts')`).Scan(&number); err != nil {
			return err
		}
		// No host starts while this commits: what was accepted holds from then on.
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, starts); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, haltGiven, 0, "halts", haltTold{number, where, because})
	})
	return number, err
}

// LiftHalt has climbs go on that a halt held.
func (s *Store) LiftHalt(ctx context.Context, actor string, number int64, because string) error {
	if err := saidWhy(because, "why halt %d is lifted", number); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, starts); err != nil {
			return err
		}
		all, err := s.halts(ctx, tx)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(all, func(h halt) bool { return h.Number == number }) {
			return &NotFound{fmt.Sprintf("halt with the number %d that holds", number)}
		}
		return s.happened(ctx, tx, actor, haltLifted, 0, "halts", haltTold{Halt: number, Because: because})
	})
}

// halted gives the ids of hosts of a climb that halts hold, and by which; everywhere tells that
// one holds all.
func (s *Store) halted(ctx context.Context, tx pgx.Tx, climb int64) (ids []int64, why string, everywhere bool, err error) {
	all, err := s.halts(ctx, tx)
	if err != nil || len(all) == 0 {
		return nil, "", false, err
	}
	c, err := one[climbMoment](ctx, tx, "climb", `select rolls_back, started_at from climbs where id = $1`, climb)
	if err != nil {
		return nil, "", false, err
	}
	for _, h := range all {
		if h.program == nil && h.holds(c) {
			return nil, h.Words(), true, nil
		}
	}
	hosts, err := many[view.Host](ctx, tx, hostColumns+`where id in (select host_id from host_runs where climb = $1 and state = 'queued')`, climb)
	for _, of := range hosts {
		if err != nil {
			return nil, "", false, err
		}
		var by string
		if by, err = haltedBy(all, c, of); by != "" {
			ids, why = append(ids, of.ID), by
		}
	}
	return ids, why, false, err
}
