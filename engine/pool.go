package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/view"
)

// pools finds the pool of each planned host, for each service that it carries, and how
// many hosts that pool has. Hosts set aside do no work: they are none of it. What definitions
// want kept of a pool, and the plan would not, is found.
func (r *rehearsal) pools(ctx context.Context, policy ladder.Policy, planned []expr.Host) (pools outline.Pools, findings []finding.Finding, err error) {
	pools = outline.Pools{Keep: map[string]int{}, Size: map[string]map[string]int{}}
	var all []view.Host
	if err := r.insist(ctx, "hosts", nil, func() (err error) { all, err = r.Store.Hosts(ctx); return err }); err != nil {
		return pools, nil, err
	}
	of := map[string][]string{} // by service, of the planned hosts
	for _, c := range r.services {
		pool, err := c.pool()
		if err != nil {
			return pools, nil, err
		}
		size, going, names := map[string]int{}, map[string]int{}, make([]string, len(planned))
		for _, h := range all {
			if h.AsideBecause != "" {
				continue
			}
			name, carries, err := pool(h.Expr())
			if err != nil {
				return pools, nil, err
			}
			if carries {
				size[name]++
			}
		}
		for i, h := range planned {
			name, carries, err := pool(h)
			if err != nil {
				return pools, nil, err
			}
			if names[i] = name; carries {
				going[name]++
			}
		}
		findings = append(findings, c.kept(policy, size, going)...)
		pools.Keep[c.Name], pools.Size[c.Name], of[c.Name] = c.Keep, size, names
	}
	pools.Of = func(service string, leaf int) string { return of[service][leaf] }
	return pools, findings, nil
}

// pool gives what tells the pool of a host, and whether the host carries the service.
// All are one pool, without a name, where the definition names none.
func (c *concerned) pool() (func(expr.Host) (name string, carries bool, err error), error) {
	var program *expr.Program
	if c.Pool != "" {
		var err error
		if program, err = expr.Compile(c.Pool, expr.HostVars, expr.Scalar); err != nil {
			return nil, err
		}
	}
	return func(h expr.Host) (name string, carries bool, err error) {
		if carries, err = c.carries.Bool(h.Vars()); err == nil && carries && program != nil {
			name, err = program.Scalar(h.Vars())
		}
		if err != nil {
			err = fmt.Errorf("the pool of %s: %w", h.Name, err)
		}
		return name, carries, err
	}, nil
}

// kept holds a plan against what the definition wants kept of each pool: however the hosts
// fall, no more of one are under way at once than at_once lets be.
func (c *concerned) kept(policy ladder.Policy, size, going map[string]int) (findings []finding.Finding) {
	if c.Keep == 0 {
		return nil
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
	return findings
}
