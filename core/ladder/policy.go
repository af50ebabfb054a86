// Package ladder decides how a climb goes: which hosts belong to which stage,
// which step a host run takes next, and what a climb does given what happened.
// It acts on nothing.
package ladder

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"wladder/core/expr"
)

// Span is a length of time in nanoseconds.
type Span int64

// Policy is a ladder: how a climb is staged.
type Policy struct {
	Stages     []Stage `json:"stages"`
	AtOnce     int     `json:"at_once"`
	Soak       Span    `json:"soak"`
	PauseAfter int     `json:"pause_after"` // failed hosts in a stage at which the climb pauses
}

// Stage takes hosts up to a count or share of all, counted from the bottom of
// the ladder, or those that an expression fits.
type Stage struct {
	Count   int    `json:"count,omitempty"`
	Percent int    `json:"percent,omitempty"`
	Where   string `json:"where,omitempty"`
	Gate    bool   `json:"gate,omitempty"` // a person opens it
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
	}
	return "the rest"
}

// Defaulted fills in what is unset and checks the rest.
func (p Policy) Defaulted() (Policy, error) {
	if p.AtOnce == 0 {
		p.AtOnce = 4
	}
	if p.PauseAfter == 0 {
		p.PauseAfter = 1
	}
	switch {
	case p.AtOnce < 1 || p.AtOnce > 500:
		return p, fmt.Errorf("at_once: %d is out of range; want 1 to 500", p.AtOnce)
	case p.PauseAfter < 1:
		return p, fmt.Errorf("pause_after: %d; want at least 1", p.PauseAfter)
	case time.Duration(p.Soak) > 24*time.Hour:
		return p, errors.New("soak: is longer than a day")
	case len(p.Stages) > 50:
		return p, errors.New("stages: more than 50")
	}
	return p, nil
}

// Assign gives each host its stage, from 0. Hosts that no stage takes form a
// last stage of their own, which is added to the policy returned.
func (p Policy) Assign(hosts []expr.Host) (Policy, []int, error) {
	stage := make([]int, len(hosts))
	for i := range stage {
		stage[i] = -1
	}
	taken := 0
	for k, s := range p.Stages {
		want := s.Count
		if s.Percent > 0 {
			want = (len(hosts)*s.Percent + 99) / 100
		}
		var program *expr.Program
		if s.Where != "" {
			var err error
			if program, err = expr.Compile(s.Where, expr.HostVars, expr.Bool); err != nil {
				return p, nil, err
			}
		}
		for i, h := range hosts {
			if stage[i] >= 0 {
				continue
			}
			if program != nil {
				if fits, err := program.Bool(h.Vars()); err != nil {
					return p, nil, err
				} else if !fits {
					continue
				}
			} else if taken >= want {
				break
			}
			stage[i] = k
			taken++
		}
	}
	stages := append([]Stage(nil), p.Stages...)
	for i := range stage {
		if stage[i] < 0 {
			if len(stages) == len(p.Stages) {
				stages = append(stages, Stage{})
			}
			stage[i] = len(p.Stages)
		}
	}
	p.Stages = stages
	return p, stage, nil
}
