package engine

import (
	"context"
	"fmt"
	"maps"
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
	"wladder/store"
)

const (
	// controls is how many hosts that nobody changed are asked before a host is put back: such as were
	// well before, since one that was ill all the while tells nothing.
	controls = 3
	// controlTries is how many are asked beforehand to find those.
	controlTries = 3 * controls
	// controlFor bounds how long one of them may take to answer.
	controlFor = 15 * time.Second
	// observedFor is for how long a climb goes on with those that were found beforehand, though some of
	// them may have had their turn.
	observedFor = time.Minute
	// controlWait bounds how long one of them may take beforehand, and a host run waits for that.
	controlWait = 5 * time.Second
	// aConnection stands among names of probes for one that comes about at all.
	aConnection = "a connection"
	// lateBy is by how much this process may be late before its probes count for nothing.
	lateBy = time.Second
)

// observation is of control hosts, beforehand.
type observation struct {
	at       time.Time
	answered chan struct{} // closed once they have, or had the time to
}

// within waits for it.
func (o observation) within(ctx context.Context, d time.Duration) {
	bounded, cancel := context.WithTimeout(ctx, d)
	defer cancel()
	select {
	case <-o.answered:
	case <-bounded.Done():
	}
}

// observe has hosts that nobody changed asked how they are, where that was not done lately for the
// climb, and does not wait. Those that are well are noted for all servers.
func (r *hostRun) observe() observation {
	r.mu.Lock()
	defer r.mu.Unlock()
	if last, ok := r.observed[r.Climb]; ok && time.Since(last.at) < observedFor {
		return last
	}
	maps.DeleteFunc(r.observed, func(_ int64, o observation) bool { return time.Since(o.at) >= observedFor })
	now := observation{time.Now(), make(chan struct{})}
	r.observed[r.Climb] = now
	// It is the climb's: the run that happens to begin it may end meanwhile.
	beside := &hostRun{Engine: r.Engine, Claimed: r.Claimed, head: r.head, stopping: r.stopping}
	r.working.Go(func() {
		defer close(now.answered)
		ctx, cancel := context.WithTimeout(r.stopping, controlFor)
		defer cancel()
		if err := beside.noteControls(ctx); err != nil && ctx.Err() == nil {
			r.Log.Warn("control hosts are not known", "change", r.Change, "error", err)
		}
	})
	return now
}

// noteControls finds hosts that nobody changed and that are well.
func (r *hostRun) noteControls(ctx context.Context) error {
	hosts, err := r.unchanged(ctx)
	if err != nil {
		return err
	}
	var found []store.Control
	whole := 0 // of them, well by all that was asked
	for some := range slices.Chunk(hosts, controls) {
		answers := make([]condition, len(some))
		bounded, cancel := context.WithTimeout(ctx, controlWait)
		atOnce(len(some), func(i int) { answers[i] = r.ask(bounded, some[i], nil) })
		cancel()
		for i, a := range answers {
			if len(a.well) > 0 {
				found = append(found, store.Control{HostID: some[i].ID, Well: a.well})
			}
			if a.ill == "" {
				whole++
			}
		}
		if whole >= controls {
			break
		}
	}
	if len(found) == 0 {
		return nil
	}
	return r.Store.NoteControls(ctx, r.Climb, found)
}

// atOnce calls f for 0 to n-1, all at once, and waits.
func atOnce(n int, f func(int)) {
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() { f(i) })
	}
	all.Wait()
}

// doubts says why a failure tells nothing about the host: hosts that nobody changed fail
// likewise or cannot be reached, though they were well before, and the climb pauses; or this
// server is too slow to tell. It is empty where the host itself is to blame.
func (r *hostRun) doubts(ctx context.Context, res result, since time.Time) string {
	if late := r.watch.worst(since); late > lateBy {
		return fmt.Sprintf("%s; but this server was late by %.1f s itself meanwhile, so it is asked again", res.note, late.Seconds())
	}
	if len(res.ill) == 0 {
		return ""
	}
	hosts, err := r.known(ctx, res.ill)
	if err != nil {
		r.Log.Warn("control hosts are not known", "change", r.Change, "error", err)
		return ""
	}
	likewise := make([]string, len(hosts))
	atOnce(len(hosts), func(i int) {
		if a := r.ask(ctx, hosts[i].control, hosts[i].by); a.ill != "" {
			likewise[i] = fmt.Sprintf("%s (%s)", hosts[i].Name, a.ill)
		}
	})
	if len(hosts) == 0 || slices.Contains(likewise, "") {
		return ""
	}
	slices.Sort(likewise)
	why := fmt.Sprintf("%s; but hosts that nobody changed, and that were well before, fail likewise: %s. Is it the network, or something that all of them need? Nothing is put back by itself", res.note, strings.Join(likewise, ", "))
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

// knownControl is one that was well before, by some of the probes that failed elsewhere.
type knownControl struct {
	control
	by []string
}

// known gives control hosts that were well before by probes that are ill now.
func (r *hostRun) known(ctx context.Context, ill []string) (picked []knownControl, err error) {
	var noted []store.Control
	var all []view.Host
	if err := r.insist(ctx, "control hosts", r.keepGuard, func() (err error) {
		if noted, err = r.Store.Controls(ctx, r.Climb); err == nil && len(noted) > 0 {
			all, err = r.Store.Hosts(ctx)
		}
		return err
	}); err != nil {
		return nil, err
	}
	for _, c := range noted {
		by := slices.DeleteFunc(slices.Clone(ill), func(name string) bool { return !slices.Contains(c.Well, name) })
		at := slices.IndexFunc(all, func(h view.Host) bool { return h.ID == c.HostID })
		if len(picked) == controls || len(by) == 0 || at < 0 || all[at].Aside() != "" {
			continue
		}
		parts, err := r.partsOn(ctx, all[at])
		if err != nil {
			return nil, err
		}
		picked = append(picked, knownControl{control{all[at], parts}, by})
	}
	return picked, nil
}

// unchanged picks hosts that carry services of the run and that this climb has not begun with,
// nor any other is at work on: those that wait for their turn first.
func (r *hostRun) unchanged(ctx context.Context) (picked []control, err error) {
	touched, waiting, err := r.Store.Touched(ctx, r.Climb)
	if err != nil {
		return nil, err
	}
	all, err := r.Store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	waits := map[int64]bool{}
	for _, id := range waiting {
		waits[id] = true
	}
	rand.Shuffle(len(all), func(a, b int) { all[a], all[b] = all[b], all[a] })
	slices.SortStableFunc(all, func(a, b view.Host) int {
		switch {
		case waits[a.ID] == waits[b.ID]:
			return 0
		case waits[a.ID]:
			return -1
		}
		return 1
	})
	for _, h := range all {
		if len(picked) == controlTries || slices.Contains(touched, h.ID) || h.Aside() != "" {
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

// condition is how a control host is.
type condition struct {
	well []string // the probes by which it is well
	ill  string   // what is wrong with it by others; empty where nothing is
}

// ask puts probes of the run to a host that nobody changed, as before the change: those named, or
// all that can be asked there where none is.
func (r *hostRun) ask(ctx context.Context, c control, names []string) (a condition) {
	ctx, cancel := context.WithTimeout(ctx, controlFor)
	defer cancel()
	conn, err := r.Dialer.Connect(ctx, target(c.Host))
	if err != nil {
		a.ill = "cannot be reached"
		return a
	}
	defer conn.Close()
	a.well = []string{aConnection}
	own := slices.DeleteFunc(slices.Clone(r.head.Probes), func(p probe.Probe) bool { return len(p.ValueNames()) > 0 })
	probes, err := asked(c.parts, own, nil)
	if err != nil {
		return a
	}
	probes = slices.DeleteFunc(probes, func(p probe.Probe) bool {
		return names != nil && !slices.Contains(names, p.Name) || len(p.SecretNames()) > 0 || len(p.PinFiles()) > 0 || p.Compares()
	})
	if len(probes) == 0 {
		return a
	}
	q := newAsker(conn, c.Address, c.HostKey)
	q.put, q.redactor, q.of = outsideRuns(conn), &secret.Redactor{}, map[string]serving{}
	for _, part := range c.parts {
		q.of[part.Name()] = serving{commands: part.Commands}
	}
	verdicts, _, err := q.ask(ctx, probe.Earlier, probes)
	if err != nil {
		a.ill = "was lost"
		return a
	}
	for _, v := range verdicts {
		if v.Well && !v.Waits {
			a.well = append(a.well, v.Probe)
		}
	}
	a.ill = ill(verdicts)
	return a
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
