package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// maxTried bounds how many settings of a file are shown.
const maxTried = 500

// Try says what a definition, loaded or not, would find on a host: what is at its paths
// inside its roots, and what it would run. Where a second admin has approved its digest for
// that host, it reads the files, has the checker look at them untouched, and asks the probes.
func (e *Engine) Try(ctx context.Context, actor string, svc *definition.Service, name string) (out view.Tried, err error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return out, err
	}
	if aside := h.Aside(); aside != "" {
		return out, &store.Conflict{What: name + " is " + aside}
	}
	out = view.Tried{Service: svc.Name, Digest: svc.Digest, Host: h.Name}
	by, until, err := e.Store.TryApproved(ctx, svc.Name, svc.Digest, h.Name)
	if err == nil {
		err = e.Store.NoteTry(ctx, actor, svc.Name, svc.Digest, h.Name)
	}
	if err != nil {
		return out, err
	}
	if by != "" {
		out.ApprovedBy, out.Until = by, &until
	}
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return out, err
	}
	defer conn.Close()
	wants := svc.Wants()
	traits, err := conn.Survey(ctx, wants)
	if err != nil {
		return out, err
	}
	h.Traits = wants.Kept(traits, h.Traits)
	if out.Carries, err = expr.Holds(svc.Where, expr.HostVars, h.Expr().Vars()); err != nil {
		return out, fmt.Errorf("where: %w", err)
	}
	out.Version = svc.Version(h.Traits)
	names := svc.On(h.Expr())
	if len(names) == 0 {
		out.Why = svc.NoInstance()
	}
	for _, instance := range names {
		here, err := svc.Here(h.Expr(), instance)
		if err != nil {
			return out, err
		}
		one := trial{e, conn, h, here, view.TriedInstance{Name: instance, Unit: here.Unit, Runs: runs(here)}}
		if err = one.look(ctx); err == nil && by != "" {
			err = one.read(ctx)
		}
		if err != nil {
			return out, err
		}
		out.Instances = append(out.Instances, one.TriedInstance)
	}
	return out, nil
}

// trial is a definition that is tried on a host, for one instance.
type trial struct {
	*Engine
	conn Conn
	host view.Host
	svc  *definition.Service
	view.TriedInstance
}

// runs lists what a definition would run or ask.
func runs(svc *definition.Service) (all []view.TriedRun) {
	add := func(what string, words []string) {
		if len(words) > 0 {
			all = append(all, view.TriedRun{For: what, Words: words})
		}
	}
	add("trial", svc.Trial.Command)
	add("trial, dump", svc.Trial.Dump)
	for _, a := range svc.Acts {
		for _, words := range a.Commands {
			add("act "+a.Name, words)
		}
	}
	if d := svc.Drain; d != nil {
		add("drain", d.Command)
		add("drain, readmit", d.Readmit)
		if d.Until != nil {
			add("drain, until", []string{d.Until.Ask})
		}
	}
	for _, key := range slices.Sorted(maps.Keys(svc.Makes)) {
		add("make "+key, svc.Makes[key].Command)
	}
	for _, key := range slices.Sorted(maps.Keys(svc.Commands)) {
		add("command "+key, svc.Commands[key].Command)
	}
	for _, p := range svc.InForce {
		add("in-force "+p.Name, []string{p.Ask})
	}
	for _, p := range svc.Probes {
		add("probe "+p.Name, []string{p.Ask})
	}
	if svc.FrontDoor != nil {
		add("front-door", []string{svc.FrontDoor.Ask})
	}
	return all
}

// look says what stands at the definition's paths, inside its roots.
func (t *trial) look(ctx context.Context) error {
	var questions []host.Question
	var asked []int
	for _, key := range slices.Sorted(maps.Keys(t.svc.Files)) {
		f := view.TriedFile{Key: key, Path: t.svc.Files[key].Path(t.host.Traits.Family)}
		switch {
		case f.Path == "":
			f.Problem = fmt.Sprintf("there is no path for the family %q", t.host.Traits.Family)
		case !definition.Within(f.Path, t.svc.WritableRoots()):
			f.Outside = true
		default:
			questions, asked = append(questions, host.Question{Stat: f.Path}), append(asked, len(t.Files))
		}
		t.Files = append(t.Files, f)
	}
	if len(questions) == 0 {
		return nil
	}
	replies, err := t.conn.Ask(ctx, "none", host.ForwardAct, questions)
	if err != nil {
		return err
	}
	for i, at := range asked {
		f, r := &t.Files[at], replies[i]
		f.Problem, f.Missing = r.Failure, r.Mode == ""
		f.Kind, f.Bytes, f.Owner, f.Group, f.Mode = r.OnHost.Kind, r.Bytes, r.Owner, r.Group, r.Mode
	}
	return nil
}

// read reads the files, and has checker and probes look at the host as it is.
func (t *trial) read(ctx context.Context) error {
	var paths []string
	var at []int
	for i, f := range t.Files {
		if f.Kind == "regular file" && !t.svc.Made(f.Key) {
			paths, at = append(paths, f.Path), append(at, i)
		}
	}
	found, err := t.conn.Collect(ctx, paths)
	if err != nil {
		return err
	}
	redactor := &secret.Redactor{}
	for i, copied := range found {
		f := &t.Files[at[i]]
		format := t.svc.Files[f.Key].Format
		judge := t.svc.Secrets(f.Key)
		doc, err := conf.Parse(f.Path, format, copied.Content)
		redactor.AddFile(judge, copied.Content, doc)
		if err != nil {
			f.Problem = err.Error()
			continue
		}
		for _, s := range doc.Settings() {
			if len(judge(s.Address, s.Value)) > 0 {
				s.Value = secret.Placeholder
			}
			if !s.CommentedOut && len(t.Settings) < maxTried {
				t.Settings = append(t.Settings, s)
			}
		}
	}
	for i := range t.Settings {
		t.Settings[i].Value = redactor.Clean(t.Settings[i].Value)
	}
	for i := range t.Files {
		t.Files[i].Problem = redactor.Clean(t.Files[i].Problem)
	}
	if t.Checker = "there is none"; len(t.svc.Trial.Command) > 0 {
		answer, said, err := t.conn.Trial(ctx, nil, t.svc.Trial, nil)
		if err != nil {
			return err
		}
		if t.Checker = string(answer); answer != host.Accepted {
			t.Checker += ": " + redactor.Clean(shortly(strings.TrimSpace(said)))
		}
	}
	all := slices.Clone(t.svc.Probes)
	for _, p := range t.svc.InForce {
		if !p.Uses("renewed") { // it speaks of an act
			all = append(all, p)
		}
	}
	all = slices.DeleteFunc(all, func(p probe.Probe) bool { return len(p.SecretNames()) > 0 }) // none is given out for a try
	bounded, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	t.Probes, _, err = askHere(t.conn, t.host, t.svc, all, redactor).ask(bounded, probe.Earlier, all)
	return err
}
