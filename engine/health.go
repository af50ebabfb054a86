package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/host"
)

// baselineMinutes is for how long before the act a journal is looked into.
const baselineMinutes = 10

// logBaseline is a unit's journal before the act.
type logBaseline struct {
	cursor string
	severe int // lines in the last baselineMinutes
	begun  time.Time
}

func (s *service) unitQuestion() host.Question {
	return host.Question{Ask: probe.Ask{Kind: probe.Unit, Name: s.Unit}, Service: s.acting.At}
}

// before asks how things stand before. What should turn from failing to
// passing, and does not fail now, says that the change rests on a mistake.
func (r *hostRun) before(ctx context.Context, ask asker) (result, error) {
	var beside []host.Question
	var logging []*service
	for _, s := range r.services {
		if s.Logs != nil {
			beside, logging = append(beside, s.journalSince("")), append(logging, s)
		}
	}
	verdicts, replies, err := ask.ask(ctx, probe.Earlier, r.probes, beside...)
	if err != nil {
		return result{}, err
	}
	for i, p := range r.probes {
		if p.Before != "" && !verdicts[i].Well {
			res := failed("before the change, %s is not as it should be: %s", p.Name, verdicts[i].Why)
			res.baseline = verdicts
			return res, nil
		}
	}
	res := done("%s", summary(verdicts))
	res.baseline = verdicts
	for i, s := range logging {
		j := replies[i].Journal
		s.logs = &logBaseline{j.Cursor, s.severe(j), time.Now()}
		res.note += "; " + r.of(s, fmt.Sprintf("%s of severity %s or worse in the %d min before", counted(s.logs.severe, "journal line"), s.Logs.Severity, baselineMinutes))
	}
	return res, nil
}

// patterns compiles regular expressions.
func patterns(texts []string) (all []*regexp.Regexp, err error) {
	for _, text := range texts {
		p, err := regexp.Compile(text)
		if err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, nil
}

func matches(rules []*regexp.Regexp, text string) bool {
	return slices.ContainsFunc(rules, func(p *regexp.Regexp) bool { return p.MatchString(text) })
}

// severe counts the lines that count; of those that the host counted and did not
// send, all do.
func (s *service) severe(j host.Journal) int {
	n := j.Severe
	for _, l := range j.Lines {
		if matches(s.ignore, l.Text) {
			n--
		}
	}
	return n
}

// judgeLogs says what is wrong with the lines since the act; empty if nothing.
func (s *service) judgeLogs(j host.Journal, clean func(string) string) string {
	for _, l := range j.Fits {
		if matches(s.refuse, l.Text) && !matches(s.ignore, l.Text) {
			return fmt.Sprintf("the journal of %s says %q", s.Unit, clean(l.Text))
		}
	}
	minutes := max(time.Since(s.logs.begun).Minutes(), 1)
	limit := float64(s.logs.severe)/baselineMinutes*minutes + float64(s.Part.Logs.Allow)*minutes
	if severe := s.severe(j); float64(severe) > limit {
		last := ""
		for _, l := range j.Lines {
			if !matches(s.ignore, l.Text) {
				last = l.Text
			}
		}
		return fmt.Sprintf("%s of severity %s or worse in the journal of %s since the act, where %.0f would be as before; the last says %q",
			counted(severe, "line"), s.Logs.Severity, s.Unit, limit, clean(last))
	}
	return ""
}

// inForce proves that the process works with the new value. Without a check of
// the definition's, processes begun since the act are the proof.
func (r *hostRun) inForce(ctx context.Context, ask asker) (result, error) {
	s := r.at()
	if proofs := slices.Concat(s.InForce, s.mine.InForce); len(proofs) > 0 {
		var checks []probe.Probe
		for _, p := range proofs {
			checks = append(checks, named(s.Part, p, len(r.services) > 1))
		}
		if len(s.InForce) == 0 && s.acts() && slices.ContainsFunc(proofs, func(p probe.Probe) bool { return strings.HasPrefix(p.Ask, "property ") }) {
			checks = append(checks, s.renewal(len(r.services) > 1)) // the manager knows the value, and the process has it too
		}
		res, err := r.until(ctx, ask, probe.Later, checks, nil)
		res.proof = ladder.ProofInForce
		return res, err
	}
	if !s.acts() {
		return done("%s", r.of(s, "nothing has to take it up")), nil
	}
	res, err := r.until(ctx, ask, probe.Later, []probe.Probe{s.renewal(len(r.services) > 1)}, nil)
	if err == nil && res.outcome != ladder.OK {
		res.note = "not proven: the definition has no in-force check, and " + res.note
	}
	return res, err
}

// renewal asks whether processes of the service have begun since the act.
func (s *service) renewal(several bool) probe.Probe {
	return named(s.Part, probe.Probe{Name: "processes begun since the act", Ask: "unit " + s.Unit, Expect: "renewed > 0"}, several)
}

// probeOnce asks once more, and judges front door and journal.
func (r *hostRun) probeOnce(ctx context.Context, ask asker) (result, error) {
	questions, logging := r.journals()
	verdicts, replies, err := ask.ask(ctx, probe.Later, r.probes, questions...)
	if err != nil {
		return result{}, err
	}
	if what := ill(verdicts); what != "" {
		return failed("%s", what).of(verdicts).answered(probe.Later, verdicts), nil
	}
	if what := r.judgeJournals(logging, replies); what != "" {
		return failed("%s", what), nil
	}
	note := summary(verdicts)
	for _, s := range r.services {
		if s.FrontDoor == nil || s.mine.Act.Reboots { // a host that boots is out by plan
			continue
		}
		said, bad := s.doorSays()
		if bad {
			return failed("%s", r.of(s, said)), nil
		}
		note += "; " + r.of(s, said)
	}
	res := done("%s", note).answered(probe.Later, verdicts)
	if r.probed() {
		res.proof = ladder.ProofProbes
	}
	return res, nil
}

// probed tells whether each service of the host has a probe of its own, or was proven in
// force before, or the change has one probe for them all.
func (r *hostRun) probed() bool {
	of := map[string]bool{}
	for _, p := range r.probes {
		of[p.Service] = true
	}
	return of[""] || !slices.ContainsFunc(r.services, func(s *service) bool {
		return !of[s.Name()] && len(s.InForce)+len(s.mine.InForce) == 0
	})
}

// journals gives the questions about lines since the act, and whose they are; none of a
// service whose journal before is not known, as after another server's death.
func (r *hostRun) journals() (questions []host.Question, of []*service) {
	for _, s := range r.services {
		if s.logs != nil && s.Logs != nil {
			questions, of = append(questions, s.journalSince(s.logs.cursor)), append(of, s)
		}
	}
	return questions, of
}

// judgeJournals says what is wrong with the first journal that something is wrong with.
func (r *hostRun) judgeJournals(of []*service, replies []host.Reply) string {
	for i, s := range of {
		if what := s.judgeLogs(replies[i].Journal, r.redactor.Clean); what != "" {
			return what
		}
	}
	return ""
}

// journalSince asks for the lines that may be a fault; the host filters and counts.
func (s *service) journalSince(cursor string) host.Question {
	return host.Question{Journal: s.Unit, Since: cursor, Severity: s.Logs.Severity, Pattern: strings.Join(s.Logs.Refuse, "|")}
}

// patience is how long a host that was put back may take to be well again, at
// least: what follows is a person who has to look.
const patience = 20 * time.Second

// until asks again and again until all is well (or no worse than before, where
// that is given), at most for the settling time.
func (r *hostRun) until(ctx context.Context, ask asker, at probe.Phase, probes []probe.Probe, before []probe.Verdict) (result, error) {
	settle := time.Duration(0)
	for _, s := range r.services {
		settle = max(settle, time.Duration(s.Settle))
	}
	allowed := settle
	if before != nil {
		allowed = max(allowed, patience)
	}
	res, err := r.wellWithin(ctx, ask, at, probes, before, allowed)
	if res.outcome == ladder.Failed {
		res.note += " after the act"
	}
	return res, err
}

// wellWithin asks again and again until all is well (or no worse than before, where that is
// given), at most for the time allowed.
func (r *hostRun) wellWithin(ctx context.Context, ask asker, at probe.Phase, probes []probe.Probe, before []probe.Verdict, allowed time.Duration) (result, error) {
	start := time.Now()
	for {
		verdicts, replies, err := ask.ask(ctx, at, probes, host.Question{Guard: true})
		if err != nil {
			return result{}, err
		}
		if g := replies[0].Guard; at == probe.Later && (g == ladder.Fired || g == ladder.Firing) {
			return result{}, &host.FiredError{Host: r.Host}
		}
		what := ill(verdicts)
		if before != nil {
			what = worse(verdicts, before)
		}
		switch waited := time.Since(start); {
		case what == "":
			return done("%s, after %.1f s", summary(verdicts), waited.Seconds()).answered(at, verdicts), nil
		case waited > allowed:
			return failed("%s, %s", what, allowed.Round(100*time.Millisecond)).of(verdicts).answered(at, verdicts), nil
		}
		// What takes long is asked for less often.
		pause := min(max(time.Since(start)/20, 200*time.Millisecond), 2*time.Second, max(allowed/5, 10*time.Millisecond))
		if err := r.rest(pause); err != nil {
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
// is not restarted by its manager, its journal stays quiet, the probes well.
func (r *hostRun) soak(ctx context.Context, ask asker) (result, error) {
	var acted []*service
	var questions []host.Question
	for _, s := range r.services {
		if s.acts() {
			acted, questions = append(acted, s), append(questions, s.unitQuestion())
		}
	}
	if len(acted) == 0 {
		return done("nothing had to take it up, so there is nothing to wait for"), nil
	}
	whole := time.Duration(r.head.Policy.Soak)
	journals, logging := r.journals()
	if whole == 0 && len(journals) == 0 { // all was well a moment ago
		return done("the ladder has nobody watch it"), nil
	}
	questions = append(questions, journals...)
	verdicts, replies, err := ask.ask(ctx, probe.Later, r.probes, questions...)
	if err != nil {
		return result{}, err
	}
	first := replies[:len(acted)]
	for i, s := range acted {
		if first[i].Failure != "" {
			return result{}, errors.New(first[i].Failure)
		}
		if u := first[i].Unit; u.State != "active" {
			return failed("%s is %s: %s", s.Unit, u.State, u.Death()), nil
		}
	}
	start, looks := time.Now(), 1
	for {
		if what := ill(verdicts); what != "" {
			return failed("%s, %s", what, into(start)).of(verdicts), nil
		}
		if time.Since(start) >= whole {
			return done("well for %s, asked %s", whole, counted(looks, "time")), nil
		}
		left := whole - time.Since(start)
		// Each look pushes the guard on: several come within its span.
		if err := r.rest(min(left, max(whole/5, 200*time.Millisecond), 5*time.Second, r.span()/3)); err != nil {
			return result{}, err
		}
		if verdicts, replies, err = ask.ask(ctx, probe.Later, r.probes, questions...); err != nil {
			return result{}, err
		}
		looks++
		for i, s := range acted {
			if what := s.soaked(first[i].Unit, replies[i].Unit, into(start)); what != "" {
				return failed("%s", what), nil
			}
		}
		if what := r.judgeJournals(logging, replies[len(acted):]); what != "" {
			return failed("%s, %s", what, into(start)), nil
		}
	}
}

func into(start time.Time) string {
	return fmt.Sprintf("%.1f s into the soak", time.Since(start).Seconds())
}

// soaked says what became of the unit since the first look; empty if nothing.
func (s *service) soaked(first, now host.Unit, when string) string {
	unit := s.Unit
	switch {
	case now.State == "reloading":
	case now.State != "active":
		return fmt.Sprintf("%s died %s and is %s: %s", unit, when, now.State, now.Death())
	case now.Restarts != first.Restarts:
		return fmt.Sprintf("%s died %s and was restarted by systemd, whose counter went from %d to %d", unit, when, first.Restarts, now.Restarts)
	case now.Main != first.Main:
		return fmt.Sprintf("%s was restarted by somebody %s: its main process was %d and is %d", unit, when, first.Main, now.Main)
	}
	return ""
}
