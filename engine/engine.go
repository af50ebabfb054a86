// Package engine rehearses and climbs: the core decides, the host package
// acts, the store remembers.
//
//	e := engine.New(engine.Config{Store: st, Dialer: engine.Over(dialer)})
//	go e.Run(ctx)
//	err := e.Rehearse(ctx, "ines", changeID)
package engine

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wladder/core/cache"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// Config says what an engine works with; the zero of the rest is replaced.
type Config struct {
	Store   Store
	Dialer  Dialer
	Log     *slog.Logger
	Lease   time.Duration // after which another server may take a host run over; 15s
	TryFor  time.Duration // how long a host that cannot be worked on is tried before it is passed over; 20s
	LookFor time.Duration // how long an unreachable host is looked for before it is stranded; 10m
	AtOnce  int           // hosts rehearsed in parallel; 16
	Most    int           // host runs that this server works on at once; 500
	// HostKeys are those of the machine that this server runs on, as in authorized_keys: where that
	// is a host itself, it goes alone and last.
	HostKeys []string
	// Observe is told of each step that ended; nil tells nobody.
	Observe func(step ladder.Step, outcome ladder.Outcome, took time.Duration)
}

// Engine carries changes out.
type Engine struct {
	Config
	me       store.Server // this process, to the leases
	limits   ladder.Limits
	services *cache.Cache[string, *definition.Service] // by digest
	copies   *cache.Cache[string, copies]              // of hosts' files, for who writes changes

	mu         sync.Mutex
	listeners  map[chan view.Event]int64 // by the change they follow; 0 follows all
	runs       ledger
	rehearsals ledger
	pools      *poolWatch
	watch      *punctual
	observed   map[int64]observation // of control hosts, by the climb
	steered    store.Steered
	steering   chan struct{} // closed when what people want of runs has changed
	ordered    atomic.Bool   // somebody may want something of them
	present    atomic.Bool   // others know that this server is there
	lapsing    atomic.Bool   // leases of others may have lapsed since runs were taken over last
	looked     atomic.Int64  // when it took up work last, in nanoseconds
	hints      []view.Event
	wake       chan struct{}
	reading    chan struct{} // a place for each host that is read outside of runs
	working    sync.WaitGroup
	troubles   map[string]bool // that were told of, and have not passed

	mishap func(host string, step ladder.Step) // of tests: panics where our own code should
}

// New makes an engine; it does nothing before Run.
func New(c Config) *Engine {
	c.Lease = cmp.Or(c.Lease, 15*time.Second)
	c.TryFor = cmp.Or(c.TryFor, 20*time.Second)
	c.LookFor = cmp.Or(c.LookFor, 10*time.Minute)
	c.AtOnce = cmp.Or(c.AtOnce, 16)
	c.Most = cmp.Or(c.Most, 500)
	if c.Observe == nil {
		c.Observe = func(ladder.Step, ladder.Outcome, time.Duration) {}
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	pools := newPoolWatch()
	return &Engine{
		Config: c, me: store.Server{Name: rand.Text(), Scripts: host.Carried(), Lease: c.Lease, Pools: pools, HostKeys: c.HostKeys}, pools: pools, watch: &punctual{}, limits: ladder.Limits{TryFor: c.TryFor, LookFor: c.LookFor},
		listeners: map[chan view.Event]int64{}, runs: ledger{}, rehearsals: ledger{}, observed: map[int64]observation{}, services: cache.New[string, *definition.Service](maxServices), copies: cache.New[string, copies](copiesMost), wake: make(chan struct{}, 1), steering: make(chan struct{}), reading: make(chan struct{}, c.AtOnce), troubles: map[string]bool{},
	}
}

// Run works until the context ends. What is under way then is left in order,
// within the time of a lease; who comes next goes on with it.
func (e *Engine) Run(ctx context.Context) {
	hurry, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	// Leases are renewed until the last goroutine has let go.
	renewing, stopped := context.WithCancel(context.WithoutCancel(ctx))
	var beside sync.WaitGroup
	beside.Go(func() { e.renew(renewing) })
	beside.Go(func() { e.tellOthers(renewing) })
	beside.Go(func() { e.watch.run(renewing) })
	beside.Go(func() { e.listen(ctx) })
	beside.Go(func() { e.tellPresence(renewing) })
	tick := time.NewTicker(e.Lease / 5)
	defer tick.Stop()
	e.lapsing.Store(true)
	for ctx.Err() == nil {
		began := time.Now()
		e.claim(ctx, hurry)
		// Deciding takes longer the more hosts there are; what ends meanwhile is decided together.
		wait(ctx, min(4*time.Since(began), restAtMost, e.Lease/5))
		select {
		case <-ctx.Done():
		case <-tick.C:
			e.lapsing.Store(true)
			e.steer(ctx)
		case <-e.wake:
			if e.ordered.Swap(false) {
				e.steer(ctx)
			}
		}
	}
	ended := make(chan struct{})
	go func() { e.working.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(e.Lease):
		cancel() // what is cut now is looked at by whoever comes next
		<-ended
	}
	stopped()
	beside.Wait()
	e.pools.shut()
}

// restAtMost bounds how long a server that has decided waits before it decides again.
const restAtMost = 500 * time.Millisecond

// claim has the ladders decide, and takes up what this server can work on.
func (e *Engine) claim(ctx, hurry context.Context) {
	runs, rehearsals := slices.Collect(maps.Keys(e.fences(e.runs))), slices.Collect(maps.Keys(e.fences(e.rehearsals)))
	free := e.Most - len(runs)
	started, err := e.Store.Advance(ctx, e.me, free)
	for _, a := range e.pools.next() {
		e.working.Go(func() { e.askPool(ctx, a) })
	}
	var lapsed []*store.Claimed
	var claimed []*store.Rehearsing
	if !store.Transient(err) && e.lapsing.Swap(false) {
		var more error
		lapsed, more = e.Store.ClaimRuns(ctx, e.me, max(0, free-len(started)), runs)
		err = errors.Join(err, more)
	}
	for _, c := range append(started, lapsed...) {
		e.carry(hurry, e.runs, c.ID, c.Fence, "a host run", func(mine context.Context) { e.hostRun(ctx, mine, c) })
	}
	if !store.Transient(err) {
		var more error
		claimed, more = e.Store.ClaimRehearsals(ctx, e.me, 4, rehearsals)
		err = errors.Join(err, more)
	}
	for _, c := range claimed {
		e.carry(hurry, e.rehearsals, c.ID, c.Fence, "a rehearsal", func(mine context.Context) { e.carryOut(ctx, mine, c) })
	}
	if err == nil {
		e.looked.Store(time.Now().UnixNano())
	}
	e.troubled(ctx, "taking up what is under way", err)
}

// Ready tells why this server takes up no work; nil where it does.
func (e *Engine) Ready() error {
	if since := time.Since(time.Unix(0, e.looked.Load())); since > e.Lease {
		return fmt.Errorf("this server has taken up no work for %s", min(since, 24*time.Hour).Round(time.Second))
	}
	if !e.present.Load() {
		return errors.New("the connection is broken by which other servers know that this one is there")
	}
	return nil
}

// Load gives how many host runs this server works on, and by how much it was late lately.
func (e *Engine) Load() (held int, late time.Duration) {
	return len(e.fences(e.runs)), e.watch.worst(time.Now().Add(-lateKept))
}

// maxServices bounds how many definitions are kept read.
const maxServices = 64

// service gives a definition under its digest.
func (e *Engine) service(ctx context.Context, name, digest string) (*definition.Service, error) {
	if svc, ok := e.services.Get(digest); ok {
		return svc, nil
	}
	var version view.Service
	if err := e.insist(ctx, "a definition", nil, func() (err error) { version, err = e.Store.ServiceOf(ctx, name, digest); return err }); err != nil {
		return nil, err
	}
	svc, err := definition.Stored(version.Name, version.Names, []byte(version.Source))
	if err == nil {
		e.services.Put(digest, svc)
	}
	return svc, err
}

// nudge has Run look at once.
func (e *Engine) nudge() {
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

func (e *Engine) listen(ctx context.Context) {
	for ctx.Err() == nil {
		err := e.Store.Listen(ctx, e.me.Name, func() { e.troubled(ctx, "the connection for events", nil); e.nudge() }, func(ev view.Event) {
			if ev.Type == "record" {
				e.ordered.Store(e.ordered.Load() || steers(ev))
				e.nudge()
			}
			e.tell(ev)
		})
		if e.troubled(ctx, "the connection for events", err); ctx.Err() == nil {
			wait(ctx, time.Second)
		}
	}
}

// tellPresence tells other servers that this one is there. Where one is gone, its runs are taken up as
// soon as their shortened leases lapse.
func (e *Engine) tellPresence(ctx context.Context) {
	for ctx.Err() == nil {
		err := e.Store.Present(ctx, e.me, func() {
			e.present.Store(true)
			e.troubled(ctx, "the connection that tells others of this server", nil)
			e.renewAll(ctx) // another may have shortened our leases meanwhile
		}, func() {
			time.AfterFunc(e.me.Shortened()+50*time.Millisecond, func() { e.lapsing.Store(true); e.nudge() })
		})
		e.present.Store(false)
		if e.troubled(ctx, "the connection that tells others of this server", err); ctx.Err() == nil {
			wait(ctx, e.Lease/60)
		}
	}
}

// Subscribe gives events of one change (0: all) until stop is called.
func (e *Engine) Subscribe(changeID int64) (events <-chan view.Event, stop func()) {
	c := make(chan view.Event, 256)
	e.mu.Lock()
	defer e.mu.Unlock()
	e.listeners[c] = changeID
	return c, func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		delete(e.listeners, c)
	}
}

func target(h view.Host) host.Target {
	t := host.Target{Name: h.Name, Address: h.Address, User: h.Login, HostKey: h.HostKey, Sudo: h.Sudo, Labels: h.Labels}
	for _, hop := range h.Hops {
		t.Via = append(t.Via, target(hop))
	}
	return t
}

// errAside tells that a host is set aside: it is not asked.
type errAside string

func (e errAside) Error() string { return string(e) }

// Aside tells whether an error is that a host is set aside.
func Aside(err error) bool { return errors.As(err, new(errAside)) }

// Survey asks hosts what they are, in parallel, and gives how many there are and
// the errors of those that did not answer, or are set aside.
func (e *Engine) Survey(ctx context.Context, where string) (asked int, failed map[string]error, err error) {
	hosts, err := e.match(ctx, where)
	if err != nil {
		return 0, nil, err
	}
	failed = map[string]error{}
	wants, err := e.looksFor(ctx)
	if err != nil {
		return 0, nil, err
	}
	var mu sync.Mutex
	e.each(len(hosts), func(i int) {
		if _, err := e.survey(ctx, hosts[i], wants); err != nil {
			mu.Lock()
			failed[hosts[i].Name] = err
			mu.Unlock()
		}
	})
	return len(hosts), failed, nil
}

// sweptAtOnce bounds how many hosts one call of Sweep goes to.
const sweptAtOnce = 1000

// Sweep takes away what host runs replaced longer ago than kept, on the hosts
// themselves, and tells on how many. One that does not answer is tried again at the
// next call, as is one of the rest where there are many.
func (e *Engine) Sweep(ctx context.Context, kept time.Duration) (swept int64, err error) {
	hosts, err := e.Store.ToSweep(ctx, kept, sweptAtOnce)
	if err != nil {
		return 0, err
	}
	var done atomic.Int64
	e.each(len(hosts), func(i int) {
		conn, err := e.Dialer.Connect(ctx, target(hosts[i]))
		if err == nil {
			defer conn.Close()
			err = conn.Sweep(ctx, kept)
		}
		if err == nil {
			err = e.Store.Swept(ctx, hosts[i].ID)
		}
		if err != nil {
			e.Log.Info("what old host runs kept stays for now", "host", hosts[i].Name, "error", err)
			return
		}
		done.Add(1)
	})
	return done.Load(), nil
}

// Beside asks hosts which fence they have seen, in parallel, and gives those that have seen more than
// this database has given out, or did not answer. With raise, our next fence for each of the first is
// higher.
func (e *Engine) Beside(ctx context.Context, actor, where string, raise bool) (all view.HostsBeside, err error) {
	hosts, err := e.match(ctx, where)
	if err != nil {
		return all, err
	}
	fences, err := e.Store.Fences(ctx)
	if err != nil {
		return all, err
	}
	all = view.HostsBeside{Asked: len(hosts), Newer: []view.NewerHost{}, Missed: []view.MissedHost{}}
	var mu sync.Mutex
	e.each(len(hosts), func(i int) {
		name := hosts[i].Name
		var seen int64
		err := error(errAside(hosts[i].Aside()))
		if hosts[i].Aside() == "" {
			seen, err = e.fence(ctx, hosts[i])
		}
		if raise && err == nil && seen > fences[name] {
			err = e.Store.RaiseFence(ctx, actor, name, seen)
		}
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			all.Missed = append(all.Missed, view.MissedHost{Host: name, Why: err.Error()})
		} else if seen > fences[name] {
			all.Newer = append(all.Newer, view.NewerHost{Host: name, Ours: fences[name], Seen: seen, Raised: raise})
		}
	})
	slices.SortFunc(all.Newer, func(a, b view.NewerHost) int { return strings.Compare(a.Host, b.Host) })
	slices.SortFunc(all.Missed, func(a, b view.MissedHost) int { return strings.Compare(a.Host, b.Host) })
	return all, nil
}

// fence asks a host which fence it has seen.
func (e *Engine) fence(ctx context.Context, h view.Host) (int64, error) {
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	return conn.Fence(ctx)
}

// RaiseFence asks a host which fence it has seen, and has our next one for it be
// higher: for a database that was lost, or came back from an older copy.
func (e *Engine) RaiseFence(ctx context.Context, actor, name string) (seen int64, err error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return 0, err
	}
	if seen, err = e.fence(ctx, h); err != nil {
		return 0, err
	}
	return seen, e.Store.RaiseFence(ctx, actor, name, seen)
}

func (e *Engine) survey(ctx context.Context, h view.Host, wants definition.Wants) (t expr.Traits, err error) {
	if aside := h.Aside(); aside != "" {
		return t, errAside(h.Name + ": " + aside)
	}
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err == nil {
		defer conn.Close()
		if t, err = conn.Survey(ctx, wants); err == nil {
			t = wants.Kept(t, h.Traits)
		}
	}
	if err == nil {
		_, err = e.Store.Surveyed(ctx, h.ID, t)
	} else if why := host.RefusalOf(err); why != host.None && ctx.Err() == nil {
		err = errors.Join(err, e.Store.Missed(ctx, h.ID, string(why)))
	}
	return t, err
}

// looksFor is what a survey looks for on hosts: what the definitions in force name.
func (e *Engine) looksFor(ctx context.Context) (all definition.Wants, err error) {
	services, err := e.inForce(ctx)
	for _, svc := range services {
		all = all.And(svc.Surveyed())
	}
	return all, err
}

// inForce gives the definitions that serve hosts; one that cannot be read is left out.
func (e *Engine) inForce(ctx context.Context) (all []*definition.Service, err error) {
	versions, err := e.Store.ServicesInForce(ctx)
	for _, v := range versions {
		svc, err := definition.Stored(v.Name, v.Names, []byte(v.Source))
		if err != nil {
			e.Log.Warn("a definition in force cannot be read", "service", v.Name, "error", err)
			continue
		}
		all = append(all, svc)
	}
	return all, err
}

// HostKey asks a host for the key that it shows, and signs in nowhere but on the way there.
func (e *Engine) HostKey(ctx context.Context, name string) (view.HostKey, error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return view.HostKey{}, err
	}
	shown, print, err := e.Dialer.HostKey(ctx, target(h))
	return view.HostKey{Shown: shown, Fingerprint: print, Pinned: host.Fingerprint(h.HostKey)}, err
}

// PinKey pins the key that a host shows, where a person has compared its fingerprint on the
// host's console. Where another was pinned, a second admin has to agree.
func (e *Engine) PinKey(ctx context.Context, actor, name, print string) (out view.HostsLoaded, err error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return out, err
	}
	shown, is, err := e.Dialer.HostKey(ctx, target(h))
	switch {
	case err != nil:
		return out, err
	case is != print:
		return out, &store.Conflict{What: fmt.Sprintf("%s shows the host key %s, not %s: compare again, on its console", name, is, print)}
	}
	h.HostKey = shown
	return e.Store.LoadHosts(ctx, actor, []view.Host{h})
}

// match gives the hosts that an expression fits; an empty one fits all. What is wrong with the
// expression is a *store.Unfit.
func (e *Engine) match(ctx context.Context, where string) ([]view.Host, error) {
	all, err := e.Store.Hosts(ctx)
	if err != nil || where == "" {
		return all, err
	}
	fit, err := fitting(all, where)
	if err != nil {
		err = &store.Unfit{What: err.Error()}
	}
	return fit, err
}

// fitting gives those of some hosts that an expression fits.
func fitting(all []view.Host, where string) ([]view.Host, error) {
	program, err := expr.Compile(where, expr.HostVars, expr.Bool)
	if err != nil {
		return nil, err
	}
	var fit []view.Host
	for _, h := range all {
		yes, err := program.Bool(h.Expr().Vars())
		if err != nil {
			return nil, fmt.Errorf("%s: %w", h.Name, err)
		}
		if yes {
			fit = append(fit, h)
		}
	}
	return fit, nil
}

// each calls f for 0 to n-1, AtOnce at a time, whoever else reads hosts meanwhile.
func (e *Engine) each(n int, f func(int)) {
	var all sync.WaitGroup
	for i := range n {
		e.reading <- struct{}{}
		all.Go(func() {
			defer func() { <-e.reading }()
			f(i)
		})
	}
	all.Wait()
}

// ill names the probes that are not well, in words; empty where all are.
func ill(verdicts []probe.Verdict) string { return worse(verdicts, nil) }

// worse names the probes that are not well now, and were before or were not
// asked.
func worse(now, before []probe.Verdict) string {
	was := map[string]bool{}
	for _, v := range before {
		was[v.Probe] = v.Well
	}
	var all []string
	for _, v := range now {
		if well, known := was[v.Probe]; !v.Well && !v.Waits && (well || !known) {
			all = append(all, fmt.Sprintf("probe %q is not well: %s", v.Probe, v.Why))
		}
	}
	return strings.Join(all, "; ")
}
