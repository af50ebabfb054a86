// Package ladder decides how a climb goes: which hosts belong to which stage,
// which step a host run takes next, and what a climb does given what happened.
// It acts on nothing.
package ladder

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"wladder/core/expr"
)

// Span is a length of time in nanoseconds.
type Span int64

// Policy is a ladder: how a climb is staged.
type Policy struct {
	Stages []Stage `json:"stages"`
	AtOnce int     `json:"at_once"`
	// PoolAtOnce bounds the hosts of one pool that are under way at once; 0: only AtOnce does.
	PoolAtOnce int `json:"pool_at_once,omitempty"`
	// Apart is a label: hosts with one value of it are never under way together.
	Apart      string `json:"apart,omitempty"`
	Soak       Span   `json:"soak"`
	PauseAfter int    `json:"pause_after"` // failed hosts in a stage at which the climb pauses
	// PauseShare is that number as percent of the stage's hosts, in place of PauseAfter; 0: none.
	PauseShare int `json:"pause_share,omitempty"`
	// Budget is the time within which a host has to come to its soak; 0: without a bound.
	Budget Span `json:"budget,omitempty"`
}

// Stage takes hosts up to a count or share of all, counted from the bottom of the ladder, those
// that are named, or those that an expression fits.
type Stage struct {
	Count   int      `json:"count,omitempty"`
	Percent int      `json:"percent,omitempty"`
	Where   string   `json:"where,omitempty"`
	Named   []string `json:"named,omitempty"`
	AtOnce  int      `json:"at_once,omitempty"` // in place of the ladder's
	Gate    bool     `json:"gate,omitempty"`    // a person opens it
	Checks  []Check  `json:"checks,omitempty"`  // what a person looks at before the gate opens
	// Again tells that the stage takes hosts that were not reached in one below.
	Again bool `json:"again,omitempty"`
	// Alone tells that the stage takes, one by one, hosts on the way to others, and those that carry
	// a server of ours or its database.
	Alone bool `json:"alone,omitempty"`
}

// Check is one thing that a person looks at, at a gate.
type Check struct {
	Look string `json:"look" yaml:"look"` // at what, and what is to be seen
	In   string `json:"in" yaml:"in"`     // in which client: a browser, a phone, a second account
}

// UpTo reads "3" or "25%".
func UpTo(text string) (Stage, error) {
	share, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	n, err := strconv.Atoi(share)
	switch {
	case err != nil || n < 1:
		return Stage{}, fmt.Errorf("stage up to %q: want a number of hosts from 1, or a share such as 25%%", text)
	case percent && n > 100:
		return Stage{}, fmt.Errorf("stage up to %q: want 1%% to 100%%", text)
	case percent:
		return Stage{Percent: n}, nil
	}
	return Stage{Count: n}, nil
}

// Where reads an expression over expr.HostVars.
func Where(text string) (Stage, error) {
	if _, err := expr.Compile(text, expr.HostVars, expr.Bool); err != nil {
		return Stage{}, fmt.Errorf("stage: %w", err)
	}
	return Stage{Where: text}, nil
}

// Added tells that nobody wrote the stage: it is there for hosts that none of those that were written
// takes.
func (s Stage) Added() bool {
	return s.Again || s.Alone || s.Count == 0 && s.Percent == 0 && s.Where == "" && len(s.Named) == 0
}

// String says the stage as it is written.
func (s Stage) String() string {
	switch {
	case s.Count > 0:
		return fmt.Sprintf("up to %d", s.Count)
	case s.Percent == 100:
		return "all"
	case s.Percent > 0:
		return fmt.Sprintf("up to %d%%", s.Percent)
	case s.Where != "":
		return s.Where
	case len(s.Named) > 3:
		return fmt.Sprintf("%s and %d more", strings.Join(s.Named[:2], ", "), len(s.Named)-2)
	case len(s.Named) > 0:
		return strings.Join(s.Named, ", ")
	case s.Again:
		return "those not reached before, once more"
	case s.Alone:
		return "one by one: ways to other hosts, and what carries the server"
	}
	return "the rest"
}

// AtOnceIn is how many hosts of a stage are under way at once, at most.
func (p Policy) AtOnceIn(stage int) int {
	if stage >= 0 && stage < len(p.Stages) && p.Stages[stage].AtOnce > 0 {
		return min(p.AtOnce, p.Stages[stage].AtOnce)
	}
	return p.AtOnce
}

// PauseAt is the number of failed hosts at which a climb pauses in a stage of so many.
func (p Policy) PauseAt(hosts int) int {
	if p.PauseShare > 0 {
		return max(1, (hosts*p.PauseShare+99)/100)
	}
	return p.PauseAfter
}

// AgainAt is the stage in which hosts that were not reached are tried again; ok is false where
// there is none.
func (p Policy) AgainAt() (stage int, ok bool) {
	stage = slices.IndexFunc(p.Stages, func(s Stage) bool { return s.Again })
	return stage, stage >= 0
}

// maxAtOnce bounds how many hosts of a climb are under way at once.
const maxAtOnce = 500

// Defaulted fills in what is unset and checks the rest.
func (p Policy) Defaulted() (Policy, error) {
	if p.AtOnce == 0 {
		p.AtOnce = 4
	}
	if p.PauseAfter == 0 && p.PauseShare == 0 {
		p.PauseAfter = 1
	}
	switch {
	case p.AtOnce < 1 || p.AtOnce > maxAtOnce:
		return p, fmt.Errorf("at_once: %d is out of range; want 1 to %d", p.AtOnce, maxAtOnce)
	case p.PoolAtOnce < 0 || p.PoolAtOnce > p.AtOnce:
		return p, fmt.Errorf("pool_at_once: %d is out of range; want 1 to at_once, which is %d", p.PoolAtOnce, p.AtOnce)
	case p.PauseAfter < 1 && p.PauseShare == 0:
		return p, fmt.Errorf("pause_after: %d; want at least 1", p.PauseAfter)
	case p.PauseShare < 0 || p.PauseShare > 100:
		return p, fmt.Errorf("pause_after: %d%% is out of range; want 1%% to 100%%", p.PauseShare)
	case p.Soak < 0 || time.Duration(p.Soak) > 24*time.Hour:
		return p, errors.New("soak: is longer than a day")
	case p.Budget < 0 || p.Budget > 0 && (time.Duration(p.Budget) < time.Minute || time.Duration(p.Budget) > 24*time.Hour):
		return p, fmt.Errorf("budget: %s is out of range; want 1m to 24h", time.Duration(p.Budget))
	case len(p.Stages) > 50:
		return p, errors.New("stages: more than 50")
	}
	for i, s := range p.Stages {
		switch {
		case s.AtOnce < 0 || s.AtOnce > p.AtOnce:
			return p, fmt.Errorf("stage %d: at_once: %d is out of range; want 1 to that of the ladder, which is %d", i+1, s.AtOnce, p.AtOnce)
		case len(s.Checks) > 0 && !s.Gate:
			return p, fmt.Errorf("stage %d: checks: are looked at before a gate opens; say gate: true as well", i+1)
		}
		for n, c := range s.Checks {
			if strings.TrimSpace(c.Look) == "" {
				return p, fmt.Errorf("stage %d: check %d: look: is empty; say at what a person looks, and what is to be seen", i+1, n+1)
			}
		}
	}
	return p, nil
}
