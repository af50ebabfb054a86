package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/record"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// rehearsal is one read-only pass, as this server carries it out.
type rehearsal struct {
	*Engine
	*store.Rehearsing
	svc      *definition.Service
	spec     *change.Spec
	findings []finding.Finding // about the whole
	probes   []probe.Probe
	secrets  map[string]string
	carries  *expr.Program // which hosts carry the service
}

func veto(code, format string, args ...any) finding.Finding {
	return finding.Finding{Level: finding.Veto, Code: code, Text: fmt.Sprintf(format, args...)}
}

// Literals errs where a change writes secrets out, so that no draft keeps them.
func (e *Engine) Literals(ctx context.Context, spec *change.Spec) error {
	svc := &definition.Service{}
	var missing *store.NotFound
	if version, err := e.Store.ApprovedService(ctx, spec.Service); err == nil {
		if svc, err = definition.Stored(spec.Service, version.Names, []byte(version.Source)); err != nil {
			return err
		}
	} else if !errors.As(err, &missing) {
		return err
	} // what the name of a setting tells holds without a definition
	return render.Literals("change", svc, spec)
}

// Rehearse begins a rehearsal of a change's newest revision. A server carries it
// out, this one or another; what it finds is in the store.
func (e *Engine) Rehearse(ctx context.Context, actor string, changeID int64) error {
	revision, err := e.Store.Revision(ctx, changeID)
	if err != nil {
		return err
	}
	spec, err := change.Stored(fmt.Sprintf("change %d", changeID), revision.Names, []byte(revision.Source))
	if err != nil {
		return err
	}
	hosts, err := e.match(ctx, spec.Where)
	if err != nil {
		return err
	}
	version, err := e.Store.ApprovedService(ctx, spec.Service)
	if err != nil {
		return err
	}
	svc, err := definition.Stored(spec.Service, version.Names, []byte(version.Source))
	if err != nil {
		return err
	}
	t := store.Targets{Revision: revision.Number, ServiceDigest: version.Digest, Hosts: hosts}
	var missing *store.NotFound
	names := render.SecretNames(svc, spec)
	bindings, err := e.Store.Bindings(ctx, names)
	if err != nil {
		return err
	}
	if _, t.Secrets, err = e.Store.Secrets(ctx, names); errors.As(err, &missing) {
		t.Findings = append(t.Findings, veto("no-secret", "%s; keep it first, with wladder secret", missing.What))
	} else if err != nil {
		return err
	} else {
		t.Findings = append(t.Findings, unbound(svc, spec, hosts, names, bindings)...)
	}
	for _, p := range spec.Probes {
		if err := p.Within(svc.Allowed()); err != nil {
			t.Findings = append(t.Findings, veto("not-to-be-asked", "probe %s %v", p.Name, err))
		}
	}
	low, high, _ := spec.Expected()
	switch {
	case len(hosts) == 0:
		t.Findings = append(t.Findings, veto("no-hosts", "where matches no host: %s", spec.Where))
	case len(hosts) < low || len(hosts) > high:
		t.Findings = append(t.Findings, veto("unexpected-number", "where matches %d hosts; the change counts on %s", len(hosts), spec.Count))
	}
	if _, err := e.Store.BeginRehearsal(ctx, actor, changeID, t); err != nil {
		return err
	}
	e.nudge()
	return nil
}

// unbound says which secrets would go where no admin lets them go.
func unbound(svc *definition.Service, spec *change.Spec, hosts []view.Host, names []string, bindings map[string]view.Binding) (all []finding.Finding) {
	probes := slices.Concat(svc.Probes, spec.Probes, []probe.Probe(svc.InForce))
	for _, name := range names {
		b := bindings[name]
		if !slices.Contains(b.Services, svc.Name) {
			all = append(all, veto("secret-not-bound", "secret %s may not go to service %s; an admin binds it there, with wladder secret -bind", name, svc.Name))
			continue
		}
		for _, p := range probes {
			if slices.Contains(p.SecretNames(), name) && !slices.Contains(b.Probes, p.Name) {
				all = append(all, veto("secret-not-bound", "secret %s may not be shown by the probe %s; an admin binds it there, with wladder secret -bind", name, p.Name))
			}
		}
		where, err := expr.Compile(cmp.Or(b.Hosts, "false"), expr.HostVars, expr.Bool)
		for _, h := range hosts {
			if err == nil {
				var fits bool
				if fits, err = where.Bool(h.Expr().Vars()); err == nil && !fits {
					all = append(all, veto("secret-not-bound", "secret %s may not go to host %s; an admin says which hosts, with wladder secret -bind", name, h.Name))
					break
				}
			}
		}
		if err != nil {
			all = append(all, veto("secret-not-bound", "where secret %s may go cannot be told: %v", name, err))
		}
	}
	return all
}

// carryOut reads the hosts of a rehearsal that were not read yet, and ends it.
func (e *Engine) carryOut(stopping, mine context.Context, c *store.Rehearsing) {
	r := &rehearsal{Engine: e, Rehearsing: c, findings: c.Findings}
	err := r.prepare(mine)
	var hosts []view.Host
	if err == nil {
		err = e.insist(mine, "targets", nil, func() (err error) { hosts, err = e.Store.Unread(mine, c.ID); return err })
	}
	if err == nil {
		err = r.readAll(stopping, mine, hosts)
	}
	var leaves []plan.Leaf
	var head *plan.Head
	switch {
	case errors.Is(err, errLeaving):
		if err := e.Store.ReleaseRehearsal(mine, c); err != nil {
			e.Log.Error("releasing a rehearsal", "change", c.Change, "error", err)
		}
		return
	case mine.Err() != nil || store.Transient(err):
		return // its lease lapses, and another try follows
	case err != nil:
		r.findings = append(r.findings, veto("failed", "the rehearsal could not be carried out: %v", err))
	default:
		head, leaves, err = r.plan(mine)
		if err != nil {
			r.findings = append(r.findings, veto("ladder", "%v", err))
		}
	}
	err = e.insist(mine, "the end of a rehearsal", nil, func() error { return e.Store.EndRehearsal(mine, c, r.findings, head, leaves) })
	if err != nil && mine.Err() == nil {
		e.Log.Error("a rehearsal could not be ended", "change", c.Change, "error", err)
	}
}

func (r *rehearsal) prepare(ctx context.Context) (err error) {
	if r.spec, err = change.Stored(fmt.Sprintf("change %d", r.Change), r.Names, []byte(r.Source)); err != nil {
		return err
	}
	if r.svc, err = r.service(ctx, r.spec.Service, r.ServiceDigest); err != nil {
		return err
	}
	r.probes = slices.Concat(r.svc.Probes, r.spec.Probes)
	if r.carries, err = expr.Compile(r.svc.Where, expr.HostVars, expr.Bool); err != nil {
		return err
	}
	return r.insist(ctx, "secrets", nil, func() (err error) { r.secrets, err = r.Store.SecretVersions(ctx, r.Secrets); return err })
}

// How results are gathered before they are written: few at once while there are
// few, so that people see them come.
const (
	readsAtOnce = 100
	readsEvery  = 100 * time.Millisecond
)

// readAll reads hosts in parallel, and keeps what was found as it comes in.
func (r *rehearsal) readAll(stopping, mine context.Context, hosts []view.Host) error {
	results := make(chan store.Read, r.AtOnce)
	go func() {
		defer close(results)
		r.each(len(hosts), func(i int) {
			if stopping.Err() == nil && mine.Err() == nil {
				results <- r.host(mine, hosts[i])
			}
		})
	}()
	var waiting []store.Read
	var failure error
	flush := func() {
		if len(waiting) > 0 && failure == nil {
			all := waiting
			if failure = r.add(mine, all); failure == nil {
				r.hint("rehearsal", r.Change, map[string]any{"host": all[len(all)-1].Host, "hosts": len(all)})
			}
		}
		waiting = nil
	}
	tick := time.NewTicker(readsEvery)
	defer tick.Stop()
	for results != nil {
		select {
		case read, more := <-results:
			if !more {
				results = nil
				break
			}
			if waiting = append(waiting, read); len(waiting) >= readsAtOnce {
				flush()
			}
		case <-tick.C:
			flush()
		}
	}
	flush()
	switch {
	case failure != nil:
		return failure
	case mine.Err() != nil:
		return context.Cause(mine)
	case stopping.Err() != nil:
		return errLeaving
	}
	return nil
}

// add keeps what was found on hosts. What cannot be kept of one is that host's
// finding, and hinders no other.
func (r *rehearsal) add(ctx context.Context, all []store.Read) error {
	keep := func(some ...store.Read) error {
		return r.insist(ctx, "what a rehearsal found", nil, func() error { return r.Store.AddRead(ctx, r.Rehearsing, some) })
	}
	err := keep(all...)
	if err == nil || !store.Unstorable(err) {
		return err
	}
	for _, one := range all {
		if err := keep(one); store.Unstorable(err) {
			r.Log.Error("what a host answered cannot be kept", "host", one.Host, "change", r.Change, "error", err)
			var instead store.Read
			instead.HostID, instead.Host = one.HostID, one.Host
			instead.Findings = []finding.Finding{veto("failed", "what it answered cannot be kept; the server's log has the details")}
			instead.Group = render.GroupKey("", "", instead.Findings)
			if err := keep(instead); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
	}
	return nil
}

// maxDiff is how much of a host's diff is kept, in bytes: a person reads no more.
const maxDiff = 1 << 20

// plan freezes what is to happen; none where something speaks against the whole.
func (r *rehearsal) plan(ctx context.Context) (*plan.Head, []plan.Leaf, error) {
	var planned []store.Planned
	if err := r.insist(ctx, "leaves", nil, func() (err error) { planned, err = r.Store.PlannedLeaves(ctx, r.ID); return err }); err != nil {
		return nil, nil, err
	}
	if len(planned) == 0 && len(r.findings) == 0 {
		r.findings = append(r.findings, veto("nothing-planned", "no host is left to change: each has a veto, or says already what this change wants"))
	}
	bindings, err := r.bindings(ctx)
	if err != nil {
		return nil, nil, err
	}
	if len(r.findings) > 0 {
		return nil, nil, nil
	}
	policy, err := r.spec.Policy()
	if err != nil {
		return nil, nil, err
	}
	leaves, hosts := make([]plan.Leaf, len(planned)), make([]expr.Host, len(planned))
	for i, p := range planned {
		if err := json.Unmarshal(p.Leaf, &leaves[i]); err != nil {
			return nil, nil, err
		}
		hosts[i] = p.Host
	}
	policy, stages, err := policy.Assign(hosts)
	if err != nil {
		return nil, nil, err
	}
	for i := range leaves {
		leaves[i].Stage = stages[i]
	}
	commands, inForce := r.svc.Commands, []probe.Probe(r.svc.InForce)
	if commands == nil {
		commands = map[string]definition.Command{}
	}
	if inForce == nil {
		inForce = []probe.Probe{}
	}
	return &plan.Head{
		Version: plan.Version, Change: r.Change, Revision: r.Revision, Hosts: len(leaves), Scripts: host.ScriptsDigest(), Policy: policy, Secrets: r.Secrets, Bindings: bindings,
		Parts: []plan.Part{{
			Service: r.svc.Name, ServiceDigest: r.svc.Digest, Unit: r.svc.Unit, Trial: r.svc.Trial, InForce: inForce, Probes: r.probes, Commands: commands, Logs: r.svc.Logs,
			FrontDoor: r.svc.FrontDoor, Settle: ladder.Span(r.svc.Settle), Guarded: r.svc.Guarded, Guard: r.guard(), Heaviest: r.svc.Acts[len(r.svc.Acts)-1],
		}},
	}, leaves, nil
}

// bindings says where the change's secrets may go, as it is now; what they may not is a
// finding.
func (r *rehearsal) bindings(ctx context.Context) (map[string]string, error) {
	names := slices.Sorted(maps.Keys(r.Secrets))
	if len(names) == 0 {
		return nil, nil
	}
	var bound map[string]view.Binding
	if err := r.insist(ctx, "bindings of secrets", nil, func() (err error) { bound, err = r.Store.Bindings(ctx, names); return err }); err != nil {
		return nil, err
	}
	hosts, err := r.match(ctx, r.spec.Where)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for name, b := range bound {
		text, err := record.Canonical(b)
		if err != nil {
			return nil, err
		}
		all[name] = string(text)
	}
	for _, f := range unbound(r.svc, r.spec, hosts, names, bound) {
		if !slices.Contains(r.findings, f) {
			r.findings = append(r.findings, f)
		}
	}
	return all, nil
}

// guard reckons how long a host waits for our confirmation: what act, settling
// and probes may take, and a minute for the way there.
func (r *rehearsal) guard() ladder.Span {
	if d := cmp.Or(r.spec.Guard, r.svc.Guard); d > 0 {
		return ladder.Span(d)
	}
	all := time.Minute + 3*time.Duration(r.svc.Settle) + time.Duration(r.svc.Acts[len(r.svc.Acts)-1].Timeout)
	for _, p := range slices.Concat(r.probes, r.svc.InForce) {
		all += time.Duration(max(p.Tries, 1)*p.Hold) * 2 * time.Second
	}
	return ladder.Span(all)
}

// host reads one host. Whatever fails there, our own code included, ends as a
// finding of that host.
func (r *rehearsal) host(ctx context.Context, h view.Host) (found store.Read) {
	found.HostID, found.Host = h.ID, h.Name
	var result render.Result
	defer func() {
		if p := recover(); p != nil {
			r.Log.Error("a panic over a rehearsal", "host", h.Name, "change", r.Change, "panic", fmt.Sprint(p), "trace", string(debug.Stack()))
			found.Leaf, found.Contents = nil, nil
			found.Findings = append(found.Findings, veto("failed", "this server made a mistake over this host; its log has the details"))
		}
		found.Group = render.GroupKey(found.Diff, found.Act, found.Findings)
	}()
	if r.mishap != nil {
		r.mishap(h.Name, "")
	}
	result, err := r.read(ctx, &h, &found)
	if err != nil {
		result.Findings = append(result.Findings, veto("unreachable", "%s", strings.TrimPrefix(err.Error(), h.Name+": ")))
	}
	for _, f := range result.Files {
		found.Diff += f.Diff
		found.Alterations = append(found.Alterations, f.Alterations...)
	}
	if over := len(found.Diff) - maxDiff; over > 0 {
		found.Diff = probe.Clip(found.Diff, maxDiff) + "\n"
		result.Findings = append(result.Findings, finding.Finding{Level: finding.Warn, Code: "long-diff", Text: fmt.Sprintf("the diff is %d bytes longer than what is shown", over)})
	}
	found.Findings = result.Clean()
	if len(result.Files) > 0 {
		found.Act = result.Act.Name
	}
	if result.Vetoed() || len(result.Files) == 0 {
		return found
	}
	part := plan.LeafPart{Act: result.Act, Shown: result.Shown, Pins: r.svc.PinFiles(h.Traits.Family, slices.Concat(r.probes, r.svc.InForce))}
	for _, f := range result.Files {
		links := f.Found.Links
		if f.Path == f.Found.Path {
			links = nil // the link itself is what changes
		}
		part.Files = append(part.Files, plan.LeafFile{
			Key: f.Key, Path: f.Found.Path, Resolved: f.Path, Links: links, Format: f.Format,
			Base: f.Base.Ref(r.Store.ContentID), Candidate: f.Candidate.Ref(r.Store.ContentID), Make: f.Make, Others: f.Others, Despite: r.svc.Files[f.Key].Despite,
		})
		for _, c := range []plan.Copy{f.Base, f.Candidate} {
			if c.Kind == plan.Regular && c.Sum == "" {
				found.Contents = append(found.Contents, c.Content)
			}
		}
	}
	leaf := plan.Leaf{HostID: h.ID, Host: h.Name, Address: h.Address, Login: h.Login, Sudo: h.Sudo, HostKey: h.HostKey, Labels: h.Labels, Parts: []plan.LeafPart{part}}
	if found.Leaf, err = json.Marshal(leaf); err != nil {
		panic(err) // it holds nothing that JSON does not
	}
	return found
}

// hostFile gives a path as the host's scripts know it.
func hostFile(path string, base, candidate plan.Copy, m *definition.Make, others, secrets map[string]string) host.File {
	f := host.File{Path: path, Base: host.Stands(base), Candidate: host.Stands(candidate), Content: candidate.Content}
	f.Kept = candidate.Sum != ""
	if candidate.Kind == plan.Symlink {
		f.Content = []byte(candidate.Target)
	}
	if m != nil {
		f.Make, f.Others, f.Secrets = m, others, map[string]string{}
		for _, name := range m.SecretNames() {
			f.Secrets[name] = secrets[name]
		}
	}
	return f
}

// read does what needs the host: survey, collect, trial, and the probes as
// they are before.
func (r *rehearsal) read(ctx context.Context, h *view.Host, found *store.Read) (result render.Result, err error) {
	conn, err := r.Dialer.Connect(ctx, target(*h))
	if err != nil {
		return result, err
	}
	defer conn.Close()
	keys, paths := r.paths(h.Traits.Family)
	var all []render.Found
	was := h.Traits.Family // of the last survey; none before the first
	if h.Traits, all, err = conn.Examine(ctx, paths); err != nil {
		return result, err
	}
	found.Traits = &h.Traits
	if yes, err := r.carries.Bool(h.Expr().Vars()); err != nil || !yes {
		result.Findings = []finding.Finding{{Level: finding.Veto, Code: "not-carried", Text: "the definition of " + r.svc.Name + " says that this host does not carry it"}}
		return result, err
	}
	if h.Traits.Family != was {
		keys, paths = r.paths(h.Traits.Family)
		if all, err = conn.Collect(ctx, paths); err != nil {
			return result, err
		}
	}
	collected := map[string]render.Found{}
	for i, f := range all {
		collected[keys[i]] = f
	}
	redactor := &secret.Redactor{}
	result = render.Candidates(r.svc, r.spec, render.Reading{Host: h.Expr(), Files: collected, Secrets: r.secrets, Redactor: redactor})
	// The probes as they are before, and what lies around the files, in one round
	// trip; includes may want more.
	ask := newAsker(conn, h.Address, h.HostKey)
	ask.put, ask.commands, ask.secrets, ask.redactor = outsideRuns(conn), r.svc.Commands, r.secrets, redactor
	ask.pins = r.svc.PinFiles(h.Traits.Family, slices.Concat(r.probes, r.svc.InForce))
	ask.before, ask.approved = true, len(r.svc.Probes)
	around := aroundOf(r.svc, &result)
	var replies []host.Reply
	found.Probes, replies, err = ask.ask(ctx, probe.Earlier, r.probes, append([]host.Question{{Ask: probe.Ask{Kind: probe.Unit, Name: r.svc.Unit}}}, around.questions()...)...)
	if err != nil {
		return result, err
	}
	if err := around.add(replies[1:]); err != nil {
		return result, err
	}
	if err := around.rest(ctx, ask); err != nil {
		return result, err
	}
	result.Findings = append(result.Findings, around.findings()...)
	var files []host.File
	for _, f := range result.Files {
		files = append(files, hostFile(f.Path, f.Base, f.Candidate, f.Make, f.Others, r.secrets))
	}
	tried, shown := files, result.Shown
	if result.Waits { // the checker sees what is there all the same
		tried, shown = nil, nil
	}
	if len(files) > 0 && len(r.svc.Trial.Command) > 0 {
		answer, said, err := conn.Trial(ctx, tried, r.svc.Trial, shown)
		if err != nil {
			return result, err
		}
		if f, bad := trialFinding(answer, redactor.Clean(said), r.svc.Trial.Command); bad {
			result.Findings = append(result.Findings, f)
		}
	}
	if what := ill(found.Probes); what != "" {
		result.Findings = append(result.Findings, finding.Finding{Level: finding.Warn, Code: "ill-before", Text: what + ", before anything is changed"})
	}
	if (replies[0].State == "inactive" || replies[0].State == "failed") && len(result.Act.Commands) > 0 && len(files) > 0 {
		result.Findings = append(result.Findings, finding.Finding{Level: finding.Warn, Code: "not-running",
			Text: fmt.Sprintf("%s does not run on this host now (%s); the act %s would start it", r.svc.Unit, replies[0].State, result.Act.Name)})
	}
	unready := ""
	if len(files) == 0 && !result.Vetoed() {
		if unready, err = r.unready(ctx, ask); err != nil {
			return result, err
		}
	}
	result.Settled(unready)
	return result, nil
}

// paths gives the definition's files as they stand on hosts of a family.
func (r *rehearsal) paths(family string) (keys, paths []string) {
	for key, f := range r.svc.Files {
		if at := f.Path(family); at != "" {
			if r.svc.Made(key) {
				at = host.Closed + at
			}
			keys, paths = append(keys, key), append(paths, at)
		}
	}
	return keys, paths
}

// unready says, before anything is changed, what the program has not taken up:
// which in-force checks are not well, and which probes are not as they are to be
// after. What asks for processes begun since the act tells nothing before one.
func (r *rehearsal) unready(ctx context.Context, ask asker) (string, error) {
	checks := slices.Clone([]probe.Probe(r.svc.InForce))
	for i, p := range r.probes {
		if ask.waits(i, p) != "" {
			continue
		}
		if after := p.Expectation(probe.Later); after != "" && after != p.Expectation(probe.Earlier) {
			checks = append(checks, p)
		}
	}
	checks = slices.DeleteFunc(checks, func(p probe.Probe) bool { return p.Uses("renewed") })
	if len(checks) == 0 {
		return "", nil
	}
	ask.before = false // what waits is left out already
	verdicts, _, err := ask.ask(ctx, probe.Later, checks)
	return ill(verdicts), err
}

// fleeting is what checkers print that differs each time they run, and would
// make hosts look unlike: times, and process numbers as nginx writes them.
var fleeting = regexp.MustCompile(`\d{4}[/-]\d{2}[/-]\d{2}[ T]\d{2}:\d{2}:\d{2}(\.\d+)?Z? ?|\b\d+#\d+: ?|\[\d+\]: `)

func trialFinding(answer host.TrialAnswer, said string, command []string) (finding.Finding, bool) {
	f := finding.Finding{Level: finding.Veto, Code: string(answer)}
	said = strings.TrimSpace(fleeting.ReplaceAllString(said, ""))
	checker := path.Base(command[0])
	switch answer {
	case host.Refused:
		f.Text = checker + " refuses the candidate: " + said
	case host.AlreadyRefused:
		f.Text = checker + " refuses the files as they are now, untouched; mend them first: " + said
	case host.NotShown:
		f.Text = checker + " accepts the candidate, yet the effective settings do not show " + strconv.Quote(said) + ": another line or file wins"
	case host.CannotTell:
		f.Text = checker + " gave no usable answer: " + said
	default:
		return f, false
	}
	return f, true
}
