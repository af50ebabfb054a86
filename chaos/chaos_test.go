package chaos

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
)

var (
	climbs = flag.Int("climbs", 16, "how many climbs go through trouble")
	seed   = flag.Uint64("seed", 0, "of what happens when; 0: another one each time")
)

// poolAtOnce is at_once of the climbs of a host's pool: of each second one, one alone.
func poolAtOnce(host string) int {
	if host[2]%2 == 1 {
		return 1
	}
	return atOnce
}

// tally counts what took effect.
type tally struct {
	mu    sync.Mutex
	count map[string]int
}

func (c *tally) add(what string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.count[what]++
}

// trouble is one thing that may happen to a host of a pool while it is changed.
type trouble struct {
	name string
	do   func(l *lane, h *chaosHost)
}

var scripts = []string{"claim", "snapshot", "arm", "drain", "place", "act", "reboot", "watch", "confirm", "restore", "disarm", "look"}

// scripted has a fault of the stand-in happen once.
func scripted(kind standin.FaultKind) trouble {
	return trouble{string(kind), func(l *lane, h *chaosHost) {
		at := scripts[l.rnd.IntN(len(scripts))]
		h.Script(&standin.Fault{Do: kind, At: at, For: time.Duration(1+l.rnd.IntN(60)) * time.Millisecond, Times: 1})
		l.scripted = append(l.scripted, scriptedFault{h, kind, at})
	}}
}

func (l *lane) pause(least, most int) {
	l.wait(time.Duration(least+l.rnd.IntN(most-least)) * time.Millisecond)
}

func (l *lane) wait(d time.Duration) {
	select {
	case <-time.After(d):
	case <-l.w.Context().Done():
	}
}

var troubles = []trouble{
	{"link cut at a byte", func(l *lane, h *chaosHost) { h.link.CutAt(int64(1 + l.rnd.IntN(60000))) }},
	{"slow link", func(l *lane, h *chaosHost) {
		h.link.Slow(time.Duration(5+l.rnd.IntN(60)) * time.Millisecond)
		l.pause(500, 2500)
		h.link.Slow(0)
		l.count.add("slow link")
	}},
	{"link dark", func(l *lane, h *chaosHost) {
		h.link.Darken(true)
		l.pause(300, 9000)
		h.link.Darken(false)
		l.count.add("link dark")
	}},
	{"disk full", func(l *lane, h *chaosHost) {
		h.Fill(true)
		l.pause(300, 3000)
		h.Fill(false)
		l.count.add("disk full")
	}},
	{"clock jump", func(l *lane, h *chaosHost) {
		h.SetClock(time.Duration(l.rnd.IntN(48)-24) * time.Hour)
		l.count.add("clock jump")
	}},
	{"reboot", func(l *lane, h *chaosHost) { h.Reboot(); l.count.add("reboot") }},
	{"unit refuses to start", func(l *lane, h *chaosHost) {
		h.Script(&standin.Fault{Do: standin.RefuseStart, When: fmt.Sprintf("worker_connections %d;", l.next)})
		l.count.add("unit refuses to start")
	}},
	{"unit dies later", func(l *lane, h *chaosHost) {
		h.Script(&standin.Fault{Do: standin.DieAfter, When: fmt.Sprintf("worker_connections %d;", l.next), For: time.Duration(l.rnd.IntN(250)) * time.Millisecond})
		l.count.add("unit dies later")
	}},
	{"stop", func(l *lane, _ *chaosHost) { l.order(ladder.Stop) }},
	{"roll-back", func(l *lane, _ *chaosHost) { l.order(ladder.RollBack) }},
	scripted(standin.KillScript), scripted(standin.KillScript), scripted(standin.CutBefore), scripted(standin.CutAfter), scripted(standin.Garble), scripted(standin.Silence), scripted(standin.Busy),
}

type scriptedFault struct {
	host *chaosHost
	kind standin.FaultKind
	at   string
}

// lane is one pool, whose climbs follow one another.
type lane struct {
	w        *world
	n        int
	hosts    []*chaosHost
	values   []int
	next     int
	rnd      *rand.Rand
	count    *tally
	change   int64
	scripted []scriptedFault
}

func (l *lane) order(o ladder.Order) {
	ctx, cancel := context.WithTimeout(l.w.Context(), 5*time.Second)
	defer cancel()
	if l.w.as("ines").Order(ctx, l.change, o, "chaos") == nil {
		l.count.add("order " + string(o))
	}
}

// prepared drafts the next change of the lane and brings it to its approval.
func (l *lane) prepared() bool {
	w := l.w
	return w.insist(fmt.Sprintf("preparing a climb of pool %d", l.n), func(ctx context.Context) error {
		c, kind := w.as("ines"), kindOf(l.hosts[0].Name)
		id, err := c.Draft(ctx, 0, fmt.Appendf(nil, "title: t\nreason: r\nservice: %s\nwhere: labels.pool == \"p%02d\"\ncount: %d\nedits: [{set: events/worker_connections, to: %d}]\nladder: {stages: [{up-to: 1, gate: %v}, {hosts: all}], at_once: %d, soak: 400ms, pause_after: 4}\n", kind, l.n, poolSize, l.next, kind == "booted", poolAtOnce(l.hosts[0].Name)))
		if err == nil {
			err = c.Rehearse(ctx, id)
		}
		var d view.ChangeDetail
		for err == nil && (d.Rehearsal == nil || d.Rehearsal.EndedAt == nil) {
			time.Sleep(50 * time.Millisecond)
			d, err = c.Change(ctx, id)
		}
		if err != nil {
			return err
		}
		if d.Rehearsal.Planned != poolSize {
			c.Withdraw(ctx, id, "not all were read")
			return fmt.Errorf("%d of %d are planned: %v", d.Rehearsal.Planned, poolSize, d.Rehearsal.Groups)
		}
		if err = c.Offer(ctx, id); err == nil {
			if err = w.as("oda").Approve(ctx, id, d.Rehearsal.Digest); err == nil {
				if err = c.Climb(ctx, id); err == nil {
					l.change = id
				}
			}
		}
		return err
	})
}

// climb has one change go through trouble, and gives what should not be.
func (l *lane) climb() []string {
	w := l.w
	if l.next++; !l.prepared() {
		return nil
	}
	var all sync.WaitGroup
	for range 1 + l.rnd.IntN(3) {
		l.pause(0, 900)
		t, h := troubles[l.rnd.IntN(len(troubles))], l.hosts[l.rnd.IntN(len(l.hosts))]
		t.do(l, h)
	}
	all.Wait()
	steered := 0
	ended := w.insist(fmt.Sprintf("the climb of change %d of pool %d comes to its end", l.change, l.n), func(ctx context.Context) error {
		d, err := w.as("ines").Change(ctx, l.change)
		if err != nil {
			return err
		}
		active := 0
		for state, n := range d.Counts {
			if !state.Final() && state != ladder.Queued {
				active += n
			}
		}
		switch {
		case d.Climb.State.Final() && active == 0:
			return nil
		case d.Climb.State == ladder.Paused && active == 0:
			steered++
			o := []ladder.Order{ladder.Resume, ladder.Stop, ladder.RollBack}[l.rnd.IntN(3)]
			if steered > 3 {
				o = ladder.Stop
			}
			l.order(o)
			l.heal()
		case d.Climb.State == ladder.Waiting && active == 0: // at its gate
			l.order(ladder.Resume)
		}
		runs := ""
		if all, err := w.as("ines").AllRuns(ctx, l.change, time.Time{}); err == nil {
			for _, r := range all.Runs {
				runs += fmt.Sprintf("\n%s %s at %s: %s", r.Host, r.State, r.Step, r.Why)
			}
		}
		return fmt.Errorf("it is %s (%s), hosts %v%s", d.Climb.State, d.Climb.Why, d.Counts, runs)
	})
	l.heal()
	if !ended {
		return nil
	}
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline) && slices.ContainsFunc(l.hosts, func(h *chaosHost) bool { return h.busy() }); {
		time.Sleep(50 * time.Millisecond)
	}
	values, wrong := w.check(l.change, l.hosts, l.values, l.next)
	l.values = values
	for _, h := range l.hosts {
		h.forget()
	}
	return wrong
}

// busy tells that a script still runs there.
func (h *chaosHost) busy() bool {
	return slices.ContainsFunc(h.Log(), func(l standin.Logged) bool { return l.To.IsZero() })
}

// heal takes all trouble of the lane away, and counts what of it took effect.
func (l *lane) heal() {
	for _, h := range l.hosts {
		if n := h.link.Cuts(); n > 0 {
			l.count.add("link cut at a byte")
		}
		pending := h.Pending()
		for _, f := range l.scripted {
			if f.host == h && !slices.ContainsFunc(pending, func(p standin.Fault) bool { return p.Do == f.kind && p.At == f.at }) {
				l.count.add(fmt.Sprintf("%s %s", f.kind, f.at))
			}
		}
		h.Mend()
		h.Fill(false)
		h.SetClock(0)
		h.link.CutAt(0)
		h.link.Slow(0)
		h.link.Darken(false)
	}
	l.scripted = nil
}

// great is what happens to servers and database, and so to all climbs that go on.
func (w *world) great(ctx context.Context, rnd *rand.Rand, count *tally) {
	rest := func(least, most int) bool {
		select {
		case <-time.After(time.Duration(least+rnd.IntN(most-least)) * time.Millisecond):
			return true
		case <-ctx.Done():
			return false
		}
	}
	for rest(300, 2500) {
		n := rnd.IntN(len(w.servers))
		switch rnd.IntN(6) {
		case 0, 1:
			w.kill(n)
			count.add("server killed")
			rest(0, 1500)
			w.start(n)
		case 2, 3:
			w.signal(n, syscall.SIGSTOP)
			count.add("server stopped for a while")
			rest(200, 3000)
			w.signal(n, syscall.SIGCONT)
		case 4:
			if rnd.IntN(2) == 0 {
				count.add("database restarted")
				w.restartDatabase()
				rest(2000, 4000)
			}
		case 5:
			if rnd.IntN(2) == 0 { // nobody sees any host
				count.add("prober sees nothing")
				for _, h := range w.hosts {
					h.link.Darken(true)
				}
				rest(300, 2500)
				for _, h := range w.hosts {
					h.link.Darken(false)
				}
			}
		}
	}
}

// through has so many climbs go through trouble, many side by side, until one goes wrong where
// that is enough, and gives what should never be.
func through(t *testing.T, bin string, part, pools, climbs int, seed uint64, enough bool) (wrong []string, count *tally) {
	w := newWorld(t, bin, part, pools, 3)
	count = &tally{count: map[string]int{}}
	ctx, cancel := context.WithCancel(t.Context())
	var great, lanes sync.WaitGroup
	great.Go(func() { w.great(ctx, rand.New(rand.NewPCG(seed, 99)), count) })
	var mu sync.Mutex
	left := climbs
	take := func() bool {
		mu.Lock()
		defer mu.Unlock()
		if left--; left < 0 || enough && len(wrong) > 0 || t.Failed() {
			return false
		}
		return true
	}
	for n := range pools {
		l := &lane{w: w, n: n, hosts: w.hosts[n*poolSize : (n+1)*poolSize], values: []int{512, 512, 512, 512}, next: 1000, rnd: rand.New(rand.NewPCG(seed, uint64(n))), count: count}
		lanes.Go(func() {
			for take() {
				bad := l.climb()
				count.add("climbs")
				mu.Lock()
				for _, what := range bad {
					wrong = append(wrong, fmt.Sprintf("change %d: %s", l.change, what))
				}
				mu.Unlock()
			}
		})
	}
	lanes.Wait()
	cancel()
	great.Wait()
	for n := range w.servers {
		w.signal(n, syscall.SIGCONT)
	}
	if !t.Failed() {
		wrong = append(wrong, w.checkRecord()...)
	}
	for _, r := range rows[struct {
		Step string
		N    int
	}](w, `select step, count(*)::int as n from steps where outcome = 'unknown' group by 1`) {
		count.count["lost during "+r.Step] = r.N
	}
	for _, r := range rows[struct {
		State string
		N     int
	}](w, `select state, count(*)::int as n from host_runs group by 1`) {
		count.count["hosts "+r.State] = r.N
	}
	return wrong, count
}

func (c *tally) String() string {
	var b strings.Builder
	for _, what := range slices.Sorted(maps.Keys(c.count)) {
		fmt.Fprintf(&b, "\n  %5d %s", c.count[what], what)
	}
	return b.String()
}

// TestChaos has many climbs go through trouble: nothing is lost, whatever breaks.
func TestChaos(t *testing.T) {
	if *seed == 0 {
		*seed = rand.Uint64N(1 << 32)
	}
	begun := time.Now()
	wrong, count := through(t, build(t, nil), 1, 12, *climbs, *seed, false)
	t.Logf("seed %d, %s:%s", *seed, time.Since(begun).Round(time.Second), count)
	for _, what := range wrong {
		t.Error(what)
	}
}
