package engine

import (
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/host"
	"wladder/standin"
	"wladder/store/faulty"
)

// every has each statement meet an outage, of 40 s too, which takes minutes.
var every = flag.Bool("every", false, "let the database be gone at each statement, for 40 s too")

// behindProxy has the rig's engine reach its database through a proxy.
func (r *rig) behindProxy() *faulty.Proxy {
	r.t.Helper()
	r.stop()
	p := faulty.Start(r.t, r.url)
	r.proxied = p.URL()
	r.start()
	return p
}

// TestFailingDatabase has single statements of a host run fail, each once, in several ways (with
// -every each in every way): the run ends whole and truly told, every time.
func TestFailingDatabase(t *testing.T) {
	ways := []struct {
		kind  faulty.Kind
		away  time.Duration
		rigs  int // that share the statements
		every bool
	}{
		{faulty.Error, 0, 2, false}, {faulty.Cut, 0, 2, false}, {faulty.Swallow, 0, 2, false}, {faulty.Gone, 3 * time.Second, 4, false}, {faulty.Gone, 40 * time.Second, 24, true},
	}
	for k, w := range ways {
		if w.every && !*every {
			continue
		}
		stride := 10 // each tenth, others in another way
		if *every {
			stride = 1
		}
		t.Run(fmt.Sprintf("%s %s", w.kind, w.away), func(t *testing.T) {
			t.Parallel()
			injected, n := map[string]int{}, 0
			var mu sync.Mutex
			var all sync.WaitGroup
			for i := range w.rigs {
				all.Go(func() {
					failed := failing(t, w.kind, w.away, i*stride+k%stride, w.rigs*stride)
					mu.Lock()
					defer mu.Unlock()
					for _, what := range failed {
						injected[what]++
						n++
					}
				})
			}
			all.Wait()
			t.Logf("%d failures injected, into %d different statements:\n  %s", n, len(injected), strings.Join(slices.Sorted(maps.Keys(injected)), "\n  "))
			if n*stride < 30 || len(injected) < 4 {
				t.Errorf("only %d failures were injected, into %d different statements", n, len(injected))
			}
		})
	}
}

// failing lets one host climb again and again, with the nth statement failing
// where n is first modulo step, until a run has fewer statements than that.
func failing(t *testing.T, kind faulty.Kind, away time.Duration, first, step int) []string {
	r := newRig(t, 1)
	r.lease = 2 * time.Second
	p := r.behindProxy()
	for n := first + 1; ; n += step {
		p.Settle()
		value := 1024 + n
		// Every third run has to be put back.
		want, text := ladder.Done, fmt.Sprintf("worker_connections %d;", value)
		before := r.file(0)
		r.hosts[0].Mend()
		if n%3 == 0 {
			r.hosts[0].Script(&standin.Fault{Do: standin.AnswerWrongly, When: text})
			want = ladder.Restored
		}
		id := r.draft(fmt.Sprintf("  - {set: events/worker_connections, to: %d}", value), "{stages: [{hosts: all}], soak: 300ms}")
		r.approved(id)
		p.Fail(n, kind, away)
		ran := len(r.hosts[0].Ran())
		if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
			t.Fatal(err)
		}
		d := r.untilWithin(id, 90*time.Second, func(d shown) bool {
			return d.Climb.State != ladder.Running && d.Counts[ladder.Queued] == 0 && len(d.runs) == 1 && d.runs[0].State.Final()
		})
		seen := len(p.Seen())
		run := d.runs[0]
		isNew := strings.Contains(r.file(0), text)
		if run.State != want || isNew != (want == ladder.Done) || want == ladder.Restored && r.file(0) != before || want == ladder.Done && run.Why != "" {
			t.Errorf("%s of statement %d (%v): %s (%s), new: %v; want %s", kind, n, p.Injected(), run.State, run.Why, isNew, want)
		}
		full, err := r.store.HostRun(t.Context(), id, "b00")
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range full.Steps {
			if s.Outcome == "" {
				t.Errorf("%s of statement %d: a step was left open: %+v", kind, n, full.Steps)
			}
		}
		acts := slices.DeleteFunc(r.hosts[0].Ran()[ran:], func(name string) bool { return name != "act" })
		if len(acts) != map[bool]int{true: 1, false: 2}[want == ladder.Done] {
			t.Errorf("%s of statement %d: acted %d times: %+v", kind, n, len(acts), full.Steps)
		}
		if want == ladder.Restored { // the climb pauses at it; it is done with
			if err := r.store.Order(t.Context(), "ines", id, ladder.Stop, "it has to be", host.ScriptsDigest()); err != nil {
				t.Fatal(err)
			}
			r.untilWithin(id, 90*time.Second, func(d shown) bool { return d.State == change.Stopped }) // an outage may last
		}
		if seen < n { // it never came to that statement
			break
		}
	}
	if _, err := r.store.AppendRecord(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := r.store.VerifyRecord(t.Context()); err != nil {
		t.Errorf("the record: %v", err)
	}
	return p.Injected()
}
