package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"wladder/core/change"
	"wladder/core/expr"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// rehearsal is one read-only pass.
type rehearsal struct {
	*Engine
	id, change int64
	actor      string
	svc        *change.Service
	spec       *change.Spec
	revision   int
	findings   []change.Finding // about the whole
	probes     []probe.Probe
	secrets    map[string]string
	versions   map[string]int
}

func (r *rehearsal) stop(code, format string, args ...any) {
	r.findings = append(r.findings, change.Finding{Level: change.StopLevel, Code: code, Text: fmt.Sprintf(format, args...)})
}

// Rehearse begins a rehearsal of a change's newest revision and gives the
// function that carries it out to its end; what it finds is in the store.
func (e *Engine) Rehearse(ctx context.Context, actor string, changeID int64) (carryOut func(context.Context) error, err error) {
	source, revision, err := e.Store.Source(ctx, changeID)
	if err != nil {
		return nil, err
	}
	spec, err := change.ParseSpec(fmt.Sprintf("change %d", changeID), []byte(source))
	if err != nil {
		return nil, err
	}
	r := &rehearsal{Engine: e, change: changeID, actor: actor, spec: spec, revision: revision}
	hosts, err := e.match(ctx, spec.Where)
	if err != nil {
		return nil, err
	}
	version, err := e.Store.ApprovedService(ctx, spec.Service)
	if err != nil {
		return nil, err
	}
	if r.svc, err = change.ParseService(spec.Service, []byte(version.Source)); err != nil {
		return nil, err
	}
	r.probes = append(append(r.probes, r.svc.Probes...), spec.Probes...)
	var missing *store.NotFound
	if r.secrets, r.versions, err = e.Store.Secrets(ctx, change.SecretNames(r.svc, spec)); errors.As(err, &missing) {
		r.stop("no-secret", "%s; keep it first, with wladder secret", missing.What)
	} else if err != nil {
		return nil, err
	}
	low, high, _ := spec.Expected()
	switch {
	case len(hosts) == 0:
		r.stop("no-hosts", "where matches no host: %s", spec.Where)
	case len(hosts) < low || len(hosts) > high:
		r.stop("unexpected-number", "where matches %d hosts; the change expects %s", len(hosts), spec.Expect)
	}
	if r.id, err = e.Store.BeginRehearsal(ctx, actor, changeID, revision, len(hosts)); err != nil {
		return nil, err
	}
	return func(ctx context.Context) error { return r.carryOut(ctx, hosts) }, nil
}

func (r *rehearsal) carryOut(ctx context.Context, hosts []view.Host) error {
	var mu sync.Mutex
	var leaves []change.Leaf
	var planned []expr.Host
	var contents [][]byte
	var failure error
	r.each(len(hosts), func(i int) {
		h := hosts[i]
		found, leaf, kept := r.host(ctx, &h)
		err := r.Store.AddRehearsed(ctx, r.change, r.id, found)
		mu.Lock()
		defer mu.Unlock()
		failure = errors.Join(failure, err)
		if leaf != nil {
			leaves = append(leaves, *leaf)
			planned = append(planned, h.Expr())
			contents = append(contents, kept...)
		}
	})
	if failure != nil {
		return failure
	}
	if len(hosts) > 0 && len(leaves) == 0 {
		r.stop("nothing-planned", "no host is left to change: each has a stop finding, or says already what this change wants")
	}
	var plan *change.Plan
	if len(r.findings) == 0 {
		var err error
		if plan, err = r.plan(leaves, planned); err != nil {
			r.stop("ladder", "%v", err)
			plan = nil
		}
	}
	return r.Store.EndRehearsal(ctx, r.actor, r.change, r.id, r.findings, plan, contents)
}

func (r *rehearsal) plan(leaves []change.Leaf, planned []expr.Host) (*change.Plan, error) {
	sort.Sort(byName{leaves, planned})
	policy, err := r.spec.Policy()
	if err != nil {
		return nil, err
	}
	policy, stages, err := policy.Assign(planned)
	if err != nil {
		return nil, err
	}
	for i := range leaves {
		leaves[i].Stage = stages[i]
	}
	commands := r.svc.Commands
	if commands == nil {
		commands = map[string]change.Command{}
	}
	inForce := []probe.Probe(r.svc.InForce)
	if inForce == nil {
		inForce = []probe.Probe{}
	}
	return &change.Plan{
		Change: r.change, Revision: r.revision, Service: r.svc.Name, ServiceDigest: r.svc.Digest, Scripts: host.ScriptsDigest(),
		Probes: r.probes, InForce: inForce, Commands: commands, Logs: r.svc.Logs, FrontDoor: r.svc.FrontDoor, Trial: r.svc.Trial, Unit: r.svc.Unit,
		Settle: ladder.Span(r.svc.Settle), Guard: r.guard(), Policy: policy, Heaviest: r.svc.Acts[len(r.svc.Acts)-1], Secrets: r.versions, Leaves: leaves,
	}, nil
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

type byName struct {
	leaves []change.Leaf
	hosts  []expr.Host
}

func (b byName) Len() int           { return len(b.leaves) }
func (b byName) Less(i, k int) bool { return b.leaves[i].Host < b.leaves[k].Host }
func (b byName) Swap(i, k int) {
	b.leaves[i], b.leaves[k] = b.leaves[k], b.leaves[i]
	b.hosts[i], b.hosts[k] = b.hosts[k], b.hosts[i]
}

// host reads one host; the leaf is nil where it has no part in the plan.
func (r *rehearsal) host(ctx context.Context, h *view.Host) (found view.RehearsedHost, leaf *change.Leaf, contents [][]byte) {
	found = view.RehearsedHost{HostID: h.ID, Host: h.Name}
	result, err := r.read(ctx, h, &found)
	if err != nil {
		result.Findings = append(result.Findings, change.Finding{Level: change.StopLevel, Code: "unreachable", Text: strings.TrimPrefix(err.Error(), h.Name+": ")})
	}
	for _, f := range result.Files {
		found.Diff += f.Diff
		found.Alterations = append(found.Alterations, f.Alterations...)
	}
	found.Findings = result.Findings
	if len(result.Files) > 0 {
		found.Act = result.Act.Name
	}
	found.Group = change.GroupKey(found.Diff, found.Act, found.Findings)
	if result.Stops() || len(result.Files) == 0 {
		return found, nil, nil
	}
	leaf = &change.Leaf{HostID: h.ID, Host: h.Name, Address: h.Address, HostKey: h.HostKey, Act: result.Act}
	leaf.Shown = result.Shown
	for _, f := range result.Files {
		links := f.Found.Links
		if f.Path == f.Found.Path {
			links = nil // the link itself is what changes
		}
		leaf.Files = append(leaf.Files, change.LeafFile{
			Key: f.Key, Path: f.Found.Path, Resolved: f.Path, Links: links, Format: f.Format,
			Base: f.Base.Ref(r.Store.ContentID), Candidate: f.Candidate.Ref(r.Store.ContentID), Make: f.Make, Others: f.Others, Despite: r.svc.Files[f.Key].Despite,
		})
		for _, c := range []change.Copy{f.Base, f.Candidate} {
			if c.Kind == change.Regular {
				contents = append(contents, c.Content)
			}
		}
	}
	return found, leaf, contents
}

// hostFile gives a path as the host's scripts know it.
func hostFile(path string, base, candidate change.Copy, m *change.Make, others, secrets map[string]string) host.File {
	f := host.File{Path: path, Base: host.Stands(base), Candidate: host.Stands(candidate), Content: candidate.Content}
	if candidate.Kind == change.Symlink {
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
func (r *rehearsal) read(ctx context.Context, h *view.Host, found *view.RehearsedHost) (result change.Result, err error) {
	conn, err := r.Dialer.Connect(ctx, target(*h))
	if err != nil {
		return result, err
	}
	defer conn.Close()
	if h.Traits, err = conn.Survey(ctx); err != nil {
		return result, err
	}
	if _, err := r.Store.Surveyed(ctx, h.ID, h.Traits); err != nil {
		return result, err
	}
	carries, err := expr.Compile(r.svc.On, expr.HostVars, expr.Bool)
	if err != nil {
		return result, err
	}
	if yes, err := carries.Bool(h.Expr().Vars()); err != nil || !yes {
		result.Findings = []change.Finding{{Level: change.StopLevel, Code: "not-carried", Text: "the definition of " + r.svc.Name + " says that this host does not carry it"}}
		return result, err
	}
	var keys, paths []string
	collected := map[string]change.Found{}
	for key, f := range r.svc.Files {
		if at := f.Path(h.Traits.OSFamily); at != "" {
			keys, paths = append(keys, key), append(paths, at)
		}
	}
	all, err := conn.Collect(ctx, paths)
	if err != nil {
		return result, err
	}
	for i, f := range all {
		collected[keys[i]] = f
	}
	redactor := &change.Redactor{}
	result = change.Render(r.svc, r.spec, change.Reading{Host: h.Expr(), Files: collected, Secrets: r.secrets, Redactor: redactor})
	if err := overruled(ctx, conn, r.svc, &result); err != nil {
		return result, err
	}
	var files []host.File
	for _, f := range result.Files {
		files = append(files, hostFile(f.Path, f.Base, f.Candidate, f.Make, f.Others, r.secrets))
	}
	if len(files) > 0 && len(r.svc.Trial.Command) > 0 && !result.Executes {
		answer, said, err := conn.Trial(ctx, files, r.svc.Trial, result.Shown)
		if err != nil {
			return result, err
		}
		if f, bad := trialFinding(answer, redactor.Clean(said), r.svc.Trial.Command); bad {
			result.Findings = append(result.Findings, f)
		}
	}
	ask := asker{conn: conn, ip: ipOf(h.Address), hostKey: h.HostKey, run: "none", label: host.ForwardAct, commands: r.svc.Commands, secrets: r.secrets, redactor: redactor}
	var replies []host.Reply
	found.Probes, replies, err = ask.ask(ctx, probe.Earlier, r.probes, host.Question{Ask: probe.Ask{Kind: probe.Unit, Name: r.svc.Unit}})
	if what := ill(found.Probes); what != "" {
		result.Findings = append(result.Findings, change.Finding{Level: change.WarnLevel, Code: "ill-before", Text: what + ", before anything is changed"})
	}
	if len(replies) > 0 && (replies[0].State == "inactive" || replies[0].State == "failed") && len(result.Act.Commands) > 0 && len(files) > 0 {
		result.Findings = append(result.Findings, change.Finding{Level: change.WarnLevel, Code: "not-running",
			Text: fmt.Sprintf("%s does not run on this host now (%s); the act %s would start it", r.svc.Unit, replies[0].State, result.Act.Name)})
	}
	return result, err
}

// deepest is how many times includes are followed on a host.
const deepest = 5

// overruled finds edits that do not count, since a setting elsewhere wins.
func overruled(ctx context.Context, conn *host.Conn, svc *change.Service, result *change.Result) error {
	for _, reach := range change.ReachOf(svc, result) {
		for range deepest {
			wants := reach.Wants()
			if len(wants) == 0 {
				break
			}
			files, err := conn.Gather(ctx, wants)
			if err != nil {
				return err
			}
			reach.Add(wants, files)
		}
		result.Findings = append(result.Findings, reach.Findings()...)
	}
	return nil
}

// fleeting is what checkers print that differs each time they run, and would
// make hosts look unlike: times, and process numbers as nginx writes them.
var fleeting = regexp.MustCompile(`\d{4}[/-]\d{2}[/-]\d{2}[ T]\d{2}:\d{2}:\d{2}(\.\d+)?Z? ?|\b\d+#\d+: ?|\[\d+\]: `)

func trialFinding(answer host.TrialAnswer, said string, command []string) (change.Finding, bool) {
	f := change.Finding{Level: change.StopLevel, Code: string(answer)}
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
