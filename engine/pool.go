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
// many hosts that pool has. Hosts set aside do no work: they are none of it.
func (r *rehearsal) pools(ctx context.Context, planned []expr.Host) (outline.Pools, error) {
	pools := outline.Pools{Keep: map[string]int{}, Size: map[string]map[string]int{}}
	var all []view.Host
	if err := r.insist(ctx, "hosts", nil, func() (err error) { all, err = r.Store.Hosts(ctx); return err }); err != nil {
		return pools, err
	}
	of := map[string][]string{} // by service, of the planned hosts
	for _, c := range r.services {
		pool, err := c.pool()
		if err != nil {
			return pools, err
		}
		size, names := map[string]int{}, make([]string, len(planned))
		for _, h := range all {
			if h.AsideBecause != "" {
				continue
			}
			name, carries, err := pool(h.Expr())
			if err != nil {
				return pools, err
			}
			if carries {
				size[name]++
			}
		}
		for i, h := range planned {
			if names[i], _, err = pool(h); err != nil {
				return pools, err
			}
		}
		pools.Keep[c.Name], pools.Size[c.Name], of[c.Name] = c.Keep, size, names
	}
	pools.Of = func(service string, leaf int) string { return of[service][leaf] }
	return pools, nil
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

// kept holds a plan against what definitions want kept of each pool: however the hosts fall,
// no more of one are under way at once than at_once lets be.
func (r *rehearsal) kept(policy ladder.Policy, pools outline.Pools, planned []expr.Host) (findings []finding.Finding) {
	for _, c := range r.services {
		if c.Keep == 0 {
			continue
		}
		going := map[string]int{}
		for i, h := range planned {
			if yes, err := c.carries.Bool(h.Vars()); err == nil && yes {
				going[pools.Of(c.Name, i)]++
			}
		}
		for _, name := range slices.Sorted(maps.Keys(going)) {
			size := pools.Size[c.Name][name]
			room := size - c.Keep
			switch out := min(policy.AtOnce, going[name]); {
			case out <= room:
			case room <= 0:
				findings = append(findings, veto("keep", "the pool %q of %s has %s, and its definition keeps %d: none may be out. Give it more, or take it out of this change", name, c.Name, counted(size, "host"), c.Keep))
			default:
				findings = append(findings, veto("keep", "the pool %q of %s has %s, and its definition keeps %d: %d at once would be too many. Set at_once to %d", name, c.Name, counted(size, "host"), c.Keep, out, room))
			}
		}
	}
	return findings
}
