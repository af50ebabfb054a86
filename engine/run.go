package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/host"
	"wladder/store"
)

// maxLooks bounds how often one host run may lose sight of its host before it
// goes no further forward.
const maxLooks = 5

// hostRun is one host's part of a climb, as this server works on it.
type hostRun struct {
	*Engine
	store.Claimed
	plan  *change.Plan
	leaf  change.Leaf
	files []host.File
	conn  *host.Conn
	claim host.Claim
	since time.Time // when we first failed to look at the host
}

// result is how a step went.
type result struct {
	outcome  ladder.Outcome
	note     string
	baseline []probe.Verdict
	sight    *host.Sight
}

func done(format string, args ...any) result {
	return result{outcome: ladder.OK, note: fmt.Sprintf(format, args...)}
}

func failed(format string, args ...any) result {
	return result{outcome: ladder.Failed, note: fmt.Sprintf(format, args...)}
}

// hostRun takes steps until the run ends, it is taken over, or ctx ends; a step
// under way is cut by hurry only.
func (e *Engine) hostRun(ctx, hurry context.Context, c store.Claimed) {
	r := &hostRun{Engine: e, Claimed: c, claim: host.Claim{Fence: c.Fence, Run: fmt.Sprintf("run-%d", c.ID)}}
	defer func() {
		if r.conn != nil {
			r.conn.Close()
		}
	}()
	if err := r.prepare(ctx); err != nil {
		e.Log.Error("preparing a host run", "host", c.Host, "change", c.Change, "error", err)
		return // the lease lapses, and another try follows
	}
	for r.Step != "" {
		if ctx.Err() != nil {
			if err := e.Store.Release(hurry, r.ID, r.Fence); err != nil {
				e.Log.Error("releasing a host run", "host", r.Host, "error", err)
			}
			return
		}
		if err := r.step(hurry); err != nil {
			if hurry.Err() == nil {
				e.Log.Warn("leaving a host run", "host", r.Host, "step", r.Step, "error", err)
			}
			return
		}
	}
}

func (r *hostRun) prepare(ctx context.Context) (err error) {
	if r.plan, err = store.DecodePlan(r.Plan, r.Digest); err != nil {
		return err
	}
	if r.leaf, err = leafOf(r.plan, r.HostID); err != nil {
		return err
	}
	for _, f := range r.leaf.Files {
		base, err := r.Store.Content(ctx, f.Base)
		if err != nil {
			return err
		}
		candidate, err := r.Store.Content(ctx, f.Candidate)
		if err != nil {
			return err
		}
		r.files = append(r.files, host.File{Path: f.Resolved, Base: host.Hash(base), Candidate: host.Hash(candidate), Content: candidate, Meta: f.Mode + ":" + f.Owner + ":" + f.Group})
	}
	return nil
}

// step takes one step, written before and after.
func (r *hostRun) step(ctx context.Context) error {
	if r.State == ladder.Unknown && r.Looks > 0 {
		pause := min(time.Duration(1<<min(r.Looks, 5))*time.Second/4, 10*time.Second)
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	id, err := r.Store.BeginStep(ctx, r.Claimed, r.Step)
	if err != nil {
		return err
	}
	res := r.take(ctx)
	if ctx.Err() != nil {
		return ctx.Err() // the step stays begun: whoever comes next looks first
	}
	to, ending := r.after(res)
	if err := r.Store.EndStep(ctx, r.Claimed, id, to, ending); err != nil {
		return err
	}
	r.State, r.Step, r.LostStep, r.Looks = to.State, to.Step, ending.LostStep, ending.Looks
	if ending.Baseline != nil {
		r.Baseline = ending.Baseline
	}
	if ending.Why != "" {
		r.Why = ending.Why
	}
	return nil
}

// after says where the run stands after a step.
func (r *hostRun) after(res result) (ladder.Position, store.Ending) {
	e := store.Ending{Outcome: res.outcome, Note: res.note, Baseline: res.baseline, Looks: r.Looks}
	if r.Step == ladder.Look {
		return r.afterLook(res, e)
	}
	to := ladder.After(r.Step, res.outcome)
	switch {
	case to.State == ladder.Unknown:
		e.LostStep, e.Why = r.Step, fmt.Sprintf("lost sight of the host during %s: %s", r.Step, res.note)
	case res.outcome != ladder.OK && to.State == ladder.Stranded:
		e.Why = fmt.Sprintf("%s, and could not be put back by itself (%s): %s", r.Why, r.Step, res.note)
	case res.outcome != ladder.OK:
		e.Why = fmt.Sprintf("%s: %s", r.Step, res.note)
	}
	// A host that was gone or edited says nothing about the change; one that
	// refuses it or has to be restored does.
	e.Failed = to.State == ladder.Restoring || to.State == ladder.Stranded || to.State == ladder.PassedOver && r.Step == ladder.Trial
	switch {
	case r.Step == ladder.Place && res.outcome == ladder.OK:
		e.Files, e.Process = ladder.FilesNew, ladder.ProcessOld
	case r.Step == ladder.Place && res.outcome == ladder.Failed:
		e.Files = ladder.FilesMixed
	case r.Step == ladder.Act && res.outcome == ladder.Failed:
		e.Process = ladder.ProcessUnknown
	case r.Step == ladder.InForce && res.outcome == ladder.OK:
		e.Process = ladder.ProcessNew
	case r.Step == ladder.Restore && res.outcome == ladder.OK:
		e.Files = ladder.FilesOld
	case to.State == ladder.Restored:
		e.Process = ladder.ProcessOld
	case to.State == ladder.Unknown:
		e.Files, e.Process = ladder.FilesUnknown, ladder.ProcessUnknown
	}
	return to, e
}

func (r *hostRun) afterLook(res result, e store.Ending) (ladder.Position, store.Ending) {
	e.Looks, e.LostStep = r.Looks+1, r.LostStep
	if res.sight == nil { // it could not be looked at
		e.Outcome = ladder.Failed
		if r.since.IsZero() {
			r.since = time.Now()
		}
		if time.Since(r.since) > r.LookFor {
			e.Why = fmt.Sprintf("%s; it could not be looked at since (%s)", r.Why, res.note)
			e.Failed, e.Files, e.Process = true, ladder.FilesUnknown, ladder.ProcessUnknown
			return ladder.Position{State: ladder.Stranded}, e
		}
		return ladder.Position{State: ladder.Unknown, Step: ladder.Look}, e
	}
	e.Files, e.Process = res.sight.Files, res.sight.Process
	to := ladder.Recover(r.LostStep, res.sight.Files, res.sight.Process)
	if e.Looks > maxLooks && to.State != ladder.Unknown {
		switch {
		case res.sight.Files == ladder.FilesOld && to.State != ladder.Restoring:
			to = ladder.Position{State: ladder.PassedOver}
		case to.State != ladder.Restoring:
			to = ladder.Position{State: ladder.Restoring, Step: ladder.Restore}
		}
		e.Why = fmt.Sprintf("the host was lost %d times during %s", e.Looks, r.LostStep)
	}
	switch to.State {
	case ladder.PassedOver:
		if e.Why == "" {
			e.Why = "the files hold the candidate already, though this climb did not place it"
		}
	case ladder.Restoring:
		e.Failed = true
		if e.Why == "" {
			e.Why = fmt.Sprintf("files %s, process %s after %s was cut", res.sight.Files, res.sight.Process, r.LostStep)
		}
	}
	e.LostStep = ""
	return to, e
}

// problem turns an error of a host operation into how the step went.
func problem(err error) result {
	var changed *host.ChangedError
	var lost *host.Lost
	var gone *host.Unreachable
	note := err.Error()
	switch {
	case errors.As(err, &changed):
		return result{outcome: ladder.Changed, note: note}
	case errors.As(err, &lost), errors.As(err, &gone):
		return result{outcome: ladder.Lost, note: note}
	}
	return result{outcome: ladder.Failed, note: note}
}

// errTakenOver tells that a host refused us for a higher fence.
func takenOver(err error) bool {
	var s *host.ScriptError
	return errors.As(err, &s) && s.Status == 76
}

func (r *hostRun) connect(ctx context.Context) error {
	if r.conn != nil {
		r.conn.Close()
		r.conn = nil
	}
	h, err := r.Store.Host(ctx, r.Host)
	if err != nil {
		return err
	}
	t := target(h)
	t.Address, t.HostKey = r.leaf.Address, r.leaf.HostKey // as approved
	r.conn, err = r.Dialer.Connect(ctx, t)
	return err
}

// take carries out the step.
func (r *hostRun) take(ctx context.Context) result {
	if r.conn == nil || r.Step == ladder.Connect || r.Step == ladder.Look {
		if err := r.connect(ctx); err != nil {
			res := problem(err)
			if r.Step == ladder.Connect {
				res.outcome = ladder.Failed // nothing was begun
			}
			return res
		}
	}
	res, err := r.operate(ctx)
	switch {
	case err == nil:
		return res
	case takenOver(err):
		return result{outcome: ladder.Lost, note: "another server has this host"}
	}
	return problem(err)
}

func (r *hostRun) operate(ctx context.Context) (result, error) {
	label := host.ForwardAct
	if r.State == ladder.Restoring {
		label = host.BackAct
	}
	ask := newAsker(r.conn, r.leaf.Address, r.claim.Run, label)
	switch r.Step {
	case ladder.Connect:
		return done("the host shows its pinned key"), nil
	case ladder.Lock:
		return done("fence %d", r.Fence), r.conn.TakeOver(ctx, r.claim)
	case ladder.Recheck:
		return r.recheck(ctx)
	case ladder.Baseline:
		verdicts, err := ask.ask(ctx, r.plan.Probes)
		res := done("%s", summary(verdicts))
		res.baseline = verdicts
		return res, err
	case ladder.Trial:
		return r.trial(ctx)
	case ladder.Snapshot:
		return done("the files as they were are in /var/lib/wladder/runs/%s", r.claim.Run), r.conn.Snapshot(ctx, r.claim, r.files)
	case ladder.Guard:
		return done("none is armed: this version restores over the network only"), nil
	case ladder.Place:
		return done("%s", counted(len(r.files), "file")), r.conn.Place(ctx, r.claim, r.files)
	case ladder.Act:
		return done("%s", r.leaf.Act.Name), r.conn.Act(ctx, r.claim, label, r.plan.Unit, r.leaf.Act, r.plan.Heaviest)
	case ladder.InForce:
		if r.plan.InForce == nil {
			return done("not proven: the definition has no in-force check"), nil
		}
		return r.until(ctx, ask, []probe.Probe{*r.plan.InForce}, nil)
	case ladder.Settle:
		return r.until(ctx, ask, r.plan.Probes, nil)
	case ladder.Probe:
		verdicts, err := ask.ask(ctx, r.plan.Probes)
		if what := ill(verdicts); what != "" && err == nil {
			return failed("%s", what), nil
		}
		return done("%s", summary(verdicts)), err
	case ladder.Disarm:
		return done("a new connection came about"), r.connect(ctx)
	case ladder.Soak:
		return r.soak(ctx, ask)
	case ladder.Confirm:
		return r.confirm(ctx)
	case ladder.Restore:
		return done("%s put back", counted(len(r.files), "file")), r.conn.Restore(ctx, r.claim, r.files)
	case ladder.ActAgain:
		return done("%s", r.leaf.Act.Name), r.conn.Act(ctx, r.claim, label, r.plan.Unit, r.leaf.Act, r.plan.Heaviest)
	case ladder.ProbeAgain:
		return r.until(ctx, ask, r.plan.Probes, r.Baseline)
	case ladder.Look:
		sight, err := r.conn.Look(ctx, r.claim, lookLabel(r.LostStep), r.plan.Unit, r.files)
		if err != nil {
			return result{}, err
		}
		res := done("files %s, process %s", sight.Files, sight.Process)
		res.sight = &sight
		return res, nil
	}
	return failed("step %q is not known", r.Step), nil
}

func lookLabel(lost ladder.Step) string {
	if lost == ladder.ActAgain || lost == ladder.ProbeAgain {
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
		if !v.Well {
			state = "not well"
		}
		all[i] = fmt.Sprintf("%s: %s (%s)", v.Probe, state, v.Why)
	}
	return strings.Join(all, "; ")
}

// collect reads the run's files and calls check for each.
func (r *hostRun) collect(ctx context.Context, check func(change.LeafFile, host.File, change.Found) string) (result, error) {
	var paths []string
	for _, f := range r.leaf.Files {
		paths = append(paths, f.Path)
	}
	found, err := r.conn.Collect(ctx, paths)
	if err != nil {
		return result{}, err
	}
	for i, f := range found {
		if wrong := check(r.leaf.Files[i], r.files[i], f); wrong != "" {
			return result{outcome: ladder.Changed, note: f.Path + " " + wrong}, nil
		}
	}
	return done("%s as expected", counted(len(found), "file")), nil
}

func (r *hostRun) recheck(ctx context.Context) (result, error) {
	return r.collect(ctx, func(leaf change.LeafFile, f host.File, now change.Found) string {
		switch {
		case now.Missing:
			return "is gone since the rehearsal"
		case host.Hash(now.Content) != f.Base:
			return "was edited since the rehearsal; rehearse again to see what it says now"
		case now.Resolved != leaf.Resolved:
			return "leads to " + now.Resolved + " now; at the rehearsal it led to " + leaf.Resolved
		case now.Owner != leaf.Owner || now.Group != leaf.Group || now.Mode != leaf.Mode:
			return fmt.Sprintf("has owner %s, group %s, mode %s now; at the rehearsal it had %s, %s, %s", now.Owner, now.Group, now.Mode, leaf.Owner, leaf.Group, leaf.Mode)
		case now.Denied != "":
			return "cannot be replaced: " + now.Denied
		}
		return ""
	})
}

func (r *hostRun) confirm(ctx context.Context) (result, error) {
	res, err := r.collect(ctx, func(leaf change.LeafFile, f host.File, now change.Found) string {
		if now.Missing || host.Hash(now.Content) != f.Candidate {
			return "is no longer the candidate: somebody edited it during the soak"
		}
		if now.Owner != leaf.Owner || now.Group != leaf.Group || now.Mode != leaf.Mode {
			return "has another owner, group or mode than before"
		}
		return ""
	})
	return res, err
}

func (r *hostRun) trial(ctx context.Context) (result, error) {
	if len(r.plan.Trial) == 0 {
		return done("the definition has no checker"), nil
	}
	answer, said, err := r.conn.Trial(ctx, r.files, r.plan.Trial, r.plan.Covers)
	if err != nil {
		return result{}, err
	}
	if f, bad := trialFinding(answer, said, r.plan.Trial); bad {
		return failed("%s", f.Text), nil
	}
	return done("accepted"), nil
}

// until asks again and again until all is well (or no worse than before, where
// that is given), at most for the settling time.
func (r *hostRun) until(ctx context.Context, ask asker, probes []probe.Probe, before []probe.Verdict) (result, error) {
	start := time.Now()
	for {
		verdicts, err := ask.ask(ctx, probes)
		if err != nil {
			return result{}, err
		}
		what := ill(verdicts)
		if before != nil {
			what = worse(verdicts, before)
		}
		switch waited := time.Since(start); {
		case what == "":
			return done("%s, after %.1f s", summary(verdicts), waited.Seconds()), nil
		case waited > time.Duration(r.plan.Settle):
			return failed("%s, %s after the act", what, time.Duration(r.plan.Settle)), nil
		}
		if err := wait(ctx, min(200*time.Millisecond, time.Duration(r.plan.Settle)/5)); err != nil {
			return result{}, err
		}
	}
}

func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// soak watches for a while: the unit stays active with the same main process,
// is not restarted by its manager, and the probes stay well.
func (r *hostRun) soak(ctx context.Context, ask asker) (result, error) {
	whole := time.Duration(r.plan.Policy.Soak)
	first, err := r.conn.AskUnit(ctx, r.claim.Run, host.ForwardAct, r.plan.Unit)
	if err != nil {
		return result{}, err
	}
	if first.State != "active" {
		return failed("%s is %s (%s)", r.plan.Unit, first.State, first.Result), nil
	}
	start, looks := time.Now(), 0
	for {
		if left := whole - time.Since(start); left > 0 {
			if err := wait(ctx, min(left, max(whole/10, 200*time.Millisecond), 5*time.Second)); err != nil {
				return result{}, err
			}
		}
		now, err := r.conn.AskUnit(ctx, r.claim.Run, host.ForwardAct, r.plan.Unit)
		if err != nil {
			return result{}, err
		}
		after := time.Since(start).Round(100 * time.Millisecond)
		switch {
		case now.State != "active":
			return failed("%s died %s into the soak: it is %s (%s)", r.plan.Unit, after, now.State, now.Result), nil
		case now.Main != first.Main || now.Restarts != first.Restarts:
			return failed("%s restarted by itself %s into the soak", r.plan.Unit, after), nil
		}
		verdicts, err := ask.ask(ctx, r.plan.Probes)
		if err != nil {
			return result{}, err
		}
		if what := ill(verdicts); what != "" {
			return failed("%s, %s into the soak", what, after), nil
		}
		if looks++; time.Since(start) >= whole {
			return done("well for %s, asked %s", whole, counted(looks, "time")), nil
		}
	}
}
