package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// hostRun is one host's part of a climb, as this server works on it.
type hostRun struct {
	*Engine
	*store.Claimed            // as it is written down
	run            ladder.Run // as it stands
	stopping       context.Context
	taken          []view.StepTaken // that ended and are not written down yet
	baseline       []probe.Verdict  // not written down yet
	later          []probe.Verdict  // the same
	called         string           // why the host is to go back, as it was read last

	head     plan.Head
	leaf     plan.Leaf
	services []*service      // those of the plan that concern the host, in the order of acting
	paths    []plan.LeafFile // of all of them, in the order of placing
	files    []host.File     // those, and the links that lead there
	probes   []probe.Probe   // of all of them, and the change's own
	conn     Conn
	claim    host.Claim
	edits    []store.Edited // since we placed them, of paths that are to be rolled back

	secrets  map[string]string
	judges   map[string]secret.Judge // of the files, by path
	redactor *secret.Redactor
}

// service is one of a host run's, as the run works on it.
type service struct {
	plan.Part
	mine           plan.LeafPart
	acting         host.Service // its acts, with what unit files want
	logs           *logBaseline
	refuse, ignore []*regexp.Regexp // of its logs
	door           *doorWatch
}

// acts tells whether something has to take the service's files up.
func (s *service) acts() bool { return s.acting.Act.Acts() }

// at is the service that the run is at.
func (r *hostRun) at() *service { return r.services[min(r.run.At, len(r.services)-1)] }

// of says whose a text is, where the run has several services.
func (r *hostRun) of(s *service, text string) string {
	if len(r.services) > 1 {
		return s.Name() + ": " + text
	}
	return text
}

// result is how a step went.
type result struct {
	outcome  ladder.Outcome
	note     string
	baseline []probe.Verdict
	later    []probe.Verdict // what probes answered after the act
	sight    *ladder.Sight
	undone   bool
	proof    ladder.Proof
	ill      []string // the probes that failed
	doubt    bool     // it says nothing about the host
}

func done(format string, args ...any) result {
	return result{outcome: ladder.OK, note: fmt.Sprintf(format, args...)}
}

func failed(format string, args ...any) result {
	return result{outcome: ladder.Failed, note: fmt.Sprintf(format, args...)}
}

// answered keeps what the probes answered, where that was after the act.
func (r result) answered(at probe.Phase, verdicts []probe.Verdict) result {
	if at == probe.Later {
		r.later = verdicts
	}
	return r
}

// of says which probes failed.
func (r result) of(verdicts []probe.Verdict) result {
	for _, v := range verdicts {
		if !v.Well && !v.Waits {
			r.ill = append(r.ill, v.Probe)
		}
	}
	return r
}

// noReturn tells why a host cannot go back by itself.
type noReturn string

func (n noReturn) Error() string { return string(n) }

// errLeaving tells that the server is told to end: the step is left as it is.
var errLeaving = errors.New("the server is told to end")

// hostRun takes steps until the run ends, or the server is told to end (by
// stopping), or has to let go at once (by mine).
func (e *Engine) hostRun(stopping, mine context.Context, c *store.Claimed) {
	r := &hostRun{Engine: e, Claimed: c, run: c.Run, stopping: stopping, redactor: &secret.Redactor{}, claim: host.Claim{Fence: c.Fence, Run: fmt.Sprintf("run-%d", c.ID)}}
	defer func() {
		for _, s := range r.services {
			s.shut()
		}
		if r.conn != nil {
			r.conn.Close()
		}
	}()
	if c.Begun {
		r.happened(ladder.Event{Kind: ladder.Orphaned, At: time.Now(), Outcome: ladder.Lost, Note: "the server was lost meanwhile"}, time.Now())
	}
	err := r.prepare(mine)
	switch {
	case store.Transient(err) || mine.Err() != nil:
		return // the lease lapses, and another try follows
	case err != nil:
		e.Log.Error("a host run cannot be carried out", "host", c.Host, "change", c.Change, "error", err)
	}
	prepared := err
	for !r.run.State.Final() && r.run.State != ladder.Queued {
		if stopping.Err() != nil {
			r.letGo(mine)
			return
		}
		err := r.step(mine, prepared)
		switch {
		case errors.Is(err, errLeaving):
			r.letGo(mine)
			return
		case err != nil:
			if !errors.Is(context.Cause(mine), context.Canceled) {
				e.Log.Warn("leaving a host run", "host", r.Host, "step", r.run.Step, "error", err)
			}
			return
		}
	}
	e.nudge() // a place may be free
}

// letGo leaves a run in order, between two steps: the host gets time until
// another server comes.
func (r *hostRun) letGo(mine context.Context) {
	if r.guarded() && r.conn != nil {
		bounded, cancel := context.WithTimeout(mine, r.Lease/2)
		if err := r.pushGuard(bounded, max(r.span(), leaveSpan)); err != nil {
			r.Log.Warn("the guard could not be pushed on", "host", r.Host, "error", err)
		}
		cancel()
	}
	if len(r.taken) > 0 {
		if err := r.write(mine, false); err != nil {
			return
		}
	}
	if err := r.Store.Release(mine, r.Claimed); err != nil {
		r.Log.Error("releasing a host run", "host", r.Host, "error", err)
	}
}

// guarded tells whether the host may hold an armed guard for this run.
func (r *hostRun) guarded() bool {
	at := r.run.Step
	if at == ladder.Look {
		at = r.run.Lost
	}
	return !at.Before(ladder.Drain)
}

// leaveSpan is what a guard has at least during the soak, and when a server
// leaves in order: long enough for an upgrade, or to have a database back.
const leaveSpan = 15 * time.Minute

// span is how far from now the guard is pushed on. Neighbours differ, so that
// they never fire at the same moment.
func (r *hostRun) span() time.Duration {
	var base time.Duration
	guarded := false
	for _, s := range r.services {
		base, guarded = max(base, time.Duration(s.Guard)), guarded || s.Guarded
	}
	if r.run.State != ladder.Soaking || guarded {
		return base
	}
	base = max(base, leaveSpan)
	return base + time.Duration(r.HostID%16)*base/64
}

// write keeps how the run stands, and begins its next step where told.
func (r *hostRun) write(ctx context.Context, begin bool) error {
	p := store.Progress{Steps: r.taken, Run: r.run, Baseline: r.baseline, Later: r.later, Edited: r.edits}
	if begin {
		p.Begin = time.Now()
	}
	if r.run.State == ladder.Queued {
		p.Again, _ = r.head.Policy.AgainAt()
		p.Wait = 3 * r.TryFor
	}
	if r.run.State == ladder.Done {
		for _, f := range r.paths {
			left := store.PlacedAt(f.Resolved, f.Candidate)
			at := slices.IndexFunc(r.files, func(one host.File) bool { return one.Path == f.Resolved })
			left.Stands, left.Stood = r.keyed(r.files[at].Candidate), r.keyed(r.files[at].Base)
			p.Placed = append(p.Placed, left)
		}
	}
	err := r.insist(ctx, "how a host run goes on", r.keepGuard, func() error { return r.Store.Write(ctx, r.Claimed, p) })
	if err == nil {
		r.taken, r.baseline, r.later, r.edits = nil, nil, nil, nil
	}
	return err
}

// keepGuard pushes the guard on while we wait for a database. What is to be put
// back anyway may go back by itself.
func (r *hostRun) keepGuard() {
	if r.guarded() && r.conn != nil && (r.run.State == ladder.Working || r.run.State == ladder.Soaking) {
		bounded, cancel := context.WithTimeout(context.WithoutCancel(r.stopping), 5*time.Second)
		defer cancel()
		r.pushGuard(bounded, r.span()) // where it fails, the step that follows says so
	}
}

func (r *hostRun) pushGuard(ctx context.Context, span time.Duration) error {
	_, err := r.conn.Watch(ctx, r.claim, span, host.ForwardAct, []host.Question{{Guard: true}})
	return err
}

// step takes one step. What changes something is written down before and after;
// what only reads, or can be repeated, is written with what follows.
func (r *hostRun) step(mine context.Context, prepared error) error {
	whole := r.run.State == ladder.Working && !ladder.Place.Before(r.run.Step) // nothing is placed yet
	err := r.rest(r.run.Pause())
	if err == nil && r.recalled() != "" {
		err = errRecalled
	}
	if err == nil && whole {
		err = r.unhalted(mine, false)
	}
	step, begun := r.run.Step, time.Now()
	if errors.Is(err, errRecalled) {
		return r.goBack(mine, begun)
	} else if err != nil {
		return err
	}
	if step.Announced() && !r.Begun {
		if err := r.write(mine, true); err != nil {
			return err
		}
	}
	r.hint("step", r.Change, map[string]any{"host": r.Host, "run": r.ID, "state": r.run.State, "step": step})
	begun = time.Now()
	e, err := r.try(mine, prepared)
	switch {
	case errors.Is(err, errRecalled):
		return r.goBack(mine, begun)
	case mine.Err() != nil:
		return context.Cause(mine) // the step stays begun: whoever comes next looks first
	case err != nil:
		return err
	}
	before := r.run.State
	if e.Doubt && r.run.Tries > 0 { // it is told once, however often it is tried
		r.run = r.run.Next(e, r.limits)
		return nil
	}
	r.happened(e, begun)
	switch next := r.run.Step; {
	case next.Announced():
		return r.write(mine, true)
	case step.Announced() || r.run.State != before || e.Outcome != ladder.OK:
		return r.write(mine, false)
	}
	return nil
}

// goBack has the run go back from between two steps, since a person wants it.
func (r *hostRun) goBack(mine context.Context, begun time.Time) error {
	why := r.recalled()
	r.happened(ladder.Event{Kind: ladder.Recalled, At: time.Now(), Outcome: ladder.NotBegun, Note: why}, begun)
	return r.write(mine, r.run.Step.Announced())
}

// happened takes the run along, and notes the step.
func (r *hostRun) happened(e ladder.Event, begun time.Time) {
	step := r.run.Step
	ended := e.At
	outcome := e.Outcome
	if e.Kind == ladder.Orphaned || e.Kind == ladder.Panicked {
		outcome = ladder.Lost
	}
	limits := r.limits
	limits.Budget = time.Duration(r.head.Policy.Budget)
	r.run = r.run.Next(e, limits)
	r.Observe(step, outcome, e.At.Sub(begun))
	r.taken = append(r.taken, view.StepTaken{Step: step, BegunAt: begun, EndedAt: &ended, Outcome: outcome, Note: e.Note})
}

// try takes the step and gives what happened. A panic over it is an event like
// others: the host is looked at.
func (r *hostRun) try(mine context.Context, prepared error) (e ladder.Event, err error) {
	begun := time.Now()
	defer func() {
		if p := recover(); p != nil {
			r.Log.Error("a panic over a host run", "host", r.Host, "step", r.run.Step, "panic", fmt.Sprint(p), "trace", string(debug.Stack()))
			e, err = ladder.Event{Kind: ladder.Panicked, At: time.Now(), Note: r.redactor.Clean(fmt.Sprint(p))}, nil
		}
	}()
	var res result
	if r.mishap != nil {
		r.mishap(r.Host, r.run.Step)
	}
	if errors.As(prepared, new(noReturn)) {
		res = result{outcome: ladder.Overtaken, note: prepared.Error()} // it is not tried again
	} else if prepared != nil {
		res = failed("%v", prepared)
	} else if res, err = r.take(mine); err != nil {
		return e, err
	}
	if res.later != nil {
		r.later = res.later
	}
	if res.baseline != nil {
		r.baseline, r.Baseline = res.baseline, res.baseline
	}
	if res.outcome == ladder.Failed && prepared == nil && doubtful(r.run.Step) {
		if why := r.doubts(mine, res, begun); why != "" {
			res.note, res.doubt = why, true
		}
	}
	if res.outcome == ladder.Failed && prepared == nil && !res.doubt {
		res.note += r.lastWords(mine)
	}
	return ladder.Event{Kind: ladder.Ended, At: time.Now(), Outcome: res.outcome, Note: r.redactor.Clean(strings.TrimPrefix(res.note, r.Host+": ")), Sight: res.sight, Proof: res.proof, Undone: res.undone, Doubt: res.doubt}, nil
}

// problem turns an error of a host operation into how the step went.
func problem(err error) result {
	var changed *host.ChangedError
	var lost *host.Lost
	var fired *host.FiredError
	var gone *host.Unreachable
	var busy *host.Busy
	var fenced *host.Fenced
	var barred *host.NotPermitted
	var sudo *host.NoSudo
	outcome := ladder.Failed
	switch {
	case errors.As(err, &changed):
		outcome = ladder.Overtaken
	case errors.As(err, &lost), errors.As(err, &fired):
		outcome = ladder.Lost
	case errors.As(err, &barred), errors.As(err, &sudo), errors.As(err, &gone), errors.As(err, &busy), errors.As(err, &fenced):
		outcome = ladder.NotBegun
	}
	return result{outcome: outcome, note: err.Error()}
}

func (r *hostRun) connect(ctx context.Context) error {
	r.hangUp()
	conn, err := r.dial(ctx)
	if err == nil {
		r.conn = conn
	}
	return err
}

func (r *hostRun) hangUp() {
	if r.conn != nil {
		r.conn.Close()
		r.conn = nil
	}
}

// dial connects to the host as approved.
func (r *hostRun) dial(ctx context.Context) (Conn, error) {
	t := host.Target{Name: r.leaf.Host, Address: r.leaf.Address, User: r.leaf.Login, HostKey: r.leaf.HostKey, Sudo: r.leaf.Sudo, Labels: r.leaf.Labels, Scripts: r.head.Scripts}
	for _, hop := range r.leaf.Via {
		t.Via = append(t.Via, host.Target{Name: hop.Host, Address: hop.Address, User: hop.Login, HostKey: hop.HostKey, Labels: hop.Labels})
	}
	if t.User == "" { // a plan of version 1 leaves the login to the host
		var h view.Host
		if err := r.insist(ctx, "a host", nil, func() (err error) { h, err = r.Store.Host(ctx, r.Host); return err }); err != nil {
			return nil, err
		}
		t.User, t.Sudo = h.Login, h.Sudo
	}
	return r.Dialer.Connect(ctx, t)
}

// take carries out the step. An error is none of the host's.
func (r *hostRun) take(ctx context.Context) (result, error) {
	if r.run.Step == ladder.Connect && r.Aside != "" {
		return failed("%s", r.Aside), nil
	}
	if r.conn == nil || r.run.Step == ladder.Connect || r.run.Step == ladder.Look {
		if err := r.connect(ctx); err != nil {
			return problem(err), nil
		}
	}
	res, err := r.operate(ctx)
	if errors.Is(err, errLeaving) || errors.Is(err, errRecalled) {
		return res, err
	}
	if err != nil {
		res = problem(err)
	}
	var gone *host.Unreachable
	if res.outcome == ladder.Lost || errors.As(err, &gone) {
		r.hangUp()
	}
	return res, nil
}

// asker puts probes to the run's host. From the guard on, each round trip pushes
// it on.
func (r *hostRun) asker() asker {
	for i, p := range r.probes {
		for _, v := range r.Baseline {
			if v.Probe == p.Name {
				r.probes[i].Was = v.Answer
			}
		}
	}
	label := host.ForwardAct
	if r.run.State == ladder.Restoring {
		label = host.BackAct
	}
	a := newAsker(r.conn, r.leaf.Address, r.leaf.HostKey)
	a.secrets, a.redactor, a.of = r.secrets, r.redactor, map[string]serving{}
	for i, s := range r.services {
		a.of[s.Name()] = serving{at: i, pins: s.mine.Pins, commands: s.Commands}
	}
	conn, guarded := r.conn, r.guarded()
	a.put = func(ctx context.Context, questions []host.Question) ([]host.Reply, error) {
		if guarded {
			return conn.Watch(ctx, r.claim, r.span(), label, questions)
		}
		return conn.Ask(ctx, r.claim.Run, label, questions)
	}
	return a
}

func (r *hostRun) operate(ctx context.Context) (result, error) {
	ask := r.asker()
	switch r.run.Step {
	case ladder.Connect:
		return done("the host shows its pinned key"), nil
	case ladder.Lock:
		r.observe()
		return done("fence %d", r.Fence), r.conn.TakeOver(ctx, r.claim)
	case ladder.Recheck:
		return r.recheck(ctx)
	case ladder.Baseline:
		return r.before(ctx, ask)
	case ladder.Trial:
		return r.trial(ctx)
	case ladder.Snapshot:
		var units []string
		for _, s := range r.services {
			units = append(units, s.Unit)
		}
		if err := r.conn.Snapshot(ctx, r.claim, units, r.files); err != nil {
			return result{}, err
		}
		return done("the old files are kept in /var/lib/wladder/runs/%s", r.claim.Run), r.conn.Make(ctx, r.claim, r.files)
	case ladder.Guard:
		r.observe().within(ctx, controlWait) // how others are before anything is placed
		var acting []host.Service
		for _, s := range r.services {
			acting = append(acting, s.acting)
		}
		how, err := r.conn.Arm(ctx, r.claim, r.span(), acting, r.files)
		return done("armed for %s, %s", r.span(), map[string]string{"timer": "by a timer, and at the next boot", "detached": "by a waiting process"}[how]), err
	case ladder.Drain:
		if res, err := r.admitted(ctx); err != nil || res.outcome != "" {
			return res, err
		}
		return r.drain(ctx, ask)
	case ladder.Readmit, ladder.ReadmitAgain:
		return r.readmit(ctx)
	case ladder.Place:
		if res, err := r.admitted(ctx); err != nil || res.outcome != "" {
			return res, err
		}
		return done("%s", counted(len(r.paths), "path")), r.conn.Place(ctx, r.claim, r.files)
	case ladder.Act:
		return r.act(ctx, ask)
	case ladder.InForce:
		return r.inForce(ctx, ask)
	case ladder.Settle:
		return r.until(ctx, ask, probe.Later, r.probes, nil)
	case ladder.Probe:
		return r.probeOnce(ctx, ask)
	case ladder.Reconnect:
		// The old connection stays until there is a new one: it is the way back.
		fresh, err := r.dial(ctx)
		if err != nil {
			res := failed("no new connection could be made: %v", err)
			res.ill = []string{aConnection} // which others may lack too
			return res, nil
		}
		r.conn.Close()
		r.conn = fresh
		return done("a new connection was made"), nil
	case ladder.Soak:
		return r.soak(ctx, ask)
	case ladder.Confirm:
		return done("%s as approved; the guard is taken away", counted(len(r.paths), "path")), r.conn.Confirm(ctx, r.claim, r.files)
	case ladder.Restore:
		undone, err := r.conn.Restore(ctx, r.claim, r.files)
		res := done("%s put back", counted(len(r.paths), "path"))
		if res.undone = undone; undone {
			res.note += "; the host's guard had done so by itself, and acted"
		}
		return res, err
	case ladder.ActAgain:
		return r.act(ctx, ask)
	case ladder.ProbeAgain:
		return r.until(ctx, ask, probe.Earlier, r.probes, r.Baseline)
	case ladder.DisarmAgain:
		var fired *host.FiredError
		if err := r.conn.Disarm(ctx, r.claim, r.files); errors.As(err, &fired) {
			return done("it had fired"), nil
		} else if err != nil {
			return result{}, err
		}
		return done("the guard is taken away"), nil
	case ladder.Look:
		sight, err := r.conn.Look(ctx, r.claim, r.span(), lookLabel(r.run.Lost), r.at().acting, r.files)
		if err != nil {
			return result{}, err
		}
		sight.Act = r.at().mine.Act.Name
		res := done("files %s, process %s, guard %s", sight.Files, sight.Process, sight.Guard)
		res.sight = &sight
		return res, nil
	}
	return failed("step %q is not known", r.run.Step), nil
}

// admitted holds, as late as can be, that nobody halts the host, and that its pools can do without
// it; of one that is out of the way, they do already. The result is empty where it may go on.
func (r *hostRun) admitted(ctx context.Context) (result, error) {
	for {
		if !r.run.Drains || r.run.Step != ladder.Place {
			if why, err := r.room(ctx); err != nil {
				return result{}, err
			} else if why != "" {
				return result{outcome: ladder.NotBegun, note: why}, nil
			}
		}
		known := time.Now()
		if err := r.unhalted(ctx, true); err != nil || time.Since(known) < freshFor {
			return result{}, err
		}
	}
}

func (r *hostRun) act(ctx context.Context, ask asker) (result, error) {
	s := r.at()
	if !s.acts() {
		return done("%s", r.of(s, "nothing has to take it up")), nil
	}
	label := host.BackAct
	if r.run.Step == ladder.Act {
		label = host.ForwardAct
	}
	if s.mine.Act.Reboots {
		return r.reboot(ctx, s, label)
	}
	if label == host.ForwardAct {
		s.watch(ctx, ask)
	}
	undone, err := r.conn.Act(ctx, r.claim, label, s.acting)
	res := done("%s", r.of(s, s.mine.Act.Name))
	if res.undone = undone; undone {
		res.note = "the host's guard had acted by itself"
	}
	return res, err
}

// lastWords quotes what the services said themselves since they were acted on, where that is what
// failed; empty where they said nothing.
func (r *hostRun) lastWords(ctx context.Context) (said string) {
	var of []*service
	switch r.run.Step {
	case ladder.Act, ladder.InForce, ladder.ActAgain:
		of = []*service{r.at()}
	case ladder.Settle, ladder.Probe, ladder.Soak, ladder.ProbeAgain:
		of = r.services
	}
	var questions []host.Question
	for _, s := range of {
		if s.acts() {
			questions = append(questions, host.Question{Last: s.Unit, Service: s.acting.At})
		}
	}
	if len(questions) == 0 || r.conn == nil {
		return ""
	}
	bounded, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	replies, err := r.asker().put(bounded, questions)
	if err != nil {
		return ""
	}
	for i, q := range questions {
		if text := replies[i].Said; text != "" {
			said += fmt.Sprintf("; %s says: %s", q.Last, strings.Join(strings.Split(text, "\n"), " / "))
		}
	}
	return said
}

func lookLabel(lost ladder.Step) string {
	if lost == ladder.ActAgain || lost == ladder.ReadmitAgain || lost == ladder.ProbeAgain || lost == ladder.DisarmAgain {
		return host.BackAct
	}
	return host.ForwardAct
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func summary(verdicts []probe.Verdict) string {
	all := make([]string, len(verdicts))
	for i, v := range verdicts {
		state := "well"
		switch {
		case v.Waits:
			state = "waits"
		case !v.Well:
			state = "not well"
		}
		all[i] = fmt.Sprintf("%s: %s (%s)", v.Probe, state, v.Why)
	}
	return strings.Join(all, "; ")
}

func (r *hostRun) trial(ctx context.Context) (result, error) {
	var notes []string
	for _, s := range r.services {
		if len(s.Trial.Command) == 0 {
			notes = append(notes, r.of(s, "the definition has no checker"))
			continue
		}
		answer, said, err := r.conn.Trial(ctx, r.files, s.Trial, s.mine.Shown)
		if err != nil {
			return result{}, err
		}
		if f, bad := trialFinding(answer, r.redactor.Clean(said), s.Trial.Command); bad {
			return failed("%s", r.of(s, f.Text)), nil
		}
		if why, err := r.signIns(ctx, s); err != nil {
			return result{}, err
		} else if why != "" {
			return failed("%s", r.of(s, why)), nil
		}
		notes = append(notes, r.of(s, "accepted"))
	}
	return done("%s", strings.Join(notes, "; ")), nil
}
