// Package probe says what a probe asks, what it expects, and how an answer is
// judged. It asks nothing itself.
//
//	p := probe.Probe{Name: "front page", Ask: "http GET :8480/", Expect: "status == 200"}
//	err := p.Check()
//	verdict := p.Judge(probe.After, answer)
package probe

import (
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wladder/core/expr"
)

// Probe is one question to a host and the expectation of its answer: Expect at
// any time, or Before and After a change. Expectations are CEL expressions over
// expr.AnswerVars.
type Probe struct {
	Name   string   `yaml:"name" json:"name"`
	Ask    string   `yaml:"ask" json:"ask"` // see ParseAsk
	Expect string   `yaml:"expect" json:"expect,omitempty"`
	Before string   `yaml:"before" json:"before,omitempty"`
	After  string   `yaml:"after" json:"after,omitempty"`
	Tries  int      `yaml:"tries" json:"tries,omitempty"` // asked so often, each afresh; 0 is once
	Share  int      `yaml:"share" json:"share,omitempty"` // percent of the tries that must be well; 0 is all
	Hold   int      `yaml:"hold" json:"hold,omitempty"`   // seconds for which a tcp, tls or http connection is held open
	CA     string   `yaml:"ca" json:"ca,omitempty"`       // https, tls: the authority's certificates, PEM
	First  []string `yaml:"first" json:"first,omitempty"` // http: requests before, in one sitting; see ParseFirst
	// Service is whose commands and files a change's own probe asks for; the first of the
	// change's services that has them where it is unset.
	Service string `yaml:"service" json:"service,omitempty"`
}

// Phase is when a probe is asked.
type Phase string

// The phases.
const (
	Earlier Phase = "before" // before the change, and once it has been taken back
	Later   Phase = "after"
)

// Limits on tries and on how long a connection is held.
const (
	maxTries = 100
	maxHold  = 15 * 60 // seconds
)

// Check tells what is wrong with the probe as written.
func (p Probe) Check() error {
	ask, err := ParseAsk(p.Ask)
	if err != nil {
		return err
	}
	switch {
	case p.Expect == "" && p.Before == "" && p.After == "":
		return errors.New("expects nothing; want expect, or before and after")
	case p.Expect != "" && (p.Before != "" || p.After != ""):
		return errors.New("want either expect, or before and after")
	case p.Tries < 0 || p.Tries > maxTries:
		return fmt.Errorf("tries: %d; want at most %d", p.Tries, maxTries)
	case p.Share < 0 || p.Share > 100:
		return fmt.Errorf("share: %d; want a percentage", p.Share)
	case p.Hold < 0 || p.Hold > maxHold:
		return fmt.Errorf("hold: %d; want at most %d seconds", p.Hold, maxHold)
	case p.Hold > 0 && ask.Kind != TCP && ask.Kind != TLS && ask.Kind != HTTP:
		return errors.New("hold is for tcp, tls and http")
	case len(p.First) > 0 && ask.Kind != HTTP:
		return errors.New("first is for http")
	case p.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(p.CA)):
		return errors.New("ca holds no certificate in PEM")
	}
	if err := p.guarded(); err != nil {
		return err
	}
	for _, text := range []string{p.Expect, p.Before, p.After} {
		if text == "" {
			continue
		}
		program, err := expr.Compile(text, expr.AnswerVars, expr.Bool)
		if err != nil {
			return err
		}
		for _, name := range program.Names {
			if may := answersOf(ask); known(name) && !slices.Contains(may, name) {
				return fmt.Errorf("expression %q: %s is no answer to %q; want %s", text, name, ask.Kind, strings.Join(may, ", "))
			}
		}
	}
	return nil
}

// Expectation gives what is expected in a phase; empty where anything will do.
func (p Probe) Expectation(at Phase) string {
	switch {
	case p.Expect != "":
		return p.Expect
	case at == Earlier:
		return p.Before
	}
	return p.After
}

// Uses tells whether what is expected after a change speaks of a name.
func (p Probe) Uses(name string) bool {
	program, err := expr.Compile(p.Expectation(Later), expr.AnswerVars, expr.Bool)
	return err == nil && slices.Contains(program.Names, name)
}

// Verdict is an answer judged.
type Verdict struct {
	Probe string `json:"probe"`
	Well  bool   `json:"well"`
	Why   string `json:"why"` // what came back, in words
	// Waits tells that it was not asked, and is neither well nor ill.
	Waits bool `json:"waits,omitempty"`
}

// Judge holds an answer against the expectation of a phase. A probe without an
// answer is not well, but for questions about what is refused: tcp, tls, ssh,
// and http where the expectation speaks of connected.
func (p Probe) Judge(at Phase, a Answer) Verdict {
	ask, _ := ParseAsk(p.Ask)
	v := Verdict{Probe: p.Name, Why: a.Words(ask.Kind)}
	want := p.Expectation(at)
	if a.Failure != "" && (!ask.Kind.Network() || want == "" && ask.Kind == HTTP) {
		return v
	}
	if want == "" {
		v.Well = true
		return v
	}
	program, err := expr.Compile(want, expr.AnswerVars, expr.Bool)
	if err == nil && a.Failure != "" && ask.Kind == HTTP && !slices.Contains(program.Names, "connected") {
		return v // of no page nothing is true but that there was none
	}
	if err == nil {
		if a.Distrust != "" && !slices.Contains(program.Names, "trusted") {
			v.Why = a.Distrust
			return v
		}
		v.Well, err = program.Bool(a.vars())
	}
	if err != nil {
		v.Why = "it cannot be judged"
		if program != nil {
			v.Why = cannotJudge(want, program.Names)
		}
	} else if !v.Well {
		v.Why += "; want " + want
	}
	return v
}

// Together makes one verdict of several tries.
func (p Probe) Together(tries []Verdict) Verdict {
	if len(tries) == 1 {
		return tries[0]
	}
	share := p.Share
	if share == 0 {
		share = 100
	}
	well, last, ill := 0, tries[len(tries)-1].Why, ""
	for _, v := range tries {
		if v.Well {
			well++
		} else {
			ill = v.Why
		}
	}
	v := Verdict{Probe: p.Name, Well: well*100 >= share*len(tries), Why: fmt.Sprintf("%d of %d tries well: %s", well, len(tries), last)}
	if ill != "" {
		v.Why = fmt.Sprintf("%d of %d tries well, want %d %%: %s", well, len(tries), share, ill)
	}
	return v
}

// SecretNames lists the secrets that a probe refers to.
func (p Probe) SecretNames() []string {
	return Secrets(p.Ask + " " + strings.Join(p.First, " "))
}
