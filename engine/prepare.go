package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/host"
	"wladder/store"
)

// prepare reads what the run carries out: the plan's head, once per process, and
// this host's leaf.
func (r *hostRun) prepare(ctx context.Context) error {
	get := func(what string, f func() error) error { return r.insist(ctx, what, nil, f) }
	var whole *store.Plan
	err := get("a plan", func() (err error) { whole, err = r.Store.Plan(ctx, r.Plan); return err })
	if err == nil {
		r.head = whole.Head
		err = get("a leaf", func() (err error) { r.leaf, err = r.Store.Leaf(ctx, whole, r.HostID); return err })
	}
	if err != nil {
		return err
	}
	if r.Returns {
		r.head, r.leaf = plan.Returned(r.head, r.leaf)
	}
	over := map[string]plan.CopyRef{}
	if r.RollsBack {
		var all []store.Edited
		if err := get("what is overwritten", func() (err error) { all, err = r.Store.Overwritten(ctx, r.Claimed); return err }); err != nil {
			return err
		}
		for _, one := range all {
			over[one.Path] = one.Stands
		}
	}
	if len(r.leaf.Parts) == 0 {
		return errors.New("the plan has nothing for this host")
	}
	if err := get("secrets", func() (err error) { r.secrets, err = r.Store.SecretVersions(ctx, r.head.Secrets); return err }); err != nil {
		return err
	}
	for _, v := range r.secrets {
		r.redactor.Add(v)
	}
	r.judges = map[string]secret.Judge{}
	for i, mine := range r.leaf.Parts {
		if mine.Part < 0 || mine.Part >= len(r.head.Parts) {
			return fmt.Errorf("the plan has %d services; this host's part speaks of number %d", len(r.head.Parts), mine.Part+1)
		}
		part, err := r.head.Parts[mine.Part].Of(mine.Instance)
		if err != nil {
			return err
		}
		s := &service{Part: part, mine: mine}
		r.services = append(r.services, s)
		svc, err := r.service(ctx, s.Service, s.ServiceDigest)
		if err != nil {
			return err
		}
		if logs := s.Logs; logs != nil {
			if s.refuse, err = patterns(logs.Refuse); err != nil {
				return err
			}
			if s.ignore, err = patterns(logs.Ignore); err != nil {
				return err
			}
		}
		s.acting = host.Service{At: i, Unit: s.Unit, Act: mine.Act, Heaviest: s.Heaviest}
		if s.drains() {
			s.acting.Drain, r.run.Drains = s.Drain, true
		}
		if slices.ContainsFunc(mine.Files, func(f plan.LeafFile) bool { return host.UnitFile(f.Resolved) }) {
			s.acting.Act, s.acting.Heaviest = reloading(s.acting.Act), reloading(s.acting.Heaviest)
		}
		r.run.Acts = append(r.run.Acts, s.acts())
		for _, f := range mine.Files {
			if why := f.Returns(); r.Returns && why != "" && f.Base != f.Candidate {
				return noReturn(fmt.Sprintf("%s cannot go back by itself: %s. The host's own copy of before is in /var/lib/wladder/runs, with a restore.sh to run by hand", f.Path, why))
			}
			if stands, there := over[f.Path]; there {
				f.Base = stands
			}
			r.paths = append(r.paths, f)
			r.judges[f.Path] = svc.Secrets(f.Key)
		}
	}
	if r.probes, err = asked(r.parts(), r.head.Probes, r.leaf.Values); err != nil {
		return err
	}
	r.probes = slices.DeleteFunc(r.probes, r.wasIll)
	turns := make([]int, len(r.paths)) // paths of several services are placed as those of one
	for i := range turns {
		turns[i] = i
	}
	slices.SortStableFunc(turns, func(a, b int) int { return cmp.Compare(r.paths[a].Turn(), r.paths[b].Turn()) })
	inOrder := make([]plan.LeafFile, len(turns))
	for n, i := range turns {
		f := r.paths[i]
		inOrder[n] = f
		var base, candidate plan.Copy
		if err := get("contents", func() (err error) {
			if base, err = r.copy(ctx, f.Base); err == nil {
				candidate, err = r.copy(ctx, f.Candidate)
			}
			return err
		}); err != nil {
			return err
		}
		for _, c := range [][]byte{base.Content, candidate.Content} {
			doc, _ := conf.Parse(f.Path, f.Format, c) // nil where it is none
			r.redactor.AddFile(r.judges[f.Path], c, doc)
		}
		for _, l := range f.Links { // the way to the file is held as it is
			way := host.Stands(plan.Copy{Kind: plan.Symlink, Target: l.Target})
			r.files = append(r.files, host.File{Path: l.Path, Base: way, Candidate: way})
		}
		r.files = append(r.files, hostFile(f.Resolved, base, candidate, f.Make, f.Others, r.secrets))
	}
	r.paths = inOrder
	r.run.MayFail = r.leaf.MayFail
	again, there := r.head.Policy.AgainAt()
	r.run.Again = there && r.Stage < again && !r.Returns
	r.run.Places = slices.ContainsFunc(r.files, func(f host.File) bool { return f.Base != f.Candidate })
	return nil
}

// wasIll tells, on the way back, of a probe that was not well before the way up: what it expects
// came with the change, and goes with it.
func (r *hostRun) wasIll(p probe.Probe) bool {
	return p.Before == "" && p.After == "" && slices.ContainsFunc(r.Before, func(v probe.Verdict) bool { return v.Probe == p.Name && !v.Well && !v.Waits })
}

// parts gives what the plan says of the host's services.
func (r *hostRun) parts() (all []plan.Part) {
	for _, s := range r.services {
		all = append(all, s.Part)
	}
	return all
}

// asked lists the probes of a host with these services: the definitions' own, and those of
// the change that concern it. Where there are several services, names say whose.
func asked(parts []plan.Part, own []probe.Probe, values map[string]string) (all []probe.Probe, err error) {
	for _, part := range parts {
		for _, p := range part.Probes {
			all = append(all, named(part, p, len(parts) > 1))
		}
	}
	for _, p := range own {
		if p, err = p.With(values); err != nil {
			return nil, fmt.Errorf("probe %s: %w", p.Name, err)
		}
		if p.Service == "" {
			all = append(all, p)
			continue
		}
		for _, part := range parts { // of each instance
			if part.Service == p.Service {
				all = append(all, named(part, p.Of(part.Instance), part.Instance != ""))
			}
		}
	}
	return all, nil
}

// named gives a definition's probe as it is asked, among those of other services or not.
func named(part plan.Part, p probe.Probe, several bool) probe.Probe {
	if p.Service = part.Name(); several {
		p.Name = part.Name() + ": " + p.Name
	}
	return p
}

// reloading has systemd read its unit files before an act.
func reloading(a definition.Act) definition.Act {
	if a.Reboots { // which does so by itself
		return a
	}
	a.Commands = append([][]string{{"systemctl", "daemon-reload"}}, a.Commands...)
	return a
}

// copy gives a copy with its content.
func (e *Engine) copy(ctx context.Context, ref plan.CopyRef) (plan.Copy, error) {
	c := plan.Copy{Kind: ref.Kind, Owner: ref.Owner, Group: ref.Group, Mode: ref.Mode, Target: ref.Target}
	var err error
	c.Sum = ref.Sum
	if c.Kind == plan.Regular && c.Sum == "" || c.Kind == plan.Made && ref.Content != "" {
		c.Content, err = e.Store.Content(ctx, ref.Content)
	}
	return c, err
}
