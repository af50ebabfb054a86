// Package probe says what a probe asks, what it expects, and how an answer is
// judged. It asks nothing itself.
//
//	p := probe.Probe{Name: "front page", Ask: "http GET :8480/", Expect: "status == 200"}
//	err := p.Check()
//	verdict := p.Judge(answer)
package probe

import (
	"fmt"
	"strconv"
	"strings"

	"wladder/core/expr"
)

// Probe is one question to a host and the expectation of its answer.
type Probe struct {
	Name   string `yaml:"name" json:"name"`
	Ask    string `yaml:"ask" json:"ask"`       // see ParseAsk
	Expect string `yaml:"expect" json:"expect"` // a CEL expression over expr.AnswerVars
}

// Kind is what is asked.
type Kind string

// The kinds of question so far.
const (
	HTTP Kind = "http"
	TCP  Kind = "tcp"
	Unit Kind = "unit"
)

// Ask is a parsed question. The host asked is always the one under test.
type Ask struct {
	Kind   Kind
	Method string // http
	Port   int    // http, tcp
	Path   string // http
	Host   string // http: the Host header, empty for the host's own name
	Unit   string // unit
}

// ParseAsk reads the one line that states a question:
//
//	http [METHOD] :PORT/PATH [host=NAME]
//	tcp :PORT
//	unit NAME
func ParseAsk(line string) (Ask, error) {
	words := strings.Fields(line)
	bad := func(format string, args ...any) (Ask, error) {
		return Ask{}, fmt.Errorf("ask %q: "+format, append([]any{line}, args...)...)
	}
	if len(words) < 2 {
		return bad("want http [METHOD] :PORT/PATH, tcp :PORT or unit NAME")
	}
	a := Ask{Kind: Kind(words[0])}
	words = words[1:]
	switch a.Kind {
	case HTTP:
		a.Method = "GET"
		if words[0][0] != ':' {
			a.Method, words = words[0], words[1:]
			if a.Method != "GET" && a.Method != "HEAD" && a.Method != "OPTIONS" {
				return bad("method %q; want GET, HEAD or OPTIONS, which change nothing", a.Method)
			}
		}
		if len(words) == 0 || words[0][0] != ':' {
			return bad("want :PORT/PATH behind the method")
		}
		port, path, _ := strings.Cut(words[0][1:], "/")
		a.Path = "/" + path
		for _, w := range words[1:] {
			name, value, _ := strings.Cut(w, "=")
			if name != "host" || value == "" {
				return bad("%q is not known; want host=NAME", w)
			}
			a.Host = value
		}
		words = []string{":" + port}
		fallthrough
	case TCP:
		port, err := strconv.Atoi(strings.TrimPrefix(words[0], ":"))
		if err != nil || words[0][0] != ':' || port < 1 || port > 65535 || len(words) > 1 {
			return bad("%q is no port; want :1 to :65535", strings.Join(words, " "))
		}
		a.Port = port
	case Unit:
		if len(words) != 1 || strings.HasPrefix(words[0], "-") {
			return bad("want the name of one unit")
		}
		a.Unit = words[0]
	default:
		return bad("%q is not known; want http, tcp or unit", a.Kind)
	}
	return a, nil
}

// Check tells what is wrong with the probe as written.
func (p Probe) Check() error {
	if _, err := ParseAsk(p.Ask); err != nil {
		return err
	}
	_, err := expr.Compile(p.Expect, expr.AnswerVars, expr.Bool)
	return err
}

// Answer is what came back. Failure is why nothing did, in words.
type Answer struct {
	Failure   string            `json:"failure,omitempty"`
	Status    int               `json:"status,omitempty"`
	Headers   map[string]string `json:"headers,omitempty"`
	Body      string            `json:"body,omitempty"`
	Connected bool              `json:"connected,omitempty"`
	Banner    string            `json:"banner,omitempty"`
	State     string            `json:"state,omitempty"`
	Sub       string            `json:"sub,omitempty"`
	Restarts  int               `json:"restarts,omitempty"`
	Processes int               `json:"processes,omitempty"`
	Renewed   int               `json:"renewed,omitempty"`
}

func (a Answer) vars() map[string]any {
	return map[string]any{
		"status": int64(a.Status), "headers": expr.Texts(a.Headers), "body": a.Body,
		"connected": a.Connected, "banner": a.Banner, "state": a.State, "sub": a.Sub,
		"restarts": int64(a.Restarts), "processes": int64(a.Processes), "renewed": int64(a.Renewed),
	}
}

// String says the answer in a few words.
func (a Answer) String() string {
	switch {
	case a.Failure != "":
		return a.Failure
	case a.Status != 0:
		return fmt.Sprintf("status %d", a.Status)
	case a.State != "":
		processes := "1 process"
		if a.Processes != 1 {
			processes = fmt.Sprintf("%d processes", a.Processes)
		}
		if a.Renewed > 0 {
			processes += fmt.Sprintf(", %d begun since the act", a.Renewed)
		}
		return fmt.Sprintf("%s (%s), %s", a.State, a.Sub, processes)
	case a.Connected:
		return "connected"
	}
	return "no answer"
}

// Verdict is an answer judged.
type Verdict struct {
	Probe string `json:"probe"`
	Well  bool   `json:"well"`
	Why   string `json:"why"` // what came back, in words
}

// Judge holds an answer against the expectation. A probe without an answer is
// not well: an expectation about a failure is one about what is connected.
func (p Probe) Judge(a Answer) Verdict {
	v := Verdict{Probe: p.Name, Why: a.String()}
	ask, _ := ParseAsk(p.Ask)
	if a.Failure != "" && ask.Kind != TCP {
		return v
	}
	program, err := expr.Compile(p.Expect, expr.AnswerVars, expr.Bool)
	if err == nil {
		v.Well, err = program.Bool(a.vars())
	}
	if err != nil {
		v.Why = err.Error()
	} else if !v.Well {
		v.Why += "; want " + p.Expect
	}
	return v
}
