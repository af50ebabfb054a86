package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/view"
)

// HostServices gives the services of a host, by the definitions in force and what its last survey
// found, with what a climb last did with each.
func (s *Store) HostServices(ctx context.Context, name string) ([]view.HostService, error) {
	h, err := s.Host(ctx, name)
	if err != nil {
		return nil, err
	}
	versions, err := s.ServicesInForce(ctx)
	if err != nil {
		return nil, err
	}
	all := []view.HostService{}
	for _, v := range versions {
		svc, err := definition.Stored(v.Name, v.Names, []byte(v.Source))
		if err != nil {
			continue // the server says so where it surveys
		}
		where, err := expr.Compile(svc.Where, expr.HostVars, expr.Bool)
		if err != nil {
			continue
		}
		if carries, err := where.Bool(h.Expr().Vars()); err != nil || !carries {
			continue
		}
		of := view.HostService{Service: svc.Name, Title: svc.Title, Unit: svc.Unit, Files: files(svc)}
		if of.Last, err = s.lastRun(ctx, h.ID, svc.Name); err != nil {
			return nil, err
		}
		all = append(all, of)
	}
	return all, nil
}

// ServiceParts gives a version of a definition in its parts; version 0 is the newest.
func (s *Store) ServiceParts(ctx context.Context, name string, version int) (view.ServiceParts, error) {
	v, err := s.serviceVersion(ctx, name, version)
	if err != nil {
		return view.ServiceParts{}, err
	}
	svc, err := definition.Stored(v.Name, v.Names, []byte(v.Source))
	if err != nil {
		return view.ServiceParts{}, err
	}
	out := view.ServiceParts{Service: v, Where: svc.Where, Unit: svc.Unit, Files: files(svc), Trial: svc.Trial.Command, Settings: []view.ServiceSetting{}, Acts: []view.ServiceAct{},
		Probes: probes(svc.Probes), InForce: probes(svc.InForce), Rules: []view.ServiceRule{}, Pool: svc.Pool, Keep: svc.Keep, Settle: time.Duration(svc.Settle).String()}
	if v.InForce != 0 && v.InForce != v.Version {
		old, err := s.serviceVersion(ctx, name, v.InForce)
		if err != nil {
			return out, err
		}
		out.Difference = render.Unified(fmt.Sprintf("%s, version %d to %d", name, v.InForce, v.Version), []byte(old.Source), []byte(v.Source))
	}
	for _, t := range svc.Settings {
		out.Settings = append(out.Settings, view.ServiceSetting{Address: t.Address, File: t.File, Type: t.Type, Range: t.Range, Choices: t.Choices, Measure: t.Measure, Default: t.Default,
			Explanation: t.Explanation, Source: t.Source, Act: t.Act, Secret: t.Secret, Since: t.Since, Until: t.Until})
	}
	for _, a := range svc.Acts {
		out.Acts = append(out.Acts, view.ServiceAct{Name: a.Name, Commands: append([][]string{}, a.Commands...), Serves: a.Serves, Reboots: a.Reboots})
	}
	for _, r := range svc.Rules {
		out.Rules = append(out.Rules, view.ServiceRule{Holds: r.Holds, Weight: string(r.Weight), Say: r.Say})
	}
	return out, nil
}

func probes(of []probe.Probe) []view.ServiceProbe {
	all := []view.ServiceProbe{}
	for _, p := range of {
		all = append(all, view.ServiceProbe{Name: p.Name, Ask: p.Ask, Expect: p.Expect, Before: p.Before, After: p.After})
	}
	return all
}

func files(svc *definition.Service) []view.ServiceFile {
	all := []view.ServiceFile{}
	for _, key := range slices.Sorted(maps.Keys(svc.Files)) {
		f := svc.Files[key]
		all = append(all, view.ServiceFile{Key: key, Format: string(f.Format), Paths: f.Paths})
	}
	return all
}

// lastRun gives what a climb last did with a service on a host; nil where none touched it.
func (s *Store) lastRun(ctx context.Context, hostID int64, service string) (*view.LastRun, error) {
	all, err := many[view.LastRun](ctx, s.views, `select g.id as change, g.title, r.state, r.why, r.updated_at as at from host_runs r join climbs c on c.id = r.climb join changes g on g.id = c.change
		where r.host_id = $1 and $2 = any(g.services) and r.state not in ('queued', 'passed-over') order by r.id desc limit 1`, hostID, service)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	all[0].At = all[0].At.UTC()
	return &all[0], nil
}

// serviceVersion gives a version of a definition by its number; 0 is the newest.
func (s *Store) serviceVersion(ctx context.Context, name string, version int) (view.Service, error) {
	return one[view.Service](ctx, s.views, "such version of service "+name, serviceColumns+`where name = $1 and $2 in (0, version) order by version desc limit 1`, name, version)
}
