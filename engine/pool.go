package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/view"
)

// pools holds a plan against what definitions want kept of each pool: however the hosts fall,
// no more of one are under way at once than at_once lets be.
func (r *rehearsal) pools(ctx context.Context, policy ladder.Policy, planned []expr.Host) (findings []finding.Finding, err error) {
	if !slices.ContainsFunc(r.services, func(c *concerned) bool { return c.Keep > 0 }) {
		return nil, nil
	}
	var all []view.Host
	if err := r.insist(ctx, "hosts", nil, func() (err error) { all, err = r.Store.Hosts(ctx); return err }); err != nil {
		return nil, err
	}
	for _, c := range r.services {
		if c.Keep == 0 {
			continue
		}
		pool, err := expr.Compile(c.Pool, expr.HostVars, expr.Scalar)
		if err != nil {
			return nil, err
		}
		size, going := map[string]int{}, map[string]int{}
		count := func(into map[string]int, h expr.Host) error {
			yes, err := c.carries.Bool(h.Vars())
			if err != nil || !yes {
				return err
			}
			name, err := pool.Scalar(h.Vars())
			into[name]++
			return err
		}
		for _, h := range all {
			if h.AsideBecause == "" {
				err = count(size, h.Expr())
			}
			if err != nil {
				return nil, fmt.Errorf("the pool of %s: %w", h.Name, err)
			}
		}
		for _, h := range planned {
			if err := count(going, h); err != nil {
				return nil, fmt.Errorf("the pool of %s: %w", h.Name, err)
			}
		}
		for _, name := range slices.Sorted(maps.Keys(going)) {
			room := size[name] - c.Keep
			switch out := min(policy.AtOnce, going[name]); {
			case out <= room:
			case room <= 0:
				findings = append(findings, veto("keep", "the pool %q of %s has %s, and its definition keeps %d: none may be out. Give it more, or take it out of this change", name, c.Name, counted(size[name], "host"), c.Keep))
			default:
				findings = append(findings, veto("keep", "the pool %q of %s has %s, and its definition keeps %d: %d at once would be too many. Set at_once to %d", name, c.Name, counted(size[name], "host"), c.Keep, out, room))
			}
		}
	}
	return findings, nil
}
