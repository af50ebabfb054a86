package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/probe"
	"wladder/core/signin"
	"wladder/host"
)

// Where a change edits sshd's settings, sshd itself is asked who may sign in, with the files
// as they are and as they would be: of those who have signed in of late, and of our own login.

// admits tells whether a trial can tell who may sign in.
func admits(t definition.Trial, formats []conf.Format) bool {
	return len(t.Dump) > 0 && path.Base(t.Dump[0]) == "sshd" && slices.Contains(formats, conf.SSHD)
}

// signIns compares who may sign in, for one service whose files are among those given.
type signIns struct {
	conn     Conn
	put      func(context.Context, []host.Question) ([]host.Reply, error)
	login    string
	locksOut []string
}

func (s signIns) weigh(ctx context.Context, t definition.Trial, files []host.File) ([]finding.Finding, error) {
	unknown := func(why string) []finding.Finding {
		return []finding.Finding{{Level: finding.Warn, Code: "sign-ins-unknown", Text: "who could sign in afterwards cannot be told: " + why}}
	}
	replies, err := s.put(ctx, []host.Question{{People: s.login}})
	if err != nil {
		return nil, err
	}
	people := replies[0].People
	if replies[0].Failure != "" || len(people) == 0 {
		return unknown("the host names nobody who has signed in " + replies[0].Failure), nil
	}
	before, after, err := s.conn.Effective(ctx, files, t, people)
	var failed *host.ScriptError
	switch {
	case errors.As(err, &failed):
		return unknown(failed.Stderr), nil
	case err != nil:
		return nil, err
	}
	keys, err := s.keys(ctx, people, before, after)
	if err != nil {
		return nil, err
	}
	var lost, expected []string
	var findings []finding.Finding
	for i, p := range people {
		p.Keys = func(path string) bool { return keys[path] }
		was, is := before[i].Ways(p), after[i].Ways(p)
		why := after[i].Refuses(p)
		if why == "" {
			why = "no way is left: they came by " + strings.Join(was, ", ")
		}
		switch {
		case p.Name == s.login && slices.Contains(was, "publickey") && !slices.Contains(is, "publickey"):
			findings = append(findings, veto("own-way-in", "our own login %s could not sign in with its key any more: %s", p.Name, why))
		case len(was) == 0 || len(is) > 0:
		case slices.Contains(s.locksOut, p.Name):
			expected = append(expected, p.Name)
		default:
			lost = append(lost, fmt.Sprintf("%s (%s)", p.Name, why))
		}
	}
	slices.Sort(lost) // so that hosts that differ in the order alone are alike
	slices.Sort(expected)
	if lost != nil {
		findings = append(findings, veto("sign-in-lost", "people who have signed in of late could not any more: %s. Where that is the aim, the change names them in locks-out", strings.Join(lost, "; ")))
	}
	if expected != nil {
		findings = append(findings, finding.Finding{Level: finding.Note, Code: "locked-out", Text: "as the change has it, these can sign in no more: " + strings.Join(expected, ", ")})
	}
	return findings, nil
}

// maxKeyFiles bounds how many files of keys are looked for on a host.
const maxKeyFiles = 200

// keys tells where files with keys of people are.
func (s signIns) keys(ctx context.Context, people []signin.Person, settings ...[]signin.Settings) (map[string]bool, error) {
	there := map[string]bool{}
	var paths []string
	var questions []host.Question
	for i, p := range people {
		for _, all := range settings {
			for _, at := range all[i].KeyFiles(p) {
				if _, known := there[at]; !known && len(paths) < maxKeyFiles {
					there[at] = false
					paths, questions = append(paths, at), append(questions, host.Question{Presence: at})
				}
			}
		}
	}
	if len(questions) == 0 {
		return there, nil
	}
	replies, err := s.put(ctx, questions)
	for i, at := range paths {
		there[at] = err == nil && replies[i].Present
	}
	return there, err
}

// signIns says of a rehearsed host who could sign in no more.
func (r *reading) signIns(ctx context.Context, c *carried, files []host.File) ([]finding.Finding, error) {
	var formats []conf.Format
	for _, f := range c.Files {
		formats = append(formats, f.Format)
	}
	switch {
	case !admits(c.Trial, formats):
		return nil, nil
	case c.Waits:
		return []finding.Finding{{Level: finding.Note, Code: "sign-ins-later", Text: "who could sign in afterwards is seen once the change is approved: a host is passed over where somebody could not any more whom locks-out does not name"}}, nil
	}
	return signIns{r.conn, outsideRuns(r.conn), r.host.Login, r.spec.LocksOut}.weigh(ctx, c.Trial, files)
}

// signIns says, before anything is placed, why a host is passed over; empty where nothing
// speaks against it.
func (r *hostRun) signIns(ctx context.Context, s *service) (string, error) {
	var formats []conf.Format
	for _, f := range s.mine.Files {
		formats = append(formats, f.Format)
	}
	if !admits(s.Trial, formats) {
		return "", nil
	}
	put := func(ctx context.Context, questions []host.Question) ([]host.Reply, error) {
		return r.conn.Ask(ctx, r.claim.Run, host.ForwardAct, questions)
	}
	findings, err := signIns{r.conn, put, r.leaf.Login, r.head.LocksOut}.weigh(ctx, s.Trial, r.files)
	for _, f := range findings {
		if f.Level == finding.Veto {
			return probe.Clip(r.redactor.Clean(f.Text), 1000), err
		}
	}
	return "", err
}
