package engine

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"wladder/core/expr"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/view"
)

const (
	// controls is how many hosts that nobody changed are asked before a host is put back.
	controls = 3
	// controlFor bounds how long one of them may take to answer.
	controlFor = 15 * time.Second
	// lateBy is by how much this process may be late before its probes count for nothing.
	lateBy = time.Second
)

// doubts says why a failure tells nothing about the host: hosts that nobody changed fail
// likewise or cannot be reached, and the climb pauses; or this server is too slow to tell. It is
// empty where the host itself is to blame.
func (r *hostRun) doubts(ctx context.Context, res result, since time.Time) string {
	if late := r.watch.worst(since); late > lateBy {
		return fmt.Sprintf("%s; but this server was late by %.1f s itself meanwhile, so it is asked again", res.note, late.Seconds())
	}
	if len(res.ill) == 0 {
		return ""
	}
	hosts, err := r.unchanged(ctx)
	if err != nil {
		r.Log.Warn("control hosts are not known", "change", r.Change, "error", err)
		return ""
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	var likewise []string
	for _, c := range hosts {
		all.Go(func() {
			if why := r.likewise(ctx, c, res.ill); why != "" {
				mu.Lock()
				defer mu.Unlock()
				likewise = append(likewise, c.Name+" ("+why+")")
			}
		})
	}
	all.Wait()
	if len(hosts) == 0 || len(likewise) < len(hosts) {
		return ""
	}
	slices.Sort(likewise)
	why := fmt.Sprintf("%s; but hosts that nobody changed fail likewise: %s. Is it the network, or something that all of them need? Nothing is put back by itself", res.note, strings.Join(likewise, ", "))
	if err := r.insist(ctx, "pausing a climb", r.keepGuard, func() error { return r.Store.PauseOver(ctx, r.Climb, r.Host+": "+why) }); err != nil {
		r.Log.Error("a climb could not be paused", "change", r.Change, "error", err)
	}
	return why
}

// control is a host that nobody changed, and the run's services that it carries.
type control struct {
	view.Host
	parts []plan.Part
}

// unchanged picks hosts that carry services of the run and that this climb has not begun with,
// nor any other: those that wait for their turn first.
func (r *hostRun) unchanged(ctx context.Context) (picked []control, err error) {
	var touched, waiting []int64
	var all []view.Host
	if err := r.insist(ctx, "control hosts", r.keepGuard, func() (err error) {
		if touched, waiting, err = r.Store.Touched(ctx, r.Climb); err == nil {
			all, err = r.Store.Hosts(ctx)
		}
		return err
	}); err != nil {
		return nil, err
	}
	rand.Shuffle(len(all), func(a, b int) { all[a], all[b] = all[b], all[a] })
	slices.SortStableFunc(all, func(a, b view.Host) int {
		return cmp.Compare(slices.Index(waiting, b.ID), slices.Index(waiting, a.ID))
	})
	for _, h := range all {
		if len(picked) == controls || slices.Contains(touched, h.ID) || h.Aside() != "" {
			continue
		}
		parts, err := r.partsOn(ctx, h)
		if err != nil {
			return nil, err
		}
		if len(parts) > 0 {
			picked = append(picked, control{h, parts})
		}
	}
	return picked, nil
}

// partsOn gives the run's services that another host carries, as they are for its instances.
func (r *hostRun) partsOn(ctx context.Context, h view.Host) (all []plan.Part, err error) {
	for _, part := range r.head.Parts {
		svc, err := r.service(ctx, part.Service, part.ServiceDigest)
		if err != nil {
			return nil, err
		}
		if carries, err := expr.Holds(svc.Where, expr.HostVars, h.Expr().Vars()); err != nil || !carries {
			continue
		}
		for _, instance := range svc.On(h.Expr()) {
			one, err := part.Of(instance)
			if err != nil {
				return nil, err
			}
			all = append(all, one)
		}
	}
	return all, nil
}

// likewise says how a host that nobody changed fails in the probes that are named; empty where it
// does not. It is asked as before the change.
func (r *hostRun) likewise(ctx context.Context, c control, ill []string) string {
	ctx, cancel := context.WithTimeout(ctx, controlFor)
	defer cancel()
	conn, err := r.Dialer.Connect(ctx, target(c.Host))
	if err != nil {
		return "cannot be reached"
	}
	defer conn.Close()
	own := slices.DeleteFunc(slices.Clone(r.head.Probes), func(p probe.Probe) bool { return len(p.ValueNames()) > 0 })
	probes, err := asked(c.parts, own, nil)
	if err != nil {
		return ""
	}
	probes = slices.DeleteFunc(probes, func(p probe.Probe) bool {
		return !slices.Contains(ill, p.Name) || len(p.SecretNames()) > 0 || len(p.PinFiles()) > 0 || p.Compares()
	})
	if len(probes) == 0 {
		return ""
	}
	a := newAsker(conn, c.Address, c.HostKey)
	a.put, a.redactor, a.of = outsideRuns(conn), &secret.Redactor{}, map[string]serving{}
	for _, part := range c.parts {
		a.of[part.Name()] = serving{commands: part.Commands}
	}
	verdicts, _, err := a.ask(ctx, probe.Earlier, probes)
	if err != nil {
		return "was lost"
	}
	return worse(verdicts, nil)
}

// punctual watches how late this process is: where it gets no time, what it sees of hosts is not
// theirs.
type punctual struct {
	mu   sync.Mutex
	late []lateness
}

type lateness struct {
	at time.Time
	by time.Duration
}

// tickEvery is how often it is looked at, and lateKept for how long it is known.
const (
	tickEvery = 100 * time.Millisecond
	lateKept  = 5 * time.Minute
)

func (p *punctual) run(ctx context.Context) {
	tick := time.NewTicker(tickEvery)
	defer tick.Stop()
	last := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now := time.Now()
		p.note(now, now.Sub(last)-tickEvery)
		last = now
	}
}

func (p *punctual) note(now time.Time, by time.Duration) {
	if by < lateBy/4 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.late = append(slices.DeleteFunc(p.late, func(l lateness) bool { return now.Sub(l.at) > lateKept }), lateness{now, by})
}

// worst gives by how much the process was late at most since a moment.
func (p *punctual) worst(since time.Time) (by time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.late {
		if l.at.After(since) {
			by = max(by, l.by)
		}
	}
	return by
}

// doubtful are the steps whose failure may say nothing about the host.
func doubtful(s ladder.Step) bool {
	return s == ladder.Settle || s == ladder.Probe || s == ladder.Reconnect || s == ladder.Soak
}
