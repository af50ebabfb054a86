package ladder

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"wladder/core/expr"
)

func hostsOf(n int) []Host {
	all := make([]Host, n)
	for i := range all {
		all[i] = Host{Host: expr.Host{Name: fmt.Sprint("h", i), Labels: map[string]string{"site": []string{"upland", "delta"}[i%2]}}}
	}
	return all
}

func TestAssign(t *testing.T) {
	delta := Stage{Where: `labels.site == "delta"`}
	for _, c := range []struct {
		stages []Stage
		alone  []int
		want   string
	}{
		{[]Stage{{Count: 1}, delta, {Percent: 75}}, nil, "[0 1 2 1 2 1 3 1 3 1] of 5"}, // a stage for the rest, and one for what was not reached
		{[]Stage{{Named: []string{"h7", "h2", "elsewhere"}}, {Percent: 100}}, nil, "[1 1 0 1 1 1 1 0 1 1] of 3"},
		{[]Stage{{Percent: 50}, {Percent: 100}}, []int{0, 9}, "[3 0 0 0 0 1 1 1 1 3] of 4"}, // half of those that do not go alone
	} {
		p, err := Policy{Stages: c.stages}.Defaulted()
		if err != nil {
			t.Fatal(err)
		}
		all := hostsOf(10)
		for _, i := range c.alone {
			all[i].Alone = true
		}
		p, places, err := p.Assign(all)
		stages := make([]int, len(places))
		for i, place := range places {
			stages[i] = place.Stage
		}
		if got := fmt.Sprintf("%v of %d", stages, len(p.Stages)); err != nil || got != c.want {
			t.Errorf("%v: got %s, %v; want %s", c.stages, got, err, c.want)
		}
	}
	for text, bad := range map[string]bool{"0": true, "101%": true, "x%": true, "": true, "1": false, "5%": false, "100%": false} {
		if _, err := UpTo(text); (err != nil) != bad {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestSpread has pools of different size, with two hosts to a rack, come evenly: no stage takes
// more of a pool than its share, and neighbours stand far from each other.
func TestSpread(t *testing.T) {
	var all []Host
	for pool, n := range map[string]int{"coast": 40, "delta": 20, "upland": 4} {
		for i := range n {
			all = append(all, Host{Host: expr.Host{Name: fmt.Sprint(pool, i)}, Pool: pool, Apart: fmt.Sprint(pool, i/2)})
		}
	}
	p, _ := Policy{Stages: []Stage{{Percent: 25}, {Percent: 50}, {Percent: 100}}}.Defaulted()
	_, places, err := p.Assign(all)
	if err != nil {
		t.Fatal(err)
	}
	byTurn, staged := make([]int, len(all)), map[string]int{}
	for i, place := range places {
		byTurn[place.Turn] = i
		staged[fmt.Sprint(all[i].Pool, place.Stage)]++
	}
	if want := "map[coast0:10 coast1:10 coast2:20 delta0:5 delta1:5 delta2:10 upland0:1 upland1:1 upland2:2]"; fmt.Sprint(staged) != want {
		t.Errorf("pools over stages: %v; want %s", staged, want)
	}
	last := map[string]int{}
	for turn, i := range byTurn {
		if before, there := last[all[i].Apart]; there && turn-before < 10 {
			t.Errorf("neighbours of %s stand %d apart", all[i].Apart, turn-before)
		}
		last[all[i].Apart] = turn
	}
}

// TestPick starts hosts of random fleets, whose probes answer as they do, and holds what Pick
// promises; every host that may be started is, in the end.
func TestPick(t *testing.T) {
	kept := 0 // that a pool was too ill to go on
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 3))
		p := Policy{AtOnce: 1 + r.IntN(6), PoolAtOnce: r.IntN(3)}
		n, keep := 1+r.IntN(12), r.IntN(4)
		pools, ill := []string{"a", "b", "c"}[:1+r.IntN(3)], map[int64]bool{}
		var queued []Candidate
		for i := range n {
			c := Candidate{Host: int64(i), Pools: []string{pools[r.IntN(len(pools))]}}
			if r.IntN(2) == 0 {
				c.Apart = fmt.Sprint(r.IntN(4))
			}
			queued, ill[c.Host] = append(queued, c), r.IntN(6) == 0
		}
		whole := slices.Clone(queued)
		working := map[int64]Candidate{}
		known := map[int64]bool{}
		for step := 0; len(queued)+len(working) > 0; step++ {
			now, beside := map[string]*Pool{}, map[string]bool{}
			for _, name := range pools {
				now[name] = &Pool{Keep: keep, Well: map[int64]bool{}}
			}
			for _, c := range whole {
				pool := now[c.Pools[0]]
				if _, out := working[c.Host]; out {
					pool.Out++
					beside[c.Apart] = true
					continue
				}
				if pool.Hosts++; known[c.Host] {
					pool.Well[c.Host] = !ill[c.Host]
				}
			}
			wellOf := map[string]int{}
			for name, pool := range now {
				wellOf[name] = pool.well()
			}
			picked := Pick(p, queued, p.AtOnce-len(working), now, beside)
			racks := map[string]int{}
			for _, c := range working {
				racks[c.Apart]++
			}
			for _, i := range picked.Start {
				c := queued[i]
				working[c.Host] = c
				racks[c.Apart]++
				if well := wellOf[c.Pools[0]]; keep > 0 && well <= keep {
					t.Fatalf("seed %d: started with %d well of a pool that keeps %d", seed, well, keep)
				}
				if known[c.Host] && !ill[c.Host] {
					wellOf[c.Pools[0]]--
				}
			}
			out := map[string]int{}
			for _, c := range working {
				out[c.Pools[0]]++
			}
			for name, k := range out {
				if p.PoolAtOnce > 0 && k > p.PoolAtOnce {
					t.Fatalf("seed %d: %d of pool %s under way; want %d", seed, k, name, p.PoolAtOnce)
				}
			}
			for rack, k := range racks {
				if rack != "" && k > 1 {
					t.Fatalf("seed %d: %d neighbours under way", seed, k)
				}
			}
			if len(working) > p.AtOnce {
				t.Fatalf("seed %d: %d under way of %d", seed, len(working), p.AtOnce)
			}
			queued = slices.DeleteFunc(queued, func(c Candidate) bool { _, is := working[c.Host]; return is })
			asked := false
			for name, want := range picked.Ask {
				if want > keep+p.AtOnce {
					t.Fatalf("seed %d: asks %d hosts of a pool that keeps %d, %d at once", seed, want, keep, p.AtOnce)
				}
				for _, c := range whole {
					if _, out := working[c.Host]; !out && c.Pools[0] == name && !known[c.Host] {
						known[c.Host], asked = true, true
					}
				}
			}
			if len(working) == 0 && !asked {
				if kept++; picked.Why == "" {
					t.Fatalf("seed %d: %d hosts wait without a reason", seed, len(queued))
				}
				break
			}
			for host := range working { // one is done, and fresh probes are wanted
				delete(working, host)
				clear(known)
				break
			}
			if step > 1000 {
				t.Fatalf("seed %d never ends", seed)
			}
		}
	}
	if kept < 100 || kept > 1900 {
		t.Errorf("%d of 2000 fleets were kept", kept)
	}
}

// played is a climb with its runs, counted as the store counts them.
type played struct {
	Climb
	stages   []Rung
	states   []RunState
	failed   []bool
	accepted int
}

func (p *played) count() {
	p.Stage, p.UnderWay, p.Failures, p.Barren, p.Done = len(p.Policy.Stages), 0, map[int]Failing{}, nil, false
	through, there := map[int]bool{}, map[int]bool{}
	for i, s := range p.states {
		if !s.Final() {
			p.Stage = min(p.Stage, p.stages[i].Stage)
			if s != Queued {
				p.UnderWay++
			}
		}
		at := p.stages[i].Stage
		f := p.Failures[at]
		if f.Of++; p.failed[i] {
			f.Failed++
		}
		p.Failures[at], there[at] = f, true
		through[at] = through[at] || s == Done
		p.Done = p.Done || s == Done
	}
	for at := p.accepted; at < p.Stage; at++ {
		if there[at] && !through[at] {
			p.Barren = append(p.Barren, at)
		}
	}
}

// TestDecide plays a thousand random climbs and holds what Decide promises.
func TestDecide(t *testing.T) {
	ends := map[ClimbState]int{}
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 1))
		n := 1 + r.IntN(30)
		p, _ := Policy{AtOnce: 1 + r.IntN(5), PauseAfter: 1 + r.IntN(3), Stages: []Stage{{Count: 1}, {Percent: 40, Gate: r.IntN(2) == 0}}}.Defaulted()
		p, stages, _ := p.Assign(hostsOf(n))
		c := &played{Climb: Climb{State: Running, Policy: p}, stages: stages, states: make([]RunState, n), failed: make([]bool, n)}
		for i := range n {
			c.states[i] = Queued
		}
		dead := r.IntN(10) == 0 // no host of this climb comes through
		for step := 0; c.State != Completed && c.State != Stopped; step++ {
			if step > 500 {
				t.Fatalf("seed %d: never ends", seed)
			}
			c.count()
			d := Decide(c.Climb)
			if d.State != c.State && d.State != Completed && d.Why == "" {
				t.Fatalf("seed %d: becomes %s without a reason", seed, d.State)
			}
			if d.State == Completed && !c.Done {
				t.Fatalf("seed %d: completed though no host is done", seed)
			}
			c.State = d.State
			var started []int
			for i, s := range c.states { // any that can be started, in any order
				if s == Queued && (d.Skip || c.stages[i].Stage == c.Stage) {
					started = append(started, i)
				}
			}
			r.Shuffle(len(started), func(a, b int) { started[a], started[b] = started[b], started[a] })
			for k, i := range started {
				switch {
				case d.Skip:
					c.states[i] = PassedOver
				case k < d.Start:
					for stage, n := range c.Failures {
						if c.State != Running || n.Failed >= p.PauseAfter {
							t.Fatalf("seed %d: starts a host while %s with %d failures in stage %d", seed, c.State, n.Failed, stage+1)
						}
					}
					if p.Stages[c.Stage].Gate && c.Open <= c.Stage {
						t.Fatalf("seed %d: passes a closed gate", seed)
					}
					c.states[i] = Working
				}
			}
			c.count()
			if c.UnderWay > p.AtOnce {
				t.Fatalf("seed %d: %d hosts under way; at_once is %d", seed, c.UnderWay, p.AtOnce)
			}
			var active []int
			for i, s := range c.states {
				if !s.Final() && s != Queued {
					active = append(active, i)
					if c.stages[i].Stage > c.Stage {
						t.Fatalf("seed %d: stage %d under way before stage %d is through", seed, c.stages[i].Stage, c.Stage)
					}
				}
			}
			if len(active) > 0 {
				i := active[r.IntN(len(active))]
				if c.states[i] = Done; dead {
					c.states[i] = PassedOver
				} else if r.IntN(8) == 0 {
					c.states[i], c.failed[i] = Restored, true
				}
				continue
			}
			if c.State == Paused || c.State == Waiting {
				if r.IntN(6) == 0 || c.Stage == len(p.Stages) && !c.Done {
					c.State, _ = Told(c.State, Stop)
				} else {
					if c.State == Waiting {
						c.Open = c.Stage + 1
					}
					c.accepted = c.Stage
					clear(c.failed)
					c.State, _ = Told(c.State, Resume)
				}
			}
		}
		ends[c.State]++
	}
	if ends[Completed] < 100 || ends[Stopped] < 100 {
		t.Errorf("they ended %v", ends)
	}
}

// TestOrders holds the table of orders: what each makes of a climb in each state.
func TestOrders(t *testing.T) {
	const no = ClimbState("")
	for s, want := range map[ClimbState]map[Order]ClimbState{
		Running:   {Pause: Paused, Resume: no, Stop: Stopping, RollBack: Stopping},
		Paused:    {Pause: no, Resume: Running, Stop: Stopping, RollBack: Stopping},
		Waiting:   {Pause: Paused, Resume: Running, Stop: Stopping, RollBack: Stopping},
		Stopping:  {Pause: no, Resume: no, Stop: no, RollBack: no},
		Completed: {Pause: no, Resume: no, Stop: no, RollBack: Completed},
		Stopped:   {Pause: no, Resume: no, Stop: no, RollBack: Stopped},
	} {
		for _, o := range Orders {
			next, ok := Told(s, o)
			if ok != (want[o] != no) || ok && next != want[o] || !ok && next != s {
				t.Errorf("%s told to %s: %s, %v; want %q", s, o, next, ok, want[o])
			}
		}
	}
}

// TestPickAsksFew has no more pools asked than can fill the room, and some besides: answers are
// soon too old.
func TestPickAsksFew(t *testing.T) {
	var all []Candidate
	pools := map[string]*Pool{}
	for i := range 800 { // eight of each of a hundred pools, evenly spread
		name := fmt.Sprint("p", i%100)
		all = append(all, Candidate{Host: int64(i), Pools: []string{name}})
		pools[name] = &Pool{Keep: 3, Hosts: 8, Well: map[int64]bool{}}
	}
	for room, want := range map[int]int{1: 4, 10: 4, 40: 10, 400: 100} {
		if picked := Pick(Policy{AtOnce: room}, all, room, pools, map[string]bool{}); len(picked.Start) != 0 || len(picked.Ask) != want || picked.Ask["p0"] != 3+min(room, 8) {
			t.Errorf("room for %d: %d start, %d pools are asked, the first for %d; want %d", room, len(picked.Start), len(picked.Ask), picked.Ask["p0"], want)
		}
	}
}

// TestGather has two hundred pools of fifty hosts, each of which keeps half: those that have their
// turns beside each other can all be asked in time, and fill the room; where few pools are asked, or
// none keeps any, they all take turns as before.
func TestGather(t *testing.T) {
	for _, c := range []struct {
		pools, each, keep, atOnce int
		most                      int // pools among any as many hosts as are under way
	}{
		{200, 50, 25, 500, 48}, // of two blocks, where one passes into the next
		{200, 50, 0, 500, 200},
		{10, 50, 25, 500, 10},
		{60, 10, 9, 200, 60}, // each has one to spare: all are needed to fill the room
	} {
		var all []Host
		for n := range c.pools * c.each {
			all = append(all, Host{Host: expr.Host{Name: fmt.Sprint("h", n)}, Pool: fmt.Sprint(n % c.pools), Keep: c.keep})
		}
		p, _ := Policy{Stages: []Stage{{Percent: 100}}, AtOnce: c.atOnce}.Defaulted()
		_, places, err := p.Assign(all)
		if err != nil {
			t.Fatal(err)
		}
		byTurn := make([]int, len(all))
		for i, place := range places {
			byTurn[place.Turn] = i
		}
		most := 0
		for from := 0; from+c.atOnce <= len(all); from += 100 {
			there := map[string]bool{}
			for _, i := range byTurn[from : from+c.atOnce] {
				there[all[i].Pool] = true
			}
			most = max(most, len(there))
		}
		if most != c.most {
			t.Errorf("%d pools of %d that keep %d, %d at once: up to %d pools have their turns together; want %d", c.pools, c.each, c.keep, c.atOnce, most, c.most)
		}
	}
}
