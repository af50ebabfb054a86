package probe

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"wladder/core/expr"
)

// asks gives the probe's questions, those that go first included.
func (p Probe) asks() (all []Ask, err error) {
	for _, line := range p.First {
		a, err := ParseFirst(line)
		if err != nil {
			return nil, err
		}
		all = append(all, a)
	}
	a, err := ParseAsk(p.Ask)
	return append(all, a), err
}

// Waits says why a probe that is not an approved definition's is asked only once
// its change is approved; empty where it sends no more than GET, HEAD or OPTIONS
// without secrets, or nothing at all, from the server.
func (p Probe) Waits() string {
	all, err := p.asks()
	if err != nil || len(p.SecretNames()) > 0 {
		return "it shows a secret"
	}
	for _, a := range all {
		switch {
		case a.Kind == HTTP && a.Method != "GET" && a.Method != "HEAD" && a.Method != "OPTIONS":
			return "it sends " + a.Method
		case a.Send != "":
			return "it sends text of its own"
		case a.Local:
			return "it is asked from within the host"
		}
	}
	return ""
}

// errExposed tells that a secret would go where anybody may listen or answer.
var errExposed = errors.New("shows a secret, so it wants https with ca or pin, from=host, or ssh, whose key is pinned")

// guarded tells that no question of a probe that shows a secret goes over a
// connection whose other side is not known for certain: cookies carry on what a
// secret bought.
func (p Probe) guarded() error {
	all, err := p.asks()
	if err != nil || len(p.SecretNames()) == 0 {
		return err
	}
	for _, a := range all {
		if !a.Guarded(p) {
			return errExposed
		}
	}
	return nil
}

// Guarded tells whether a question of the probe may show a secret.
func (a Ask) Guarded(p Probe) bool {
	switch {
	case a.Local || a.Kind == SSH || !a.Kind.Network():
		return true
	case a.Kind == TLS || a.Kind == HTTP && a.Secure:
		return a.Pin != "" || a.PinFile != "" || p.CA != ""
	}
	return false
}

// names lists what the probe's expectations speak of.
func (p Probe) names() (all []string) {
	for _, text := range []string{p.Expect, p.Before, p.After} {
		if text == "" {
			continue
		}
		if program, err := expr.Compile(text, expr.AnswerVars, expr.Bool); err == nil {
			all = append(all, program.Names...)
		}
	}
	return all
}

// compared gives an expectation of the probe that looks into a whole answer; empty where
// there is none, or it wants no more than answer == earlier.
func (p Probe) compared() string {
	for _, text := range []string{p.Expect, p.Before, p.After} {
		if program, err := expr.Compile(text, expr.AnswerVars, expr.Bool); err == nil && !program.Whole {
			return text
		}
	}
	return ""
}

// Allowed is what an approved definition lets questions of others ask of its
// hosts.
type Allowed struct {
	Path    func(path string) bool // may a file or size question name it?
	File    func(key string) bool  // is there a file of this key, for pin={file:KEY}?
	Command func(name string) (there, shown bool)
}

// Within says why a probe that is not the definition's own asks more than is
// allowed; nil where it does not. Text of files, and of commands whose output is not
// shown, is compared with nothing that others write: each comparison would tell
// something of it.
func (p Probe) Within(may Allowed) error {
	a, err := ParseAsk(p.Ask)
	if err != nil {
		return err
	}
	names := p.names()
	if compared := p.compared(); compared != "" { // more than whether it is as before
		names = append(names, answersOf(a)...)
	}
	switch {
	case (a.Kind == File || a.Kind == Size || a.Kind == Served) && !may.Path(a.Path):
		return fmt.Errorf("reads %s, which the service's definition does not list; an admin adds it there, among reads or in a probe", a.Path)
	case a.Kind == File && slices.Contains(names, "content"):
		return errors.New("compares a file's content, which only the definition's own probes may")
	case a.PinFile != "" && !may.File(a.PinFile):
		return fmt.Errorf("file %q is not one of the service's files", a.PinFile)
	}
	if a.Kind == Command {
		switch there, shown := may.Command(a.Name); {
		case !there:
			return fmt.Errorf("command %q is not one of the service's commands", a.Name)
		case !shown && slices.Contains(names, "output"):
			return fmt.Errorf("compares the output of %s, which the definition does not say is shown", a.Name)
		}
	}
	return nil
}

// OfService tells whether the probe asks for what stands in a service's definition: a
// command, a path, or a file that it pins by.
func (p Probe) OfService() bool {
	all, _ := p.asks()
	for _, a := range all {
		if a.Kind == Command || a.Kind == File || a.Kind == Size || a.PinFile != "" {
			return true
		}
	}
	return false
}

// kindOfName says what kind of value an answer's name has, for people.
func kindOfName(name string) string {
	switch {
	case slices.Contains([]string{"status", "size", "days_left", "chain", "restarts", "processes", "renewed", "count", "age", "bytes", "exit"}, name):
		return "a number"
	case slices.Contains([]string{"connected", "held", "trusted", "signed_in", "readable"}, name):
		return "true or false"
	case slices.Contains([]string{"methods", "names", "users", "listeners"}, name):
		return "a list"
	case name == "headers":
		return "texts by name"
	}
	return "text"
}

// cannotJudge says that an expectation could not be held against an answer, by the
// names and kinds of what it speaks of: an evaluator's own words quote values.
func cannotJudge(want string, names []string) string {
	var said []string
	for _, n := range names {
		if known(n) {
			said = append(said, n+" ("+kindOfName(n)+")")
		}
	}
	return fmt.Sprintf("the expectation %s cannot be held against this answer; it speaks of %s", want, strings.Join(said, ", "))
}

// PinFiles lists the keys of the files that hold certificates of the probe.
func (p Probe) PinFiles() (keys []string) {
	all, _ := p.asks()
	for _, a := range all {
		if a.PinFile != "" {
			keys = append(keys, a.PinFile)
		}
	}
	return keys
}
