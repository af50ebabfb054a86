package host

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"wladder/core/definition"
	"wladder/core/probe"
	"wladder/core/signin"
)

// TrialAnswer is what a checker says of the candidate.
type TrialAnswer string

// The answers of a trial.
const (
	Accepted       TrialAnswer = "accepted"
	Refused        TrialAnswer = "refused"
	AlreadyRefused TrialAnswer = "already-refused" // the untouched files are refused too
	NotShown       TrialAnswer = "not-shown"       // accepted, yet the effective settings are others
	CannotTell     TrialAnswer = "cannot-tell"
)

// Trial has the service's checker look at the candidates where they would be;
// output is what the checker said, or the line that its dump lacks.
func (c *Conn) Trial(ctx context.Context, files []File, t definition.Trial, shown []string) (result TrialAnswer, output string, err error) {
	var dump []string
	if len(shown) > 0 {
		dump = t.Dump
	}
	exits, said, err := c.walled(ctx, files, t, t.Command, dump)
	if err != nil {
		return CannotTell, "", err
	}
	_, finished := exits["candidate"]
	before, after := exits["untouched"], exits["candidate"]
	switch {
	case !finished || unanswered(after) || unanswered(before):
		return CannotTell, said["walls"] + said["made"] + said["candidate"] + said["untouched"], nil
	case before != 0 && after != 0:
		return AlreadyRefused, said["untouched"], nil
	case after != 0:
		return Refused, said["candidate"], nil
	}
	for _, want := range shown {
		if len(t.Dump) > 0 && !shows(said["dump"], want) {
			return NotShown, want, nil
		}
	}
	return Accepted, said["candidate"], nil
}

// Effective gives sshd's settings for each of some people, as they are and as the
// candidates would make them; it errs where sshd does not say.
func (c *Conn) Effective(ctx context.Context, files []File, t definition.Trial, people []signin.Person) (before, after []signin.Settings, err error) {
	asks := make([]string, len(t.Dump))
	for i, word := range t.Dump {
		asks[i] = quote(word)
	}
	command := []string{"sh", "-c", `for person; do echo "wladder-person"; ` + strings.Join(asks, " ") + ` -C "$person" || exit; done`, "wladder"}
	for _, p := range people {
		of := "user=" + p.Name
		if p.Address != "" {
			of += ",host=" + p.Address + ",addr=" + p.Address
		}
		command = append(command, of)
	}
	exits, said, err := c.walled(ctx, files, t, command, nil)
	if err != nil {
		return nil, nil, err
	}
	read := func(name string) (all []signin.Settings) {
		for _, dump := range strings.Split(said[name], "wladder-person\n")[1:] {
			all = append(all, signin.Read(dump))
		}
		return all
	}
	before, after = read("untouched"), read("candidate")
	if exits["untouched"] != 0 || exits["candidate"] != 0 || len(before) != len(people) || len(after) != len(people) {
		return nil, nil, &ScriptError{c.target.Name, "trial", exits["candidate"], "sshd does not say who may sign in: " + probe.Clip(said["walls"]+said["made"]+said["candidate"], 300)}
	}
	return before, after, nil
}

// walled runs commands behind walls: one on the files as they are and on the candidates, and
// then dump, where there is one. It gives how each ended and what it said.
func (c *Conn) walled(ctx context.Context, files []File, t definition.Trial, command, dump []string) (exits map[any]int, said map[any]string, err error) {
	// On a network of its own, a checker may have any port.
	name, net, caps, flags := "trial", "own", ",+net_bind_service", "nosuid,nodev,noexec"
	for _, grant := range t.Grants {
		switch grant {
		case "network":
			name, net, caps = "trial-network", "host", strings.TrimPrefix(caps, ",+net_bind_service")
		case "executable":
			flags = "nosuid,nodev"
		default:
			caps += ",+" + grant
		}
	}
	covers := slices.DeleteFunc(slices.Clone(t.Covers), func(at string) bool { return definition.Within(at+"/", []string{"/run", "/tmp", "/var/tmp"}) })
	slices.Sort(covers) // what lies in another comes after it
	for _, at := range covers {
		if !definition.Coverable(at) {
			return map[any]int{}, map[any]string{"walls": "the directory " + strconv.Quote(at) + " of covers holds a letter that mount does not take"}, nil
		}
	}
	files = slices.DeleteFunc(slices.Clone(files), func(f File) bool { return f.Base == f.Candidate }) // held
	args := []string{"20", caps, net, flags, strings.Join(covers, " "), strconv.Itoa(len(files))}
	contents := contentsOf(files)
	for _, f := range files {
		made := ""
		if f.Make != nil { // in a trial, what was made is in its place
			made = line(f.Make.Words(func(key string) string { return f.Others[key] }))
		}
		args = append(args, f.Path, f.Candidate, made)
		for name, value := range secretFiles(f) {
			contents[name] = value
		}
	}
	args = append(append(append(args, strconv.Itoa(len(command))), command...), dump...)
	all, err := c.run(ctx, name, archive(contents), args...)
	if err != nil {
		return nil, nil, err
	}
	exits, said = map[any]int{}, map[any]string{}
	for _, a := range all {
		exits[a["trial"]], said[a["trial"]] = a.number("exit"), a.text("output")
	}
	return exits, said, nil
}

// unanswered tells that an exit status is not a checker's word: it timed out or
// could not be run (timeout(1)), or a signal ended it. sshd says no with 255.
func unanswered(exit int) bool { return exit >= 124 && exit < 128+65 }

// shows tells whether a line of a dump is the one wanted, whatever its blanks
// and the case of its letters.
func shows(dump, want string) bool {
	fold := func(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), " ")) }
	return slices.ContainsFunc(strings.Split(dump, "\n"), func(l string) bool { return fold(l) == fold(want) })
}
