package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"wladder/core/change"
	"wladder/core/conf"
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

	light, heaviest change.Act // with what unit files want
	secrets         map[string]string
	redactor        *change.Redactor
	logs            *logBaseline
	refuse, ignore  []*regexp.Regexp // of the plan's logs
	door            *doorWatch
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
		r.shut()
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
	if r.secrets, err = r.Store.SecretVersions(ctx, r.plan.Secrets); err != nil {
		return err
	}
	version, err := r.Store.ServiceOf(ctx, r.plan.Service, r.plan.ServiceDigest)
	if err != nil {
		return err
	}
	svc, err := change.ParseService(version.Name, []byte(version.Source))
	if err != nil {
		return err
	}
	r.redactor = &change.Redactor{}
	for _, v := range r.secrets {
		r.redactor.Add(v)
	}
	if logs := r.plan.Logs; logs != nil {
		if r.refuse, err = patterns(logs.Refuse); err != nil {
			return err
		}
		if r.ignore, err = patterns(logs.Ignore); err != nil {
			return err
		}
	}
	r.light, r.heaviest = r.leaf.Act, r.plan.Heaviest
	for _, f := range r.leaf.Files {
		base, err := r.copy(ctx, f.Base)
		if err != nil {
			return err
		}
		candidate, err := r.copy(ctx, f.Candidate)
		if err != nil {
			return err
		}
		for _, c := range [][]byte{base.Content, candidate.Content} {
			doc, _ := conf.Parse(f.Path, f.Format, c) // nil where it is none
			r.redactor.AddFile(svc, f.Key, c, doc)
		}
		for _, l := range f.Links { // the way to the file is held as it is
			way := host.Stands(change.Copy{Kind: change.Symlink, Target: l.Target})
			r.files = append(r.files, host.File{Path: l.Path, Base: way, Candidate: way})
		}
		r.files = append(r.files, hostFile(f.Resolved, base, candidate, f.Make, f.Others, r.secrets))
	}
	if slices.ContainsFunc(r.leaf.Files, func(f change.LeafFile) bool { return host.UnitFile(f.Resolved) }) {
		r.light, r.heaviest = reloading(r.light), reloading(r.heaviest)
	}
	return nil
}

// reloading has systemd read its unit files before an act.
func reloading(a change.Act) change.Act {
	a.Commands = append([][]string{{"systemctl", "daemon-reload"}}, a.Commands...)
	return a
}

func (r *hostRun) copy(ctx context.Context, ref change.CopyRef) (change.Copy, error) {
	c := change.Copy{Kind: ref.Kind, Owner: ref.Owner, Group: ref.Group, Mode: ref.Mode, Target: ref.Target}
	var err error
	if c.Kind == change.Regular {
		c.Content, err = r.Store.Content(ctx, ref.Content)
	}
	return c, err
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
	res.note = r.redactor.Clean(res.note)
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
		if r.State == ladder.Restoring { // why it is put back stays the reason
			e.Why = r.Why + "; then " + e.Why
		}
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
	placed := slices.Index(ladder.Forward, r.LostStep) >= slices.Index(ladder.Forward, ladder.Place)
	switch fired := res.sight.Guard == host.Fired || res.sight.Guard == host.Firing; {
	case placed && fired:
		to = ladder.Position{State: ladder.Restoring, Step: ladder.Restore}
		e.Why = "the host's guard fired while nobody could confirm the change: it put the old files back by itself"
	case r.LostStep == ladder.Act && to.State == ladder.Working && res.sight.Ended > 0:
		to = ladder.Position{State: ladder.Restoring, Step: ladder.Restore}
		e.Why = fmt.Sprintf("%s ended with status %d while we could not see it", r.leaf.Act.Name, res.sight.Ended)
	}
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
		if e.Why == "" && !slices.Contains(ladder.Back, r.LostStep) {
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

// takenOver tells that a host refused us for a higher fence.
func takenOver(err error) bool {
	var s *host.ScriptError
	return errors.As(err, &s) && s.Status == 76
}

func (r *hostRun) connect(ctx context.Context) error {
	if r.conn != nil {
		r.conn.Close()
		r.conn = nil
	}
	conn, err := r.dial(ctx)
	if err == nil {
		r.conn = conn
	}
	return err
}

func (r *hostRun) dial(ctx context.Context) (*host.Conn, error) {
	h, err := r.Store.Host(ctx, r.Host)
	if err != nil {
		return nil, err
	}
	t := target(h)
	t.Address, t.HostKey = r.leaf.Address, r.leaf.HostKey // as approved
	return r.Dialer.Connect(ctx, t)
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
	ask := asker{conn: r.conn, ip: ipOf(r.leaf.Address), hostKey: r.leaf.HostKey, run: r.claim.Run, label: label, commands: r.plan.Commands, secrets: r.secrets, redactor: r.redactor}
	switch r.Step {
	case ladder.Connect:
		return done("the host shows its pinned key"), nil
	case ladder.Lock:
		return done("fence %d", r.Fence), r.conn.TakeOver(ctx, r.claim)
	case ladder.Recheck:
		return r.recheck(ctx)
	case ladder.Baseline:
		return r.baseline(ctx, ask)
	case ladder.Trial:
		return r.trial(ctx)
	case ladder.Snapshot:
		if err := r.conn.Snapshot(ctx, r.claim, r.plan.Unit, r.files); err != nil {
			return result{}, err
		}
		return done("what stood there is in /var/lib/wladder/runs/%s", r.claim.Run), r.conn.Make(ctx, r.claim, r.files)
	case ladder.Guard:
		after := time.Duration(r.plan.Guard)
		how, err := r.conn.Arm(ctx, r.claim, after, r.plan.Unit, r.light, r.heaviest, r.files)
		return done("armed for %s, %s", after, map[string]string{"timer": "by a timer, and at the next boot", "detached": "by a waiting process"}[how]), err
	case ladder.Place:
		return done("%s", counted(len(r.leaf.Files), "path")), r.conn.Place(ctx, r.claim, r.files)
	case ladder.Act:
		return r.act(ctx, ask)
	case ladder.InForce:
		return r.inForce(ctx, ask)
	case ladder.Settle:
		return r.until(ctx, ask, probe.Later, r.plan.Probes, nil)
	case ladder.Probe:
		return r.probeOnce(ctx, ask)
	case ladder.Disarm:
		// The old connection stays until there is a new one: it is the way back.
		fresh, err := r.dial(ctx)
		if err != nil {
			return failed("no new connection came about: %v", err), nil
		}
		r.conn.Close()
		r.conn = fresh
		return done("a new connection came about; the guard is taken away"), r.conn.Disarm(ctx, r.claim, r.files)
	case ladder.Soak:
		return r.soak(ctx, ask)
	case ladder.Confirm:
		return r.confirm(ctx)
	case ladder.Restore:
		return done("%s put back", counted(len(r.leaf.Files), "path")), r.conn.Restore(ctx, r.claim, r.files)
	case ladder.ActAgain:
		return r.act(ctx, ask)
	case ladder.ProbeAgain:
		return r.until(ctx, ask, probe.Earlier, r.plan.Probes, r.Baseline)
	case ladder.DisarmAgain:
		var fired *host.FiredError
		if err := r.conn.Disarm(ctx, r.claim, r.files); errors.As(err, &fired) {
			return done("it had fired"), nil
		} else if err != nil {
			return result{}, err
		}
		return done("the guard is taken away"), nil
	case ladder.Look:
		sight, err := r.conn.Look(ctx, r.claim, lookLabel(r.LostStep), r.plan.Unit, r.files)
		if err != nil {
			return result{}, err
		}
		res := done("files %s, process %s, guard %s", sight.Files, sight.Process, sight.Guard)
		res.sight = &sight
		return res, nil
	}
	return failed("step %q is not known", r.Step), nil
}

func (r *hostRun) act(ctx context.Context, ask asker) (result, error) {
	if len(r.light.Commands) == 0 {
		return done("nothing has to take it up"), nil
	}
	if r.Step == ladder.Act {
		r.watch(ctx, ask)
	}
	return done("%s", r.leaf.Act.Name), r.conn.Act(ctx, r.claim, ask.label, r.plan.Unit, r.light, r.heaviest)
}

func lookLabel(lost ladder.Step) string {
	if lost == ladder.ActAgain || lost == ladder.ProbeAgain || lost == ladder.DisarmAgain {
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

// collect reads the run's paths and calls check for each.
func (r *hostRun) collect(ctx context.Context, check func(change.LeafFile, change.Found, change.Copy) string) (result, error) {
	var paths []string
	for _, f := range r.leaf.Files {
		paths = append(paths, f.Path)
	}
	found, err := r.conn.Collect(ctx, paths)
	if err != nil {
		return result{}, err
	}
	for i, f := range found {
		leaf := r.leaf.Files[i]
		now := f.Copy()
		if leaf.Resolved == leaf.Path {
			now = f.Itself()
		}
		if wrong := check(leaf, f, now); wrong != "" {
			return result{outcome: ladder.Changed, note: f.Path + " " + wrong}, nil
		}
	}
	return done("%s as expected", counted(len(found), "path")), nil
}

func (r *hostRun) recheck(ctx context.Context) (result, error) {
	return r.collect(ctx, func(leaf change.LeafFile, f change.Found, now change.Copy) string {
		was := leaf.Base
		switch {
		case f.Resolved != leaf.Resolved && leaf.Resolved != leaf.Path || len(leaf.Links) > 0 && !slices.Equal(f.Links, leaf.Links):
			return "leads to " + f.Resolved + " now; at the rehearsal it led to " + leaf.Resolved
		case now.Kind == change.Absent && was.Kind != change.Absent:
			return "is gone since the rehearsal"
		case now.Kind != was.Kind:
			return fmt.Sprintf("is %s now; at the rehearsal it was %s", now.Kind, was.Kind)
		case now.Target != was.Target || was.Kind == change.Regular && r.Store.ContentID(now.Content) != was.Content:
			return "was edited since the rehearsal; rehearse again to see what it says now"
		case was.Kind == change.Regular && (now.Owner != was.Owner || now.Group != was.Group || now.Mode != was.Mode):
			return fmt.Sprintf("has owner %s, group %s, mode %s now; at the rehearsal it had %s, %s, %s", now.Owner, now.Group, now.Mode, was.Owner, was.Group, was.Mode)
		}
		if text := change.Blocked(f, leaf.Despite); text != "" {
			return "cannot be replaced now: " + text
		}
		return ""
	})
}

func (r *hostRun) confirm(ctx context.Context) (result, error) {
	return r.collect(ctx, func(leaf change.LeafFile, _ change.Found, now change.Copy) string {
		want := leaf.Candidate
		kind := want.Kind
		if kind == change.Made {
			kind = change.Regular
		}
		if now.Kind != kind || now.Target != want.Target || want.Kind == change.Regular && r.Store.ContentID(now.Content) != want.Content {
			return "is no longer the candidate: somebody edited it during the soak"
		}
		if kind == change.Regular && (now.Owner != want.Owner || now.Group != want.Group || now.Mode != want.Mode) {
			return "has another owner, group or mode than approved"
		}
		return ""
	})
}

func (r *hostRun) trial(ctx context.Context) (result, error) {
	if len(r.plan.Trial.Command) == 0 {
		return done("the definition has no checker"), nil
	}
	answer, said, err := r.conn.Trial(ctx, r.files, r.plan.Trial, r.leaf.Shown)
	if err != nil {
		return result{}, err
	}
	if f, bad := trialFinding(answer, r.redactor.Clean(said), r.plan.Trial.Command); bad {
		return failed("%s", f.Text), nil
	}
	return done("accepted"), nil
}
