// Package engine rehearses and climbs: the core decides, the host package
// acts, the store remembers.
//
//	e := engine.New(engine.Config{Store: st, Dialer: dialer})
//	go e.Run(ctx)
//	rehearsal, err := e.Rehearse(ctx, "ines", changeID)
package engine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"wladder/core/change"
	"wladder/core/expr"
	"wladder/core/probe"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// Config says what an engine works with; the zero of the rest is replaced.
type Config struct {
	Store   *store.Store
	Dialer  *host.Dialer
	Log     *slog.Logger
	Lease   time.Duration // after which another server may take a host run over; 15s
	LookFor time.Duration // how long an unreachable host is looked for before it is stranded; 10m
	AtOnce  int           // hosts rehearsed in parallel; 16
}

// Engine carries changes out.
type Engine struct {
	Config
	owner string // this process, to the leases

	mu        sync.Mutex
	listeners map[chan view.Event]int64 // by the change they follow; 0 follows all
	wake      chan struct{}
	working   sync.WaitGroup
}

// New makes an engine; it does nothing before Run.
func New(c Config) *Engine {
	if c.Lease == 0 {
		c.Lease = 15 * time.Second
	}
	if c.LookFor == 0 {
		c.LookFor = 10 * time.Minute
	}
	if c.AtOnce == 0 {
		c.AtOnce = 16
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	return &Engine{Config: c, owner: rand.Text(), listeners: map[chan view.Event]int64{}, wake: make(chan struct{}, 1)}
}

// Run works until the context ends, then finishes the steps under way, for as
// long as a lease lasts.
func (e *Engine) Run(ctx context.Context) {
	hurry, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	e.working.Go(func() { e.listen(ctx) })
	e.working.Go(func() { e.renew(ctx) })
	tick := time.NewTicker(e.Lease / 5)
	defer tick.Stop()
	for ctx.Err() == nil {
		if err := e.Store.Advance(ctx, host.ScriptsDigest()); err != nil && ctx.Err() == nil {
			e.Log.Error("deciding", "error", err)
		}
		claimed, err := e.Store.ClaimRuns(ctx, e.owner, e.Lease, 64)
		if err != nil && ctx.Err() == nil {
			e.Log.Error("claiming host runs", "error", err)
		}
		for _, r := range claimed {
			e.working.Go(func() { e.hostRun(ctx, hurry, r) })
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		case <-e.wake:
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
}

func (e *Engine) renew(ctx context.Context) {
	tick, lost := time.NewTicker(e.Lease/4), time.NewTicker(time.Minute)
	defer tick.Stop()
	defer lost.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-lost.C:
			if err := e.Store.EndLostRehearsals(ctx); err != nil && ctx.Err() == nil {
				e.Log.Error("ending lost rehearsals", "error", err)
			}
		case <-tick.C:
			if err := e.Store.RenewLeases(ctx, e.owner, e.Lease); err != nil && ctx.Err() == nil {
				e.Log.Error("renewing leases", "error", err)
			}
		}
	}
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
		err := e.Store.Listen(ctx, e.nudge, func(ev view.Event) {
			if ev.Type == "record" {
				e.nudge()
			}
			e.mu.Lock()
			defer e.mu.Unlock()
			for c, id := range e.listeners {
				if id != 0 && id != ev.Change {
					continue
				}
				select {
				case c <- ev:
				default: // a slow reader misses hints; it reads the record by number
				}
			}
		})
		if ctx.Err() == nil {
			e.Log.Warn("the event connection broke; connecting again", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
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
	return host.Target{Name: h.Name, Address: h.Address, User: h.Login, HostKey: h.HostKey, Sudo: h.Sudo}
}

// Survey asks hosts what they are, in parallel, and gives how many it asked and
// the errors of those that did not answer.
func (e *Engine) Survey(ctx context.Context, where string) (asked int, failed map[string]error, err error) {
	hosts, err := e.match(ctx, where)
	if err != nil {
		return 0, nil, err
	}
	failed = map[string]error{}
	var mu sync.Mutex
	e.each(len(hosts), func(i int) {
		if _, err := e.survey(ctx, hosts[i]); err != nil {
			mu.Lock()
			failed[hosts[i].Name] = err
			mu.Unlock()
		}
	})
	return len(hosts), failed, nil
}

func (e *Engine) survey(ctx context.Context, h view.Host) (expr.Traits, error) {
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return expr.Traits{}, err
	}
	defer conn.Close()
	t, err := conn.Survey(ctx)
	if err == nil {
		_, err = e.Store.Surveyed(ctx, h.ID, t)
	}
	return t, err
}

// match gives the hosts that an expression fits; an empty one fits all.
func (e *Engine) match(ctx context.Context, where string) ([]view.Host, error) {
	all, err := e.Store.Hosts(ctx)
	if err != nil || where == "" {
		return all, err
	}
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

// each calls f for 0 to n-1, AtOnce at a time.
func (e *Engine) each(n int, f func(int)) {
	free := make(chan struct{}, e.AtOnce)
	var all sync.WaitGroup
	for i := range n {
		free <- struct{}{}
		all.Go(func() {
			defer func() { <-free }()
			f(i)
		})
	}
	all.Wait()
}

// ill names the first probe that is not well, in words; empty where all are.
func ill(verdicts []probe.Verdict) string {
	for _, v := range verdicts {
		if !v.Well {
			return fmt.Sprintf("probe %q is not well: %s", v.Probe, v.Why)
		}
	}
	return ""
}

// worse names the first probe that is not well now and was before.
func worse(now, before []probe.Verdict) string {
	was := map[string]bool{}
	for _, v := range before {
		was[v.Probe] = v.Well
	}
	for _, v := range now {
		if well, known := was[v.Probe]; !v.Well && (well || !known) {
			return fmt.Sprintf("probe %q is not well: %s", v.Probe, v.Why)
		}
	}
	return ""
}

var errStranger = errors.New("the plan does not name this host")

func leafOf(p *change.Plan, hostID int64) (change.Leaf, error) {
	for _, l := range p.Leaves {
		if l.HostID == hostID {
			return l, nil
		}
	}
	return change.Leaf{}, errStranger
}
