package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"regexp"
	"sort"
	"strings"
	"sync"

	"wladder/core/change"
	"wladder/core/expr"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/view"
	"wladder/host"
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
	return &change.Plan{
		Change: r.change, Revision: r.revision, Service: r.svc.Name, ServiceDigest: r.svc.Digest, Scripts: host.ScriptsDigest(),
		Probes: r.probes, InForce: r.svc.InForce, Trial: r.svc.Trial.Command, Covers: r.svc.Trial.Covers, Unit: r.svc.Unit,
		Settle: ladder.Span(r.svc.Settle), Policy: policy, Heaviest: r.svc.Acts[len(r.svc.Acts)-1], Leaves: leaves,
	}, nil
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
	result, files, err := r.read(ctx, h, &found)
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
	if result.Stops() || len(files) == 0 {
		return found, nil, nil
	}
	leaf = &change.Leaf{HostID: h.ID, Host: h.Name, Address: h.Address, HostKey: h.HostKey, Act: result.Act}
	for _, f := range result.Files {
		leaf.Files = append(leaf.Files, change.LeafFile{
			Key: f.Key, Path: f.Found.Path, Resolved: f.Found.Resolved, Base: r.Store.ContentID(f.Found.Content), Candidate: r.Store.ContentID(f.Candidate),
			Owner: f.Found.Owner, Group: f.Found.Group, Mode: f.Found.Mode,
		})
		contents = append(contents, f.Found.Content, f.Candidate)
	}
	return found, leaf, contents
}

// read does what needs the host: survey, collect, trial, and the probes as
// they are before.
func (r *rehearsal) read(ctx context.Context, h *view.Host, found *view.RehearsedHost) (result change.Result, files []host.File, err error) {
	conn, err := r.Dialer.Connect(ctx, target(*h))
	if err != nil {
		return result, nil, err
	}
	defer conn.Close()
	if h.Traits, err = conn.Survey(ctx); err != nil {
		return result, nil, err
	}
	if _, err := r.Store.Surveyed(ctx, h.ID, h.Traits); err != nil {
		return result, nil, err
	}
	carries, err := expr.Compile(r.svc.On, expr.HostVars, expr.Bool)
	if err != nil {
		return result, nil, err
	}
	if yes, err := carries.Bool(h.Expr().Vars()); err != nil || !yes {
		result.Findings = []change.Finding{{Level: change.StopLevel, Code: "not-carried", Text: "the definition of " + r.svc.Name + " says that this host does not carry it"}}
		return result, nil, err
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
		return result, nil, err
	}
	for i, f := range all {
		collected[keys[i]] = f
	}
	result = change.Render(r.svc, r.spec, h.Expr(), collected)
	for _, f := range result.Files {
		files = append(files, host.File{Path: f.Found.Resolved, Content: f.Candidate})
	}
	if len(files) > 0 && len(r.svc.Trial.Command) > 0 && !result.Executes {
		answer, said, err := conn.Trial(ctx, files, r.svc.Trial.Command, r.svc.Trial.Covers)
		if err != nil {
			return result, nil, err
		}
		if f, bad := trialFinding(answer, said, r.svc.Trial.Command); bad {
			result.Findings = append(result.Findings, f)
		}
	}
	found.Probes, err = newAsker(conn, h.Address, "none", host.ForwardAct).ask(ctx, r.probes)
	if what := ill(found.Probes); what != "" {
		result.Findings = append(result.Findings, change.Finding{Level: change.WarnLevel, Code: "ill-before", Text: what + ", before anything is changed"})
	}
	return result, files, err
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
	case host.CannotTell:
		f.Text = checker + " gave no usable answer: " + said
	default:
		return f, false
	}
	return f, true
}
