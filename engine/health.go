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

func (r *hostRun) unitQuestion() host.Question {
	return host.Question{Ask: probe.Ask{Kind: probe.Unit, Name: r.part.Unit}}
}

// before asks how things stand before. What should turn from failing to
// passing, and does not fail now, says that the change rests on a mistake.
func (r *hostRun) before(ctx context.Context, ask asker) (result, error) {
	var beside []host.Question
	if r.part.Logs != nil {
		beside = append(beside, r.journalSince(""))
	}
	verdicts, replies, err := ask.ask(ctx, probe.Earlier, r.part.Probes, beside...)
	if err != nil {
		return result{}, err
	}
	for i, p := range r.part.Probes {
		if p.Before != "" && !verdicts[i].Well {
			res := failed("before the change, %s is not as it should be: %s", p.Name, verdicts[i].Why)
			res.baseline = verdicts
			return res, nil
		}
	}
	res := done("%s", summary(verdicts))
	res.baseline = verdicts
	if len(replies) > 0 {
		j := replies[0].Journal
		r.logs = &logBaseline{j.Cursor, r.severe(j), time.Now()}
		res.note += fmt.Sprintf("; %s of severity %s or worse in the %d min before", counted(r.logs.severe, "journal line"), r.part.Logs.Severity, baselineMinutes)
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
func (r *hostRun) severe(j host.Journal) int {
	n := j.Severe
	for _, l := range j.Lines {
		if matches(r.ignore, l.Text) {
			n--
		}
	}
	return n
}

// judgeLogs says what is wrong with the lines since the act; empty if nothing.
func (r *hostRun) judgeLogs(j host.Journal) string {
	for _, l := range j.Fits {
		if matches(r.refuse, l.Text) && !matches(r.ignore, l.Text) {
			return fmt.Sprintf("the journal of %s says %q", r.part.Unit, r.redactor.Clean(l.Text))
		}
	}
	minutes := max(time.Since(r.logs.begun).Minutes(), 1)
	limit := float64(r.logs.severe)/baselineMinutes*minutes + float64(r.part.Logs.Allow)*minutes
	if severe := r.severe(j); float64(severe) > limit {
		last := ""
		for _, l := range j.Lines {
			if !matches(r.ignore, l.Text) {
				last = l.Text
			}
		}
		return fmt.Sprintf("%s of severity %s or worse in the journal of %s since the act, where %.0f would be as before; the last says %q",
			counted(severe, "line"), r.part.Logs.Severity, r.part.Unit, limit, r.redactor.Clean(last))
	}
	return ""
}

// inForce proves that the process works with the new value. Without a check of
// the definition's, processes begun since the act are the proof.
func (r *hostRun) inForce(ctx context.Context, ask asker) (result, error) {
	if len(r.part.InForce) > 0 {
		res, err := r.until(ctx, ask, probe.Later, r.part.InForce, nil)
		res.proof = ladder.ProofInForce
		return res, err
	}
	if !r.run.Acts {
		return done("nothing has to take it up"), nil
	}
	check := probe.Probe{Name: "processes begun since the act", Ask: "unit " + r.part.Unit, Expect: "renewed > 0"}
	res, err := r.until(ctx, ask, probe.Later, []probe.Probe{check}, nil)
	if err == nil && res.outcome != ladder.OK {
		res.note = "not proven: the definition has no in-force check, and " + res.note
	}
	return res, err
}

// probeOnce asks once more, and judges front door and journal.
func (r *hostRun) probeOnce(ctx context.Context, ask asker) (result, error) {
	verdicts, replies, err := ask.ask(ctx, probe.Later, r.part.Probes, r.journal()...)
	if err != nil {
		return result{}, err
	}
	if what := ill(verdicts); what != "" {
		return failed("%s", what), nil
	}
	if len(replies) > 0 {
		if what := r.judgeLogs(replies[0].Journal); what != "" {
			return failed("%s", what), nil
		}
	}
	note := summary(verdicts)
	if r.part.FrontDoor != nil {
		said, bad := r.doorSays()
		if bad {
			return failed("%s", said), nil
		}
		note += "; " + said
	}
	res := done("%s", note)
	if len(verdicts) > 0 {
		res.proof = ladder.ProofProbes
	}
	return res, nil
}

// journal gives the question about lines since the act; none where the journal
// before is not known, as after another server's death.
func (r *hostRun) journal() []host.Question {
	if r.logs == nil || r.part.Logs == nil {
		return nil
	}
	return []host.Question{r.journalSince(r.logs.cursor)}
}

// journalSince asks for the lines that may be a fault; the host filters and counts.
func (r *hostRun) journalSince(cursor string) host.Question {
	return host.Question{Journal: r.part.Unit, Since: cursor, Severity: r.part.Logs.Severity, Pattern: strings.Join(r.part.Logs.Refuse, "|")}
}

// patience is how long a host that was put back may take to be well again, at
// least: what follows is a person who has to look.
const patience = 20 * time.Second

// until asks again and again until all is well (or no worse than before, where
// that is given), at most for the settling time.
func (r *hostRun) until(ctx context.Context, ask asker, at probe.Phase, probes []probe.Probe, before []probe.Verdict) (result, error) {
	start, allowed := time.Now(), time.Duration(r.part.Settle)
	if before != nil {
		allowed = max(allowed, patience)
	}
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
			return done("%s, after %.1f s", summary(verdicts), waited.Seconds()), nil
		case waited > allowed:
			return failed("%s, %s after the act", what, allowed), nil
		}
		if err := r.rest(min(200*time.Millisecond, time.Duration(r.part.Settle)/5)); err != nil {
			return result{}, err
		}
	}
}

// rest waits, and tells when the server is told to end meanwhile.
func (r *hostRun) rest(d time.Duration) error {
	if d > 0 && wait(r.stopping, d) != nil {
		return errLeaving
	}
	return nil
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
	if !r.run.Acts {
		return done("nothing had to take it up, so there is nothing to wait for"), nil
	}
	whole := time.Duration(r.head.Policy.Soak)
	questions := append([]host.Question{r.unitQuestion()}, r.journal()...)
	verdicts, replies, err := ask.ask(ctx, probe.Later, r.part.Probes, questions...)
	if err != nil {
		return result{}, err
	}
	if replies[0].Failure != "" {
		return result{}, errors.New(replies[0].Failure)
	}
	first := replies[0].Unit
	if first.State != "active" {
		return failed("%s is %s: %s", r.part.Unit, first.State, first.Death()), nil
	}
	start, looks := time.Now(), 1
	for {
		if what := ill(verdicts); what != "" {
			return failed("%s, %s", what, into(start)), nil
		}
		if time.Since(start) >= whole {
			return done("well for %s, asked %s", whole, counted(looks, "time")), nil
		}
		left := whole - time.Since(start)
		// Each look pushes the guard on: several come within its span.
		if err := r.rest(min(left, max(whole/5, 200*time.Millisecond), 5*time.Second, r.span()/3)); err != nil {
			return result{}, err
		}
		if verdicts, replies, err = ask.ask(ctx, probe.Later, r.part.Probes, questions...); err != nil {
			return result{}, err
		}
		looks++
		if what := r.soaked(first, replies, into(start)); what != "" {
			return failed("%s", what), nil
		}
	}
}

func into(start time.Time) string {
	return fmt.Sprintf("%.1f s into the soak", time.Since(start).Seconds())
}

// soaked says what became of the unit since the first look; empty if nothing.
func (r *hostRun) soaked(first host.Unit, replies []host.Reply, when string) string {
	unit, now := r.part.Unit, replies[0].Unit
	switch {
	case now.State == "reloading":
	case now.State != "active":
		return fmt.Sprintf("%s died %s and is %s: %s", unit, when, now.State, now.Death())
	case now.Restarts != first.Restarts:
		return fmt.Sprintf("%s died %s and was restarted by systemd, whose counter went from %d to %d", unit, when, first.Restarts, now.Restarts)
	case now.Main != first.Main:
		return fmt.Sprintf("%s was restarted by somebody %s: its main process was %d and is %d", unit, when, first.Main, now.Main)
	}
	if len(replies) > 1 {
		if what := r.judgeLogs(replies[1].Journal); what != "" {
			return what + ", " + when
		}
	}
	return ""
}
