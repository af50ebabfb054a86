package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/drift"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// keyed gives how a path stands, as host scripts say it, with its content by its keyed id.
func (e *Engine) keyed(stands string) string {
	c := drift.Parse(stands)
	if c.Content != "" {
		c.Content = e.Store.SumID(c.Content)
	}
	return c.String()
}

// standing gives how a path that was collected by its hash stands.
func (e *Engine) standing(f render.Found, link bool) drift.Copy {
	switch {
	case link && len(f.Links) > 0:
		return drift.Copy{Kind: "link", Content: e.Store.SumID(host.Hash([]byte(f.Links[0].Target)))}
	case f.Missing:
		return drift.Copy{Kind: "none"}
	case f.Kind != "regular file":
		return drift.Copy{Kind: "other"}
	}
	return drift.Copy{Kind: "file", Content: e.Store.SumID(f.Sum), Mode: f.Mode, Owner: f.Owner, Group: f.Group}
}

// LookForDrift looks at the hosts that where fits and that carry something of ours, and keeps
// what it finds. It says which were not reached.
func (e *Engine) LookForDrift(ctx context.Context, where string) (missed map[string]string, err error) {
	hosts, err := e.match(ctx, where)
	if err != nil {
		return nil, err
	}
	missed = map[string]string{}
	hosts = slices.DeleteFunc(hosts, func(h view.Host) bool {
		aside := h.Aside()
		if aside != "" {
			missed[h.Name] = aside
		}
		return aside != ""
	})
	failed, err := e.lookAtAll(ctx, hosts)
	for name, err := range failed {
		missed[name] = host.Advised(err)
	}
	return missed, err
}

// driftAtOnce is how many hosts are looked at in one go by the standing look.
const driftAtOnce = 50

// WatchDrift looks at each host that carries something of ours once in so long, spread over
// that time, until the context ends.
func (e *Engine) WatchDrift(ctx context.Context, every time.Duration) {
	tick := time.NewTicker(min(time.Minute, every/10+time.Millisecond))
	defer tick.Stop()
	for ctx.Err() == nil {
		hosts, err := e.Store.DueForDrift(ctx, every, driftAtOnce)
		if err == nil && len(hosts) > 0 {
			var failed map[string]error
			failed, err = e.lookAtAll(ctx, hosts)
			for name, why := range failed {
				e.Log.Info("a host was not looked at for drift", "host", name, "error", why)
			}
		}
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("looking for drift", "error", err)
		}
		if len(hosts) == driftAtOnce && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}

func (e *Engine) lookAtAll(ctx context.Context, hosts []view.Host) (failed map[string]error, err error) {
	ids := make([]int64, len(hosts))
	for i, h := range hosts {
		ids[i] = h.ID
	}
	standings, asOf, err := e.Store.Standings(ctx, ids)
	if err != nil {
		return nil, err
	}
	hosts = slices.DeleteFunc(slices.Clone(hosts), func(h view.Host) bool { return len(standings[h.ID]) == 0 })
	services, err := e.inForce(ctx)
	if err != nil {
		return nil, err
	}
	checks, err := concern(&change.Spec{}, services)
	if err != nil {
		return nil, err
	}
	failed = map[string]error{}
	var mu sync.Mutex
	e.each(len(hosts), func(i int) {
		h := hosts[i]
		err := ctx.Err()
		if err == nil {
			err = e.lookAt(ctx, h, asOf, standings[h.ID], checks)
		}
		if err != nil {
			mu.Lock()
			failed[h.Name] = err
			mu.Unlock()
		}
	})
	return failed, nil
}

// lookAt compares what was placed on a host with what is there: by hashes alone, in one
// round trip, and another where something drifted. Then it asks whether what is saved is in
// force.
func (e *Engine) lookAt(ctx context.Context, h view.Host, asOf time.Time, standings []store.Standing, checks []*concerned) error {
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return err
	}
	defer conn.Close()
	paths := make([]string, len(standings))
	for i, s := range standings {
		paths[i] = host.Closed + s.Path
	}
	found, err := conn.Collect(ctx, paths)
	if err != nil {
		return err
	}
	now := make([]drift.Copy, len(standings))
	var beside []string // what packages may have put aside
	for i, s := range standings {
		if now[i] = e.standing(found[i], s.Left.Kind == "link"); drift.Tell(s.Left, s.Earlier, now[i], nil) != drift.AsPlaced {
			for _, end := range drift.Aside {
				beside = append(beside, host.Closed+s.Path+end)
			}
		}
	}
	aside := map[string][]string{}
	if len(beside) > 0 {
		kept, err := conn.Collect(ctx, beside)
		if err != nil {
			return err
		}
		for i, f := range kept {
			if !f.Missing && f.Sum != "" {
				path := beside[i-i%len(drift.Aside)]
				path = path[len(host.Closed) : len(path)-len(drift.Aside[0])]
				aside[path] = append(aside[path], e.Store.SumID(f.Sum))
			}
		}
	}
	var drifted []store.Drifted
	for i, s := range standings {
		if kind := drift.Tell(s.Left, s.Earlier, now[i], aside[s.Path]); kind != drift.AsPlaced && now[i] != s.Accepted {
			drifted = append(drifted, store.Drifted{Path: s.Path, Change: s.Change, Kind: kind})
		}
	}
	unready, err := e.unready(ctx, conn, h, standings, checks)
	if err != nil {
		return err
	}
	return e.Store.KeepDrift(ctx, h.ID, h.Name, asOf, drifted, unready)
}

// Drifted shows a path of a host that is not as it was left: what differs, and the edits that would
// put it back. It reads the host.
func (e *Engine) Drifted(ctx context.Context, name, path string) (out view.DriftedPath, err error) {
	h, stood, err := e.leftAt(ctx, name, path)
	if err != nil {
		return out, err
	}
	out = view.DriftedPath{Host: name, Path: path, Change: stood.Change}
	services, err := e.inForce(ctx)
	if err != nil {
		return out, err
	}
	all, err := concern(&change.Spec{}, services)
	if err != nil {
		return out, err
	}
	for _, c := range all {
		if !c.names(h, path) {
			continue
		}
		here, err := e.read(ctx, h, c)
		if err != nil {
			return out, err
		}
		for _, one := range here {
			for _, f := range one.files {
				if f.Path == path {
					out.Service = c.Name
					return out, e.tellDrifted(ctx, &out, one, f, stood)
				}
			}
		}
	}
	out.Why = "no definition in force names this path any more"
	return out, nil
}

// names tells whether the definition names a path of a host, in any of the service's instances there.
func (c *concerned) names(h view.Host, path string) bool {
	return slices.ContainsFunc(c.On(h.Expr()), func(instance string) bool {
		here, err := c.Here(h.Expr(), instance)
		return err == nil && namesPath(here, h, path)
	})
}

func namesPath(svc *definition.Service, h view.Host, path string) bool {
	for _, f := range svc.Files {
		if f.Path(h.Traits.Family) == path {
			return true
		}
	}
	return false
}

// leftAt gives a host, and what was left at one of its paths by our hand.
func (e *Engine) leftAt(ctx context.Context, name, path string) (h view.Host, stood store.Stood, err error) {
	if h, err = e.Store.Host(ctx, name); err != nil {
		return h, stood, err
	}
	placed, err := e.Store.Placed(ctx, []int64{h.ID})
	if err != nil {
		return h, stood, err
	}
	stood, there := placed[h.ID][path]
	if !there {
		err = &store.NotFound{What: fmt.Sprintf("file of ours at %s on %s", path, name)}
	}
	return h, stood, err
}

func (e *Engine) tellDrifted(ctx context.Context, out *view.DriftedPath, one onHost, f onHostFile, stood store.Stood) error {
	if stood.Kind != string(plan.Regular) || f.doc == nil {
		out.Why = cmp.Or(f.Problem, "it is not a file that is kept here")
		return nil
	}
	content, err := e.Store.Content(ctx, stood.Content)
	var gone *store.NotFound
	if errors.As(err, &gone) {
		out.Why = "what was left there is not kept any more"
		return nil
	}
	if err != nil {
		return err
	}
	masked, left, err := masked(one.redactor, f.judge, f.Path, f.doc.Format, content)
	out.Diff = one.redactor.Clean(render.Unified(f.Path, masked, []byte(f.Text)))
	if err != nil {
		out.Why = fmt.Sprintf("what was left there cannot be read: %v", err)
		return nil
	}
	if out.Edits, err = one.into(f, left); err != nil {
		out.Why = one.redactor.Clean(err.Error())
	}
	return nil
}

// Accept has a path of a host stay as it stands now, though it is not as it was left: it counts as
// drifted again once it stands otherwise.
func (e *Engine) Accept(ctx context.Context, actor, name, path, because string) error {
	h, stood, err := e.leftAt(ctx, name, path)
	if err != nil {
		return err
	}
	if aside := h.Aside(); aside != "" {
		return &store.Conflict{What: name + " is " + aside}
	}
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return err
	}
	defer conn.Close()
	found, err := conn.Collect(ctx, []string{host.Closed + path})
	if err != nil {
		return err
	}
	return e.Store.AcceptDrift(ctx, actor, h, path, stood.Change, e.standing(found[0], stood.Kind == string(plan.Symlink)), because)
}

// unready says what of a host's services is saved and not in force, by the in-force checks of
// their definitions; empty where all is, or nothing tells.
func (e *Engine) unready(ctx context.Context, conn Conn, h view.Host, standings []store.Standing, services []*concerned) (string, error) {
	var what string
	for _, c := range services {
		if yes, err := c.carries.Bool(h.Expr().Vars()); err != nil || !yes {
			continue
		}
		for _, instance := range c.On(h.Expr()) {
			here, err := c.Here(h.Expr(), instance)
			if err != nil || !slices.ContainsFunc(standings, func(s store.Standing) bool { return namesPath(here, h, s.Path) }) {
				continue // nothing of ours is there
			}
			checks := slices.DeleteFunc(slices.Clone([]probe.Probe(here.InForce)), func(p probe.Probe) bool {
				return ofTheAct(p) || len(p.SecretNames()) > 0
			})
			if len(checks) == 0 {
				continue
			}
			verdicts, _, err := askHere(conn, h, here, checks, &secret.Redactor{}).ask(ctx, probe.Later, checks)
			if err != nil {
				return "", err
			}
			if said := ill(verdicts); said != "" {
				if what != "" {
					what += "; "
				}
				what += fmt.Sprintf("%s: %s", c.Name, said)
			}
		}
	}
	return probe.Clip(what, 1000), nil
}
