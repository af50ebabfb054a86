package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/plan"
	"wladder/core/render"
	"wladder/store"
)

// maxCountered bounds the hosts of one counter-change, whose expression names each.
const maxCountered = 2000

// Counter drafts the opposite of a change: what its newest climb left on the hosts that are
// done goes back to what stood there before. It is reviewed like any other.
func (e *Engine) Counter(ctx context.Context, actor string, changeID int64, because string) (int64, error) {
	text, err := e.counter(ctx, changeID, because)
	if err != nil {
		return 0, err
	}
	spec, err := change.Parse("counter-change", text)
	if err == nil {
		err = e.Literals(ctx, spec)
	}
	if err != nil {
		return 0, noCounter(changeID, err.Error())
	}
	return e.Store.Draft(ctx, actor, 0, spec)
}

func noCounter(changeID int64, why string) error {
	return &store.Conflict{What: fmt.Sprintf("change %d cannot be taken back by a change of its own: %s", changeID, why)}
}

func (e *Engine) counter(ctx context.Context, changeID int64, because string) ([]byte, error) {
	d, err := e.Store.Change(ctx, changeID)
	if err != nil {
		return nil, err
	}
	if d.Climb == nil {
		return nil, noCounter(changeID, "no host is done with it")
	}
	switch d.State {
	case change.Climbing:
		return nil, noCounter(changeID, "it climbs still; stop it, or wait until it ends")
	case change.Countered:
		if len(d.TakenBackBy) == 0 {
			return nil, noCounter(changeID, "it was temporary, and every host is back by itself")
		}
		return nil, noCounter(changeID, fmt.Sprintf("change %d took it back already", slices.Max(d.TakenBackBy)))
	}
	spec, err := change.Stored(fmt.Sprintf("change %d", changeID), d.Names, []byte(d.Source))
	if err != nil {
		return nil, err
	}
	p, hosts, err := e.Store.DoneWith(ctx, d.Climb.ID)
	switch {
	case err != nil:
		return nil, err
	case len(hosts) == 0:
		return nil, noCounter(changeID, "no host is done with it")
	case len(hosts) > maxCountered:
		return nil, noCounter(changeID, fmt.Sprintf("%d hosts are done; a counter-change names at most %d", len(hosts), maxCountered))
	}
	groups := map[string]*render.CounterGroup{}
	var order []string
	var names, trouble []string
	for _, id := range hosts {
		leaf, err := e.Store.Leaf(ctx, p, id)
		if err != nil {
			return nil, err
		}
		names = append(names, leaf.Host)
		for _, part := range leaf.Parts {
			var edits []yaml.MapSlice
			for _, f := range slices.Backward(part.Files) {
				base, err := e.copy(ctx, f.Base)
				var candidate plan.Copy
				if err == nil {
					candidate, err = e.copy(ctx, f.Candidate)
				}
				if err != nil {
					return nil, err
				}
				some, err := render.Counter(f, base, candidate)
				if err != nil {
					trouble = append(trouble, fmt.Sprintf("%s: %s %v", leaf.Host, f.Path, err))
				}
				edits = append(edits, some...)
			}
			if len(edits) == 0 {
				continue
			}
			service := p.Head.Parts[part.Part].Service
			text, err := yaml.Marshal(edits)
			if err != nil {
				return nil, err
			}
			key := service + "\n" + part.Instance + "\n" + string(text)
			if groups[key] == nil {
				groups[key] = &render.CounterGroup{Service: service, Instance: part.Instance, Edits: edits}
				order = append(order, key)
			}
			groups[key].Hosts = append(groups[key].Hosts, leaf.Host)
		}
	}
	if trouble != nil {
		return nil, noCounter(changeID, strings.Join(trouble[:min(len(trouble), 5)], "; "))
	}
	if len(order) == 0 {
		return nil, noCounter(changeID, "no host is done with it")
	}
	slices.SortStableFunc(order, func(a, b string) int {
		return slices.Index(spec.Services, groups[a].Service) - slices.Index(spec.Services, groups[b].Service)
	})
	var all []render.CounterGroup
	for _, key := range order {
		all = append(all, *groups[key])
	}
	return render.CounterText(spec, changeID, because, names, all)
}
