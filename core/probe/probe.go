// Package probe says what a probe asks, what it expects, and how an answer is
// judged. It asks nothing itself.
//
//	p := probe.Probe{Name: "front page", Ask: "http GET :8480/", Expect: "status == 200"}
//	err := p.Check()
//	verdict := p.Judge(probe.After, answer)
package probe

import (
	"cmp"
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

	// Value is what a setting is set to, which the in-force check of the setting knows as value.
	Value string `yaml:"-" json:"value,omitempty"`

	// Known are the change's named values on the host that is asked, which expectations
	// know as values; see With.
	Known map[string]string `yaml:"-" json:"-"`
	// Was is the probe's own answer before the change, which expectations know as earlier.
	Was map[string]any `yaml:"-" json:"-"`
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
			if (name == "answer" || name == "earlier") && (text == p.Before || text == p.Expect && p.Tries > 1) {
				return fmt.Errorf("expression %q: %s is for what is expected after, and of one try", text, name)
			}
			if may := answersOf(ask); known(name) && !slices.Contains(may, name) {
				return fmt.Errorf("expression %q: %s is not an answer to %q; want %s", text, name, ask.Kind, strings.Join(may, ", "))
			}
		}
	}
	return nil
}

// Expectation gives what is expected in a phase; empty where anything will do. What
// compares with the answer before is expected after alone.
func (p Probe) Expectation(at Phase) string {
	switch {
	case p.Expect != "" && at == Earlier && p.Compares():
		return ""
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

// SpeaksOf tells whether what is expected, before or after, speaks of a name.
func (p Probe) SpeaksOf(name string) bool {
	return slices.ContainsFunc([]string{p.Expect, p.Before, p.After}, func(text string) bool {
		program, err := expr.Compile(text, expr.AnswerVars, expr.Bool)
		return err == nil && program.Uses(name)
	})
}

// Compares tells whether what is expected after speaks of the answer before.
func (p Probe) Compares() bool {
	program, err := expr.Compile(cmp.Or(p.Expect, p.After), expr.AnswerVars, expr.Bool)
	return err == nil && program.Uses("earlier")
}

// Verdict is an answer judged.
type Verdict struct {
	Probe string `json:"probe"`
	Well  bool   `json:"well"`
	Why   string `json:"why"` // what came back, in words
	// Waits tells that it was not asked, and is neither well nor ill.
	Waits bool `json:"waits,omitempty"`
	// Milliseconds is how long the answer took; of several tries, the one in the middle. 0: not known.
	Milliseconds float64 `json:"ms,omitempty"`
	// Answer is all of the answer, of a probe that compares with it later. It may hold
	// what nobody is to see, and is kept sealed.
	Answer map[string]any `json:"-"`
}

// Judge holds an answer against the expectation of a phase. A probe without an
// answer is not well, but for questions about what is refused: tcp, tls, ssh,
// and http where the expectation speaks of connected.
func (p Probe) Judge(at Phase, a Answer) Verdict {
	ask, _ := ParseAsk(p.Ask)
	v := Verdict{Probe: p.Name, Why: a.Words(ask.Kind), Milliseconds: float64(a.Took.Microseconds()) / 1000}
	want := p.Expectation(at)
	if at == Earlier && a.Failure == "" && p.Compares() {
		v.Answer = a.whole(ask)
	}
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
		if program.Uses("earlier") && p.Was == nil {
			v.Why += "; what it answered before the change is not known"
			return v
		}
		vars := a.vars()
		vars["answer"], vars["earlier"], vars["values"], vars["value"] = a.whole(ask), p.Was, expr.Texts(p.Known), p.Value
		v.Well, err = program.Bool(vars)
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
	took := make([]float64, len(tries))
	for i, t := range tries {
		took[i] = t.Milliseconds
	}
	slices.Sort(took)
	v.Milliseconds = took[len(took)/2]
	if ill != "" {
		v.Why = fmt.Sprintf("%d of %d tries well, want %d %%: %s", well, len(tries), share, ill)
	}
	return v
}

// SecretNames lists the secrets that a probe refers to.
func (p Probe) SecretNames() []string {
	return Secrets(p.Ask + " " + strings.Join(p.First, " "))
}

// ValueNames lists the named values of a change that the probe asks with or speaks of.
func (p Probe) ValueNames() []string {
	names := Values(p.Ask + " " + strings.Join(p.First, " "))
	for _, text := range []string{p.Expect, p.Before, p.After} {
		for _, m := range valuesRef.FindAllStringSubmatch(text, -1) {
			names = append(names, m[1]+m[2])
		}
	}
	return names
}

// With gives the probe as it is put to a host on which the change's named values are so.
// A value stands within one word of the question, whatever it holds.
func (p Probe) With(values map[string]string) (Probe, error) {
	p.Known = values
	lines := append([]string{p.Ask}, p.First...)
	for i, line := range lines {
		if len(Values(line)) == 0 {
			continue
		}
		words, err := split(line)
		if err != nil {
			return p, err
		}
		for k, w := range words {
			filled := valueRef.ReplaceAllStringFunc(w, func(ref string) string { return values[ref[len("{value:"):len(ref)-1]] })
			if len(Values(w)) > 0 && (strings.HasSuffix(filled, `\`) || len(Secrets(filled)) > len(Secrets(w)) || len(Values(filled)) > 0) {
				return p, fmt.Errorf("ask %q: %q cannot stand there on this host", line, filled)
			}
			if strings.ContainsAny(filled, " \t\n\"") || filled == "" {
				filled = `"` + strings.ReplaceAll(filled, `"`, `\"`) + `"`
			}
			words[k] = filled
		}
		lines[i] = strings.Join(words, " ")
		if _, err := parseAsk(lines[i], i > 0); err != nil {
			return p, err
		}
	}
	p.Ask, p.First = lines[0], lines[1:]
	if len(p.First) == 0 {
		p.First = nil
	}
	return p, nil
}
