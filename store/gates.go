package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"wladder/core/ladder"
	"wladder/core/view"
)

// gateAnswered is the entry of what a person saw at a gate. It stands in the record alone.
const gateAnswered = "gate.answered"

type gateTold struct {
	Climb int64  `json:"climb"`
	Stage int    `json:"stage"` // that the gate stands before, from 0
	Check int    `json:"check"` // from 1
	Look  string `json:"look"`
	In    string `json:"in"`
	Well  bool   `json:"well"`
	Note  string `json:"note"`
}

// gate gives the checks of the gate before a stage with what was seen of each last; nil where it
// has none.
func (s *Store) gate(ctx context.Context, q querier, c climbRow, policy ladder.Policy, stage int) (*view.Gate, error) {
	if stage >= len(policy.Stages) || len(policy.Stages[stage].Checks) == 0 {
		return nil, nil
	}
	g := &view.Gate{Stage: stage}
	for _, check := range policy.Stages[stage].Checks {
		g.Checks = append(g.Checks, view.GateCheck{Look: check.Look, In: check.In})
	}
	entries, err := s.entriesOf(ctx, q, `change = $1 and kind = $2 and body::jsonb ->> 'climb' = $3`, ``, ``, c.Change, gateAnswered, fmt.Sprint(c.ID))
	for _, e := range slices.Backward(entries) { // the newest counts
		var told gateTold
		if err := json.Unmarshal(e.Body, &told); err != nil {
			return nil, err
		}
		if told.Stage == stage && told.Check >= 1 && told.Check <= len(g.Checks) {
			at := e.At
			g.Checks[told.Check-1] = view.GateCheck{Look: told.Look, In: told.In, Well: told.Well, By: e.Actor, At: &at, Note: told.Note}
		}
	}
	return g, err
}

// Answer notes what a person saw of a check of the gate that a climb waits at.
func (s *Store) Answer(ctx context.Context, actor string, changeID int64, in view.Checked) error {
	if !in.Well && strings.TrimSpace(in.Note) == "" {
		return unfit("note: is empty; say what is not well")
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := newestClimb(ctx, tx, changeID)
		if err != nil {
			return err
		}
		if c.State != ladder.Waiting {
			return conflict("the climb of change %d is %s; checks are answered while it waits at a gate", changeID, c.State)
		}
		p, err := s.plan(ctx, tx, c.Plan)
		if err != nil {
			return err
		}
		now, err := counted(ctx, tx, c, p.Head.Policy)
		if err != nil {
			return err
		}
		checks := p.Head.Policy.Stages[now.Stage].Checks
		if in.Check < 1 || in.Check > len(checks) {
			return unfit("check: %d; the gate before stage %d has %d", in.Check, now.Stage+1, len(checks))
		}
		check := checks[in.Check-1]
		if in.In == "" {
			in.In = check.In
		}
		return s.happened(ctx, tx, actor, gateAnswered, changeID, subject(changeID), gateTold{c.ID, now.Stage, in.Check, check.Look, in.In, in.Well, in.Note})
	})
}

// looked checks that a person has looked at all that the gate before a stage asks for, and saw it
// well.
func (s *Store) looked(ctx context.Context, tx pgx.Tx, c climbRow, policy ladder.Policy, stage int) error {
	g, err := s.gate(ctx, tx, c, policy, stage)
	if err != nil || g == nil {
		return err
	}
	for i, check := range g.Checks {
		switch {
		case check.By == "":
			return conflict("nobody has answered check %d of the gate (%s); look, then: wladder answer %d -check %d -well", i+1, check.Look, c.Change, i+1)
		case !check.Well:
			return conflict("%s saw that check %d of the gate is not well (%s: %s); answer it anew once it is, or stop the climb", check.By, i+1, check.Look, check.Note)
		}
	}
	return nil
}
