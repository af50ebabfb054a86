package chaos

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"wladder/core/record"
	"wladder/standin"
)

// The checker reads hosts and database, and shares no code with the engine.

// told is what the database says of one host in one climb.
type told struct {
	ID               int64
	Host, State, Why string
	Files, Process   string
	Stage            int
	RollsBack        bool
	Climb            int64
	ClimbState       string
}

// wrongs gathers what should never be.
type wrongs struct{ all []string }

func (x *wrongs) add(format string, args ...any) {
	x.all = append(x.all, fmt.Sprintf(format, args...))
}

// check holds the hosts of a pool against what is told of a change: old and next are the values
// before and after it.
func (w *world) check(change int64, hosts []*chaosHost, old []int, next int) (values []int, all []string) {
	x := &wrongs{}
	newest := map[string]told{}
	runs := rows[told](w, `select r.id, r.host, r.state, r.why, r.files, r.process, r.stage, c.rolls_back, c.id as climb, c.state as climb_state from host_runs r join climbs c on c.id = r.climb where c.change = $1 order by r.id`, change)
	for _, r := range runs {
		if r.RollsBack && (r.State == "passed-over" || r.State == "queued") {
			continue // what the first climb made of it stands
		}
		newest[r.Host] = r
	}
	for i, h := range hosts {
		r := newest[h.Name]
		file, _ := h.Files.Read(confPath)
		works, up := h.Works(unitName)
		isOld, isNew := string(file) == confText(old[i]), string(file) == confText(next)
		want := isOld
		if r.State == "done" && !r.RollsBack || r.State == "restored" && r.RollsBack {
			want = isNew
		}
		well := up && works == string(file)
		switch r.State {
		case "stranded", "unknown":
			if entries := rows[struct{ N int }](w, `select (select count(*) from record where kind = $1 and subject = $2 and change = $3)::int + (select count(*) from happened where kind = $1 and subject = $2 and change = $3)::int as n`, "host."+r.State, "host/"+h.Name, change); entries[0].N == 0 {
				x.add("%s is %s, and the record does not tell", h.Name, r.State)
			}
			values = append(values, w.mend(h, old[i]))
			continue
		case "":
			x.add("%s has no run", h.Name)
		}
		if !want || !well {
			x.add("%s is told %s (%s; climb %d %s): its file says %q, works with %q, runs: %v; before it was %d, after %d", h.Name, r.State, r.Why, r.Climb, r.ClimbState, value(string(file)), value(works), up, old[i], next)
			values = append(values, w.mend(h, old[i]))
			continue
		}
		if isNew {
			values = append(values, next)
		} else {
			values = append(values, old[i])
		}
		if place, _ := h.Files.Read(placePath); string(place) != "in" {
			x.add("%s is told %s, and is still out of the way", h.Name, r.State)
			w.mend(h, values[i])
		}
		if armed := h.armed(); len(armed) > 0 {
			x.add("%s is told %s, and its guard is still armed: %v", h.Name, r.State, armed)
			w.mend(h, values[i])
		}
	}
	x.logs(runs, hosts)
	return values, x.all
}

const milli = "15:04:05.000"

func value(text string) string {
	_, rest, _ := strings.Cut(text, "worker_connections ")
	v, _, _ := strings.Cut(rest, ";")
	return v
}

func (h *chaosHost) armed() (all []string) {
	for _, dir := range []string{"pending", "firing"} {
		all = append(all, h.Files.List("/var/lib/wladder/"+dir)...)
	}
	return all
}

// mend makes a host whole by hand, as a person would.
func (w *world) mend(h *chaosHost, value int) int {
	for _, dir := range []string{"pending", "firing"} {
		for _, name := range h.Files.List("/var/lib/wladder/" + dir) {
			h.Files.Remove("/var/lib/wladder/" + dir + "/" + name)
		}
	}
	h.Files.Write(confPath, []byte(confText(value)))
	h.Files.Write(placePath, []byte("in"))
	h.Run("systemctl reset-failed " + unitName)
	if out, status := h.Run("systemctl restart " + unitName); status != 0 {
		w.Errorf("%s cannot be mended: %s", h.Name, out)
	}
	return value
}

// span is when a host was out in a run, by its own log: from the first script that placed to the
// last one of that run.
type span struct {
	host     string
	run      told
	from, to time.Time
	last     standin.Logged
}

// With these scripts end that did nothing: another has a higher fence, or the host's lock, or the
// script came cut, which host's TestCutScript holds to be nothing.
const (
	refused = 76
	busy    = 75
	cut     = 70
)

// logs holds the hosts' own logs against at_once, keep, the order of stages, and fences.
func (x *wrongs) logs(runs []told, hosts []*chaosHost) {
	var spans []span
	for _, h := range hosts {
		log := h.Log()
		x.fences(h.Name, log)
		x.drains(h, log)
		for _, r := range runs {
			if r.Host != h.Name {
				continue
			}
			s := span{host: h.Name, run: r}
			for _, l := range log {
				if !strings.Contains(l.Words, fmt.Sprintf("'run-%d'", r.ID)) {
					continue
				}
				if l.Script == "place" && l.Status == 0 && s.from.IsZero() {
					s.from = l.From
				}
				if !s.from.IsZero() && l.Script != "watch" && l.Script != "ask" && !slices.Contains([]int{refused, busy, cut}, l.Status) {
					s.to, s.last = l.To, l
				}
			}
			if !s.from.IsZero() {
				spans = append(spans, s)
			}
		}
	}
	for _, at := range spans {
		out, who := 0, "" // others of the pool
		for _, s := range spans {
			if s.host != at.host && !s.from.After(at.from) && s.to.After(at.from) {
				out++
				who += fmt.Sprintf("; %s, run %d told %s, was out from %s to %s, when %s of %s ended with %d", s.host, s.run.ID, s.run.State, s.from.Format(milli), s.to.Format(milli), s.last.Script, s.last.From.Format(milli), s.last.Status)
			}
			if s.run.Climb == at.run.Climb && s.run.Stage < at.run.Stage && s.to.After(at.from) {
				x.add("%s of stage %d was placed on before %s of stage %d was through", at.host, at.run.Stage+1, s.host, s.run.Stage+1)
			}
		}
		if out+1 > poolAtOnce(at.host) {
			x.add("%s was placed on at %s while %d others of its pool were out; at_once is %d%s", at.host, at.from.Format(milli), out, poolAtOnce(at.host), who)
		}
		if left := poolSize - 1 - out; !at.run.RollsBack && left < keep {
			x.add("%s was placed on at %s while %d others of its pool were there; %d are kept%s", at.host, at.from.Format(milli), left, keep, who)
		}
	}
}

// drains holds that a service that gets out of the way before its act is not acted on while it is
// not.
func (x *wrongs) drains(h *chaosHost, log []standin.Logged) {
	if kindOf(h.Name) != "drained" {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, at := range h.restarts {
		for _, l := range log {
			if l.Script == "act" && strings.Contains(l.Words, " 'act' ") && l.From.Before(at) && (l.To.IsZero() || l.To.After(at)) {
				x.add("%s was restarted at %s without being out of the way", h.Name, at.Format(milli))
			}
		}
	}
}

// fences holds that no script was carried out on a host under a lower fence than one had shown it
// that had ended before: of those that wait for the lock at the same time, either may come first.
func (x *wrongs) fences(host string, log []standin.Logged) {
	fence := func(l standin.Logged) (int, bool) {
		word, _, _ := strings.Cut(strings.TrimLeft(l.Words, "'"), "'")
		n, err := strconv.Atoi(word)
		return n, err == nil && l.Status == 0 && !l.To.IsZero() && slices.Contains([]string{"claim", "snapshot", "arm", "place", "act", "confirm", "restore", "disarm", "watch"}, l.Script)
	}
	for i, l := range log {
		mine, counts := fence(l)
		for _, before := range log[:i] {
			if seen, counted := fence(before); counts && counted && seen > mine && before.To.Before(l.From) {
				x.add("%s carried %s out under fence %d, though %s had shown it %d", host, l.Script, mine, before.Script, seen)
				break
			}
		}
	}
}

// checkRecord reads the chain whole, and that it tells of each run that has ended.
func (w *world) checkRecord() (all []string) {
	deadline := time.Now().Add(30 * time.Second)
	for rows[struct{ N int }](w, `select count(*)::int as n from happened`)[0].N > 0 && time.Now().Before(deadline) {
		time.Sleep(100 * time.Millisecond)
	}
	var entries []record.Entry
	w.insist("reading the record", func(ctx context.Context) error {
		entries = nil
		found, err := w.db.Query(ctx, `select seq, at, actor, kind, subject, body, prev, hash from record order by seq`)
		if err != nil {
			return err
		}
		defer found.Close()
		for found.Next() {
			var e record.Entry
			var body string
			if err := found.Scan(&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Subject, &body, &e.Prev, &e.Hash); err != nil {
				return err
			}
			e.At, e.Body = e.At.UTC(), []byte(body)
			entries = append(entries, e)
		}
		return found.Err()
	})
	prev := ""
	for i, e := range entries {
		sealed, err := record.Seal(e.Prev, record.Entry{Seq: e.Seq, At: e.At, Actor: e.Actor, Kind: e.Kind, Subject: e.Subject, Body: e.Body})
		if err != nil || sealed.Hash != e.Hash || i > 0 && e.Prev != prev || e.Seq != int64(i+1) {
			return append(all, fmt.Sprintf("the record is broken at entry %d", e.Seq))
		}
		prev = e.Hash
	}
	for _, r := range rows[struct {
		Host, State string
		Change      int64
	}](w, `select r.host, r.state, c.change from host_runs r join climbs c on c.id = r.climb
		where r.state in ('done', 'restored', 'stranded', 'passed-over') and not exists (select from record e where e.change = c.change and e.subject = 'host/' || r.host and e.kind = 'host.' || r.state)`) {
		all = append(all, fmt.Sprintf("%s ended %s in change %d, and the record does not tell", r.Host, r.State, r.Change))
	}
	return all
}
