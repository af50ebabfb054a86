package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/record"
	"wladder/core/render"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// rehearsal is one read-only pass, as this server carries it out.
type rehearsal struct {
	*Engine
	*store.Rehearsing
	spec     *change.Spec
	services []*concerned
	others   []*concerned                     // not of the change, whose definitions name a path that one of its own names
	findings []finding.Finding                // about the whole
	own      []probe.Probe                    // the change's
	wants    definition.Wants                 // what a survey looks for, of its services
	placed   map[int64]map[string]store.Stood // by earlier climbs, by host and path
	// instances are the services as they are on hosts, by digest, instance and version.
	instances sync.Map
	secrets   map[string]string
	bound     map[string]view.Binding // where those may go, as the hosts were held against it
}

// concerned is one service of a change, in the order in which they are acted on.
type concerned struct {
	*definition.Service
	spec    *change.Spec  // as it concerns this service
	carries *expr.Program // which hosts carry it
}

// concern gives the services of a change by their definitions.
func concern(spec *change.Spec, definitions []*definition.Service) (all []*concerned, err error) {
	for _, svc := range definitions {
		c := &concerned{Service: svc, spec: spec.Part(svc.Name)}
		if c.carries, err = expr.Compile(svc.Where, expr.HostVars, expr.Bool); err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	return all, nil
}

// ownProbes gives the change's own probes with the service whose commands and files each
// asks for: the one that it names, or else the first that has them. It says which ask for
// more than that.
func ownProbes(spec *change.Spec, services []*concerned) (all []probe.Probe, findings []finding.Finding) {
	for _, p := range spec.Probes {
		var refused error
		within := false
		for _, c := range services {
			if p.Service != "" && p.Service != c.Name {
				continue
			}
			err := p.Within(c.Allowed())
			if within = err == nil; within {
				if len(services) == 1 || p.OfService() {
					p.Service = c.Name
				}
				break
			}
			refused = cmp.Or(refused, err)
		}
		if !within {
			findings = append(findings, veto("not-to-be-asked", "probe %s %v", p.Name, refused))
		}
		all = append(all, p)
	}
	return all, findings
}

func veto(code, format string, args ...any) finding.Finding {
	return finding.Finding{Level: finding.Veto, Code: code, Text: fmt.Sprintf(format, args...)}
}

// Literals errs where a change writes secrets out, so that no draft keeps them.
func (e *Engine) Literals(ctx context.Context, spec *change.Spec) error {
	services := map[string]*definition.Service{}
	for _, name := range spec.Services {
		services[name] = &definition.Service{Name: name} // what the name of a setting tells holds without a definition
		var missing *store.NotFound
		if version, err := e.Store.ApprovedService(ctx, name); err == nil {
			if services[name], err = e.service(ctx, name, version.Digest); err != nil {
				return err
			}
		} else if !errors.As(err, &missing) {
			return err
		}
	}
	return render.Literals("change", services, spec)
}

// Rehearse begins a rehearsal of a change's newest revision. A server carries it
// out, this one or another; what it finds is in the store.
func (e *Engine) Rehearse(ctx context.Context, actor string, changeID int64) error {
	return e.rehearse(ctx, actor, changeID, false)
}

// RehearseMissed begins one that reads those hosts alone which the last did not get into its
// plan: not reached, vetoed, or come since.
func (e *Engine) RehearseMissed(ctx context.Context, actor string, changeID int64) error {
	return e.rehearse(ctx, actor, changeID, true)
}

func (e *Engine) rehearse(ctx context.Context, actor string, changeID int64, missed bool) error {
	revision, err := e.Store.Revision(ctx, changeID)
	if err != nil {
		return err
	}
	spec, err := change.Stored(fmt.Sprintf("change %d", changeID), revision.Names, []byte(revision.Source))
	if err != nil {
		return err
	}
	if spec.Prolongs != 0 {
		return e.Store.RehearseProlonging(ctx, actor, changeID, revision.Number, spec)
	}
	hosts, err := e.match(ctx, spec.Where)
	if err != nil {
		return err
	}
	if spec.Follows != 0 {
		done, err := e.Store.DoneSince(ctx, spec.Follows)
		if err != nil {
			return err
		}
		hosts = slices.DeleteFunc(hosts, func(h view.Host) bool { return slices.Contains(done, h.ID) })
	}
	t := store.Targets{Revision: revision.Number, Hosts: hosts, Missed: missed}
	var definitions []*definition.Service
	for _, name := range spec.Services {
		version, err := e.Store.ApprovedService(ctx, name)
		if err != nil {
			return err
		}
		svc, err := definition.Stored(name, version.Names, []byte(version.Source))
		if err != nil {
			return err
		}
		definitions = append(definitions, svc)
		t.ServiceDigests = append(t.ServiceDigests, version.Digest)
	}
	services, err := concern(spec, definitions)
	if err != nil {
		return err
	}
	own, refused := ownProbes(spec, services)
	var missing *store.NotFound
	names := secretNames(services, own)
	bindings, err := e.Store.Bindings(ctx, names)
	if err != nil {
		return err
	}
	if _, t.Secrets, err = e.Store.Secrets(ctx, names); errors.As(err, &missing) {
		t.Findings = append(t.Findings, veto("no-secret", "%s; keep it first, with wladder secret", missing.What))
	} else if err != nil {
		return err
	} else {
		t.Findings = append(t.Findings, unbound(services, own, hosts, bindings)...)
	}
	t.Findings = append(t.Findings, refused...)
	t.Findings = append(t.Findings, unexpected(spec, len(hosts))...)
	if _, err := e.Store.BeginRehearsal(ctx, actor, changeID, t); err != nil {
		return err
	}
	e.nudge()
	return nil
}

// unexpected finds a number of hosts on which a change does not count.
func unexpected(spec *change.Spec, hosts int) (findings []finding.Finding) {
	low, high, _ := spec.Expected()
	switch {
	case hosts == 0:
		return append(findings, veto("no-hosts", "where matches no host: %s", spec.Where))
	case hosts < low || hosts > high:
		return append(findings, veto("unexpected-number", "where matches %d hosts; the change counts on %s", hosts, spec.Count))
	}
	return nil
}

// secretNames lists the secrets that a change needs.
func secretNames(services []*concerned, own []probe.Probe) []string {
	names := map[string]bool{}
	for i := range services {
		for name := range needs(services, own, i) {
			names[name] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// needs gives the secrets that go to one of the services, and the probes that show them
// there; the first service has the probes of the change that are of none.
func needs(services []*concerned, own []probe.Probe, at int) map[string][]string {
	c := services[at]
	shown := map[string][]string{}
	for _, name := range render.SecretNames(c.Service, c.spec) {
		shown[name] = nil
	}
	all := slices.Concat(c.Probes, []probe.Probe(c.InForce))
	for _, p := range own {
		if p.Service == c.Name || p.Service == "" && at == 0 {
			all = append(all, p)
		}
	}
	for _, p := range all {
		for _, name := range p.SecretNames() {
			shown[name] = append(shown[name], p.Name)
		}
	}
	return shown
}

// chosen tells whether a secret stands in tables alone, so that it goes to some hosts and
// not to others.
func chosen(c *concerned, name string) bool {
	tabled := false
	for _, e := range c.spec.Edits {
		if slices.Contains(c.Makes[e.Make].SecretNames(), name) {
			return false
		}
		in := slices.Contains(slices.Collect(maps.Values(e.Secrets)), name) || e.Secrets != nil && e.Otherwise != nil && e.Otherwise.Text == name
		if !in && slices.Contains(e.SecretNames(), name) {
			return false
		}
		tabled = tabled || in
	}
	return tabled
}

// unbound says which secrets would go where no admin lets them go.
func unbound(services []*concerned, own []probe.Probe, hosts []view.Host, bindings map[string]view.Binding) (all []finding.Finding) {
	for i, c := range services {
		shown := needs(services, own, i)
		for _, name := range slices.Sorted(maps.Keys(shown)) {
			b := bindings[name]
			if !slices.Contains(b.Services, c.Name) {
				all = append(all, veto("secret-not-bound", "secret %s may not go to service %s; an admin binds it there, with wladder secret -bind", name, c.Name))
				continue
			}
			for _, p := range shown[name] {
				if !slices.Contains(b.Probes, p) {
					all = append(all, veto("secret-not-bound", "secret %s may not be shown by the probe %s; an admin binds it there, with wladder secret -bind", name, p))
				}
			}
			where, err := expr.Compile(cmp.Or(b.Hosts, "false"), expr.HostVars, expr.Bool)
			for _, h := range hosts {
				if err != nil || len(shown[name]) == 0 && chosen(c, name) { // a host that a table chooses it for is asked about itself
					break
				}
				carried, fits := true, false
				if len(services) > 1 { // it goes to those that carry the service
					carried, err = c.carries.Bool(h.Expr().Vars())
				}
				if err == nil && carried {
					if fits, err = where.Bool(h.Expr().Vars()); err == nil && !fits {
						all = append(all, veto("secret-not-bound", "secret %s may not go to host %s; an admin says which hosts, with wladder secret -bind", name, h.Name))
						break
					}
				}
			}
			if err != nil {
				all = append(all, veto("secret-not-bound", "where secret %s may go cannot be told: %v", name, err))
			}
		}
	}
	return all
}

// carryOut reads the hosts of a rehearsal that were not read yet, and ends it.
func (e *Engine) carryOut(stopping, mine context.Context, c *store.Rehearsing) {
	r := &rehearsal{Engine: e, Rehearsing: c, findings: c.Findings}
	err := r.prepare(mine)
	var hosts []view.Host
	if err == nil {
		err = e.insist(mine, "targets", nil, func() (err error) { hosts, err = e.Store.Unread(mine, c.ID); return err })
	}
	if err == nil {
		ids := make([]int64, len(hosts))
		for i, h := range hosts {
			ids[i] = h.ID
		}
		err = e.insist(mine, "what was placed before", nil, func() (err error) { r.placed, err = e.Store.Placed(mine, ids); return err })
	}
	if err == nil {
		err = r.readAll(stopping, mine, hosts)
	}
	var made *store.Made
	switch {
	case errors.Is(err, errLeaving):
		if err := e.Store.ReleaseRehearsal(mine, c); err != nil {
			e.Log.Error("releasing a rehearsal", "change", c.Change, "error", err)
		}
		return
	case mine.Err() != nil || store.Transient(err):
		return // its lease lapses, and another try follows
	case err != nil:
		r.findings = append(r.findings, veto("failed", "the rehearsal could not be carried out: %v", err))
	default:
		if made, err = r.plan(mine); err != nil {
			r.findings = append(r.findings, veto("ladder", "%v", err))
		}
	}
	r.findings = append(r.findings, r.overlaps(mine)...)
	err = e.insist(mine, "the end of a rehearsal", nil, func() error { return e.Store.EndRehearsal(mine, c, r.findings, made) })
	if err != nil && mine.Err() == nil {
		e.Log.Error("a rehearsal could not be ended", "change", c.Change, "error", err)
	}
}

func (r *rehearsal) prepare(ctx context.Context) (err error) {
	if r.spec, err = change.Stored(fmt.Sprintf("change %d", r.Change), r.Names, []byte(r.Source)); err != nil {
		return err
	}
	if len(r.ServiceDigests) != len(r.spec.Services) {
		return fmt.Errorf("the change concerns %d services, its rehearsal %d", len(r.spec.Services), len(r.ServiceDigests))
	}
	var definitions []*definition.Service
	for i, name := range r.spec.Services {
		svc, err := r.service(ctx, name, r.ServiceDigests[i])
		if err != nil {
			return err
		}
		definitions = append(definitions, svc)
	}
	if _, err := r.on(definitions); err != nil { // what is refused was found as it began
		return err
	}
	if err := r.rivals(ctx); err != nil {
		return err
	}
	if err := r.insist(ctx, "bindings of secrets", nil, func() (err error) {
		r.bound, err = r.Store.Bindings(ctx, slices.Sorted(maps.Keys(r.Secrets)))
		return err
	}); err != nil {
		return err
	}
	return r.insist(ctx, "secrets", nil, func() (err error) { r.secrets, err = r.Store.SecretVersions(ctx, r.Secrets); return err })
}

// on has the rehearsal rest on the definitions of its services, and finds which of its own probes may
// not be asked by them.
func (r *rehearsal) on(definitions []*definition.Service) (refused []finding.Finding, err error) {
	if r.services, err = concern(r.spec, definitions); err != nil {
		return nil, err
	}
	for _, c := range r.services {
		r.wants = r.wants.And(c.Wants())
	}
	r.own, refused = ownProbes(r.spec, r.services)
	return refused, nil
}

// rivals finds the other definitions in force that name a path which one of the change's
// names: on a host that carries both, the path has two masters.
func (r *rehearsal) rivals(ctx context.Context) error {
	var all []*definition.Service
	if err := r.insist(ctx, "definitions in force", nil, func() (err error) { all, err = r.inForce(ctx); return err }); err != nil {
		return err
	}
	ours := map[string]bool{}
	for _, c := range r.services {
		for _, f := range c.Files {
			for _, at := range f.Everywhere() {
				ours[at] = true
			}
		}
	}
	named := func(f definition.File) bool {
		return slices.ContainsFunc(f.Everywhere(), func(at string) bool { return ours[at] })
	}
	for _, svc := range all {
		if slices.Contains(r.spec.Services, svc.Name) || !slices.ContainsFunc(slices.Collect(maps.Values(svc.Files)), named) {
			continue
		}
		other, err := concern(r.spec, []*definition.Service{svc})
		if err != nil {
			return err
		}
		r.others = append(r.others, other...)
	}
	return nil
}

// How results are gathered before they are written: few at once while there are
// few, so that people see them come.
const (
	readsAtOnce = 100
	readsEvery  = 100 * time.Millisecond
)

// readAll reads hosts in parallel, and keeps what was found as it comes in.
func (r *rehearsal) readAll(stopping, mine context.Context, hosts []view.Host) error {
	results := make(chan store.Read, r.AtOnce)
	go func() {
		defer close(results)
		r.each(len(hosts), func(i int) {
			if stopping.Err() == nil && mine.Err() == nil {
				results <- r.host(mine, hosts[i])
			}
		})
	}()
	var waiting []store.Read
	var failure error
	flush := func() {
		if len(waiting) > 0 && failure == nil {
			all := waiting
			if failure = r.add(mine, all); failure == nil {
				r.hint("rehearsal", r.Change, map[string]any{"host": all[len(all)-1].Host, "hosts": len(all)})
			}
		}
		waiting = nil
	}
	tick := time.NewTicker(readsEvery)
	defer tick.Stop()
	for results != nil {
		select {
		case read, more := <-results:
			if !more {
				results = nil
				break
			}
			if waiting = append(waiting, read); len(waiting) >= readsAtOnce {
				flush()
			}
		case <-tick.C:
			flush()
		}
	}
	flush()
	switch {
	case failure != nil:
		return failure
	case mine.Err() != nil:
		return context.Cause(mine)
	case stopping.Err() != nil:
		return errLeaving
	}
	return nil
}

// add keeps what was found on hosts. What cannot be kept of one is that host's
// finding, and hinders no other.
func (r *rehearsal) add(ctx context.Context, all []store.Read) error {
	keep := func(some ...store.Read) error {
		return r.insist(ctx, "what a rehearsal found", nil, func() error { return r.Store.AddRead(ctx, r.Rehearsing, some) })
	}
	err := keep(all...)
	if err == nil || !store.Unstorable(err) {
		return err
	}
	for _, one := range all {
		if err := keep(one); store.Unstorable(err) {
			r.Log.Error("what a host answered cannot be kept", "host", one.Host, "change", r.Change, "error", err)
			var instead store.Read
			instead.HostID, instead.Host = one.HostID, one.Host
			instead.Findings = []finding.Finding{veto("failed", "what it answered cannot be kept; the server's log has the details")}
			instead.Group = render.GroupKey("", "", instead.Findings)
			if err := keep(instead); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
	}
	return nil
}

// maxDiff is how much of a host's diff is kept, in bytes: a person reads no more.
const maxDiff = 1 << 20

// overlaps says which other changes are open on the same files.
func (r *rehearsal) overlaps(ctx context.Context) (findings []finding.Finding) {
	all, err := r.Store.Overlaps(ctx, r.Change, r.ID)
	if err != nil {
		r.Log.Warn("other changes on the same files are not known", "change", r.Change, "error", err)
		return nil
	}
	for _, o := range all {
		what := o.Path
		if o.Files > o.Hosts {
			what += " and other files"
		}
		findings = append(findings, finding.Finding{Level: finding.Warn, Code: "open-elsewhere",
			Text: fmt.Sprintf("change %d (%s), which is %s, would write %s on %s of this one: whichever comes second there is passed over, and rehearsed again", o.Change, o.Title, o.State, what, counted(o.Hosts, "host"))})
	}
	return findings
}

// plan freezes what is to happen; none where something speaks against the whole.
func (r *rehearsal) plan(ctx context.Context) (*store.Made, error) {
	var planned []store.Planned
	if err := r.insist(ctx, "leaves", nil, func() (err error) { planned, err = r.Store.PlannedLeaves(ctx, r.ID); return err }); err != nil {
		return nil, err
	}
	if len(planned) == 0 && len(r.findings) == 0 {
		r.findings = append(r.findings, veto("nothing-planned", "no host is left to change: each has a veto, or says already what this change wants"))
	}
	bindings, err := r.bindings(ctx)
	if err != nil {
		return nil, err
	}
	if len(r.findings) > 0 {
		return nil, nil
	}
	all, hosts, n, err := divided(planned)
	if err != nil {
		return nil, err
	}
	leaves := all[:n]
	var known []view.Host
	if err := r.insist(ctx, "hosts", nil, func() (err error) { known, err = r.Store.Hosts(ctx); return err }); err != nil {
		return nil, err
	}
	var carries func(plan.Leaf) bool
	if err := r.insist(ctx, "servers", nil, func() (err error) { carries, err = r.carriers(ctx); return err }); err != nil {
		return nil, err
	}
	policy, pools, err := r.onRungs(carries, known, all, hosts, n)
	if err != nil || len(r.findings) > 0 {
		return nil, err
	}
	head := r.head(policy, n, bindings)
	return &store.Made{Head: head, Leaves: all, Outline: outline.Of(r.spec, head, leaves, pools)}, nil
}

// onRungs gives leaves their places on the ladder: the first n those of the plan, the others, which
// vetoes keep out, behind them. What speaks against it is found; there are no pools then.
func (r *rehearsal) onRungs(carries func(plan.Leaf) bool, known []view.Host, all []plan.Leaf, hosts []expr.Host, n int) (policy ladder.Policy, pools outline.Pools, err error) {
	if policy, err = r.spec.Policy(); err != nil {
		return policy, pools, err
	}
	of, kept, err := r.pools(known, hosts)
	if r.findings = append(r.findings, kept...); err != nil || len(kept) > 0 {
		return policy, pools, err
	}
	laid, wrong := r.laid(carries, policy, known, all, hosts, of)
	if r.findings = append(r.findings, wrong...); len(wrong) > 0 {
		return policy, pools, nil
	}
	policy, rungs, err := policy.Assign(laid[:n])
	if err != nil {
		return policy, pools, err
	}
	for i, rung := range rungs {
		all[i].Stage, all[i].Turn = rung.Stage, rung.Turn
	}
	again, _ := policy.AgainAt()
	for i := n; i < len(all); i++ {
		all[i].Stage, all[i].Turn = again-1, i // they come last, whenever they may
	}
	return policy, of, nil
}

// head is what the plan says of all hosts alike.
func (r *rehearsal) head(policy ladder.Policy, hosts int, bindings map[string]string) plan.Head {
	head := plan.Head{
		Version: plan.Version, Change: r.Change, Revision: r.Revision, Hosts: hosts, Scripts: host.ScriptsDigest(), Policy: policy, Secrets: r.Secrets, Bindings: bindings, Probes: r.own, LocksOut: r.spec.LocksOut, For: ladder.Span(r.spec.For),
	}
	guard := r.guard()
	for _, c := range r.services {
		part := c.part()
		part.Guard = guard
		head.Parts = append(head.Parts, part)
	}
	return head
}

// divided gives the leaves of a rehearsal's hosts and what ladders know of those: first the n
// that are in the plan, then those that vetoes keep out until somebody overrides them.
func divided(planned []store.Planned) (leaves []plan.Leaf, hosts []expr.Host, n int, err error) {
	leaves = []plan.Leaf{}
	var barred []plan.Leaf
	var barredHosts []expr.Host
	for _, p := range planned {
		var leaf plan.Leaf
		if err := json.Unmarshal(p.Leaf, &leaf); err != nil {
			return nil, nil, 0, err
		}
		if len(leaf.Vetoes) > 0 {
			barred, barredHosts = append(barred, leaf), append(barredHosts, p.Host)
		} else {
			leaves, hosts = append(leaves, leaf), append(hosts, p.Host)
		}
	}
	return slices.Concat(leaves, barred), slices.Concat(hosts, barredHosts), len(leaves), nil
}

// part is what a plan says of the service.
func (c *concerned) part() plan.Part {
	commands, inForce, probes := c.Commands, []probe.Probe(c.InForce), c.Probes
	if commands == nil {
		commands = map[string]definition.Command{}
	}
	if inForce == nil {
		inForce = []probe.Probe{}
	}
	if probes == nil {
		probes = []probe.Probe{}
	}
	return plan.Part{
		Service: c.Name, ServiceDigest: c.Digest, Unit: c.Unit, Trial: c.Trial, InForce: inForce, Probes: probes, Commands: commands, Logs: c.Logs,
		FrontDoor: c.FrontDoor, Settle: ladder.Span(c.Settle), Guarded: c.Guarded, Heaviest: c.Acts[c.Heaviest()], Drain: c.Drain, Keep: c.Keep,
	}
}

// bindings says where the change's secrets may go, as it is now; what they may not is a
// finding.
func (r *rehearsal) bindings(ctx context.Context) (map[string]string, error) {
	names := slices.Sorted(maps.Keys(r.Secrets))
	if len(names) == 0 {
		return nil, nil
	}
	var bound map[string]view.Binding
	if err := r.insist(ctx, "bindings of secrets", nil, func() (err error) { bound, err = r.Store.Bindings(ctx, names); return err }); err != nil {
		return nil, err
	}
	hosts, err := r.match(ctx, r.spec.Where)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for name, b := range bound {
		text, err := record.Canonical(b)
		if err != nil {
			return nil, err
		}
		all[name] = string(text)
		if then, err := record.Canonical(r.bound[name]); err != nil || string(then) != string(text) {
			r.findings = append(r.findings, veto("secret-not-bound", "where secret %s may go was changed while the hosts were read; rehearse again", name))
		}
	}
	for _, f := range unbound(r.services, r.own, hosts, bound) {
		if !slices.Contains(r.findings, f) {
			r.findings = append(r.findings, f)
		}
	}
	return all, nil
}

// guard reckons how long a host waits for our confirmation: what act, settling
// and probes may take, and a minute for the way there.
func (r *rehearsal) guard() ladder.Span {
	if r.spec.Guard > 0 {
		return ladder.Span(r.spec.Guard)
	}
	all, set := time.Minute, time.Duration(0)
	for _, c := range r.services {
		set = max(set, time.Duration(c.Guard))
		all += 3*time.Duration(c.Settle) + time.Duration(c.Acts[c.Heaviest()].Timeout)
		if c.Drain != nil {
			all += time.Duration(c.Drain.Within)
		}
		for _, p := range slices.Concat(c.Probes, c.InForce) {
			all += heldFor(p)
		}
	}
	if set > 0 {
		return ladder.Span(set)
	}
	for _, p := range r.own {
		all += heldFor(p)
	}
	return ladder.Span(all)
}

// heldFor is how long a probe may keep its connections, before and after.
func heldFor(p probe.Probe) time.Duration {
	return time.Duration(max(p.Tries, 1)*p.Hold) * 2 * time.Second
}
