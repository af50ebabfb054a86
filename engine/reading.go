package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// reading is a rehearsal of one host.
type reading struct {
	*rehearsal
	host     view.Host
	conn     Conn
	ask      asker
	probes   []probe.Probe
	services []*carried
	redactor *secret.Redactor
	mayFail  bool
}

// maxClock is by how many seconds a host's clock may be off without a word.
const maxClock = 30

// several tells whether it has to be said which service is meant.
func (r *reading) several() bool { return len(r.rehearsal.services) > 1 || len(r.services) > 1 }

// host reads one host. Whatever fails there, our own code included, ends as a
// finding of that host.
func (r *rehearsal) host(ctx context.Context, h view.Host) (found store.Read) {
	found.HostID, found.Host = h.ID, h.Name
	one := &reading{rehearsal: r, host: h, redactor: &secret.Redactor{}}
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
	findings, err := one.read(ctx, &found)
	if err != nil {
		findings = append(findings, refusal(h.Name, err))
		found.Missed = string(host.RefusalOf(err))
	}
	one.tell(&found, findings)
	if vetoes := finding.Barred(found.Findings); one.changes() && (vetoes != nil || !finding.Vetoed(found.Findings)) {
		found.Leaf, found.Contents = one.leaf(vetoes)
	}
	return found
}

// refusal says why a host was not read, and what to do.
func refusal(name string, err error) finding.Finding {
	return veto(cmp.Or(string(host.RefusalOf(err)), "not-read"), "%s", strings.TrimPrefix(host.Advised(err), name+": "))
}

// changes tells whether anything is to be done on the host.
func (r *reading) changes() bool {
	return slices.ContainsFunc(r.services, func(c *carried) bool { return len(c.Files) > 0 })
}

// tell says what the change comes to on the host, and what speaks against it.
func (r *reading) tell(found *store.Read, findings []finding.Finding) {
	var acts []string
	for _, c := range r.services {
		for _, f := range c.Files {
			found.Diff += f.Diff
			found.Alterations = append(found.Alterations, f.Alterations...)
		}
		found.Findings = append(found.Findings, c.Clean()...)
		if len(c.Files) > 0 {
			acts = append(acts, r.whose(c)+c.Act.Name)
		}
	}
	found.Act = strings.Join(acts, ", ")
	for _, f := range findings {
		f.Text = r.redactor.Clean(f.Text)
		found.Findings = append(found.Findings, f)
	}
	if over := len(found.Diff) - maxDiff; over > 0 {
		found.Diff = probe.Clip(found.Diff, maxDiff) + "\n"
		found.Findings = append(found.Findings, finding.Finding{Level: finding.Warn, Code: "long-diff", Text: fmt.Sprintf("the diff is %d bytes longer than what is shown", over)})
	}
}

// leaf is the host's part of the plan, and the contents that it refers to; vetoes are those
// that keep it out until somebody overrides them.
func (r *reading) leaf(vetoes []string) (encoded []byte, contents [][]byte) {
	h := r.host
	leaf := plan.Leaf{HostID: h.ID, Host: h.Name, Address: h.Address, Login: h.Login, Sudo: h.Sudo, HostKey: h.HostKey, Labels: h.Labels, Values: r.services[0].Values}
	leaf.MayFail, leaf.Vetoes = r.mayFail, vetoes
	for _, hop := range h.Hops {
		leaf.Via = append(leaf.Via, plan.Hop{Host: hop.Name, Address: hop.Address, Login: hop.Login, HostKey: hop.HostKey, Labels: hop.Labels})
	}
	for _, c := range r.services {
		if len(c.Files) == 0 {
			continue
		}
		part := plan.LeafPart{Part: c.at, Instance: c.instance, Act: c.Act, Shown: c.Shown, InForce: c.Result.InForce, Pins: c.PinFiles(h.Traits.Family, r.probesOf(c))}
		for _, f := range c.Files {
			links := f.Found.Links
			if f.Path == f.Found.Path {
				links = nil // the link itself is what changes
			}
			part.Files = append(part.Files, plan.LeafFile{
				Key: f.Key, Path: f.Found.Path, Resolved: f.Path, Links: links, Format: f.Format,
				Base: f.Base.Ref(r.Store.ContentID), Candidate: f.Candidate.Ref(r.Store.ContentID), Make: f.Make, Others: f.Others, Despite: f.Despite,
			})
			for _, x := range []plan.Copy{f.Base, f.Candidate} {
				if x.Kind == plan.Regular && x.Sum == "" || x.Kind == plan.Made && x.Content != nil {
					contents = append(contents, x.Content)
				}
			}
		}
		leaf.Parts = append(leaf.Parts, part)
	}
	encoded, err := json.Marshal(leaf)
	if err != nil {
		panic(err) // it holds nothing that JSON does not
	}
	return encoded, contents
}

// probesOf lists the probes that may name files of a service.
func (r *reading) probesOf(c *carried) []probe.Probe {
	return slices.Concat(c.Probes, []probe.Probe(c.Service.InForce), c.Result.InForce, slices.DeleteFunc(slices.Clone(r.own), func(p probe.Probe) bool { return p.Service != c.Name }))
}

// hostFile gives a path as the host's scripts know it.
func hostFile(path string, base, candidate plan.Copy, m *definition.Make, others, secrets map[string]string) host.File {
	f := host.File{Path: path, Base: host.Stands(base), Candidate: host.Stands(candidate), Content: candidate.Content}
	f.Kept = candidate.Sum != ""
	if candidate.Kind == plan.Symlink {
		f.Content = []byte(candidate.Target)
	}
	if candidate.Kind == plan.Made && candidate.Content != nil {
		f.Content = nil
		f.Make, f.Secrets = host.Fill(candidate.Content)
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
func (r *reading) read(ctx context.Context, found *store.Read) (findings []finding.Finding, err error) {
	if aside := r.host.Aside(); aside != "" {
		return []finding.Finding{{Level: finding.Note, Code: "set-aside", Text: aside + ". It is not read, and not in the plan"}}, nil
	}
	if r.conn, err = r.Dialer.Connect(ctx, target(r.host)); err != nil {
		return nil, err
	}
	defer r.conn.Close()
	files, findings, err := r.collect(ctx)
	if err != nil {
		return nil, err
	}
	found.Traits = &r.host.Traits
	if r.spec.MayFail != "" {
		if r.mayFail, err = expr.Holds(r.spec.MayFail, expr.HostVars, r.host.Expr().Vars()); err != nil {
			return []finding.Finding{veto("not-computable", "may-fail: %v", err)}, nil
		}
	}
	if len(r.services) == 0 {
		return findings, nil
	}
	if ahead := r.host.Traits.Clock; ahead > maxClock || ahead < -maxClock {
		findings = append(findings, finding.Finding{Level: finding.Warn, Code: "clock", Text: fmt.Sprintf("its clock is more than %d s %s the server's: times in its journal and of its certificates are off by as much (wladder host says by how much)", maxClock, map[bool]string{true: "ahead of", false: "behind"}[ahead > 0])})
	}
	r.candidates(files)
	findings = append(findings, r.unboundHere()...)
	more, err := r.look(ctx, found)
	findings = slices.Concat(findings, r.unproven(), more)
	if err != nil {
		return findings, err
	}
	tried, err := r.try(ctx)
	findings = append(findings, tried...)
	if err != nil {
		return findings, err
	}
	err = r.settle(ctx, finding.Vetoed(findings))
	return slices.Concat(findings, r.lasting(), r.collisions(), r.claims(), r.drift(ctx)), err
}

// candidates computes what the change makes of the files of the host's services.
func (r *reading) candidates(files []map[string]render.Found) {
	var parts []render.Part
	for i, c := range r.services {
		parts = append(parts, render.Part{Service: c.Service, Spec: c.spec, Files: files[i], Instance: c.instance})
	}
	for i, result := range render.Together(render.Reading{Host: r.host.Expr(), Secrets: r.secrets, Redactor: r.redactor}, parts) {
		r.services[i].Result = result
	}
}

// lasting finds paths of a temporary change that cannot go back by themselves.
func (r *reading) lasting() (findings []finding.Finding) {
	if r.spec.For == 0 {
		return nil
	}
	for _, c := range r.services {
		for _, f := range c.Files {
			leaf := plan.LeafFile{Base: f.Base.Ref(r.Store.ContentID), Candidate: f.Candidate.Ref(r.Store.ContentID)}
			if why := leaf.Returns(); why != "" {
				v := veto("no-return", "the change is to last %s here, and %s", time.Duration(r.spec.For), why)
				v.File = f.Found.Path
				findings = append(findings, v)
			}
		}
	}
	return findings
}

// unproven finds services of which nothing would prove what is set: no check that it is in
// force, and no probe of definition or change.
func (r *reading) unproven() (findings []finding.Finding) {
	for _, c := range r.services {
		covered := len(c.Service.InForce)+len(c.Result.InForce)+len(c.Probes) > 0 || slices.Contains(c.Despite, definition.NotProven) ||
			slices.ContainsFunc(r.own, func(p probe.Probe) bool { return p.Service == "" || p.Service == c.Name })
		if len(c.Files) > 0 && !covered {
			findings = append(findings, veto(definition.NotProven, "%snothing would prove that it is in force: the definition has no in-force check and no probe, and the change has no probe. Give it one; or the definition says despite: [not-proven], and the host ends done, not proven", r.whose(c)))
		}
	}
	return findings
}

// unboundHere finds secrets of tables that no admin lets go to this host.
func (r *reading) unboundHere() (findings []finding.Finding) {
	for _, c := range r.services {
		for _, name := range c.Chosen {
			if fits, err := expr.Holds(cmp.Or(r.bound[name].Hosts, "false"), expr.HostVars, r.host.Expr().Vars()); err != nil || !fits {
				findings = append(findings, veto("secret-not-bound", "secret %s may not go to this host; an admin says which hosts, with wladder secret -bind", name))
			}
		}
	}
	return findings
}

// collisions finds paths that several services of the change would write.
func (r *reading) collisions() (findings []finding.Finding) {
	whose := map[string]string{}
	for _, c := range r.services {
		for _, f := range c.Files {
			if other, there := whose[f.Path]; there {
				v := veto("two-services", "the services %s and %s would both write this path; make all edits of it under one of them", other, c.label())
				v.File = f.Found.Path
				findings = append(findings, v)
			}
			whose[f.Path] = c.label()
		}
	}
	return findings
}

// drift finds files of the change that are not as our newest climb there left them. A change
// that takes another back tramples none of them.
func (r *reading) drift(ctx context.Context) (findings []finding.Finding) {
	for _, c := range r.services {
		for _, f := range slices.Concat(c.Files, c.Held) {
			stood, known := r.placed[r.host.ID][f.Path]
			switch {
			case !known || stood.Is(f.Base.Ref(r.Store.ContentID)):
			case r.spec.TakesBack != 0:
				v := veto("edited-since", "is not as change %d left it: somebody has edited it since, past this server%s. It is not trampled: see who and why, then take back by hand what is to go, or leave this host out", stood.Change, r.since(ctx, c, f, stood))
				v.File = f.Found.Path
				findings = append(findings, v)
			default:
				findings = append(findings, finding.Finding{Level: finding.Warn, Code: "drift", File: f.Found.Path,
					Text: fmt.Sprintf("is not as change %d left it: somebody has edited it since, past this server. See who and why before you build on that", stood.Change)})
			}
		}
	}
	return findings
}

// masked gives what a file says with its secrets covered, of which the redactor knows from then
// on; doc is nil, and err says why, where the file cannot be read in its format.
func masked(r *secret.Redactor, judge secret.Judge, path string, format conf.Format, content []byte) (text []byte, doc *conf.Document, err error) {
	doc, err = conf.Parse(path, format, content)
	r.AddFile(judge, content, doc)
	return secret.Mask(judge, content, doc), doc, err
}

// maxSince bounds the lines that are shown of what somebody edited.
const maxSince = 12

// since shows what stands in a file beside what was left there, by the lines that differ;
// secrets are covered. It is empty where what was left is not kept.
func (r *reading) since(ctx context.Context, c *carried, f render.Rendered, stood store.Stood) string {
	if stood.Kind != string(plan.Regular) || f.Base.Kind != plan.Regular || f.Base.Sum != "" {
		return ""
	}
	left, err := r.Store.Content(ctx, stood.Content)
	if err != nil {
		return ""
	}
	return differing(r.redactor, c.Service.Secrets(f.Key), f.Path, f.Format, left, f.Base.Content)
}

// differing shows what stands in a file beside what was left there, by the lines that differ;
// secrets are covered.
func differing(r *secret.Redactor, judge secret.Judge, path string, format conf.Format, left, now []byte) string {
	var sides [2][]byte
	for i, content := range [][]byte{left, now} {
		sides[i], _, _ = masked(r, judge, path, format, content)
	}
	var lines []string
	for _, l := range render.Lines(render.Unified(path, sides[0], sides[1])) {
		if l.Sign != ' ' {
			lines = append(lines, map[byte]string{'-': "we left: ", '+': "it says: "}[l.Sign]+strings.TrimSpace(l.Text))
		}
	}
	if more := len(lines) - maxSince; more > 0 {
		lines = append(lines[:maxSince], fmt.Sprintf("and %d lines more", more))
	}
	return " (" + strings.Join(lines, "; ") + ")"
}

// claims finds paths of the change that the definition of another service claims too, which
// this host carries.
func (r *reading) claims() (findings []finding.Finding) {
	for _, o := range r.others {
		if carries, err := o.carries.Bool(r.host.Expr().Vars()); err != nil || !carries {
			continue
		}
		if here, err := r.here(o, r.host.Expr(), ""); err == nil {
			o = here
		}
		for _, c := range r.services {
			for _, f := range c.Files {
				for _, theirs := range o.Files {
					if theirs.Path(r.host.Traits.Family) == f.Path {
						findings = append(findings, finding.Finding{Level: finding.Warn, Code: "claimed-twice", File: f.Path,
							Text: fmt.Sprintf("the definition of %s claims this path too, and this host carries that service: this change runs neither its checker nor its act and probes. Have one of the two definitions keep the path", o.Name)})
					}
				}
			}
		}
	}
	return findings
}

// look asks the probes as they are before, how the units stand, and what lies around the
// files, in one round trip; includes may want more.
func (r *reading) look(ctx context.Context, found *store.Read) (findings []finding.Finding, err error) {
	r.ask = newAsker(r.conn, r.host.Address, r.host.HostKey)
	r.ask.put, r.ask.secrets, r.ask.redactor, r.ask.before, r.ask.of = outsideRuns(r.conn), r.secrets, r.redactor, true, map[string]serving{}
	var parts []plan.Part
	var questions []host.Question
	for _, c := range r.services {
		parts = append(parts, c.part())
		r.ask.approved += len(c.Probes)
		r.ask.of[c.label()] = serving{pins: c.PinFiles(r.host.Traits.Family, r.probesOf(c)), commands: c.Commands}
		c.around = aroundOf(c.Service, &c.Result)
		questions = append(questions, host.Question{Ask: probe.Ask{Kind: probe.Unit, Name: c.Unit}})
		questions = append(questions, c.around.questions()...)
	}
	ahead := len(questions)
	named, asks := r.named()
	credentials, more, unseen := r.credentials()
	doubtful, tries := r.doubtful()
	questions = slices.Concat(questions, asks, more, tries)
	findings = append(findings, unseen...)
	if r.probes, err = asked(parts, r.own, r.services[0].Values); err != nil {
		return []finding.Finding{veto("not-to-be-asked", "%v", err)}, nil
	}
	var replies []host.Reply
	if found.Probes, replies, err = r.ask.ask(ctx, probe.Earlier, r.probes, questions...); err != nil {
		return nil, err
	}
	if what := ill(found.Probes); what != "" {
		findings = append(findings, finding.Finding{Level: finding.Warn, Code: "ill-before", Text: what + ", before anything is changed"})
	}
	findings = append(findings, weighNamed(named, replies[ahead:])...)
	findings = append(findings, weighCredentials(credentials, replies[ahead+len(named):], time.Now())...)
	for i, d := range doubtful {
		reply := replies[ahead+len(named)+len(credentials)+i]
		why := reply.Failure
		if why == "" && reply.Output == "" {
			why = "what is there now is not seen by it either"
		}
		if why != "" {
			d.leave()
			findings = append(findings, finding.Finding{Level: finding.Note, Code: "no-proof-by-format", Text: fmt.Sprintf("%swhether %s is well is not asked: %s", r.whose(d.carried), d.Name, why)})
		}
	}
	for _, c := range r.services {
		unit := replies[0]
		n := 1 + len(c.around.asked)
		if err := c.around.add(replies[1:n]); err != nil {
			return findings, err
		}
		replies = replies[n:]
		if err := c.around.rest(ctx, r.ask); err != nil {
			return findings, err
		}
		findings = append(findings, c.around.findings()...)
		if (unit.State == "inactive" || unit.State == "failed") && c.Act.Acts() && len(c.Files) > 0 {
			findings = append(findings, finding.Finding{Level: finding.Warn, Code: "not-running",
				Text: fmt.Sprintf("%s does not run on this host now (%s); the act %s would start it", c.Unit, unit.State, c.Act.Name)})
		}
	}
	return findings, nil
}

// doubt is a check by what a format tells, which the host may not be able to answer.
type doubt struct {
	*carried
	probe.Probe
}

// leave takes it out of what proves the change here.
func (d doubt) leave() {
	d.Result.InForce = slices.DeleteFunc(d.Result.InForce, func(p probe.Probe) bool { return p.Name == d.Name })
}

// doubtful gives such checks, and what to ask once.
func (r *reading) doubtful() (all []doubt, questions []host.Question) {
	for _, c := range r.services {
		for _, p := range c.Result.InForce {
			if ask, err := probe.ParseAsk(c.Doubts[p.Name]); err == nil {
				all, questions = append(all, doubt{c, p}), append(questions, host.Question{Ask: ask})
			}
		}
	}
	return all, questions
}

// try has the checkers see the candidates: of all services, since one may refer to another's,
// but for what must not be seen before it is approved.
func (r *reading) try(ctx context.Context) (findings []finding.Finding, err error) {
	var files []host.File
	for _, c := range r.services {
		for _, f := range c.Files {
			if !c.Waits {
				files = append(files, hostFile(f.Path, f.Base, f.Candidate, f.Make, f.Others, r.secrets))
			}
		}
	}
	for _, c := range r.services {
		if len(c.Files) == 0 || len(c.Trial.Command) == 0 {
			continue
		}
		tried, shown := files, c.Shown
		if c.Waits { // the checker sees what is there all the same
			tried, shown = nil, nil
		}
		answer, said, err := r.conn.Trial(ctx, tried, c.Trial, shown)
		if err != nil {
			return findings, err
		}
		if f, bad := trialFinding(answer, r.redactor.Clean(said), c.Trial.Command); bad {
			findings = append(findings, f)
			continue
		}
		more, err := r.signIns(ctx, c, files)
		if findings = append(findings, more...); err != nil {
			return findings, err
		}
	}
	return findings, nil
}

// settle says what becomes of services whose files say already what is wanted.
func (r *reading) settle(ctx context.Context, vetoed bool) error {
	changes := r.changes()
	for _, c := range r.services {
		unready, told := "", false
		if len(c.Files) == 0 && !c.Vetoed() && !vetoed {
			var err error
			if unready, told, err = r.unready(ctx, c, !changes); err != nil {
				return err
			}
		}
		c.Settled(r.whose(c), unready, told)
		if len(c.Trial.Command) == 0 && len(c.Files) > 0 && !slices.ContainsFunc(c.Files, func(f render.Rendered) bool { return !f.Base.Same(f.Candidate) }) {
			c.Findings = append(c.Findings, finding.Finding{Level: finding.Warn, Code: "no-way-back",
				Text: r.whose(c) + "what is saved is all there is to go back to, and no checker has seen it: where the service does not come up with it, the host is stranded"})
		}
	}
	return nil
}

// whose names a service before what is said of it, where there are several.
func (r *reading) whose(c *carried) string {
	if r.several() {
		return c.label() + ": "
	}
	return ""
}

// ofTheAct tells of a probe that only says something of an act, or beside what was before one.
func ofTheAct(p probe.Probe) bool { return p.Uses("renewed") || p.Compares() }

// unready says, before anything is changed, what the program has not taken up:
// which in-force checks are not well, and which probes are not as they are to be
// after; told is false where nothing tells. What asks for processes begun since the act tells nothing before one. The
// change's own probes count where nothing else is changed on the host.
func (r *reading) unready(ctx context.Context, c *carried, own bool) (what string, told bool, err error) {
	var checks []probe.Probe
	for _, p := range slices.Concat([]probe.Probe(c.Service.InForce), c.Result.InForce) {
		checks = append(checks, named(c.part(), p, r.several()))
	}
	for i, p := range r.probes {
		if p.Service != c.label() && (p.Service != "" || !own) || r.ask.waits(i, p) != "" {
			continue
		}
		if after := p.Expectation(probe.Later); after != "" && after != p.Expectation(probe.Earlier) {
			checks = append(checks, p)
		}
	}
	checks = slices.DeleteFunc(checks, ofTheAct)
	if len(checks) == 0 {
		return "", false, nil
	}
	ask := r.ask
	ask.before = false // what waits is left out already
	verdicts, _, err := ask.ask(ctx, probe.Later, checks)
	return ill(verdicts), true, err
}

// telling fits the lines of a checker's words that say what is wrong.
var telling = regexp.MustCompile(`(?i)error|fail|fatal|emerg|alert|refus|invalid|unknown|unexpected|cannot|not found|no such|denied|syntax|\bbad\b`)

// longSaid is how much of a checker's words is shown as it stands, in bytes.
const longSaid = 1500

// shortly leaves the lines of long words that say what is wrong; the last ones where none does.
func shortly(said string) string {
	if len(said) <= longSaid {
		return said
	}
	var some []string
	lines := strings.Split(said, "\n")
	for _, line := range lines {
		if telling.MatchString(line) && len(some) < 12 {
			some = append(some, strings.TrimSpace(line))
		}
	}
	if len(some) == 0 {
		some = lines[max(0, len(lines)-8):]
	}
	return fmt.Sprintf("%s (%d lines in all)", probe.Clip(strings.Join(some, "\n"), longSaid), len(lines))
}

// fleeting is what checkers print that differs each time they run, and would
// make hosts look unlike: times, and process numbers as nginx writes them.
var fleeting = regexp.MustCompile(`\d{4}[/-]\d{2}[/-]\d{2}[ T]\d{2}:\d{2}:\d{2}(\.\d+)?Z? ?|\b\d+#\d+: ?|\[\d+\]: `)

func trialFinding(answer host.TrialAnswer, said string, command []string) (finding.Finding, bool) {
	f := finding.Finding{Level: finding.Veto, Code: string(answer)}
	said = shortly(strings.TrimSpace(fleeting.ReplaceAllString(said, "")))
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
