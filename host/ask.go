package host

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/signin"
)

// Unit is how a unit stands. Renewed counts those of its processes that began
// since the last act.
type Unit struct {
	State, Sub, Result           string
	Restarts, Processes, Renewed int
	Main                         int    // the main process's id
	Cause, Status                int    // how the main process ended last: systemd's ExecMainCode and ExecMainStatus
	Policy                       string // Restart=
}

func unitOf(a answer) Unit {
	return Unit{a.short("state"), a.short("sub"), a.short("result"), a.number("restarts"), a.number("processes"), a.number("renewed"), a.number("main"),
		a.number("cause"), a.number("status"), a.short("policy")}
}

func (u Unit) alive() bool {
	return u.State == "active" || u.State == "reloading" || u.State == "activating"
}

// signals names those that end processes (signal(7)).
var signals = map[int]string{1: "HUP", 2: "INT", 3: "QUIT", 4: "ILL", 6: "ABRT", 7: "BUS", 8: "FPE", 9: "KILL", 11: "SEGV", 13: "PIPE", 14: "ALRM", 15: "TERM"}

// Death says why the unit is not active, in words.
func (u Unit) Death() string {
	var how string
	// ExecMainCode is a CLD_ code of waitid(2): 1 exited, 2 killed, 3 dumped core.
	switch {
	case u.Result == "oom-kill":
		how = "the kernel ended it for want of memory"
	case u.Result == "timeout":
		how = "it was not ready within its start time-out, or did not stop within its stop time-out"
	case u.Result == "watchdog":
		how = "its watchdog heard nothing from it in time"
	case u.Result == "start-limit-hit":
		how = "it was started too often in too short a time, and systemd gave up"
	case u.Cause == 0 && u.Result == "success":
		how = "it ended cleanly, and systemd keeps no more of it"
	case u.Cause == 1 && u.Status == 0 && u.Result == "success":
		how = "it ended by itself, or somebody stopped it (status 0)"
	case u.Cause == 1:
		how = fmt.Sprintf("it ended by itself with status %d", u.Status)
	case u.Cause == 2 || u.Cause == 3:
		name := strconv.Itoa(u.Status)
		if s := signals[u.Status]; s != "" {
			name += " (" + s + ")"
		}
		how = "it was ended by signal " + name
		if u.Result == "success" {
			how += ", as when somebody stops it"
		}
		if u.Cause == 3 {
			how += " and left a core dump"
		}
	default:
		how = "systemd says " + u.Result
	}
	switch u.Restarts {
	case 0:
		return fmt.Sprintf("%s; Restart=%s", how, u.Policy)
	case 1:
		return fmt.Sprintf("%s; Restart=%s, restarted once", how, u.Policy)
	}
	return fmt.Sprintf("%s; Restart=%s, restarted %d times", how, u.Policy, u.Restarts)
}

// Line is one of a unit's journal.
type Line struct {
	Severity int // RFC 5424: 0 is the worst
	Text     string
}

// Journal is a part of a unit's journal, filtered and counted on the host, and
// where it ends.
type Journal struct {
	Severe int    // lines as severe as was asked
	Lines  []Line // the last of those
	Fits   []Line // the last ones, of any severity, that the pattern may fit
	Cursor string
}

// Question is one put to the host itself.
type Question struct {
	probe.Ask
	Service  int                // of kind unit: since whose act processes count as begun; see Service
	Command  definition.Command // of kind command
	Journal  string             // instead: the unit whose journal is read …
	Since    string             // … since this cursor; empty: of the last ten minutes
	Severity string             // … as severe as this, in the words of journalctl(1)
	Pattern  string             // … or that this fits; empty: none
	Last     string             // instead: the unit whose last lines since the act of Service are read
	Guard    bool               // instead: how the run's guard stands
	Presence string             // instead: whether anything is at this path
	Stat     string             // instead: what stands at this path: kind, size, owner, mode, and nothing that it holds
	People   string             // instead: who has signed in by SSH in the last 90 days, and this login
	// Certificate and PrivateKey, instead: what everybody may know of the one at this path,
	// and whether the main process of the unit Of may read it.
	Certificate, PrivateKey, Of string
	Around                      []string // instead: the files that these patterns mean: what a service reads beside those of a change
}

func (q Question) words() []string {
	switch {
	case q.Guard:
		return []string{"guard"}
	case q.Presence != "":
		return []string{"presence", q.Presence}
	case q.Stat != "" && q.Of != "":
		return []string{"attributes", q.Stat, q.Of}
	case q.Stat != "":
		return []string{"attributes", q.Stat}
	case q.People != "":
		return []string{"people", q.People}
	case q.Certificate != "":
		return []string{"certificate", q.Certificate, q.Of}
	case q.PrivateKey != "":
		return []string{"private-key", q.PrivateKey, q.Of}
	case q.Around != nil:
		return append([]string{"surroundings"}, q.Around...)
	case q.Last != "" && q.Service > 0:
		return []string{"last", q.Last, marked("", q.Service)}
	case q.Last != "":
		return []string{"last", q.Last}
	case q.Journal != "":
		return []string{"journal", q.Journal, q.Severity, "since:" + q.Since, "fits:" + q.Pattern} // no word is empty
	case q.Kind == probe.Port:
		protocol := q.With["protocol"]
		if protocol == "" {
			protocol = "tcp"
		}
		return []string{"port", protocol, strconv.Itoa(q.Port)}
	case q.Kind == probe.Served:
		return []string{"served", q.Path, q.With["unit"]}
	case q.Kind == probe.Property:
		return []string{"property", q.Name, q.With["name"]}
	case q.Kind == probe.File:
		return []string{"file", q.Path, q.With["as"]}
	case q.Kind == probe.Size && q.With["name"] != "":
		return []string{"size", q.Path, q.With["name"]}
	case q.Kind == probe.Size:
		return []string{"size", q.Path}
	case q.Kind == probe.Command:
		return append([]string{"command", strconv.Itoa(int(time.Duration(q.Command.Timeout).Seconds()))}, q.Command.Command...)
	}
	if mark := marked("", q.Service); mark != "" {
		return []string{string(q.Kind), q.Name, mark}
	}
	return []string{string(q.Kind), q.Name}
}

// Reply is the host's answer to one question.
type Reply struct {
	probe.Answer
	Unit    Unit
	Journal Journal
	Said    string // the last lines of a unit
	Guard   ladder.GuardState
	Present bool
	Units   []string // of kind port: whose the processes are
	Held    Held
	People  []signin.Person
	Around  []render.Gathered // what is too long or too many is without its content
}

// Held is what is at the path of a certificate or a private key.
type Held struct {
	Missing   bool
	None      bool // it is none, or one that nobody can read
	Closed    bool // a key with a pass phrase
	Readable  bool // by whom the unit's main process runs as
	Mode      string
	Public    string // SHA-256 of the public key (SubjectPublicKeyInfo, RFC 5280)
	Names     []string
	NotBefore time.Time
	NotAfter  time.Time
}

func heldOf(a answer) (h Held) {
	h.Missing, _ = a["missing"].(bool)
	h.None, _ = a["none"].(bool)
	h.Closed, _ = a["closed"].(bool)
	h.Readable, _ = a["readable"].(bool)
	h.Mode, _, _ = strings.Cut(a.short("stat"), " ")
	h.Public = probe.Clip(secret.Legible(a.word("public")), 64)
	h.None = h.None || h.Public == "" && !h.Closed
	at := func(text string) time.Time { // as openssl-x509(1) writes it
		t, _ := time.Parse("Jan _2 15:04:05 2006 MST", text)
		return t
	}
	for _, l := range strings.Split(a.text("shown"), "\n") {
		key, value, _ := strings.Cut(strings.TrimSpace(l), "=")
		switch {
		case key == "notBefore":
			h.NotBefore = at(value)
		case key == "notAfter":
			h.NotAfter = at(value)
		case strings.Contains(l, "DNS:") || strings.Contains(l, "IP Address:"):
			for _, name := range strings.Split(strings.TrimSpace(l), ", ") {
				if kind, name, ok := strings.Cut(name, ":"); ok && (kind == "DNS" || kind == "IP Address") && len(h.Names) < 1000 {
					h.Names = append(h.Names, strings.ToLower(name))
				}
			}
		}
	}
	return h
}

// Ask puts questions to the host itself, all in one round trip.
func (c *Conn) Ask(ctx context.Context, run, label string, questions []Question) ([]Reply, error) {
	return c.ask(ctx, "ask", []string{run, label}, questions)
}

// Watch asks as Ask does, and pushes the run's guard on to so far from now, in
// the same round trip.
func (c *Conn) Watch(ctx context.Context, claim Claim, guard time.Duration, label string, questions []Question) ([]Reply, error) {
	return c.ask(ctx, "watch", []string{strconv.FormatInt(claim.Fence, 10), seconds(guard), claim.Run, label}, questions)
}

func (c *Conn) ask(ctx context.Context, script string, args []string, questions []Question) ([]Reply, error) {
	kinds := map[string]bool{}
	for _, q := range questions {
		words := q.words()
		args = append(args, line(words))
		kinds[words[0]] = true
	}
	all, err := c.send(ctx, setOf(c.target.Scripts).asking(script, kinds), nil, args...)
	if err != nil {
		return nil, err
	}
	replies := make([]Reply, len(questions))
	for i := range replies {
		replies[i].Failure = "the host gave no answer"
	}
	for _, a := range all {
		if n := a.number("n"); n >= 0 && n < len(replies) {
			switch {
			case a.has("resolved"): // a file of several that one question means
				replies[n].Around = append(replies[n].Around, gathered(a))
			case a.has("person"): // likewise
				if p := personOf(a); p.Name != "" && len(replies[n].People) < maxPeople {
					replies[n].People = append(replies[n].People, p)
				}
			default:
				reply := replyOf(questions[n], a)
				reply.Around, reply.People = replies[n].Around, replies[n].People
				replies[n] = reply
			}
		}
	}
	return replies, nil
}

// maxPeople bounds how many people one host names.
const maxPeople = 100

// accountRule fits the names of accounts, as useradd(8) takes them and directories give them.
var accountRule = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.-]*[$]?$`)

// personOf reads one person; what could be anything but a name in a question gives none.
func personOf(a answer) (p signin.Person) {
	name := a.text("person")
	if !accountRule.MatchString(name) || len(name) > 100 {
		return p
	}
	p.Name, p.Home, p.Groups, p.Password = name, a.text("home"), strings.Fields(a.text("groups")), a.word("password") == "P"
	if at, err := netip.ParseAddr(a.text("address")); err == nil {
		p.Address = at.String()
	}
	return p
}

func gathered(a answer) render.Gathered {
	f := render.Gathered{Path: a.data("path"), Resolved: a.data("resolved")}
	if _, ok := a["content"].(string); ok {
		f.Content, f.Read = []byte(a.data("content")), true
	}
	return f
}

func replyOf(q Question, a answer) (r Reply) {
	if a.has("failure") {
		r.Failure = a.short("failure")
		return r
	}
	switch {
	case q.Guard:
		r.Guard = ladder.GuardState(a.word("guard"))
	case q.Presence != "":
		r.Present, _ = a["present"].(bool)
	case q.Certificate != "" || q.PrivateKey != "":
		r.Held = heldOf(a)
	case q.Last != "":
		r.Said = strings.TrimSpace(a.text("said"))
	case q.Journal != "":
		r.Journal = journalOf(a)
	case q.Kind == probe.Unit:
		r.Unit = unitOf(a)
		u := r.Unit
		r.UnitState = probe.UnitState{State: u.State, Sub: u.Sub, Restarts: u.Restarts, Processes: u.Processes, Renewed: u.Renewed}
		if !u.alive() && u.State != "unknown" {
			r.Death = u.Death()
		}
	case q.Kind == probe.Process:
		r.Count, r.Users, r.Age = a.number("count"), strings.Fields(a.text("users")), a.number("age")
	case q.Kind == probe.Port:
		r.Listeners, r.Users = sockets(a.text("sockets"))
		r.Units = strings.Fields(a.text("units"))
	case q.Stat != "" && a.has("missing"):
	case q.Stat != "" || q.Kind == probe.File && !a.has("missing"):
		meta := strings.SplitN(a.text("stat"), " ", 5)
		if len(meta) == 5 {
			r.Mode, r.Owner, r.Group, r.OnHost.Kind = meta[0], meta[2], meta[3], meta[4]
			r.Bytes, _ = strconv.ParseInt(meta[1], 10, 64)
		}
		r.Content = a.data("content")
		r.Readable, _ = a["readable"].(bool)
	case q.Kind == probe.Size:
		r.Bytes, r.Count = int64(a.number("bytes")), a.number("count")
	case q.Kind == probe.Property, q.Kind == probe.Variable, q.Kind == probe.Served:
		r.Output, r.Shown = a.short("value"), true
	case q.Kind == probe.Command:
		r.Exit, r.Output, r.Shown = a.number("exit"), a.text("output"), q.Command.Shown
	}
	return r
}

// sockets reads what ss(8) lists: addresses, and the programs that listen.
func sockets(text string) (addresses, programs []string) {
	for _, l := range strings.Split(text, "\n") {
		f := strings.Fields(l)
		if len(f) < 5 {
			continue
		}
		addresses = append(addresses, f[3])
		for _, part := range strings.Split(strings.Join(f[5:], " "), `("`)[1:] {
			name, _, _ := strings.Cut(part, `"`)
			if !slices.Contains(programs, name) {
				programs = append(programs, name)
			}
		}
	}
	return addresses, programs
}

// journalOf reads journalctl's JSON; a message that is no UTF-8 comes as bytes.
func journalOf(a answer) Journal {
	var j Journal
	entry := func(l string) (cursor string, out Line) {
		var e struct {
			Cursor   string          `json:"__CURSOR"`
			Priority string          `json:"PRIORITY"`
			Message  json.RawMessage `json:"MESSAGE"`
		}
		if json.Unmarshal([]byte(l), &e) != nil {
			return "", Line{}
		}
		out.Severity = 6
		if n, err := strconv.Atoi(e.Priority); err == nil {
			out.Severity = n
		}
		if json.Unmarshal(e.Message, &out.Text) != nil {
			var numbers []int
			var raw []byte
			json.Unmarshal(e.Message, &numbers)
			for _, n := range numbers {
				raw = append(raw, byte(n))
			}
			out.Text = string(raw)
		}
		out.Text = probe.Clip(secret.Legible(out.Text), 2000)
		return e.Cursor, out
	}
	list := func(key string) (all []Line) {
		for _, l := range strings.Split(a.data(key), "\n") {
			if l != "" {
				_, one := entry(l)
				all = append(all, one)
			}
		}
		return all
	}
	j.Lines, j.Fits = list("lines"), list("fits")
	j.Severe = max(a.number("severe"), len(j.Lines)) // one may come between
	j.Cursor, _ = entry(strings.TrimSpace(a.data("last")))
	return j
}
