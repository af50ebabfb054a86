package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/plan"
	"wladder/core/render"
	"wladder/host"
)

// carried is a service of the change that the host carries, and what the change comes to
// there.
type carried struct {
	*concerned        // as it is for the instance
	at         int    // among the change's
	instance   string // empty where the service has none
	render.Result
	around *around
}

// label names the service, and the instance.
func (c *carried) label() string { return definition.InstanceName(c.Name, c.instance) }

// part is what a plan says of the service, for the instance.
func (c *carried) part() plan.Part {
	part := c.concerned.part()
	part.Instance = c.instance
	return part
}

// collect surveys the host, finds which of the services and of their instances it carries,
// and reads the files of each, by their keys.
func (r *reading) collect(ctx context.Context) (files []map[string]render.Found, findings []finding.Finding, err error) {
	type place struct {
		at  int
		key string
	}
	paths := func() (places []place, paths []string) {
		for i, c := range r.services {
			for _, key := range slices.Sorted(maps.Keys(c.Service.Files)) {
				if at := c.Service.Files[key].Path(r.host.Traits.Family); at != "" {
					if c.Made(key) {
						at = host.Closed + at
					}
					places, paths = append(places, place{i, key}), append(paths, at)
				}
			}
		}
		return places, paths
	}
	// What the last survey found tells most times what to read, in the same round trip.
	was := r.host.Traits
	if r.services, _, err = r.carry(); err != nil {
		r.services = nil
	}
	_, first := paths()
	var all []render.Found
	if r.host.Traits, all, err = r.conn.Examine(ctx, r.wants, first); err != nil {
		return nil, nil, err
	}
	r.host.Traits = r.wants.Kept(r.host.Traits, was)
	if r.services, findings, err = r.carry(); err != nil {
		return nil, nil, err
	}
	places, now := paths()
	if !slices.Equal(first, now) {
		if all, err = r.conn.Collect(ctx, now); err != nil {
			return nil, nil, err
		}
	}
	files = make([]map[string]render.Found, len(r.services))
	for i := range files {
		files[i] = map[string]render.Found{}
	}
	for i, f := range all {
		files[places[i].at][places[i].key] = f
	}
	return files, findings, nil
}

// carry finds which of the services the host carries, and their instances: it takes those
// parts of the change.
func (r *reading) carry() (all []*carried, findings []finding.Finding, err error) {
	var without []string
	for i, c := range r.rehearsal.services {
		yes, err := c.carries.Bool(r.host.Expr().Vars())
		if err != nil {
			return nil, nil, err
		}
		if !yes {
			without = append(without, c.Name)
			continue
		}
		instances := c.On(r.host.Expr())
		if len(instances) == 0 {
			findings = append(findings, veto("no-instance", "%s", c.NoInstance()))
		}
		for _, instance := range instances {
			here, err := r.here(c, r.host.Expr(), instance)
			if err != nil {
				return nil, nil, err
			}
			all = append(all, &carried{concerned: here, at: i, instance: instance})
		}
	}
	switch {
	case len(all) > 0 && len(without) > 0:
		findings = append(findings, finding.Finding{Level: finding.Note, Code: "takes-a-part", Text: fmt.Sprintf("this host does not carry %s, by its definition; it takes the rest of this change", strings.Join(without, ", "))})
	case len(all) > 0 || len(findings) > 0:
	case len(r.rehearsal.services) > 1:
		findings = append(findings, veto("not-carried", "the definitions of %s say that this host carries none of them", strings.Join(without, ", ")))
	default:
		findings = append(findings, veto("not-carried", "the definition of %s says that this host does not carry it", without[0]))
	}
	return all, findings, nil
}

// here gives a service as it is for an instance on a host. Hosts that are alike share it.
func (r *rehearsal) here(c *concerned, h expr.Host, instance string) (*concerned, error) {
	if instance == "" && len(c.Packages) == 0 {
		return c, nil
	}
	key := c.Digest + " " + instance + " " + c.Version(h.Traits)
	if known, ok := r.instances.Load(key); ok {
		return known.(*concerned), nil
	}
	svc, err := c.Here(h, instance)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", definition.InstanceName(c.Name, instance), err)
	}
	here := *c
	here.Service = svc
	r.instances.Store(key, &here)
	return &here, nil
}
