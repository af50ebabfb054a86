package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

const (
	// freshFor is for how long an answer of a host of a pool counts.
	freshFor = 10 * time.Second
	// poolFor is for how long the hosts of a pool are known, whose labels may change.
	poolFor = time.Minute
	// poolAskAtOnce bounds how many hosts of pools are asked at the same time.
	poolAskAtOnce = 32
	// poolAskAhead bounds how many hosts are wanted, of all pools together that are being asked.
	// Who wants to know first is answered first, and one pool is known whole while another waits:
	// where all are asked side by side, the first answers of each are too old by the time that its
	// last ones come, and none is ever known.
	poolAskAhead = 4 * poolAskAtOnce
	// poolAskFor bounds how long one of them may take to answer.
	poolAskFor = 5 * time.Second
)

// poolWatch is what this server knows of pools. Only pools of which hosts are about to start
// are asked, and of them only as many hosts as that needs.
type poolWatch struct {
	slots  chan struct{} // who is in it asks a host
	ahead  *semaphore.Weighted
	counts chan struct{} // who is in it finds out which hosts pools have
	mu     sync.Mutex
	pools  map[string]*watchedPool
	open   map[poolHost]*openConn // between two questions
}

// poolHost is a host as one of a pool.
type poolHost struct {
	pool string
	id   int64
}

// openConn is a connection that is closed where nothing is asked for a while.
type openConn struct {
	Conn
	idle *time.Timer
}

func newPoolWatch() *poolWatch {
	return &poolWatch{slots: make(chan struct{}, poolAskAtOnce), ahead: semaphore.NewWeighted(poolAskAhead), counts: make(chan struct{}, 1), pools: map[string]*watchedPool{}, open: map[poolHost]*openConn{}}
}

// take gives a connection that is open from the last question; nil where there is none.
func (w *poolWatch) take(h poolHost) Conn {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := w.open[h]
	if delete(w.open, h); c == nil || !c.idle.Stop() {
		return nil
	}
	return c.Conn
}

// leave keeps a connection for the next question.
func (w *poolWatch) leave(h poolHost, conn Conn) {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := &openConn{Conn: conn}
	c.idle = time.AfterFunc(2*freshFor, func() {
		w.mu.Lock()
		if w.open[h] == c {
			delete(w.open, h)
		}
		w.mu.Unlock()
		conn.Close()
	})
	w.open[h] = c
}

// shut closes what is open between two questions.
func (w *poolWatch) shut() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for h, c := range w.open {
		if c.idle.Stop() {
			c.Close()
		}
		delete(w.open, h)
	}
}

type watchedPool struct {
	hosts   []view.Host
	asOf    time.Time // of the hosts
	answers map[int64]wellness
	wanted  *store.PoolAsk // what is asked for next
	asking  bool
	turn    chan struct{} // who is in it asks the pool: others that want to know find its answers
}

// wellness is whether a host was well, and when that was asked.
type wellness struct {
	well bool
	at   time.Time
}

func (w *poolWatch) of(name string) *watchedPool {
	if w.pools[name] == nil {
		w.pools[name] = &watchedPool{answers: map[int64]wellness{}, turn: make(chan struct{}, 1)}
	}
	return w.pools[name]
}

// fresh tells what a host answered lately.
func (p *watchedPool) fresh(id int64) (well, known bool) {
	a := p.answers[id]
	return a.well, time.Since(a.at) < freshFor
}

// Known is as store.Pools has it.
func (w *poolWatch) Known(name string) (hosts []int64, well map[int64]bool, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := w.of(name)
	if time.Since(p.asOf) > poolFor {
		return nil, nil, false
	}
	well = map[int64]bool{}
	for _, h := range p.hosts {
		hosts = append(hosts, h.ID)
		if is, known := p.fresh(h.ID); known {
			well[h.ID] = is
		}
	}
	return hosts, well, true
}

// Answered is as store.Pools has it.
func (w *poolWatch) Answered() (names []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for name, p := range w.pools {
		for id := range p.answers {
			if _, known := p.fresh(id); known {
				names = append(names, name)
				break
			}
		}
	}
	return names
}

// Ask is as store.Pools has it.
func (w *poolWatch) Ask(a store.PoolAsk) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.of(a.Pool).wanted = &a
}

// next gives what is to be asked now, each once at a time.
func (w *poolWatch) next() (all []store.PoolAsk) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, p := range w.pools {
		if p.wanted != nil && !p.asking {
			all = append(all, *p.wanted)
			p.wanted, p.asking = nil, true
		}
	}
	return all
}

// askPool asks hosts of a pool until as many as are wanted are known to be well, or all were
// asked but those under way.
func (e *Engine) askPool(ctx context.Context, a store.PoolAsk) {
	w := e.pools
	w.mu.Lock()
	turn := w.of(a.Pool).turn
	w.mu.Unlock()
	if !enter(ctx, turn) {
		return
	}
	defer func() { <-turn }()
	wanted := int64(min(max(a.Want, 1), poolAskAhead))
	if w.ahead.Acquire(ctx, wanted) != nil {
		return
	}
	defer w.ahead.Release(wanted)
	svc, err := e.service(ctx, a.Service, a.Digest)
	if err == nil {
		err = e.poolHosts(ctx, a.Pool, svc)
	}
	for err == nil && ctx.Err() == nil {
		w.mu.Lock()
		p, lacking := w.of(a.Pool), a.Want
		var next []view.Host
		for _, h := range p.hosts {
			if slices.Contains(a.Out, h.ID) {
				continue
			}
			if well, known := p.fresh(h.ID); !known {
				next = append(next, h)
			} else if well {
				lacking--
			}
		}
		w.mu.Unlock()
		if next = next[:min(len(next), max(lacking, 0), poolAskAtOnce)]; len(next) == 0 {
			break
		}
		var all sync.WaitGroup
		for _, h := range next {
			all.Go(func() {
				if !enter(ctx, w.slots) {
					return
				}
				defer func() { <-w.slots }()
				at := time.Now() // the answer is as old as its question
				why := e.unwell(ctx, svc, h, poolHost{a.Pool, h.ID})
				if why != "" {
					e.Log.Info("a host of a pool is not well", "pool", a.Pool, "host", h.Name, "why", why)
				}
				w.mu.Lock()
				defer w.mu.Unlock()
				p.answers[h.ID] = wellness{why == "", at}
			})
		}
		all.Wait()
	}
	e.troubled(ctx, "asking pools whether they are well", err)
	w.mu.Lock()
	w.of(a.Pool).asking = false
	w.mu.Unlock()
	e.nudge()
}

// enter waits for a place; false where there is no more need for one.
func enter(ctx context.Context, places chan struct{}) bool {
	select {
	case places <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

// poolHosts finds the hosts of a pool, unless they are known, and so those of all pools of the
// service.
func (e *Engine) poolHosts(ctx context.Context, name string, svc *definition.Service) error {
	w := e.pools
	known := func() bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		return time.Since(w.of(name).asOf) < poolFor/2
	}
	if known() || !enter(ctx, w.counts) {
		return ctx.Err()
	}
	defer func() { <-w.counts }()
	if known() { // by whom we waited for
		return nil
	}
	concerned, err := concern(&change.Spec{}, []*definition.Service{svc})
	if err != nil {
		return err
	}
	pool, err := concerned[0].pool()
	if err != nil {
		return err
	}
	all, err := e.Store.Hosts(ctx)
	if err != nil {
		return err
	}
	hosts := map[string][]view.Host{name: nil}
	for _, h := range all {
		if h.Aside() != "" {
			continue
		}
		of, carries, err := pool(h.Expr())
		if err != nil {
			return err
		}
		if carries {
			of = plan.PoolName(svc.Name, of)
			hosts[of] = append(hosts[of], h)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for name, hosts := range hosts {
		p := w.of(name)
		p.hosts, p.asOf = hosts, time.Now()
	}
	return nil
}

// unwell asks a host whether a service there is well, by the definition's probes that want no
// secret and no earlier answer, and its unit; empty where it is.
func (e *Engine) unwell(ctx context.Context, svc *definition.Service, h view.Host, as poolHost) string {
	ctx, cancel := context.WithTimeout(ctx, poolAskFor)
	defer cancel()
	conn := e.pools.take(as)
	if conn != nil {
		why, lost := e.poorly(ctx, svc, h, conn)
		if !lost {
			e.pools.leave(as, conn)
			return why
		}
		conn.Close() // it says nothing about the host
	}
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return err.Error()
	}
	why, lost := e.poorly(ctx, svc, h, conn)
	if lost {
		conn.Close()
	} else {
		e.pools.leave(as, conn)
	}
	return why
}

// poorly asks by a connection, and tells whether that is lost.
func (e *Engine) poorly(ctx context.Context, svc *definition.Service, h view.Host, conn Conn) (why string, lost bool) {
	for _, instance := range svc.On(h.Expr()) {
		here, err := svc.Here(h.Expr(), instance)
		if err != nil {
			return err.Error(), false
		}
		probes := slices.DeleteFunc(slices.Clone(here.Probes), func(p probe.Probe) bool {
			return len(p.SecretNames()) > 0 || p.Compares() || p.Expect == ""
		})
		verdicts, replies, err := askHere(conn, h, here, probes, &secret.Redactor{}).ask(ctx, probe.Later, probes, host.Question{Ask: probe.Ask{Kind: probe.Unit, Name: here.Unit}})
		if err != nil {
			return err.Error(), true
		}
		if what := ill(verdicts); what != "" {
			return what, false
		}
		if u := replies[0].Unit; u.State != "active" && u.State != "reloading" {
			return fmt.Sprintf("%s is %s", here.Unit, u.State), false
		}
	}
	return "", false
}

// askHere puts probes of a definition to a host, outside of runs.
func askHere(conn Conn, h view.Host, here *definition.Service, probes []probe.Probe, redactor *secret.Redactor) asker {
	a := newAsker(conn, h.Address, h.HostKey)
	a.put, a.redactor = outsideRuns(conn), redactor
	a.of = map[string]serving{"": {pins: here.PinFiles(h.Traits.Family, probes), commands: here.Commands}}
	return a
}

// room says why the run's host may not be taken out of its pools now, though it could when it
// was started; empty where it may. A roll-back waits for no pool: what made it ill may be what goes
// back.
func (r *hostRun) room(ctx context.Context) (string, error) {
	if r.RollsBack {
		return "", nil
	}
	for _, part := range r.leaf.Parts {
		of := r.head.Parts[part.Part]
		at := slices.IndexFunc(r.leaf.Pools, func(name string) bool { return strings.HasPrefix(name, plan.PoolName(of.Service, "")) })
		if of.Keep == 0 || at < 0 {
			continue
		}
		name := r.leaf.Pools[at]
		var out []int64
		if err := r.insist(ctx, "a pool", r.keepGuard, func() (err error) { out, err = r.Store.OutOfPool(ctx, name); return err }); err != nil {
			return "", err
		}
		asking, enough := context.WithCancel(ctx) // who is told to end waits for no pool
		leaving := context.AfterFunc(r.stopping, enough)
		r.guardedWhile(func() {
			r.askPool(asking, store.PoolAsk{Pool: name, Service: of.Service, Digest: of.ServiceDigest, Want: of.Keep, Out: out})
		})
		leaving()
		enough()
		_, answers, _ := r.Engine.pools.Known(name)
		well := 0
		for id, is := range answers {
			if is && !slices.Contains(out, id) {
				well++
			}
		}
		if well < of.Keep {
			return fmt.Sprintf("of the pool %s, %s that are not under way are well, and its definition keeps %d", name, counted(well, "host"), of.Keep), nil
		}
	}
	return "", nil
}

// guardedWhile pushes the guard on while something is waited for that may take its time.
func (r *hostRun) guardedWhile(wait func()) {
	done := make(chan struct{})
	go func() { wait(); close(done) }()
	for tick := time.NewTicker(max(freshFor/2, r.span()/4)); ; { // many may wait: each push is a contact
		select {
		case <-done:
			tick.Stop()
			return
		case <-tick.C:
			r.keepGuard()
		}
	}
}
