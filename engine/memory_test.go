package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// memory is a store of one climb that keeps nothing beyond the test, and tells
// the time of the test's bubble. What conforms_test.go asks of a store holds for
// it as for the real one.
type memory struct {
	Rehearsals // none
	Inventory  // none
	Services   // none but the one below

	mu     sync.Mutex
	head   plan.Head
	svc    view.Service
	runs   []*memoryRun
	state  ladder.ClimbState
	why    string
	gone   time.Time                 // until when the database is away
	fail   func(what string) answers // how a call is answered; nil: always well
	writes int
}

type memoryRun struct {
	store.Claimed
	leaf  plan.Leaf
	owner string
	until time.Time // of the lease
	steps map[int]view.StepTaken
}

// answers is how something else than well a call may be answered.
type answers string

const (
	refused answers = "refused" // nothing is done
	unheard answers = "unheard" // it is done, its answer is lost
)

const memoryPath = "/etc/nginx/nginx.conf"

// newMemory makes a store with an approved plan that climbs already.
func newMemory(hosts int, policy ladder.Policy) *memory {
	source := `
service: pages
title: Pages
where: name != ""
files: {main: {format: nginx, paths: {any: ` + memoryPath + `}}}
unit: nginx.service
acts: [{name: reload, command: [systemctl, reload, nginx.service]}]
`
	svc, err := definition.Parse("pages", []byte(source))
	if err != nil {
		panic(err)
	}
	healthy := probe.Probe{Name: "unit", Ask: "unit nginx.service", Expect: `state == "active"`}
	m := &memory{
		state: ladder.Running, svc: view.Service{Name: "pages", Source: source, Names: 2, Digest: svc.Digest},
		head: plan.Head{Version: plan.Version, Change: 7, Hosts: hosts, Policy: policy, Parts: []plan.Part{{
			Service: "pages", ServiceDigest: svc.Digest, Unit: "nginx.service", Probes: []probe.Probe{healthy}, Settle: ladder.Span(5 * time.Second), Guard: ladder.Span(90 * time.Second), Heaviest: svc.Acts[0],
		}}},
	}
	copyOf := func(text string) plan.CopyRef {
		return plan.CopyRef{Kind: plan.Regular, Content: text, Owner: "root", Group: "root", Mode: "644"}
	}
	for n := range hosts {
		name := fmt.Sprintf("b%02d", n)
		leaf := plan.Leaf{HostID: int64(n + 1), Host: name, Address: name + ":22", Login: "root", HostKey: "key", Parts: []plan.LeafPart{{
			Act: svc.Acts[0], Files: []plan.LeafFile{{Key: "main", Path: memoryPath, Resolved: memoryPath, Format: "nginx", Base: copyOf("old"), Candidate: copyOf("new")}},
		}}}
		m.runs = append(m.runs, &memoryRun{Claimed: store.Claimed{ID: int64(n + 1), Climb: 1, Change: 7, Plan: 1, HostID: int64(n + 1), Host: name, Run: ladder.Run{State: ladder.Queued}}, leaf: leaf, steps: map[int]view.StepTaken{}})
	}
	return m
}

// do is one call to the store.
func (m *memory) do(ctx context.Context, what string, f func() error) error {
	if err := wait(ctx, time.Millisecond); err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.writes++
	if time.Now().Before(m.gone) {
		return io.ErrUnexpectedEOF
	}
	how := answers("")
	if m.fail != nil {
		how = m.fail(what)
	}
	if how == refused {
		return io.ErrUnexpectedEOF
	}
	err := f()
	if how == unheard {
		return io.ErrUnexpectedEOF
	}
	return err
}

func (m *memory) underWay() (all []*memoryRun) {
	for _, r := range m.runs {
		if s := r.Run.State; s != ladder.Queued && !s.Final() {
			all = append(all, r)
		}
	}
	return all
}

func (r *memoryRun) claim(me store.Server) *store.Claimed {
	if r.Run.State == ladder.Queued {
		r.Run = ladder.Run{State: ladder.Start.State, Step: ladder.Start.Step}
	}
	r.Fence++
	r.owner, r.until = me.Name, time.Now().Add(me.Lease)
	r.Begun = r.steps[r.Steps].Step != "" && r.steps[r.Steps].Outcome == ""
	c := r.Claimed
	return &c
}

func (m *memory) Advance(ctx context.Context, me store.Server, free int) (started []*store.Claimed, err error) {
	err = m.do(ctx, "advance", func() error {
		now := ladder.Climb{State: m.state, Policy: m.head.Policy, Stage: len(m.head.Policy.Stages), UnderWay: len(m.underWay()), Failures: map[int]ladder.Failing{}}
		came := map[int]bool{}
		for _, r := range m.runs {
			if !r.Run.State.Final() {
				now.Stage = min(now.Stage, r.leaf.Stage)
			}
			if r.Run.Failed {
				f := now.Failures[r.leaf.Stage]
				now.Failures[r.leaf.Stage] = ladder.Failing{Failed: f.Failed + 1, Of: len(m.runs)}
			}
			came[r.leaf.Stage] = came[r.leaf.Stage] || r.Run.State == ladder.Done
			now.Done = now.Done || r.Run.State == ladder.Done
		}
		for stage := range now.Stage {
			if !came[stage] {
				now.Barren = append(now.Barren, stage)
			}
		}
		d := ladder.Decide(now)
		m.state, m.why = d.State, d.Why
		for _, r := range m.runs {
			if len(started) < min(d.Start, free) && r.Run.State == ladder.Queued && r.leaf.Stage == now.Stage {
				started = append(started, r.claim(me))
			}
		}
		return nil
	})
	return started, err
}

func (m *memory) ClaimRuns(ctx context.Context, me store.Server, limit int, held []int64) (claimed []*store.Claimed, err error) {
	err = m.do(ctx, "claim", func() error {
		for _, r := range m.underWay() {
			if len(claimed) < limit && r.until.Before(time.Now()) && !slices.Contains(held, r.ID) {
				claimed = append(claimed, r.claim(me))
			}
		}
		return nil
	})
	return claimed, err
}

func (m *memory) RenewLeases(ctx context.Context, me store.Server, fences map[int64]int64) (kept map[int64]bool, err error) {
	kept = map[int64]bool{}
	err = m.do(ctx, "renew", func() error {
		for _, r := range m.underWay() {
			if fence, ok := fences[r.ID]; ok && fence == r.Fence {
				r.until, kept[r.ID] = time.Now().Add(me.Lease), true
			}
		}
		return nil
	})
	return kept, err
}

func (m *memory) Write(ctx context.Context, c *store.Claimed, p store.Progress) error {
	n := c.Steps
	if c.Begun {
		n--
	}
	err := m.do(ctx, "write", func() error {
		r := m.runs[c.ID-1]
		if r.Fence != c.Fence {
			return &store.Conflict{What: fmt.Sprintf("host run %d was taken over", c.ID)}
		}
		for _, s := range p.Steps {
			n++
			r.steps[n] = s
		}
		if !p.Begin.IsZero() {
			n++
			r.steps[n] = view.StepTaken{Step: p.Run.Step, BegunAt: p.Begin}
		}
		r.Run, r.Steps = p.Run, n
		if p.Baseline != nil {
			r.Baseline = p.Baseline
		}
		if p.Run.State.Final() {
			r.until = time.Time{}
		}
		return nil
	})
	if err == nil {
		c.Run, c.Steps, c.Begun = p.Run, n, !p.Begin.IsZero()
	}
	return err
}

func (m *memory) Overwritten(context.Context, *store.Claimed) ([]store.Edited, error) {
	return nil, nil
}

func (m *memory) Release(ctx context.Context, c *store.Claimed) error {
	return m.do(ctx, "release", func() error {
		if r := m.runs[c.ID-1]; r.Fence == c.Fence {
			r.owner, r.until = "", time.Time{}
		}
		return nil
	})
}

func (m *memory) Steer(ctx context.Context, runs []int64) (out store.Steered, err error) {
	err = m.do(ctx, "steer", func() error {
		out = store.Steered{Recalled: map[int64]string{}, Halted: map[int64]string{}}
		for _, id := range runs {
			if m.state == ladder.Stopping {
				out.Recalled[id] = "the climb is stopped"
			}
		}
		return nil
	})
	return out, err
}

func (m *memory) Touched(context.Context, int64) (touched, waiting []int64, err error) {
	return nil, nil, nil
}

func (m *memory) NoteControls(context.Context, int64, []store.Control) error { return nil }

func (m *memory) Controls(context.Context, int64) ([]store.Control, error) { return nil, nil }

func (m *memory) PauseOver(context.Context, int64, string) error { return nil }

func (m *memory) Hosts(context.Context) ([]view.Host, error) { return nil, nil }

func (m *memory) Present(ctx context.Context, _ store.Server, ready, _ func()) error {
	ready()
	<-ctx.Done()
	return ctx.Err()
}

func (m *memory) OutOfPool(context.Context, string) ([]int64, error) { return nil, nil }

func (m *memory) Plan(ctx context.Context, id int64) (*store.Plan, error) {
	return &store.Plan{ID: id, Head: m.head}, m.do(ctx, "plan", func() error { return nil })
}

func (m *memory) Leaf(ctx context.Context, _ *store.Plan, hostID int64) (leaf plan.Leaf, err error) {
	err = m.do(ctx, "leaf", func() error { leaf = m.runs[hostID-1].leaf; return nil })
	return leaf, err
}

func (m *memory) DoneWith(context.Context, int64) (*store.Plan, []int64, error) { return nil, nil, nil }

func (m *memory) Content(_ context.Context, id string) ([]byte, error) { return []byte(id), nil }
func (m *memory) SumID(sum string) string                              { return "keyed " + sum }

func (m *memory) ContentID(data []byte) string { return string(data) }

func (m *memory) ApprovedService(context.Context, string) (view.Service, error)   { return m.svc, nil }
func (m *memory) ServiceOf(context.Context, string, string) (view.Service, error) { return m.svc, nil }
func (m *memory) ServicesInForce(context.Context) ([]view.Service, error) {
	return []view.Service{m.svc}, nil
}

func (m *memory) Secrets(context.Context, []string) (map[string]string, map[string]int, error) {
	return nil, nil, nil
}
func (m *memory) Bindings(context.Context, []string) (map[string]view.Binding, error) {
	return nil, nil
}

func (m *memory) NoteAsk(context.Context, string, string, string, []string, int) error { return nil }

func (m *memory) SecretVersions(context.Context, map[string]int) (map[string]string, error) {
	return nil, nil
}

func (m *memory) Announce(context.Context, string, []view.Event) error { return nil }

func (m *memory) Listen(ctx context.Context, _ string, ready func(), _ func(view.Event)) error {
	ready()
	<-ctx.Done()
	return ctx.Err()
}

func (m *memory) ClaimRehearsals(context.Context, store.Server, int, []int64) ([]*store.Rehearsing, error) {
	return nil, nil
}

// memoryHost is a host with one file, one unit and a guard, which conforms to
// what conforms_test.go asks of a host.
type memoryHost struct {
	name string

	mu       sync.Mutex
	file     string // what it says
	process  string // which of them runs
	fence    int64
	run      string
	guard    ladder.GuardState
	due      time.Time
	undone   bool
	ticking  *time.Timer
	snapshot bool
	acted    map[string]time.Time // by label
	acts     []string
	ran      []string

	away  bool                          // nobody reaches it
	ill   func(h *memoryHost) bool      // is its unit ill?
	fault func(operation string) answer // how an operation is answered; nil: always well
}

// answer is how something else than well an operation on a host may be answered.
type answer string

const (
	busy    answer = "busy"    // the lock is held by somebody else
	garbage answer = "garbage" // it is done, its answer makes no sense
	silence answer = "silence" // it is done, and nothing is heard any more
	cut     answer = "cut"     // the link is cut before it is done
)

func newMemoryHost(name string) *memoryHost {
	return &memoryHost{name: name, file: "old", process: "old", acted: map[string]time.Time{}}
}

// memoryHosts are reached by their names.
type memoryHosts map[string]*memoryHost

func (m memoryHosts) Connect(ctx context.Context, t host.Target) (Conn, error) {
	if err := wait(ctx, 5*time.Millisecond); err != nil {
		return nil, err
	}
	h := m[t.Name]
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.away {
		return nil, &host.Unreachable{Host: h.name, Err: errors.New("connection refused")}
	}
	return &memoryConn{memoryHost: h}, nil
}

func (m memoryHosts) HostKey(context.Context, host.Target) (key, print string, err error) {
	return "", "", errors.New("no test of the doubles asks for it")
}

type memoryConn struct {
	Conn // what no test of the doubles asks for
	*memoryHost
	closed bool
}

func (c *memoryConn) Close() error { c.closed = true; return nil }

// do is one operation on the host.
func (c *memoryConn) do(ctx context.Context, name string, f func() error) error {
	lost := func(text string) error { return &host.Lost{Host: c.name, Script: name, Err: errors.New(text)} }
	if err := wait(ctx, 10*time.Millisecond); err != nil {
		return lost("given up")
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	how := answer("")
	if c.fault != nil {
		how = c.fault(name)
	}
	switch {
	case c.closed:
		return &host.Unreachable{Host: c.name, Err: errors.New("closed")}
	case c.away || how == cut:
		c.closed = true
		return lost("connection reset")
	case how == busy:
		return &host.Busy{Host: c.name, Script: name}
	}
	c.ran = append(c.ran, name)
	err := f()
	switch how {
	case garbage:
		return lost("its answer makes no sense")
	case silence:
		c.mu.Unlock()
		wait(ctx, 20*time.Second)
		c.mu.Lock()
		c.closed = true
		return lost("nothing heard")
	}
	return err
}

// locked is an operation that changes something, under a fence.
func (c *memoryConn) locked(ctx context.Context, name string, claim host.Claim, f func() error) error {
	return c.do(ctx, name, func() error {
		if claim.Fence < c.fence {
			return &host.Fenced{Host: c.name, Seen: c.fence}
		}
		c.fence = claim.Fence
		return f()
	})
}

func (c *memoryConn) changed(want string) error {
	if c.file != want {
		return &host.ChangedError{Host: c.name, Path: memoryPath}
	}
	return nil
}

func (c *memoryConn) TakeOver(ctx context.Context, claim host.Claim) error {
	return c.locked(ctx, "claim", claim, func() error { return nil })
}

func (c *memoryConn) Collect(ctx context.Context, paths []string) (found []render.Found, err error) {
	err = c.do(ctx, "collect", func() error {
		found = []render.Found{{Path: paths[0], Resolved: paths[0], Kind: "regular file", Content: []byte(c.file), Owner: "root", Group: "root", Mode: "644"}}
		return nil
	})
	return found, err
}

func (c *memoryConn) Snapshot(ctx context.Context, claim host.Claim, _ []string, _ []host.File) error {
	return c.locked(ctx, "snapshot", claim, func() error {
		c.snapshot, c.run = true, claim.Run
		return c.changed("old")
	})
}

func (c *memoryConn) Make(context.Context, host.Claim, []host.File) error { return nil }

func (c *memoryConn) Arm(ctx context.Context, claim host.Claim, after time.Duration, _ []host.Service, _ []host.File) (string, error) {
	return "timer", c.locked(ctx, "arm", claim, func() error { // how does not depend on it
		c.guard, c.due = ladder.Pending, time.Now().Add(after)
		c.tick()
		return nil
	})
}

// tick has the guard fire at its time, which may be pushed on until then.
func (h *memoryHost) tick() {
	if h.ticking != nil {
		h.ticking.Stop()
	}
	h.ticking = time.AfterFunc(time.Until(h.due), func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		switch {
		case h.guard != ladder.Pending:
		case time.Now().Before(h.due):
			h.tick()
		default:
			h.guard, h.undone = ladder.Fired, true
			if h.file == "new" {
				h.file = "old"
				h.take("guard")
			}
		}
	})
}

// take has the unit take its file up.
func (h *memoryHost) take(label string) {
	h.process = h.file
	h.acted[label] = time.Now()
	h.acts = append(h.acts, label)
}

func (c *memoryConn) Place(ctx context.Context, claim host.Claim, _ []host.File) error {
	return c.locked(ctx, "place", claim, func() error {
		switch {
		case c.guard != ladder.Pending:
			return &host.ScriptError{Host: c.name, Script: "place", Stderr: "its guard has fired, or is not armed"}
		case c.file == "new":
			return nil
		}
		if err := c.changed("old"); err != nil {
			return err
		}
		c.file = "new"
		return nil
	})
}

func (c *memoryConn) Drain(context.Context, host.Claim, host.Service) error   { return nil }
func (c *memoryConn) Readmit(context.Context, host.Claim, host.Service) error { return nil }

func (c *memoryConn) Reboot(context.Context, host.Claim, string, host.Service, time.Duration) (bool, error) {
	return true, nil
}

func (c *memoryConn) Act(ctx context.Context, claim host.Claim, label string, _ host.Service) (undone bool, err error) {
	err = c.locked(ctx, "act", claim, func() error {
		if undone = c.undone && label == host.BackAct; !undone {
			c.take(label)
		}
		return nil
	})
	return undone, err
}

func (c *memoryConn) Ask(ctx context.Context, _, label string, questions []host.Question) (replies []host.Reply, err error) {
	err = c.do(ctx, "ask", func() error { replies = c.replies(label, questions); return nil })
	return replies, err
}

func (c *memoryConn) Watch(ctx context.Context, claim host.Claim, guard time.Duration, label string, questions []host.Question) (replies []host.Reply, err error) {
	err = c.locked(ctx, "watch", claim, func() error {
		if due := time.Now().Add(guard); c.guard == ladder.Pending && due.After(c.due) {
			c.due = due
		}
		replies = c.replies(label, questions)
		return nil
	})
	return replies, err
}

func (h *memoryHost) unit(label string) host.Unit {
	u := host.Unit{State: "active", Sub: "running", Result: "success", Main: 100 + len(h.acts), Processes: 1}
	if !h.acted[label].IsZero() {
		u.Renewed = 1
	}
	if h.ill != nil && h.ill(h) {
		u.State, u.Result = "failed", "exit-code"
	}
	return u
}

func (h *memoryHost) replies(label string, questions []host.Question) (all []host.Reply) {
	for _, q := range questions {
		var r host.Reply
		if q.Guard {
			r.Guard = h.guard
		} else {
			r.Unit = h.unit(label)
			r.UnitState = probe.UnitState{State: r.Unit.State, Sub: r.Unit.Sub, Processes: 1, Renewed: r.Unit.Renewed}
		}
		all = append(all, r)
	}
	return all
}

func (c *memoryConn) Confirm(ctx context.Context, claim host.Claim, _ []host.File) error {
	return c.locked(ctx, "confirm", claim, func() error {
		switch c.guard {
		case ladder.Fired:
			return &host.FiredError{Host: c.name}
		case ladder.Pending:
			if err := c.changed("new"); err != nil {
				return err
			}
			c.guard = ladder.Disarmed
		}
		return nil
	})
}

func (c *memoryConn) Look(ctx context.Context, claim host.Claim, guard time.Duration, label string, _ host.Service, _ []host.File) (s ladder.Sight, err error) {
	err = c.locked(ctx, "look", claim, func() error {
		if due := time.Now().Add(guard); c.guard == ladder.Pending && due.After(c.due) {
			c.due = due
		}
		s = ladder.Sight{Files: map[string]ladder.Files{"old": ladder.FilesOld, "new": ladder.FilesNew}[c.file], Guard: c.guard, Undone: c.undone, Process: ladder.ProcessOld}
		if s.Files == "" {
			s.Files = ladder.FilesMixed
		}
		if s.Guard == "" {
			s.Guard = ladder.NoGuard
		}
		if !c.acted[label].IsZero() {
			s.Process = ladder.ProcessNew
		}
		return nil
	})
	return s, err
}

func (c *memoryConn) Restore(ctx context.Context, claim host.Claim, _ []host.File) (undone bool, err error) {
	err = c.locked(ctx, "restore", claim, func() error {
		if c.file != "old" && c.file != "new" {
			return &host.ScriptError{Host: c.name, Script: "restore", Stderr: "somebody edited it"}
		}
		c.file, undone = "old", c.undone
		return nil
	})
	return undone, err
}

func (c *memoryConn) Disarm(ctx context.Context, claim host.Claim, _ []host.File) error {
	return c.locked(ctx, "disarm", claim, func() error {
		if c.guard == ladder.Fired {
			return &host.FiredError{Host: c.name}
		}
		c.guard = ladder.Disarmed
		return nil
	})
}

func (c *memoryConn) Inside(context.Context, int) (net.Conn, error) {
	return nil, errors.New("nothing listens here")
}

func (c *memoryConn) Fence(ctx context.Context) (seen int64, err error) {
	err = c.do(ctx, "claim", func() error { seen = c.fence; return nil })
	return seen, err
}
