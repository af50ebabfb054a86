package ladder

import (
	"cmp"
	"flag"
	"fmt"
	"slices"
	"testing"
	"time"
)

var wide = flag.Bool("wide", false, "explore the model with two hosts that are lost at any moment, for minutes")

// model is a whole world in small: a climb as it is written down, what is written of each of its
// hosts, and what each is really like. Decide, Pick, Told and Run.Next are the ones that ship.
type model struct {
	state    ClimbState
	open     int
	accepted int
	hosts    [3]modelHost // those behind n are empty
}

// modelHost is one of them. Of a run only that is kept on which decisions rest; reasons are not
// compared.
type modelHost struct {
	state         RunState
	step, lost    Step
	files         Files
	process       Process
	failed        bool
	forgiven      bool
	undone, again bool
	losses        int
	real          truth
}

// truth is what a host is really like.
type truth struct {
	files    Files   // old, new or mixed
	process  Process // old, new or down
	guard    GuardState
	undoneBy bool // its guard has fired, put back and acted
	acts     int  // forward
	out      bool // of the way
}

// packed is a world in few bytes, since there are millions.
type packed [3 + 3*11]byte

var (
	packedStates = RunStates
	packedClimbs = []ClimbState{Running, Paused, Waiting, Stopping, Completed, Stopped}
	packedSteps  = append(append([]Step{"", Look}, Forward...), Back...)
	packedFiles  = []Files{"", FilesOld, FilesNew, FilesMixed, FilesUnknown}
	packedProc   = []Process{"", ProcessOld, ProcessNew, ProcessDown, ProcessUnknown}
	packedGuards = []GuardState{"", NoGuard, Pending, Firing, Fired, Disarmed}
)

func (m model) pack() (p packed) {
	p[0], p[1], p[2] = byte(slices.Index(packedClimbs, m.state)), byte(m.open), byte(m.accepted)
	for i, h := range m.hosts {
		if h.state == "" {
			continue
		}
		flags := byte(0)
		for k, set := range []bool{h.failed, h.forgiven, h.undone, h.again, h.real.undoneBy, h.real.out} {
			if set {
				flags |= 1 << k
			}
		}
		copy(p[3+11*i:], []byte{
			1 + byte(slices.Index(packedStates, h.state)), byte(slices.Index(packedSteps, h.step)), byte(slices.Index(packedSteps, h.lost)), byte(slices.Index(packedFiles, h.files)), byte(slices.Index(packedProc, h.process)),
			flags, byte(h.losses), byte(slices.Index(packedFiles, h.real.files)), byte(slices.Index(packedProc, h.real.process)), byte(slices.Index(packedGuards, h.real.guard)), byte(h.real.acts),
		})
	}
	return p
}

func (p packed) model() (m model) {
	m.state, m.open, m.accepted = packedClimbs[p[0]], int(p[1]), int(p[2])
	for i := range m.hosts {
		b := p[3+11*i:]
		if b[0] == 0 {
			continue
		}
		set := func(k int) bool { return b[5]&(1<<k) != 0 }
		m.hosts[i] = modelHost{
			state: packedStates[b[0]-1], step: packedSteps[b[1]], lost: packedSteps[b[2]], files: packedFiles[b[3]], process: packedProc[b[4]],
			failed: set(0), forgiven: set(1), undone: set(2), again: set(3), losses: int(b[6]),
			real: truth{files: packedFiles[b[7]], process: packedProc[b[8]], guard: packedGuards[b[9]], undoneBy: set(4), acts: int(b[10]), out: set(5)},
		}
	}
	return m
}

// shape is what does not change while a model is explored.
type shape struct {
	policy  Policy
	stages  []int
	crashes int // how often sight of a host is lost at most
	drains  bool
}

var modelLimits = Limits{TryFor: time.Minute, LookFor: time.Hour}

func (h modelHost) run(s shape) Run {
	r := Run{State: h.state, Step: h.step, Lost: h.lost, Files: h.files, Process: h.process, Failed: h.failed, Undone: h.undone, Again: h.again, Losses: h.losses, Places: true, Acts: []bool{true}, Drains: s.drains}
	if r.State != Done && r.State != Working && r.State != Soaking {
		r.Why = "a reason"
	}
	return r
}

func (h modelHost) written(r Run) modelHost {
	h.state, h.step, h.lost, h.files, h.process, h.failed, h.undone, h.losses = r.State, r.Step, r.Lost, r.Files, r.Process, r.Failed, r.Undone, r.Losses
	if r.State == Queued { // it is tried once more, in a stage of its own
		h.again, h.losses = false, 0
	}
	return h
}

// event is one thing that may happen to a host now: what becomes of it, and what its run is told;
// nil where that is not written, since whoever works on it is lost first.
type modelEvent struct {
	name  string
	real  truth
	event *Event
}

// may lists what may happen next to a host whose run is under way.
func (h modelHost) may(s shape) (all []modelEvent) {
	now := time.Date(2031, 3, 1, 3, 0, 0, 0, time.UTC)
	t := h.real
	add := func(name string, real truth, outcome Outcome, change ...func(*Event)) {
		e := Event{Kind: Ended, At: now, Outcome: outcome, Note: "n"}
		for _, f := range change {
			f(&e)
		}
		all = append(all, modelEvent{name, real, &e})
	}
	lost := func(name string, real truth) { // it is done, or not, and nobody hears of it
		if h.losses < s.crashes {
			all = append(all, modelEvent{"crash " + name, real, nil})
			e := Event{Kind: Ended, At: now, Outcome: Lost, Note: "n"}
			all = append(all, modelEvent{"cut " + name, real, &e})
		}
	}
	after := t
	switch h.step {
	case Place:
		after.files = FilesNew
		half := t
		half.files = FilesMixed
		add("overtaken", t, Overtaken)
		add("half", half, Failed)
		lost("half placed", half)
	case Act:
		after.process, after.acts = processOf(t.files), t.acts+1
		dead := after
		dead.process = ProcessDown
		add("dies", dead, Failed)
		lost("dies", dead)
	case Confirm:
		if t.guard == Pending {
			after.guard = Disarmed
		}
	case Restore:
		after.files = FilesOld
	case ActAgain:
		if t.undoneBy { // the host tells, and does nothing
			add("was acted on by its guard", t, OK, func(e *Event) { e.Undone = true })
			return all
		}
		after.process = processOf(t.files)
		dead := after
		dead.process = ProcessDown
		add("dies", dead, Failed)
	case DisarmAgain:
		if t.guard == Pending {
			after.guard = NoGuard
		}
	case Drain:
		after.out = true
		add("stays busy", after, Failed)
	case Readmit, ReadmitAgain:
		after.out = false
		add("stays out", t, Failed)
	case Guard:
		after.guard = Pending
	case Look:
		sight := Sight{Files: t.files, Process: t.process, Guard: t.guard, Undone: t.undoneBy}
		add("looks", t, OK, func(e *Event) { e.Sight = &sight })
		add("cannot be looked at for too long", t, NotBegun, func(e *Event) { e.At = now.Add(time.Hour) })
		return all
	case Trial, InForce, Settle, Probe, Reconnect, Soak:
		add("is not well", t, Failed)
		if h.step != Trial {
			add("is not well, as others are not", t, Failed, func(e *Event) { e.Doubt = true })
		}
	case Connect:
		if t.guard != Pending {
			add("is away for too long", t, NotBegun, func(e *Event) { e.At = now.Add(time.Hour) })
		}
	}
	lost("before "+string(h.step), t)
	if after != t {
		lost("behind "+string(h.step), after)
	}
	fired := t.guard == Fired
	switch {
	case fired && (h.step == Confirm || h.step == Drain || h.step == Place || h.step == Act || h.step == Readmit || h.step == Settle || h.step == InForce || h.step == Soak || h.step == Probe):
		add("finds that its guard has fired", t, Lost) // these look at the guard, each round trip
	case fired && h.step == Restore:
		add("restore", after, OK, func(e *Event) { e.Undone = t.undoneBy })
	case h.step == Probe && (t.process == ProcessDown || t.out), h.step == ProbeAgain && (t.process != ProcessOld || t.out):
		add("is not well", t, Failed)
	default:
		add(string(h.step), after, OK)
	}
	if t.guard == Pending { // nobody is heard of for its span
		gone := t
		gone.guard, gone.files, gone.process, gone.undoneBy, gone.out = Fired, FilesOld, ProcessOld, true, false
		all = append(all, modelEvent{name: "guard fires", real: gone, event: &Event{}})
	}
	if h.state == Working || h.state == Soaking {
		all = append(all, modelEvent{"recalled", t, &Event{Kind: Recalled, At: now, Note: "n"}})
	}
	return all
}

func processOf(f Files) Process {
	if f == FilesNew {
		return ProcessNew
	}
	return ProcessOld
}

// happens gives the host after an event.
func (h modelHost) happens(e modelEvent, s shape) modelHost {
	h.real = e.real
	switch {
	case e.event == nil: // taken over by somebody who finds the step begun
		return h.written(h.run(s).Next(Event{Kind: Orphaned, Outcome: Lost}, modelLimits))
	case e.event.Kind == "":
		return h // the host's own doing
	}
	r := h.run(s)
	if e.event.Outcome == NotBegun {
		r.Since = e.event.At.Add(-time.Hour)
	}
	return h.written(r.Next(*e.event, modelLimits))
}

// climb gives what Decide sees.
func (m model) climb(s shape) Climb {
	c := Climb{State: m.state, Policy: s.policy, Open: m.open, Stage: len(s.policy.Stages), Failures: map[int]Failing{}}
	through, there := map[int]bool{}, map[int]bool{}
	for i, h := range m.hosts[:len(s.stages)] {
		at := m.stage(s, i)
		if !h.state.Final() {
			c.Stage = min(c.Stage, at)
			if h.state != Queued {
				c.UnderWay++
			}
		}
		f := c.Failures[at]
		if f.Of++; h.failed && !h.forgiven {
			f.Failed++
		}
		c.Failures[at], there[at] = f, true
		through[at] = through[at] || h.state == Done
		c.Done = c.Done || h.state == Done
	}
	for at := m.accepted; at < c.Stage; at++ {
		if there[at] && !through[at] {
			c.Barren = append(c.Barren, at)
		}
	}
	return c
}

// stage is where a host stands: one that is tried once more stands in the stage for those.
func (m model) stage(s shape, i int) int {
	if again, ok := s.policy.AgainAt(); ok && !m.hosts[i].again {
		return again
	}
	return s.stages[i]
}

// next lists what may follow: a host goes on, the ladder decides, or a person orders.
func (m model) next(s shape) (all []model, names []string) {
	add := func(n model, name string) {
		if n != m {
			all, names = append(all, n), append(names, name)
		}
	}
	for i, h := range m.hosts[:len(s.stages)] {
		if h.state == Queued || h.state.Final() {
			continue
		}
		for _, e := range h.may(s) {
			if e.name == "recalled" && m.state != Stopping {
				continue
			}
			n := m
			n.hosts[i] = h.happens(e, s)
			add(n, fmt.Sprintf("host %d %s", i, e.name))
		}
	}
	d := Decide(m.climb(s))
	n := m
	n.state = d.State
	c := m.climb(s)
	var candidates []Candidate
	var at []int
	for i := range s.stages {
		if m.hosts[i].state == Queued {
			if d.Skip {
				n.hosts[i].state = PassedOver
			} else if m.stage(s, i) == c.Stage {
				candidates, at = append(candidates, Candidate{Host: int64(i)}), append(at, i)
			}
		}
	}
	picked := Pick(s.policy, candidates, d.Start, nil, map[string]bool{})
	for _, k := range picked.Start {
		i := at[k]
		n.hosts[i].state, n.hosts[i].step = Start.State, Start.Step
	}
	add(n, "the ladder decides")
	for _, o := range Orders {
		state, ok := Told(m.state, o)
		if !ok || o == RollBack && state == m.state {
			continue
		}
		n := m
		n.state = state
		if o == Resume { // as the store does: what has ended is forgiven
			if c.Stage >= len(s.policy.Stages) && !c.Done {
				continue
			}
			under := false
			for i, h := range m.hosts {
				under = under || h.failed && !h.forgiven && !h.state.Final()
				n.hosts[i].forgiven = h.forgiven || h.failed
			}
			if under {
				continue
			}
			if n.accepted = c.Stage; m.state == Waiting {
				n.open = max(m.open, c.Stage+1)
			}
		}
		add(n, "ordered to "+string(o))
	}
	return all, names
}

// wrong says what must never be; empty where all is as promised.
func (m model) wrong(s shape) string {
	c := m.climb(s)
	if c.UnderWay > s.policy.AtOnce {
		return fmt.Sprintf("%d under way, at_once is %d", c.UnderWay, s.policy.AtOnce)
	}
	for i, h := range m.hosts[:len(s.stages)] {
		t := h.real
		at := m.stage(s, i)
		switch {
		case h.state.Final() && h.state != Stranded && t.out && t.guard != Pending, (h.state == Done || h.state == Queued) && t.out:
			return fmt.Sprintf("host %d is told %s, and is still out of the way", i, h.state)
		case t.out && (h.step == Baseline || h.step == Recheck || h.step == Trial):
			return fmt.Sprintf("host %d is out of the way at %s, which asks how it was", i, h.step)
		case h.state == Done && (t.files != FilesNew || t.process != ProcessNew || t.guard == Pending):
			return fmt.Sprintf("host %d is told done, and is %+v", i, t)
		case h.state == Restored && (t.files != FilesOld || t.process != ProcessOld || t.guard == Pending):
			return fmt.Sprintf("host %d is told restored, and is %+v", i, t)
		case (h.state == PassedOver || h.state == Queued) && (t.files != FilesOld || t.process != ProcessOld):
			return fmt.Sprintf("host %d is told %s, and is %+v", i, h.state, t)
		case t.acts > 1+h.losses && h.again: // once, and once more for each time that nobody knew
			return fmt.Sprintf("host %d was acted on %d times", i, t.acts)
		case h.state != Queued && h.state != PassedOver && at > c.Stage && !h.state.Final():
			return fmt.Sprintf("host %d of stage %d is under way before stage %d is through", i, at+1, c.Stage+1)
		case h.state != Queued && h.state != PassedOver && at < len(s.policy.Stages) && s.policy.Stages[at].Gate && m.open <= at:
			return fmt.Sprintf("host %d is past a closed gate", i)
		}
	}
	return ""
}

// TestModel explores every world that can come about: hosts, stages, what happens to each host,
// whoever works on it lost before and behind each effect, guards that fire, and all orders of people.
// Nothing that must never be comes about, and each world can still come to an end.
func TestModel(t *testing.T) {
	gate := Policy{Stages: []Stage{{}, {Gate: true}, {Again: true}}, AtOnce: 2, PauseAfter: 1}
	flat := Policy{Stages: []Stage{{}, {Again: true}}, AtOnce: 2, PauseAfter: 2}
	shapes := map[string]shape{
		"one host, lost five times":                      {policy: flat, stages: []int{0}, crashes: 5},
		"two hosts, never lost":                          {policy: flat, stages: []int{0, 0}},
		"two hosts, a gate in between":                   {policy: gate, stages: []int{0, 1}},
		"one host that gets out of the way, lost thrice": {policy: flat, stages: []int{0}, crashes: 3, drains: true},
	}
	if *wide {
		shapes["two hosts that get out of the way"] = shape{policy: flat, stages: []int{0, 0}, drains: true}
		shapes["two hosts, each lost once"] = shape{policy: flat, stages: []int{0, 0}, crashes: 1}
		shapes["two hosts, a gate in between, each lost once"] = shape{policy: gate, stages: []int{0, 1}, crashes: 1}
	}
	for name, s := range shapes {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			first := model{state: Running}
			for i := range s.stages {
				first.hosts[i] = modelHost{state: Queued, files: FilesOld, process: ProcessOld, again: true, real: truth{files: FilesOld, process: ProcessOld, guard: NoGuard}}
			}
			// How each came about is told again where it is wanted: names are not kept.
			seen, all, from := map[packed]int32{first.pack(): 0}, []packed{first.pack()}, []int32{-1}
			var ways [][2]int32
			told := func(at int32) (story string) {
				for ; at >= 0; at = from[at] {
					m, how := all[at].model(), "begins"
					if from[at] >= 0 {
						following, names := all[from[at]].model().next(s)
						how = names[slices.Index(following, m)]
					}
					story = fmt.Sprintf("%s\n%s: %s %+v", story, how, m.state, m.hosts[:len(s.stages)])
				}
				return story
			}
			for at := int32(0); int(at) < len(all); at++ {
				m := all[at].model()
				if what := m.wrong(s); what != "" {
					t.Fatalf("%s; how it came, the last first:%s", what, told(at))
				}
				following, _ := m.next(s)
				for _, n := range following {
					key := n.pack()
					to, known := seen[key]
					if !known {
						to = int32(len(all))
						seen[key], all, from = to, append(all, key), append(from, at)
					}
					ways = append(ways, [2]int32{at, to})
				}
			}
			// Whatever has come about, it can come to an end: backwards from there.
			slices.SortFunc(ways, func(a, b [2]int32) int { return cmp.Compare(a[1], b[1]) })
			ends := make([]bool, len(all))
			var queue []int32
			for i, p := range all {
				if m := p.model(); m.state == Completed || m.state == Stopped {
					ends[i], queue = true, append(queue, int32(i))
				}
			}
			for len(queue) > 0 {
				i := queue[0]
				queue = queue[1:]
				k, _ := slices.BinarySearchFunc(ways, i, func(w [2]int32, to int32) int { return cmp.Compare(w[1], to) })
				for ; k < len(ways) && ways[k][1] == i; k++ {
					if before := ways[k][0]; !ends[before] {
						ends[before], queue = true, append(queue, before)
					}
				}
			}
			if i := slices.Index(ends, false); i >= 0 {
				t.Fatalf("this never ends:%s", told(int32(i)))
			}
			t.Logf("%d worlds, %d ways from one to another", len(all), len(ways))
		})
	}
}
