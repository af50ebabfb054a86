package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wladder/core/ladder"
)

// bubble is an engine over the doubles, in a bubble of its own time: leases,
// guards and soaks have their real lengths, and take none.
type bubble struct {
	*testing.T
	store *memory
	hosts memoryHosts
}

func inBubble(t *testing.T, hosts int, policy ladder.Policy, f func(b *bubble)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		b := &bubble{t, newMemory(hosts, policy), memoryHosts{}}
		for _, r := range b.store.runs {
			b.hosts[r.Host] = newMemoryHost(r.Host)
		}
		f(b)
		for _, h := range b.hosts { // what still ticks would keep the bubble
			if h.mu.Lock(); h.ticking != nil {
				h.ticking.Stop()
			}
			h.mu.Unlock()
		}
	})
}

// start runs an engine until stop is called, which waits for its end.
func (b *bubble) start() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	e := New(Config{Store: b.store, Dialer: b.hosts})
	ended := make(chan struct{})
	go func() { e.Run(ctx); close(ended) }()
	return func() { cancel(); <-ended }
}

// until waits for a condition, at most for so long.
func (b *bubble) until(within time.Duration, what string, f func() bool) {
	b.Helper()
	for deadline := time.Now().Add(within); !f(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			b.Fatalf("not %s within %s: the climb is %s (%s), runs %s", what, within, b.store.state, b.store.why, b.told())
		}
	}
}

func (b *bubble) told() string {
	var all []string
	for _, r := range b.store.runs {
		all = append(all, fmt.Sprintf("%s %s at %s (%s)", r.Host, r.Run.State, r.Run.Step, r.Run.Why))
	}
	return strings.Join(all, "; ")
}

func (b *bubble) ended() bool {
	b.store.mu.Lock()
	defer b.store.mu.Unlock()
	return len(b.store.underWay()) == 0 && b.store.state != ladder.Running
}

// lose takes the database and all hosts from the engine, and ends it: nothing
// that it still does is seen by anybody, as after kill -9.
func (b *bubble) lose(stop func()) {
	b.store.mu.Lock()
	b.store.gone = time.Now().Add(1000 * time.Hour)
	b.store.mu.Unlock()
	b.reach(false)
	stop()
}

func (b *bubble) reach(yes bool) {
	for _, h := range b.hosts {
		h.mu.Lock()
		h.away = !yes
		h.mu.Unlock()
	}
}

func (b *bubble) back() {
	b.store.mu.Lock()
	b.store.gone = time.Time{}
	b.store.mu.Unlock()
	b.reach(true)
}

// truth holds what is told of a host against the host itself.
func (b *bubble) truth(what string) {
	b.Helper()
	for _, r := range b.store.runs {
		h := b.hosts[r.Host]
		h.mu.Lock()
		whole := h.file == h.process && (h.file == "old" || h.file == "new")
		forward := strings.Count(strings.Join(h.acts, " ")+" ", "act ")
		switch {
		case !whole, r.Run.State == ladder.Stranded, r.Run.State == ladder.Unknown,
			r.Run.State == ladder.Done && (h.file != "new" || h.guard != ladder.Disarmed),
			r.Run.State == ladder.Restored && (h.file != "old" || h.guard == ladder.Pending),
			r.Run.State == ladder.PassedOver && h.file != "old", forward > 1:
			b.Errorf("%s: %s is told %s (%s): its file is %s, its process %s, its guard %s, acts %v, operations %v", what, r.Host, r.Run.State, r.Run.Why, h.file, h.process, h.guard, h.acts, h.ran)
		}
		h.mu.Unlock()
		for n := 1; n <= r.Steps; n++ {
			if s := r.steps[n]; s.Step == "" || s.Outcome == "" {
				b.Errorf("%s: step %d of %s was left open: %+v", what, n, r.Host, s)
			}
		}
	}
}

func policyOf(atOnce int, soak time.Duration) ladder.Policy {
	return ladder.Policy{Stages: []ladder.Stage{{Percent: 100}}, AtOnce: atOnce, PauseAfter: 99, Soak: ladder.Span(soak)}
}

// sick has a host's unit fail while its new file is in force.
func sick(h *memoryHost) bool { return h.process == "new" }

// TestEveryAnswerOfAHost has each operation of a host run answered by "busy", by
// garbage, by silence and by a cut link, and each soon after it in each of these
// ways, too: on the way forward, and on the way back.
func TestEveryAnswerOfAHost(t *testing.T) {
	kinds := []answer{busy, garbage, silence, cut}
	tried, states := 0, map[ladder.RunState]int{}
	for _, back := range []bool{false, true} {
		try := func(first int, how answer, second int, then answer) (operations int) {
			inBubble(t, 1, policyOf(1, 15*time.Second), func(b *bubble) {
				h, n := b.hosts["b00"], 0
				if back {
					h.ill = sick
				}
				h.fault = func(string) answer {
					switch n++; n {
					case first:
						return how
					case second:
						return then
					}
					return ""
				}
				stop := b.start()
				b.until(time.Hour, "through", b.ended)
				stop()
				what := fmt.Sprintf("back %v, %s at operation %d, %s at %d", back, how, first, then, second)
				b.truth(what)
				state := b.store.runs[0].Run.State
				if want := map[bool]ladder.RunState{false: ladder.Done, true: ladder.Restored}[back]; state != want && first < 0 {
					b.Errorf("without a fault: %s", b.told())
				}
				operations = n
				states[state]++
			})
			tried++
			return operations
		}
		operations := try(-1, "", -1, "")
		if operations < 12 {
			t.Fatalf("only %d operations", operations)
		}
		for first := 1; first <= operations; first++ {
			for _, how := range kinds {
				try(first, how, -1, "")
				for second := first + 1; second <= first+2; second++ {
					for _, then := range kinds {
						try(first, how, second, then)
					}
				}
			}
		}
	}
	t.Logf("%d runs ended whole, and truly told: %v", tried, states)
}

// TestTheServerIsLostForGood ends the server, as kill -9 does, before and after
// each operation of a host run, many of them in its soak: the host is back at its
// old files within the guard's span, or keeps the new ones that were confirmed.
// The next server says truly what became of it.
func TestTheServerIsLostForGood(t *testing.T) {
	kept, back, none := 0, 0, 0
	// lose gives whether the run was through before that operation. It is done,
	// and its answer lost, or not done at all.
	lose := func(at int, done bool) (through bool) {
		inBubble(t, 1, policyOf(1, time.Minute), func(b *bubble) {
			h, n := b.hosts["b00"], 0
			reached := make(chan struct{})
			h.fault = func(string) answer {
				if n++; n != at {
					return ""
				}
				close(reached)
				if done {
					return silence
				}
				h.away = true
				return cut
			}
			stop := b.start()
			select {
			case <-reached:
			case <-time.After(time.Hour):
				stop()
				through = true
				return
			}
			b.lose(stop)
			lost := time.Now()
			h.mu.Lock()
			confirmed, armed, due := h.guard == ladder.Disarmed, h.guard == ladder.Pending, h.due
			h.mu.Unlock()
			if armed && due.Sub(lost) > leaveSpan+leaveSpan/4 {
				b.Errorf("operation %d: its guard waits for %s", at, due.Sub(lost))
			}
			time.Sleep(leaveSpan + leaveSpan/4 + time.Second)
			switch {
			case confirmed && h.file == "new" && h.process == "new":
				kept++
			case !confirmed && h.file == "old" && h.process == "old":
				if back++; !armed {
					none++
				}
			default:
				b.Errorf("operation %d, done %v: confirmed %v, its file is %s, its process %s", at, done, confirmed, h.file, h.process)
			}
			b.back()
			h.fault = nil
			stop = b.start()
			b.until(time.Hour, "through", b.ended)
			stop()
			b.truth(fmt.Sprintf("lost at operation %d, done %v", at, done))
		})
		return through
	}
	for at := 1; !lose(at, false); at++ {
		lose(at, true)
	}
	t.Logf("lost at %d operations: %d hosts keep what was confirmed, %d are as they were before, %d of them untouched", kept+back, kept, back, none)
	if kept == 0 || back-none < 20 || none < 8 {
		t.Errorf("only %d hosts were confirmed, %d put themselves back, %d were untouched", kept, back-none, none)
	}
}

// TestFiveMinutesWithoutADatabase takes it away in the soak of fifty hosts, for
// far longer than leases and guards last by themselves: the server still looks
// at its hosts, no guard fires, and all are confirmed once it is back.
func TestFiveMinutesWithoutADatabase(t *testing.T) {
	for _, guarded := range []bool{false, true} {
		inBubble(t, 50, policyOf(50, 2*time.Minute), func(b *bubble) {
			b.store.head.Parts[0].Guarded = guarded
			stop := b.start()
			b.until(time.Minute, "soaking", func() bool {
				for _, r := range b.store.runs {
					if r.Run.State != ladder.Soaking {
						return false
					}
				}
				return true
			})
			b.store.mu.Lock()
			b.store.gone = time.Now().Add(5 * time.Minute)
			b.store.mu.Unlock()
			b.until(time.Hour, "through", b.ended)
			stop()
			b.truth(fmt.Sprintf("guarded %v", guarded))
			for _, r := range b.store.runs {
				if r.Run.State != ladder.Done {
					b.Errorf("%s is %s (%s)", r.Host, r.Run.State, r.Run.Why)
				}
			}
		})
	}
}

// TestAnOrderlyStopGivesTime ends the server in order in the soak of hosts whose
// guard's own span is short, as for an upgrade: each is given time enough, and
// neighbours do not fire at the same moment.
func TestAnOrderlyStopGivesTime(t *testing.T) {
	inBubble(t, 6, policyOf(6, 5*time.Minute), func(b *bubble) {
		b.store.head.Parts[0].Guard = ladder.Span(10 * time.Second)
		stop := b.start()
		time.Sleep(2 * time.Minute)
		stop()
		spans := map[time.Duration]bool{}
		for _, h := range b.hosts {
			span := time.Until(h.due)
			spans[span.Truncate(time.Second)] = true
			if h.guard != ladder.Pending || span < leaveSpan-time.Second {
				b.Errorf("%s: its guard is %s, for %s", h.name, h.guard, span)
			}
		}
		if len(spans) < len(b.hosts) {
			b.Errorf("the guards of neighbours fire at the same moment: %v", spans)
		}
		time.Sleep(leaveSpan - time.Minute)
		stop = b.start()
		b.until(time.Hour, "through", b.ended)
		stop()
		b.truth("after an orderly stop")
		for _, r := range b.store.runs {
			if r.Run.State != ladder.Done {
				b.Errorf("%s is %s (%s)", r.Host, r.Run.State, r.Run.Why)
			}
		}
	})
}

// TestEachCallToTheStoreFails has each call fail once, refused and unheard: the
// host ends whole and truly told, without a look.
func TestEachCallToTheStoreFails(t *testing.T) {
	calls := 0
	for _, how := range []answers{refused, unheard} {
		for at, through := 1, false; !through; at++ {
			inBubble(t, 1, policyOf(1, 15*time.Second), func(b *bubble) {
				n := 0
				b.store.fail = func(string) answers {
					if n++; n == at {
						return how
					}
					return ""
				}
				stop := b.start()
				b.until(time.Hour, "through", b.ended)
				through = n < at
				stop()
				b.truth(fmt.Sprintf("call %d %s", at, how))
				if r := b.store.runs[0]; r.Run.State != ladder.Done || r.Run.Losses > 1 {
					b.Errorf("call %d %s: %s, lost %d times", at, how, b.told(), r.Run.Losses)
				}
				calls++
			})
		}
	}
	t.Logf("%d calls failed once", calls)
}

// TestHowLongAHostIsLookedFor walks where a host is lost, for how long, and what
// comes of it, with the limits that servers have.
func TestHowLongAHostIsLookedFor(t *testing.T) {
	for _, c := range []struct {
		at   string // the operation that is cut
		away time.Duration
		want ladder.RunState
		why  string
	}{
		{"claim", time.Hour, ladder.PassedOver, "could not be looked at since"},
		{"claim", 10 * time.Second, ladder.Done, ""},
		{"place", 30 * time.Second, ladder.Done, ""},
		{"place", 5 * time.Minute, ladder.Restored, "guard fired"},
		{"watch", 30 * time.Second, ladder.Done, ""},
		{"watch", 5 * time.Minute, ladder.Restored, "guard fired"},
		{"watch", time.Hour, ladder.Stranded, "could not be looked at since"},
		{"confirm", 5 * time.Minute, ladder.Done, ""}, // its span is long then
		{"confirm", time.Hour, ladder.Stranded, "could not be looked at since"},
	} {
		inBubble(t, 1, policyOf(1, 15*time.Second), func(b *bubble) {
			h := b.hosts["b00"]
			met := false
			h.fault = func(operation string) answer {
				if operation != c.at || met {
					return ""
				}
				met, h.away = true, true
				time.AfterFunc(c.away, func() {
					h.mu.Lock()
					defer h.mu.Unlock()
					h.away = false
				})
				return cut
			}
			stop := b.start()
			b.until(3*time.Hour, "through", b.ended)
			stop()
			r := b.store.runs[0].Run
			if r.State != c.want || !strings.Contains(r.Why, c.why) {
				b.Errorf("away for %s at %s: %s (%s); want %s", c.away, c.at, r.State, r.Why, c.want)
			}
			time.Sleep(time.Hour)
			if h.file != h.process || (h.file == "new") != (c.want == ladder.Done) {
				b.Errorf("away for %s at %s: its file is %s, its process %s", c.away, c.at, h.file, h.process)
			}
		})
	}
}
