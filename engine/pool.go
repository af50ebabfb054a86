package engine

import (
	"context"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"

	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/view"
	"wladder/host"
)

// pools finds the pool of each planned host, for each service that it carries, and how
// many hosts that pool has. Hosts set aside do no work: they are none of it. Pools of which
// none may be out, as definitions have it, are found.
func (r *rehearsal) pools(all []view.Host, planned []expr.Host) (pools outline.Pools, findings []finding.Finding, err error) {
	pools = outline.Pools{Keep: map[string]int{}, Size: map[string]map[string]int{}}
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
		findings = append(findings, c.kept(size, going)...)
		pools.Keep[c.Name], pools.Size[c.Name], of[c.Name] = c.Keep, size, names
	}
	pools.Of = func(service string, leaf int) string { return of[service][leaf] }
	return pools, findings, nil
}

// carriers gives what tells whether a host carries a server of ours or its database.
func (r *rehearsal) carriers(ctx context.Context) (func(plan.Leaf) bool, error) {
	keys, addresses, err := r.Store.Carriers(ctx)
	if err != nil {
		return nil, err
	}
	prints, at := map[string]bool{}, map[string]bool{}
	for _, key := range keys {
		prints[host.Fingerprint(key)] = true
	}
	for _, address := range addresses {
		ips, err := net.DefaultResolver.LookupHost(ctx, address)
		if err != nil {
			r.Log.Warn("the database's address is not known, so a host that carries it may not go last", "address", address, "error", err)
		}
		for _, ip := range ips {
			at[ip] = true
		}
	}
	delete(prints, "") // of what is not a key
	return func(l plan.Leaf) bool {
		return at[ipOf(l.Address)] || len(prints) > 0 && prints[host.Fingerprint(l.HostKey)]
	}, nil
}

// laid gives each planned host what a ladder knows of it: its pools, its neighbours, and whether
// it goes alone. What a ladder names and the plan has not, is found.
func (r *rehearsal) laid(carries func(plan.Leaf) bool, policy ladder.Policy, all []view.Host, leaves []plan.Leaf, planned []expr.Host, pools outline.Pools) (hosts []ladder.Host, findings []finding.Finding) {
	ways, there := map[string]bool{}, map[string]bool{}
	for _, h := range all {
		for _, hop := range h.Hops {
			ways[hop.Name] = true
		}
	}
	labelled := 0
	for i, h := range planned {
		one := ladder.Host{Host: h, Alone: ways[h.Name] || carries(leaves[i])}
		there[h.Name] = true
		var of []string
		for _, part := range leaves[i].Parts {
			c := r.services[part.Part]
			if name := plan.PoolName(c.Name, pools.Of(c.Name, i)); (c.Pool != "" || policy.PoolAtOnce > 0) && !slices.Contains(of, name) {
				of = append(of, name)
				one.Keep = max(one.Keep, c.Keep)
			}
		}
		if value := h.Labels[policy.Apart]; policy.Apart != "" && value != "" {
			one.Apart = policy.Apart + "=" + value
			labelled++
		}
		one.Pool = strings.Join(of, " ")
		leaves[i].Pools, leaves[i].Apart = of, one.Apart
		hosts = append(hosts, one)
	}
	if policy.Apart != "" && labelled == 0 {
		findings = append(findings, veto("apart", "the ladder keeps hosts apart by their label %s, and none of them has it; label them, or leave apart out", policy.Apart))
	}
	rebooting := 0
	for i := range planned {
		if slices.ContainsFunc(leaves[i].Parts, func(p plan.LeafPart) bool { return p.Act.Reboots }) {
			rebooting++
		}
	}
	if soon := policy.Stages[:min(2, len(policy.Stages))]; rebooting > 0 && !slices.ContainsFunc(soon, func(s ladder.Stage) bool { return s.Gate }) {
		findings = append(findings, veto("reboot-gate", "%s boot anew, and nobody opens a gate for that: give the ladder's first or second stage gate: true", counted(rebooting, "host")))
	}
	for i, s := range policy.Stages {
		missing := slices.DeleteFunc(slices.Clone(s.Named), func(name string) bool { return there[name] })
		if len(missing) > 0 {
			findings = append(findings, veto("stage-names", "stage %d of the ladder names %s, which the plan does not have: it is no target, was not read, or has a veto", i+1, strings.Join(missing, ", ")))
		}
	}
	return hosts, findings
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

// kept finds pools of which none may be taken, as they are now: their definition keeps them all.
// Else as many are taken at once as fresh probes show to be more than it keeps.
func (c *concerned) kept(size, going map[string]int) (findings []finding.Finding) {
	for _, name := range slices.Sorted(maps.Keys(going)) {
		if c.Keep > 0 && size[name] <= c.Keep {
			findings = append(findings, veto("keep", "the pool %q of %s has %s, and its definition keeps %d: none may be out. Give it more, or take it out of this change", name, c.Name, counted(size[name], "host"), c.Keep))
		}
	}
	return findings
}
