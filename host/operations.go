package host

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"

	"wladder/core/change"
	"wladder/core/expr"
	"wladder/core/ladder"
)

// File is one file that an operation concerns. Hashes are SHA-256 in hex.
type File struct {
	Path      string
	Base      string
	Candidate string
	Content   []byte // the candidate
	Meta      string // mode:owner:group of the base
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

func (c Claim) args() []string { return []string{strconv.FormatInt(c.Fence, 10), c.Run} }

// Survey asks what kind of machine this is.
func (c *Conn) Survey(ctx context.Context) (expr.Traits, error) {
	var t expr.Traits
	all, err := c.run(ctx, "survey", nil)
	for _, a := range all {
		v := a.text("value")
		n, _ := strconv.ParseInt(v, 10, 64)
		switch a["trait"] {
		case "os":
			t.OS = v
		case "os_family":
			t.OSFamily = v
		case "os_version":
			t.OSVersion = v
		case "kernel":
			t.Kernel = v
		case "cores":
			t.Cores = n
		case "memory":
			t.Memory = n
		}
	}
	return t, err
}

// Collect reads files with all that a replacement must keep, in the order asked.
func (c *Conn) Collect(ctx context.Context, paths []string) ([]change.Found, error) {
	all, err := c.run(ctx, "collect", nil, paths...)
	if err != nil {
		return nil, err
	}
	found := make([]change.Found, 0, len(all))
	for _, a := range all {
		missing, _ := a["missing"].(bool)
		mode, _ := a["mode"].(string)
		found = append(found, change.Found{
			Path: a.text("path"), Resolved: a.text("resolved"), Missing: missing, Kind: a.text("kind"),
			Owner: a.text("owner"), Group: a.text("group"), Mode: mode, Links: a.number("links"),
			Denied: a.text("denied"), Content: []byte(a.text("content")),
		})
	}
	if len(found) != len(paths) {
		return nil, &ScriptError{c.target.Name, "collect", 0, fmt.Sprintf("answered for %d of %d files", len(found), len(paths))}
	}
	return found, nil
}

// TrialAnswer is what a checker says of the candidate.
type TrialAnswer string

// The answers of a trial.
const (
	Accepted       TrialAnswer = "accepted"
	Refused        TrialAnswer = "refused"
	AlreadyRefused TrialAnswer = "already-refused" // the untouched files are refused too
	CannotTell     TrialAnswer = "cannot-tell"
)

// Trial has the service's checker look at the candidates where they would be;
// output is what the checker said.
func (c *Conn) Trial(ctx context.Context, files []File, command, covers []string) (result TrialAnswer, output string, err error) {
	args := append([]string{"20", strconv.Itoa(len(covers))}, covers...)
	args = append(args, strconv.Itoa(len(files)))
	for _, f := range files {
		args = append(args, f.Path)
	}
	all, err := c.run(ctx, "trial", archive(files), append(args, command...)...)
	if err != nil {
		return CannotTell, "", err
	}
	exits, said := map[any]int{}, map[any]string{}
	for _, a := range all {
		exits[a["trial"]], said[a["trial"]] = a.number("exit"), a.text("output")
	}
	before, after := exits["untouched"], exits["candidate"]
	switch {
	case len(exits) != 2 || after >= 124 || before >= 124: // timed out, or could not be run
		return CannotTell, said["candidate"] + said["untouched"], nil
	case before != 0 && after != 0:
		return AlreadyRefused, said["untouched"], nil
	case after != 0:
		return Refused, said["candidate"], nil
	}
	return Accepted, said["candidate"], nil
}

func archive(files []File) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i, f := range files {
		w.WriteHeader(&tar.Header{Name: strconv.Itoa(i), Mode: 0o600, Size: int64(len(f.Content)), Format: tar.FormatUSTAR})
		w.Write(f.Content)
	}
	w.Close()
	return b.Bytes()
}

// TakeOver claims the host: lower fences are refused from now on.
func (c *Conn) TakeOver(ctx context.Context, claim Claim) error {
	_, err := c.run(ctx, "claim", nil, claim.args()...)
	return err
}

// ChangedError tells that a file is no longer the reviewed one.
type ChangedError struct{ Host, Path string }

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s: %s was edited since the rehearsal; rehearse again to see what it says now", e.Host, e.Path)
}

// refusal reads the answers that scripts give instead of success.
func (c *Conn) refusal(name string, all []answer) error {
	a := all[len(all)-1]
	switch {
	case a.has("changed"):
		return &ChangedError{c.target.Name, a.text("changed")}
	case a.has("other"):
		return &ScriptError{c.target.Name, name, 0, a.text("other") + " is neither the old nor the new file: somebody edited it since. It is left as it is; compare it with the snapshot on the host"}
	case a.has("failed"):
		return &ScriptError{c.target.Name, name, 0, a.text("failed")}
	}
	return nil
}

// Snapshot copies the live files aside, verified against the base.
func (c *Conn) Snapshot(ctx context.Context, claim Claim, files []File) error {
	args := claim.args()
	for _, f := range files {
		args = append(args, f.Path, f.Base, f.Meta)
	}
	all, err := c.run(ctx, "snapshot", nil, args...)
	if err != nil {
		return err
	}
	return c.refusal("snapshot", all)
}

func triples(claim []string, files []File) []string {
	for _, f := range files {
		claim = append(claim, f.Path, f.Base, f.Candidate)
	}
	return claim
}

// Place renames the candidates over the live files.
func (c *Conn) Place(ctx context.Context, claim Claim, files []File) error {
	all, err := c.run(ctx, "place", archive(files), triples(claim.args(), files)...)
	if err != nil {
		return err
	}
	return c.refusal("place", all)
}

// Restore puts the snapshot back.
func (c *Conn) Restore(ctx context.Context, claim Claim, files []File) error {
	all, err := c.run(ctx, "restore", nil, triples(claim.args(), files)...)
	if err != nil {
		return err
	}
	return c.refusal("restore", all)
}

// The labels under which a host keeps when an act began and ended.
const (
	ForwardAct = "act"
	BackAct    = "act-again"
)

// Act has the service take its files up; heaviest is used where the unit is
// not active. A non-zero exit is an error; exit 0 proves nothing yet.
func (c *Conn) Act(ctx context.Context, claim Claim, label, unit string, act, heaviest change.Act) error {
	timeout := max(time.Duration(act.Timeout), time.Duration(heaviest.Timeout))
	args := append(claim.args(), label, unit, strconv.Itoa(int(timeout.Seconds())), strconv.Itoa(len(act.Command)))
	args = append(append(args, act.Command...), heaviest.Command...)
	ctx, cancel := context.WithTimeout(ctx, timeout+45*time.Second)
	defer cancel()
	all, err := c.run(ctx, "act", nil, args...)
	if err != nil {
		return err
	}
	if a := all[len(all)-1]; a.number("exit") != 0 {
		return &ScriptError{c.target.Name, act.Name, a.number("exit"), a.text("output")}
	}
	return nil
}

// Unit is how a unit stands. Renewed counts those of its processes that began
// since the last act.
type Unit struct {
	State, Sub, Result           string
	Restarts, Processes, Renewed int
	Main                         int // the main process's id
}

func unitOf(a answer) Unit {
	return Unit{a.text("state"), a.text("sub"), a.text("result"), a.number("restarts"), a.number("processes"), a.number("renewed"), a.number("main")}
}

// AskUnit asks how a unit stands.
func (c *Conn) AskUnit(ctx context.Context, run, label, unit string) (Unit, error) {
	all, err := c.run(ctx, "unit", nil, run, label, unit)
	if err != nil {
		return Unit{}, err
	}
	return unitOf(all[len(all)-1]), nil
}

// Sight is what a look at a host found.
type Sight struct {
	Files   ladder.Files
	Process ladder.Process
	Unit    Unit
	Other   string // a file that is neither old nor new
}

// Look takes the host over and finds out how it stands.
func (c *Conn) Look(ctx context.Context, claim Claim, label, unit string, files []File) (Sight, error) {
	s := Sight{Files: ladder.FilesUnknown, Process: ladder.ProcessUnknown}
	all, err := c.run(ctx, "look", nil, triples(append(claim.args(), label, unit), files)...)
	if err != nil {
		return s, err
	}
	count := map[any]int{}
	began, ended := false, -1
	for _, a := range all {
		switch {
		case a.has("file"):
			count[a["stands"]]++
			if a["stands"] == "other" || a["stands"] == "missing" {
				s.Other = a.text("file")
			}
		case a.has("began"):
			began, _ = a["began"].(bool)
			ended = a.number("ended")
		case a.has("unit"):
			s.Unit = unitOf(a)
		}
	}
	switch len(files) {
	case count["old"]:
		s.Files = ladder.FilesOld
	case count["new"]:
		s.Files = ladder.FilesNew
	default:
		s.Files = ladder.FilesMixed
	}
	switch {
	case s.Unit.State != "active" && s.Unit.State != "reloading" && s.Unit.State != "activating":
		s.Process = ladder.ProcessDown
	case !began:
		s.Process = ladder.ProcessOld
	case ended == 0 || s.Unit.Renewed > 0:
		s.Process = ladder.ProcessNew
	}
	return s, nil
}
