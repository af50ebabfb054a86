package host

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/trouble"
	"wladder/core/written"
)

// File is one path that an operation concerns: how it stands and how it is to
// stand, in the words of the scripts (see Stands).
type File struct {
	Path      string
	Base      string
	Candidate string
	Content   []byte            // of the candidate: a file's, or a link's text
	Kept      bool              // the content is the one that is there, which stays on the host
	Make      *definition.Make  // what makes a candidate on the host
	Others    map[string]string // where other files are that it refers to, by key
	Secrets   map[string]string // that it wants, by name
}

// Stands says in one word how a copy stands, as the scripts do: none,
// file:SHA256:MODE:OWNER:GROUP, link:SHA256 or made:MODE:OWNER:GROUP.
func Stands(c plan.Copy) string {
	meta := c.Mode + ":" + c.Owner + ":" + c.Group
	switch c.Kind {
	case plan.Regular:
		if c.Sum != "" {
			return "file:" + c.Sum + ":" + meta
		}
		return "file:" + Hash(c.Content) + ":" + meta
	case plan.Symlink:
		return "link:" + Hash([]byte(c.Target))
	case plan.Made:
		return "made:" + meta
	}
	return "none"
}

// UnitFile tells whether systemd reads what stands at a path (systemd.unit(5)).
func UnitFile(path string) bool {
	for _, dir := range []string{"/etc/systemd/system/", "/run/systemd/system/", "/usr/local/lib/systemd/system/", "/usr/lib/systemd/system/", "/lib/systemd/system/"} {
		if strings.HasPrefix(path, dir) {
			return true
		}
	}
	return false
}

// Hash is the form in which hosts compare contents.
func Hash(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// Claim names who works on a host: a run, and the fencing number of the server
// that has it.
type Claim struct {
	Fence int64
	Run   string // letters, digits and hyphens
}

func (c Claim) args(more ...string) []string {
	return append([]string{strconv.FormatInt(c.Fence, 10), c.Run}, more...)
}

// Survey asks what kind of machine this is, and what is there of what is wanted.
func (c *Conn) Survey(ctx context.Context, w definition.Wants) (expr.Traits, error) {
	all, err := c.run(ctx, "survey", nil, wanted(w)...)
	return traitsOf(all), err
}

// wanted are the words with which survey is asked.
func wanted(w definition.Wants) (words []string) {
	for _, of := range []struct {
		kind  string
		names []string
	}{{"unit:", w.Units}, {"path:", w.Paths}, {"package:", w.Packages}} {
		for _, name := range of.names {
			words = append(words, of.kind+name)
		}
	}
	return words
}

// maxFound bounds how many units, paths and packages are taken in of a host.
const maxFound = 500

func traitsOf(all []answer) (t expr.Traits) {
	for _, a := range all {
		v := probe.Clip(a.text("value"), 300)
		n, _ := strconv.ParseInt(v, 10, 64)
		switch a["trait"] {
		case "os":
			t.OS = v
		case "family":
			t.Family = v
		case "os_version":
			t.OSVersion = v
		case "kernel":
			t.Kernel = v
		case "arch":
			t.Arch = v
		case "uptime":
			t.Uptime = n
		case "clock":
			t.Clock = n - time.Now().Unix()
			if t.Clock >= -2 && t.Clock <= 2 { // the way here takes that long
				t.Clock = 0
			}
		case "cores":
			t.Cores = n
		case "memory":
			t.Memory = n
		case "unit":
			if words := strings.Fields(v); len(words) > 0 && len(t.Units) < maxFound {
				t.Units = append(t.Units, words[0])
				if len(words) == 6 {
					if t.Limits == nil {
						t.Limits = map[string]expr.Limits{}
					}
					t.Limits[words[0]] = limitsOf(words[1:])
				}
			}
		case "path":
			if len(t.Paths) < maxFound {
				t.Paths = append(t.Paths, v)
			}
		case "package":
			if name, version, ok := strings.Cut(v, " "); ok && len(t.Packages) < maxFound {
				if t.Packages == nil {
					t.Packages = map[string]string{}
				}
				t.Packages[name] = version
			}
		}
	}
	return t
}

// limitsOf reads what systemctl(1) shows of a unit: numbers, "infinity", or "-" where it says
// nothing.
func limitsOf(words []string) (l expr.Limits) {
	number := func(word string) int64 {
		if word == "infinity" {
			return expr.Unlimited
		}
		n, err := strconv.ParseInt(word, 10, 64)
		if err != nil || n < 0 {
			return 0
		}
		return min(n, expr.Unlimited)
	}
	l.Files, l.Memory = number(words[0]), number(words[1])
	if words[2] != "-" {
		l.User = words[2]
	}
	l.Binds, l.Ports = words[3] == "yes", number(words[4])
	return l
}

// Closed, before a path that is collected, has the file's hash come in place of its
// content.
const Closed = "closed:"

// Collect reads paths with all that a replacement must keep, in the order asked.
func (c *Conn) Collect(ctx context.Context, paths []string) ([]render.Found, error) {
	all, err := c.run(ctx, "collect", nil, paths...)
	if err != nil {
		return nil, err
	}
	return c.found(all, paths)
}

// Examine surveys the host and collects paths in one round trip.
func (c *Conn) Examine(ctx context.Context, w definition.Wants, paths []string) (expr.Traits, []render.Found, error) {
	all, err := c.run(ctx, "examine", nil, append(wanted(w), paths...)...)
	if err != nil {
		return expr.Traits{}, nil, err
	}
	n := slices.IndexFunc(all, func(a answer) bool { return !a.has("trait") })
	if n < 0 {
		n = len(all)
	}
	found, err := c.found(all[n:], paths)
	return traitsOf(all[:n]), found, err
}

// found reads what collect says of paths.
func (c *Conn) found(all []answer, paths []string) ([]render.Found, error) {
	found := make([]render.Found, 0, len(all))
	for i, a := range all {
		missing, _ := a["missing"].(bool)
		f := render.Found{
			Path: a.data("path"), Resolved: a.data("resolved"), Missing: missing, Kind: a.short("kind"),
			Owner: a.short("owner"), Group: a.short("group"), Mode: probe.Clip(secret.Legible(a.word("mode")), 5), Content: []byte(a.data("content")), Covered: a["covered"] == true, Sum: probe.Clip(secret.Legible(a.word("sum")), 64),
		}
		names := []string{f.Path, f.Resolved}
		for _, p := range a.pairs("links") {
			f.Links = append(f.Links, plan.Link{Path: decode(p[0]), Target: decode(p[1])})
			names = append(names, decode(p[0]), decode(p[1]))
		}
		if i < len(paths) && f.Path != strings.TrimPrefix(paths[i], Closed) || slices.ContainsFunc(names, func(name string) bool {
			return !utf8.ValidString(name) || len(name) > 8192 || strings.Contains(name, "\x00")
		}) {
			return nil, &Lost{c.target.Name, "collect", fmt.Errorf("%w: it names a path that was not asked for, or that is not text", errSenseless)}
		}
		for _, p := range a.pairs("hazards") {
			f.Hazards = append(f.Hazards, finding.Hazard{Code: probe.Clip(secret.Legible(p[0]), 50), Detail: probe.Clip(secret.Legible(decode(p[1])), 500)})
		}
		found = append(found, f)
	}
	if len(found) != len(paths) {
		return nil, &ScriptError{c.target.Name, "collect", 0, fmt.Sprintf("answered for %d of %d files", len(found), len(paths))}
	}
	return found, nil
}

// packers are used again: each holds most of a megabyte.
var packers = sync.Pool{New: func() any { w, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed); return w }}

// archive writes contents as packed tar, and secrets as secret-NAME.
func archive(contents map[string][]byte) []byte {
	var b bytes.Buffer
	packer := packers.Get().(*gzip.Writer)
	defer packers.Put(packer)
	packer.Reset(&b)
	w := tar.NewWriter(packer)
	for name, data := range contents {
		w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(data)), Format: tar.FormatUSTAR})
		w.Write(data)
	}
	w.Close()
	packer.Close()
	return b.Bytes()
}

// Fill is what makes a file of a text in which words stand for secrets that the host keeps,
// and the text, by the name under which it goes there.
func Fill(text []byte) (*definition.Make, map[string]string) {
	name := "text-" + Hash(text)[:12]
	return &definition.Make{Command: append([]string{":fill", "{path}", "{secret:" + name + "}"}, definition.KeptNames(text)...), Timeout: written.Duration(20 * time.Second)}, map[string]string{name: string(text)}
}

func contentsOf(files []File) map[string][]byte {
	all := map[string][]byte{}
	for i, f := range files {
		if !f.Kept {
			all[strconv.Itoa(i)] = f.Content
		}
	}
	return all
}

// TakeOver claims the host: lower fences are refused from now on. An error
// tells where the guard of another run is still armed there.
func (c *Conn) TakeOver(ctx context.Context, claim Claim) error {
	a, err := c.succeed(ctx, "claim", nil, claim.args())
	if err != nil {
		return err
	}
	if other := a.text("armed"); other != "" {
		return &ScriptError{c.target.Name, "claim", 0, "the guard of " + other + " is still armed over files that it placed, or over a service that it took out of the way; look at that climb first. The guard ends by itself"}
	}
	return nil
}

// Fence asks which fence the host has seen, and changes nothing.
func (c *Conn) Fence(ctx context.Context) (int64, error) {
	_, err := c.run(ctx, "claim", nil, Claim{-1, "none"}.args()...) // lower than any: it is refused
	var refused *Fenced
	if errors.As(err, &refused) {
		return refused.Seen, nil
	}
	if err == nil {
		err = &Lost{c.target.Name, "claim", errSenseless}
	}
	return 0, err
}

// ChangedError tells that a path is no longer as reviewed.
type ChangedError struct{ Host, Path string }

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s: %s was edited since the rehearsal; rehearse again to see what it says now", e.Host, e.Path)
}

// refusal reads the answers that scripts give instead of success.
func (c *Conn) refusal(name string, all []answer) error {
	a := all[len(all)-1]
	switch {
	case a.has("changed"):
		return &ChangedError{c.target.Name, a.short("changed")}
	case a.has("other"):
		return &ScriptError{c.target.Name, name, 0, a.short("other") + " is neither the old nor the new file: somebody edited it since. All is left as it is; compare it with the snapshot on the host"}
	case a.has("failed"):
		return &ScriptError{c.target.Name, name, 0, a.short("failed")}
	case a.has("fired"):
		return &FiredError{c.target.Name, a.text("trouble")}
	case !a.has(succeeds[name]):
		return &Lost{c.target.Name, name, fmt.Errorf("%w: %v", errSenseless, a)}
	}
	return nil
}

// succeeds is what a script says that did what it should.
var succeeds = map[string]string{"snapshot": "snapshot", "make": "made", "place": "placed", "restore": "restored", "disarm": "disarmed", "confirm": "confirmed", "claim": "claimed", "arm": "armed", "act": "exit", "drain": "exit", "reboot": "exit", "sweep": "swept"}

// succeed runs a script whose last answer, which it gives, is success or a
// refusal.
func (c *Conn) succeed(ctx context.Context, name string, stdin []byte, args []string) (answer, error) {
	all, err := c.run(ctx, name, stdin, args...)
	if err != nil {
		return nil, err
	}
	return all[len(all)-1], c.refusal(name, all)
}

// operate is succeed where the answer says nothing else.
func (c *Conn) operate(ctx context.Context, name string, stdin []byte, args []string) error {
	_, err := c.succeed(ctx, name, stdin, args)
	return err
}

func triples(args []string, files []File) []string {
	for _, f := range files {
		args = append(args, f.Path, f.Base, f.Candidate)
	}
	return args
}

// Service is one of those that a run acts on, as its acts concern it.
type Service struct {
	At            int // among those of the run, in the order in which they are acted on
	Unit          string
	Act, Heaviest definition.Act
	Drain         *definition.Drain // how it gets out of the way; nil where it does not
}

// timeout is how long its acts may take.
func (s Service) timeout() time.Duration {
	return max(time.Duration(s.Act.Timeout), time.Duration(s.Heaviest.Timeout))
}

// marked gives the label under which a host keeps when a service was acted on.
func marked(label string, at int) string {
	if at == 0 {
		return label
	}
	return fmt.Sprintf("%s-%d", label, at)
}

// Snapshot copies what stands at the paths aside, verified against the base, and notes
// how units stand.
func (c *Conn) Snapshot(ctx context.Context, claim Claim, units []string, files []File) error {
	return c.operate(ctx, "snapshot", nil, triples(claim.args(strings.Join(units, " ")), files))
}

// Make has the host make the candidates that are made there; what is made
// already is kept.
func (c *Conn) Make(ctx context.Context, claim Claim, files []File) error {
	for i, f := range files {
		if f.Make == nil {
			continue
		}
		within := time.Duration(f.Make.Timeout)
		bounded, cancel := context.WithTimeout(ctx, within+30*time.Second)
		args := claim.args(strconv.Itoa(i), f.Candidate, strconv.Itoa(int(within.Seconds())))
		words := f.Make.Words(func(key string) string {
			for k, other := range files[:i] { // made before, and not in its place yet
				if other.Make != nil && other.Path == f.Others[key] {
					return fmt.Sprintf("/var/lib/wladder/runs/%s/%d.made", claim.Run, k)
				}
			}
			return f.Others[key]
		})
		err := c.operate(bounded, "make", archive(secretFiles(f)), append(args, words...))
		cancel()
		if err != nil {
			return err
		}
	}
	return nil
}

func secretFiles(f File) map[string][]byte {
	all := map[string][]byte{}
	for name, value := range f.Secrets {
		all["secret-"+name] = []byte(value)
	}
	return all
}

// Place has every path stand as its candidate.
func (c *Conn) Place(ctx context.Context, claim Claim, files []File) error {
	return c.operate(ctx, "place", archive(contentsOf(files)), triples(claim.args(), files))
}

// Restore puts the snapshot back; undone tells that the run's guard had done so
// before, and acted on it with success.
func (c *Conn) Restore(ctx context.Context, claim Claim, files []File) (undone bool, err error) {
	a, err := c.succeed(ctx, "restore", nil, triples(claim.args(), files))
	undone, _ = a["undone"].(bool)
	return undone, err
}

// The labels under which a host keeps when an act began and ended.
const (
	ForwardAct = "act"
	BackAct    = "act-again"
)

// Act has a service take its files up; its heaviest act is used where the unit is
// not active. A non-zero exit is an error; exit 0 proves nothing yet. On the way back, undone tells
// that the run's guard had acted by itself, and nothing was done.
func (c *Conn) Act(ctx context.Context, claim Claim, label string, s Service) (undone bool, err error) {
	timeout := s.timeout()
	args := claim.args(marked(label, s.At), s.Unit, strconv.Itoa(int(timeout.Seconds())), lines(s.Act.Commands), lines(s.Heaviest.Commands))
	ctx, cancel := context.WithTimeout(ctx, timeout+75*time.Second)
	defer cancel()
	a, err := c.succeed(ctx, "act", nil, args)
	if err != nil {
		return false, err
	}
	if undone, _ = a["undone"].(bool); !undone && a.number("exit") != 0 {
		err = &ScriptError{c.target.Name, s.Act.Name, a.number("exit"), a.text("output")}
	}
	return undone, err
}

// Drain has a service get out of the way of those who use it. A non-zero exit is an error.
func (c *Conn) Drain(ctx context.Context, claim Claim, s Service) error {
	return c.drain(ctx, claim, "out", "getting out of the way", s, s.Drain.Command)
}

// Readmit has a service come back that got out of the way, or may have.
func (c *Conn) Readmit(ctx context.Context, claim Claim, s Service) error {
	return c.drain(ctx, claim, "in", "coming back", s, s.Drain.Readmit)
}

func (c *Conn) drain(ctx context.Context, claim Claim, way, what string, s Service, words []string) error {
	within := time.Duration(s.Drain.Within)
	ctx, cancel := context.WithTimeout(ctx, within+60*time.Second)
	defer cancel()
	a, err := c.succeed(ctx, "drain", nil, claim.args(way, marked("drain", s.At), s.Unit, seconds(within), lines([][]string{words})))
	if err == nil && a.number("exit") != 0 {
		err = &ScriptError{c.target.Name, what + " (" + strings.Join(words, " ") + ")", a.number("exit"), a.text("output")}
	}
	return err
}

// Reboot has the host boot anew, unless it has since the label's act began: then rebooted says
// so. Its guard waits for a span anew at that boot, instead of firing.
func (c *Conn) Reboot(ctx context.Context, claim Claim, label string, s Service, span time.Duration) (rebooted bool, err error) {
	a, err := c.succeed(ctx, "reboot", nil, claim.args(marked(label, s.At), s.Unit, seconds(span)))
	rebooted, _ = a["rebooted"].(bool)
	return rebooted, err
}

// rebooting are the commands with which a guard acts where the act is a boot.
var rebooting = [][]string{{"systemctl", "reboot"}}

// Arm has the host undo the run by itself after a time, or at its next boot,
// unless it is disarmed before; how says by what: timer or detached.
func (c *Conn) Arm(ctx context.Context, claim Claim, after time.Duration, services []Service, files []File) (how string, err error) {
	var set strings.Builder
	for _, f := range files {
		fmt.Fprintf(&set, "%s %s %s\n", line([]string{f.Path}), f.Base, f.Candidate)
	}
	left := map[string][]byte{"guard.sh": []byte(setOf(c.target.Scripts).guard), "set": []byte(set.String())}
	for _, s := range services {
		at := "-" + strconv.Itoa(s.At)
		left["unit"+at], left["seconds"+at] = []byte(s.Unit), fmt.Appendf(nil, "%d\n", int(s.timeout().Seconds()))
		light, heavy := s.Act.Commands, s.Heaviest.Commands
		if s.Act.Reboots {
			light, heavy = rebooting, rebooting
		}
		left["light"+at], left["heavy"+at] = []byte(lines(light)), []byte(lines(heavy))
		if s.Drain != nil {
			left["within"+at], left["readmit"+at] = []byte(seconds(time.Duration(s.Drain.Within))+"\n"), []byte(lines([][]string{s.Drain.Readmit}))
		}
	}
	a, err := c.succeed(ctx, "arm", archive(left), claim.args(seconds(after)))
	return a.word("armed"), err
}

// FiredError tells that the host has undone the run by itself.
type FiredError struct{ Host, Trouble string }

func (e *FiredError) Error() string {
	text := e.Host + ": the host's guard has fired: nobody confirmed the change in time, and the host put the old files back by itself"
	if e.Trouble != "" {
		text += ", but for this: " + e.Trouble
	}
	return text + "; " + trouble.GuardFired.Help()
}

// Disarm takes the run's guard away, and what a script that was cut left beside
// the paths; a *FiredError tells that the guard was faster.
func (c *Conn) Disarm(ctx context.Context, claim Claim, files []File) error {
	return c.operate(ctx, "disarm", nil, claim.args())
}

// Confirm holds that every path still stands as its candidate, and takes the
// guard away: the rename of its marker is the confirmation. It may be repeated.
// A *ChangedError names a path that somebody edited, a *FiredError tells that the
// guard was faster.
func (c *Conn) Confirm(ctx context.Context, claim Claim, files []File) error {
	return c.operate(ctx, "confirm", nil, triples(claim.args(), files))
}

// Sweep takes away what runs that ended longer ago than kept (in whole days) have left
// on the host.
func (c *Conn) Sweep(ctx context.Context, kept time.Duration) error {
	return c.operate(ctx, "sweep", nil, []string{strconv.Itoa(int(kept / (24 * time.Hour)))})
}

// Look takes the host over, pushes its guard on, and finds out how it stands, and the
// process of one service.
func (c *Conn) Look(ctx context.Context, claim Claim, guard time.Duration, label string, service Service, files []File) (ladder.Sight, error) {
	s := ladder.Sight{Files: ladder.FilesUnknown, Process: ladder.ProcessUnknown}
	all, err := c.run(ctx, "look", nil, triples(claim.args(seconds(guard), marked(label, service.At), service.Unit), files)...)
	if err != nil {
		return s, err
	}
	count, of, seen := map[any]int{}, 0, 0
	var u *Unit
	began, ended := false, -1
	for _, a := range all {
		switch {
		case a.has("file"):
			if seen++; a["stands"] == "held" {
				continue
			}
			of++
			count[a["stands"]]++
		case a.has("began"):
			began, _ = a["began"].(bool)
			ended = a.number("ended")
			s.Guard = ladder.GuardState(a.word("guard"))
			s.Undone, _ = a["undone"].(bool)
		case a.has("unit"):
			unit := unitOf(a)
			u = &unit
		}
	}
	if u == nil || s.Guard == "" || seen != len(files) {
		return s, &Lost{c.target.Name, "look", fmt.Errorf("%w: it is cut short", errSenseless)}
	}
	s.Acted = max(ended, 0)
	switch of {
	case count["old"]:
		s.Files = ladder.FilesOld
	case count["new"]:
		s.Files = ladder.FilesNew
	default:
		s.Files = ladder.FilesMixed
	}
	switch {
	case !u.alive():
		s.Process = ladder.ProcessDown
	case !began:
		s.Process = ladder.ProcessOld
	case ended == 0 || u.Renewed > 0:
		s.Process = ladder.ProcessNew
	}
	return s, nil
}

// seconds writes a time as scripts read it.
func seconds(d time.Duration) string { return strconv.Itoa(max(1, int(d.Seconds()))) }
