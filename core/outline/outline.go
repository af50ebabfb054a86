// Package outline says what a plan comes to, for those who judge it: what is edited, in
// which order, how fast, what is asked before and after, and what is out at most.
//
//	o := outline.Of(spec, head, leaves, pools)
//
// It is read off the very head and leaves that people approve; the change as written gives
// the sentences alone.
package outline

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
)

// Outline is a plan as a reviewer reads it.
type Outline struct {
	Edits  []Edit  `json:"edits"`
	Values []Value `json:"values,omitempty"`
	// Stages are from the bottom up, only those that have hosts.
	Stages     []Stage     `json:"stages"`
	AtOnce     int         `json:"at_once"`
	Soak       ladder.Span `json:"soak"`
	PauseAfter int         `json:"pause_after"`           // failed hosts in a stage
	PauseShare int         `json:"pause_share,omitempty"` // or so many percent of them
	PoolAtOnce int         `json:"pool_at_once,omitempty"`
	Apart      string      `json:"apart,omitempty"`  // a label: hosts with one value are never out together
	Budget     ladder.Span `json:"budget,omitempty"` // from a host's start to its soak
	Guard      ladder.Span `json:"guard"`
	For        ladder.Span `json:"for,omitempty"` // how long it lasts on each host; 0: for good
	Parts      []Part      `json:"parts"`         // in the order in which they are acted on
	Probes     []Probe     `json:"probes"`
	MayFail    Hosts       `json:"may_fail"`
	LocksOut   []string    `json:"locks_out,omitempty"`
	Pools      []Pool      `json:"pools"` // of very many, those that come closest to being out as a whole
	MorePools  int         `json:"more_pools,omitempty"`
	// Least is the shortest time that the climb can take, gates apart.
	Least ladder.Span `json:"least"`
	// Pace says in sentences how fast it goes, what stops it, and what may go wrong.
	Pace []string `json:"pace"`
}

// Edit is one edit in words.
type Edit struct {
	Service string `json:"service,omitempty"` // of a change that concerns several
	Words   string `json:"words"`
	Where   string `json:"where,omitempty"` // on which of the hosts; all where empty
}

// Value is a named value, which edits and probes hold.
type Value struct {
	Name  string `json:"name"`
	Words string `json:"words"`
}

// named is how many hosts are named of many.
const named = 12

// Hosts are some hosts, the first of them by name.
type Hosts struct {
	Count int      `json:"count"`
	First []string `json:"first"`
}

func (h *Hosts) add(name string) {
	if h.Count++; len(h.First) < named {
		h.First = append(h.First, name)
	}
}

// Stage is a rung of the ladder.
type Stage struct {
	Stage int         `json:"stage"` // from 0
	Takes string      `json:"takes"` // as the ladder is written
	Gate  bool        `json:"gate,omitempty"`
	Hosts Hosts       `json:"hosts"`
	Least ladder.Span `json:"least"`
	// AtOnce is in place of the ladder's; 0 where the stage has none of its own.
	AtOnce int            `json:"at_once,omitempty"`
	Checks []ladder.Check `json:"checks,omitempty"` // what a person looks at before its gate opens
}

// Part is one service.
type Part struct {
	Service   string      `json:"service"`
	Unit      string      `json:"unit"`
	Instances int         `json:"instances"` // on all hosts together
	Hosts     int         `json:"hosts"`
	Acts      []Act       `json:"acts"`              // the commonest first
	Checker   string      `json:"checker,omitempty"` // of the trial
	Settle    ladder.Span `json:"settle"`
	Guarded   bool        `json:"guarded,omitempty"` // it carries our own way in
	Drain     string      `json:"drain,omitempty"`   // how it gets out of the way, and comes back
	Words     string      `json:"words"`             // what takes its files up, on how many hosts
}

// Act is what takes the files up, on some hosts.
type Act struct {
	Name     string   `json:"name"`
	Commands []string `json:"commands"`
	Reboots  bool     `json:"reboots,omitempty"` // it is a boot of the host
	Hosts    int      `json:"hosts"`
}

// Probe is a question, with what is expected. An empty expectation lets anything do.
type Probe struct {
	Service string `json:"service,omitempty"`
	Name    string `json:"name"`
	Ask     string `json:"ask"`
	Before  string `json:"before"`
	After   string `json:"after"`
	Often   string `json:"often,omitempty"` // where it is asked more than once, or held
	// Proves tells that it is to show the new values at work.
	Proves bool `json:"proves,omitempty"`
	Hosts  int  `json:"hosts"` // on which it is asked
}

// Pool is hosts that do the same work, one for another; those of a service that names no
// pools are one, without a name.
type Pool struct {
	Service string `json:"service"`
	Name    string `json:"name"`
	Hosts   int    `json:"hosts"` // in the pool
	Changed int    `json:"changed"`
	Most    int    `json:"most"` // that are under way at once
	Keep    int    `json:"keep"` // its definition wants so many to be there
	Words   string `json:"words"`
}

// Pools says how many hosts of each pool there are, and which pool a host of the plan is in.
type Pools struct {
	Keep map[string]int            // by service
	Size map[string]map[string]int // by service and pool
	Of   func(service string, leaf int) string
}

// Of gives the outline of a plan, whose leaves stand in the order of their names.
func Of(spec *change.Spec, head plan.Head, leaves []plan.Leaf, pools Pools) *Outline {
	o := &Outline{
		Edits: edits(spec), Values: values(spec), Stages: []Stage{}, AtOnce: head.Policy.AtOnce, Soak: head.Policy.Soak, PauseAfter: head.Policy.PauseAfter, PauseShare: head.Policy.PauseShare,
		PoolAtOnce: head.Policy.PoolAtOnce, Apart: head.Policy.Apart, Budget: head.Policy.Budget,
		Parts: []Part{}, Probes: []Probe{}, MayFail: Hosts{First: []string{}}, LocksOut: head.LocksOut, Pools: []Pool{}, For: head.For,
	}
	for _, p := range head.Parts {
		o.Guard = p.Guard
	}
	o.parts(head, leaves)
	o.probes(head, leaves)
	o.stages(head, leaves)
	o.pools(head, leaves, pools)
	for _, l := range leaves {
		if l.MayFail {
			o.MayFail.add(l.Host)
		}
	}
	o.Pace = o.pace()
	return o
}

// Prolonging gives the outline of a plan that has hosts of a temporary change go back later
// than they would, which is from first to last.
func Prolonging(head plan.Head, leaves []plan.Leaf, first, last time.Time) *Outline {
	all := Hosts{First: []string{}}
	for _, l := range leaves {
		all.add(l.Host)
	}
	const moment = "2006-01-02 15:04 UTC"
	when := "at " + first.UTC().Format(moment)
	if until := last.UTC().Format(moment); until != first.UTC().Format(moment) {
		when = "from " + first.UTC().Format(moment) + " to " + until
	}
	return &Outline{Edits: []Edit{}, Stages: []Stage{{Takes: "all", Hosts: all}}, AtOnce: head.Policy.AtOnce, Soak: head.Policy.Soak, PauseAfter: head.Policy.PauseAfter, For: head.For,
		Parts: []Part{}, Probes: []Probe{}, MayFail: Hosts{First: []string{}}, Pools: []Pool{},
		Pace: []string{fmt.Sprintf("nothing is changed on hosts now: %s of change %d, which would go back %s, go back %s after this starts, as that change has it", counted(len(leaves), "host"), head.Prolongs, when, span(head.For))}}
}

func edits(spec *change.Spec) (all []Edit) {
	several, edited := len(spec.Services) > 1, map[string]bool{}
	for _, e := range spec.Edits {
		one := Edit{Words: e.Words(), Where: e.Where}
		if several {
			one.Service = e.Service
		}
		edited[e.Service] = true
		all = append(all, one)
	}
	for _, service := range spec.Services {
		if words := spec.Brought(); words != "" && !edited[service] {
			all = append(all, Edit{service, words, ""})
		}
	}
	return all
}

func values(spec *change.Spec) (all []Value) {
	for _, name := range slices.Sorted(maps.Keys(spec.Values)) {
		all = append(all, Value{name, spec.Values[name].Words()})
	}
	return all
}

func (o *Outline) parts(head plan.Head, leaves []plan.Leaf) {
	for i, p := range head.Parts {
		part := Part{Service: p.Service, Unit: p.Unit, Acts: []Act{}, Checker: strings.Join(p.Trial.Command, " "), Settle: p.Settle, Guarded: p.Guarded}
		acts := map[string]*Act{}
		for _, l := range leaves {
			before := part.Instances
			seen := map[string]bool{} // one act counts once per host, however many instances
			for _, of := range l.Parts {
				if of.Part != i {
					continue
				}
				part.Instances++
				a := acts[of.Act.Name]
				if a == nil {
					a = &Act{Name: of.Act.Name, Commands: []string{}, Reboots: of.Act.Reboots}
					for _, words := range of.Act.Commands {
						a.Commands = append(a.Commands, strings.Join(words, " "))
					}
					acts[of.Act.Name] = a
				}
				if p.Drain != nil && of.Act.Interrupts() {
					part.Drain = drained(p)
				}
				if !seen[a.Name] {
					seen[a.Name] = true
					a.Hosts++
				}
			}
			if part.Instances > before {
				part.Hosts++
			}
		}
		for _, name := range slices.Sorted(maps.Keys(acts)) {
			part.Acts = append(part.Acts, *acts[name])
		}
		slices.SortStableFunc(part.Acts, func(a, b Act) int { return b.Hosts - a.Hosts })
		part.Words = part.acted()
		o.Parts = append(o.Parts, part)
	}
}

// probes lists the change's own first, then what proves values, then those that services
// ask of every change.
func (o *Outline) probes(head plan.Head, leaves []plan.Leaf) {
	several := len(head.Parts) > 1
	add := func(service string, p probe.Probe, proves bool, hosts int) {
		before := p.Expectation(probe.Earlier)
		if proves { // asked once the act is over
			before = ""
		}
		one := Probe{Name: p.Name, Ask: p.Ask, Before: before, After: p.Expectation(probe.Later), Often: often(p), Proves: proves, Hosts: hosts}
		if several {
			one.Service = service
		}
		o.Probes = append(o.Probes, one)
	}
	for _, p := range head.Probes {
		add(p.Service, p, false, len(leaves))
	}
	for i, part := range head.Parts {
		hosts := o.Parts[i].Hosts
		for _, p := range part.InForce {
			add(part.Service, p, true, hosts)
		}
		checks, counts, order := map[string]probe.Probe{}, map[string]int{}, []string{}
		for _, l := range leaves {
			seen := map[string]bool{}
			for _, of := range l.Parts {
				for _, p := range of.InForce {
					if of.Part != i || seen[p.Name] {
						continue
					}
					seen[p.Name] = true
					if counts[p.Name]++; counts[p.Name] == 1 {
						checks[p.Name], order = p, append(order, p.Name)
					}
				}
			}
		}
		for _, name := range order {
			add(part.Service, checks[name], true, counts[name])
		}
		for _, p := range part.Probes {
			add(part.Service, p, false, hosts)
		}
	}
}

// often says how often a probe is asked, where that is not once.
func often(p probe.Probe) string {
	var all []string
	if p.Tries > 1 {
		text := fmt.Sprintf("%d tries", p.Tries)
		if p.Share > 0 && p.Share < 100 {
			text += fmt.Sprintf(", %d %% of them well", p.Share)
		}
		all = append(all, text)
	}
	if p.Hold > 0 {
		all = append(all, fmt.Sprintf("held for %d s", p.Hold))
	}
	return strings.Join(all, ", ")
}

// stages lays the hosts on their rungs, and reckons the least time: each host settles and
// soaks, at_once of them together, and no stage begins before the one below is through.
// Neither can a stage be through before its longest host, nor sooner than if all were as
// short as its shortest.
func (o *Outline) stages(head plan.Head, leaves []plan.Leaf) {
	rungs := make([]Stage, len(head.Policy.Stages))
	for i, s := range head.Policy.Stages {
		rungs[i] = Stage{Stage: i, Takes: s.String(), Gate: s.Gate, Hosts: Hosts{First: []string{}}, AtOnce: s.AtOnce, Checks: s.Checks}
	}
	longest, shortest := make([]ladder.Span, len(rungs)), make([]ladder.Span, len(rungs)) // that a host of the stage takes
	for _, l := range leaves {
		rungs[l.Stage].Hosts.add(l.Host)
		took := head.Policy.Soak
		for _, of := range l.Parts {
			took += head.Parts[of.Part].Settle
		}
		longest[l.Stage] = max(longest[l.Stage], took)
		if n := rungs[l.Stage].Hosts.Count; n == 1 || took < shortest[l.Stage] {
			shortest[l.Stage] = took
		}
	}
	for i, r := range rungs {
		if r.Hosts.Count == 0 {
			continue
		}
		most := head.Policy.AtOnceIn(i)
		waves := (r.Hosts.Count + most - 1) / most
		r.Least = max(longest[i], ladder.Span(waves)*shortest[i])
		o.Least += r.Least
		o.Stages = append(o.Stages, r)
	}
}

// mostPools is how many pools an outline holds: a person reads no more.
const mostPools = 50

// pools counts how many hosts of each are under way at once, at most: those of one stage,
// no more than the ladder lets be, and as many as leave those well that are kept.
func (o *Outline) pools(head plan.Head, leaves []plan.Leaf, pools Pools) {
	for i, p := range head.Parts {
		going, staged := map[string]int{}, map[string]map[int]int{}
		for n, l := range leaves {
			if !slices.ContainsFunc(l.Parts, func(of plan.LeafPart) bool { return of.Part == i }) {
				continue
			}
			name := ""
			if pools.Of != nil {
				name = pools.Of(p.Service, n)
			}
			if going[name]++; staged[name] == nil {
				staged[name] = map[int]int{}
			}
			staged[name][l.Stage]++
		}
		for _, name := range slices.Sorted(maps.Keys(going)) {
			most := 0
			pool := Pool{Service: p.Service, Name: name, Hosts: max(pools.Size[p.Service][name], going[name]), Changed: going[name], Keep: pools.Keep[p.Service]}
			for at, n := range staged[name] {
				most = max(most, min(n, head.Policy.AtOnceIn(at)))
			}
			if bound := head.Policy.PoolAtOnce; bound > 0 {
				most = min(most, bound)
			}
			if pool.Most = most; pool.Keep > 0 {
				pool.Most = min(most, max(0, pool.Hosts-pool.Keep))
			}
			pool.Words = pool.out()
			o.Pools = append(o.Pools, pool)
		}
	}
	if o.MorePools = max(0, len(o.Pools)-mostPools); o.MorePools > 0 {
		slices.SortStableFunc(o.Pools, func(a, b Pool) int { return (a.Hosts - a.Most - a.Keep) - (b.Hosts - b.Most - b.Keep) })
		o.Pools = o.Pools[:mostPools]
	}
}
