package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/store"
)

// What a change says while somebody writes it, before any host is read for its rehearsal.

// drafted gives a change that was not drafted yet, as its rehearsal would see it.
func (e *Engine) drafted(ctx context.Context, spec *change.Spec) (*rehearsal, error) {
	r := &rehearsal{Engine: e, Rehearsing: &store.Rehearsing{}, spec: spec, secrets: map[string]string{}}
	var definitions []*definition.Service
	for _, name := range spec.Services {
		version, err := e.Store.ApprovedService(ctx, name)
		if err != nil {
			return nil, err
		}
		svc, err := e.service(ctx, name, version.Digest)
		if err != nil {
			return nil, err
		}
		definitions = append(definitions, svc)
	}
	var err error
	if r.findings, err = r.on(definitions); err != nil {
		return nil, err
	}
	for _, c := range r.services {
		for _, name := range render.SecretNames(c.Service, c.spec) {
			r.secrets[name] = secret.StandIn(name) // nobody sees a secret, nor guesses at one, while they write
		}
	}
	return r, nil
}

// Targets gives the hosts that a change's expression fits, by name.
func (e *Engine) Targets(ctx context.Context, where string) (all, fit []view.Host, err error) {
	if all, err = e.Store.Hosts(ctx); err != nil {
		return nil, nil, err
	}
	if fit, err = fitting(all, where); err != nil {
		return nil, nil, &store.Unfit{What: "where: " + err.Error()}
	}
	return all, fit, nil
}

// Foresee says what a change comes to over hosts by what is known of them: where each edit is made,
// which values it comes to, and the ladder. No host is asked.
func (e *Engine) Foresee(ctx context.Context, spec *change.Spec, all, fit []view.Host, out *view.DraftChecked) error {
	r, err := e.drafted(ctx, spec)
	if err != nil {
		return err
	}
	if spec.Prolongs == 0 {
		r.findings = append(r.findings, unexpected(spec, len(fit))...)
	}
	for _, edit := range spec.Edits {
		one := foreseenEdit(spec, edit, fit)
		out.Edits = append(out.Edits, one)
		r.judgeForeseen(edit, one)
	}
	for _, p := range r.own {
		out.Probes = append(out.Probes, r.foreseenProbe(p, p.Service))
	}
	for _, c := range r.services {
		for _, p := range c.Probes {
			out.Probes = append(out.Probes, r.foreseenProbe(p, c.Name))
		}
	}
	leaves, hosts, err := r.foreseenLeaves(fit)
	if err != nil {
		return err
	}
	out.Without = len(fit) - len(leaves)
	if len(leaves) > 0 && spec.Prolongs == 0 {
		out.Outline, err = r.foreseenLadder(ctx, all, leaves, hosts)
	}
	for _, f := range r.findings {
		out.Doubts = append(out.Doubts, f.Text)
	}
	return err
}

// foreseenEdit gathers what an edit comes to over hosts.
func foreseenEdit(spec *change.Spec, edit change.Edit, fit []view.Host) view.DraftEdit {
	out := view.DraftEdit{Words: edit.Words(), Values: []view.DraftValue{}}
	at := map[string]int{}
	for _, h := range fit {
		value, made, err := render.Foresee(spec, edit, h.Expr())
		if errors.Is(err, render.ErrUnread) {
			out.Why = err.Error()
			return out
		}
		if err != nil {
			out.Why = cmp.Or(out.Why, fmt.Sprintf("%s: %v", h.Name, err))
			continue
		}
		if !made {
			continue
		}
		out.Hosts++
		if value == "" {
			continue
		}
		i, there := at[value]
		if !there {
			i = len(out.Values)
			at[value] = i
			out.Values = append(out.Values, view.DraftValue{Value: value, First: []string{}})
		}
		v := &out.Values[i]
		if v.Hosts++; len(v.First) < view.DraftHosts {
			v.First = append(v.First, h.Name)
		}
	}
	slices.SortStableFunc(out.Values, func(a, b view.DraftValue) int { return b.Hosts - a.Hosts })
	return out
}

// judgeForeseen finds values that an edit sets and that the definition does not allow there.
func (r *rehearsal) judgeForeseen(edit change.Edit, comes view.DraftEdit) {
	address, err := conf.ParseAddress(edit.Set)
	if edit.Set == "" || err != nil || edit.Secret != "" || edit.Secrets != nil {
		return
	}
	var values []string
	if edit.To != nil {
		values = append(values, edit.To.Joined())
	}
	for _, v := range comes.Values {
		values = append(values, v.Value)
	}
	for _, c := range r.services {
		file := cmp.Or(edit.File, c.OnlyFile())
		if edit.Service != "" && edit.Service != c.Name || file == "" {
			continue
		}
		rule := c.SettingOf(file, address)
		if rule == nil {
			continue
		}
		for _, value := range values {
			if wrong := rule.Judge(value); wrong != "" && !strings.ContainsAny(value, "{") {
				r.findings = append(r.findings, veto("not-allowed", "%s: %s", edit.Set, wrong))
			}
		}
	}
}

// foreseenProbe says of a probe whether it may be tried on a host without an approval.
func (r *rehearsal) foreseenProbe(p probe.Probe, service string) view.DraftProbe {
	out := view.DraftProbe{Service: service, Name: p.Name, Ask: p.Ask, Waits: p.Waits()}
	if len(p.SecretNames())+len(p.ValueNames()) > 0 {
		out.Waits = cmp.Or(out.Waits, "it holds a value that only the rehearsal fills in")
	}
	return out
}

// foreseenLeaves gives the hosts that carry any of the services, by the last survey of each. One
// that was never surveyed is taken to carry them.
func (r *rehearsal) foreseenLeaves(fit []view.Host) (leaves []plan.Leaf, hosts []expr.Host, err error) {
	for _, h := range fit {
		if h.Aside() != "" {
			continue
		}
		leaf := plan.Leaf{HostID: h.ID, Host: h.Name, Address: h.Address, HostKey: h.HostKey, Labels: h.Labels}
		for i, c := range r.services {
			yes, err := c.carries.Bool(h.Expr().Vars())
			if err != nil {
				return nil, nil, err
			}
			if yes || h.SurveyedAt == nil {
				leaf.Parts = append(leaf.Parts, plan.LeafPart{Part: i})
			}
		}
		if r.spec.MayFail != "" {
			if leaf.MayFail, err = expr.Holds(r.spec.MayFail, expr.HostVars, h.Expr().Vars()); err != nil {
				return nil, nil, err
			}
		}
		if len(leaf.Parts) > 0 {
			leaves, hosts = append(leaves, leaf), append(hosts, h.Expr())
		}
	}
	return leaves, hosts, nil
}

// foreseenLadder lays hosts on the ladder; without an outline where that cannot be.
func (r *rehearsal) foreseenLadder(ctx context.Context, all []view.Host, leaves []plan.Leaf, hosts []expr.Host) (*outline.Outline, error) {
	carries, err := r.carriers(ctx)
	if err != nil {
		return nil, err
	}
	policy, pools, err := r.onRungs(carries, all, leaves, hosts, len(leaves))
	if err != nil {
		r.findings = append(r.findings, veto("ladder", "%v", err))
	}
	if err != nil || finding.Vetoed(r.findings) && pools.Of == nil {
		return nil, nil
	}
	return outline.Of(r.spec, r.head(policy, len(leaves), nil), leaves, pools), nil
}

// copies are the files of a host, as they were read for who writes a change.
type copies struct {
	at     time.Time
	traits expr.Traits
	files  []map[string]render.Found
}

// How long, and of how many hosts, files are kept for who writes a change. They are in this
// process's memory alone.
const (
	copiesFor  = time.Hour
	copiesMost = 64
)

// Preview says what a change comes to on one host. It reads the host where that was not done in the
// last hour, or where it is to be read again; else it works from the copy, and opens no connection.
// Checker and probes are left to the rehearsal.
func (e *Engine) Preview(ctx context.Context, spec *change.Spec, name string, again bool) (out view.Preview, err error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return out, err
	}
	if aside := h.Aside(); aside != "" {
		return out, &store.Conflict{What: name + " is " + aside}
	}
	r, err := e.drafted(ctx, spec)
	if err != nil {
		return out, err
	}
	one := &reading{rehearsal: r, host: h, redactor: &secret.Redactor{}}
	files, at, findings, err := one.lately(ctx, again)
	if err != nil {
		return out, err
	}
	one.candidates(files)
	var found store.Read
	one.tell(&found, findings)
	out = view.Preview{Host: name, ReadAt: at.UTC(), Diff: found.Diff, Act: found.Act, Alterations: append([]conf.Alteration{}, found.Alterations...), Findings: append([]finding.Finding{}, found.Findings...), Checkers: []string{}}
	for _, c := range one.services {
		if words := strings.Join(c.Trial.Command, " "); words != "" && len(c.Files) > 0 {
			out.Checkers = append(out.Checkers, words)
		}
	}
	return out, nil
}

// lately gives the host's files by the copy last read, or reads them.
func (r *reading) lately(ctx context.Context, again bool) (files []map[string]render.Found, at time.Time, findings []finding.Finding, err error) {
	key := fmt.Sprint(r.host.ID)
	for _, c := range r.rehearsal.services {
		key += " " + c.Digest
	}
	if kept, ok := r.copies.Get(key); ok && !again && time.Since(kept.at) < copiesFor {
		r.host.Traits = kept.traits
		r.services, findings, err = r.carry()
		return kept.files, kept.at, findings, err
	}
	r.each(1, func(int) {
		if r.conn, err = r.Dialer.Connect(ctx, target(r.host)); err != nil {
			return
		}
		defer r.conn.Close()
		files, findings, err = r.collect(ctx)
	})
	if err != nil {
		return nil, at, nil, err
	}
	at = time.Now()
	r.copies.Put(key, copies{at, r.host.Traits, files})
	return files, at, findings, nil
}
