// Package policy is what a team has agreed on about its changes: who has to look at them,
// when hosts are left alone, who may override a veto, and who may act alone in an emergency.
// It takes the time from its caller.
//
//	p, err := policy.Parse("policy.yaml", text)
//	missing := p.Missing(p.Wanted(labels), approvers)
//	hold := p.Holds(labels, now)
package policy

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/written"
)

// Policy is what holds for every change. The zero value is what holds where nobody has
// written one: one approval by a reviewer, for a week; no windows and no freezes.
type Policy struct {
	// Teams are lists of accounts, by name.
	Teams map[string][]string `yaml:"teams"`
	// Approvals are all wanted of a change that they fit.
	Approvals []Demand `yaml:"approvals"`
	// ApprovalsLast is for how long an approval starts hosts; a week where it is 0.
	ApprovalsLast written.Duration `yaml:"approvals-last"`
	// Warnings: acknowledged wants each warning acknowledged before an approval counts.
	Warnings string `yaml:"warnings"`
	// Threads: settled wants each thread of comments settled before an approval counts.
	Threads   string     `yaml:"threads"`
	Overrides []Override `yaml:"overrides"`
	Emergency *Emergency `yaml:"emergency"`
	// Windows are the only times for hosts that they fit.
	Windows []Span `yaml:"windows"`
	// Freezes are times at which hosts that they fit are left alone.
	Freezes []Span `yaml:"freezes"`
	// Keep is for how long things are kept beside the record, which stays.
	Keep Keep `yaml:"keep"`
}

// Keep is for how long things are kept; 0: as long as the server is told, or for ever.
type Keep struct {
	// Contents are the files that changes replaced, here and on the hosts: to go back to them.
	Contents written.Duration `yaml:"contents"`
	// Steps are what was done on each host, step by step, and what its probes answered before,
	// counted from the end of their climb.
	Steps written.Duration `yaml:"steps"`
}

// shortestKept bounds what a policy may have go soon.
const shortestKept = 24 * time.Hour

// Demand is how many have to approve a change that touches a host which Where fits.
type Demand struct {
	Where string `yaml:"where"` // over expr.LabelVars; every change where it is empty
	Needs int    `yaml:"needs"`
	From  string `yaml:"from"` // a team, or a role beside reviewer; any reviewer where it is empty
}

// Override lets people override a veto, one host and one plan at a time.
type Override struct {
	Finding string `yaml:"finding"` // a code that finding.Overriding lets policy override
	By      string `yaml:"by"`      // a team, or a role
}

// Emergency lets people approve alone, their own change too.
type Emergency struct {
	By string `yaml:"by"` // a team
	// Lasts is for how long such an approval starts hosts; an hour where it is 0.
	Lasts written.Duration `yaml:"lasts"`
	// ReviewedWithin is how soon somebody else reviews it; a day where it is 0.
	ReviewedWithin written.Duration `yaml:"reviewed-within"`
}

// What holds where a policy does not say.
const (
	approvalsLast  = 7 * 24 * time.Hour
	emergencyLasts = time.Hour
	reviewedWithin = 24 * time.Hour
)

// longest bounds how long an approval may last.
const longest = 90 * 24 * time.Hour

// ApprovalLasts is for how long an approval starts hosts.
func (p *Policy) ApprovalLasts() time.Duration { return or(p.ApprovalsLast, approvalsLast) }

// EmergencyLasts is for how long an emergency's approval starts hosts.
func (p *Policy) EmergencyLasts() time.Duration {
	if p.Emergency == nil {
		return 0
	}
	return or(p.Emergency.Lasts, emergencyLasts)
}

// ReviewWithin is how soon somebody else reviews a change approved in an emergency.
func (p *Policy) ReviewWithin() time.Duration {
	if p.Emergency == nil {
		return reviewedWithin
	}
	return or(p.Emergency.ReviewedWithin, reviewedWithin)
}

func or(d written.Duration, other time.Duration) time.Duration {
	if d > 0 {
		return time.Duration(d)
	}
	return other
}

// Acknowledges tells whether each warning has to be acknowledged.
func (p *Policy) Acknowledges() bool { return p.Warnings == "acknowledged" }

// Settles tells whether each thread has to be settled.
func (p *Policy) Settles() bool { return p.Threads == "settled" }

// roles are those of accounts, which an override may name in place of a team.
var roles = []string{"viewer", "author", "reviewer", "operator", "admin"}

// Parse reads a policy, and says all that is wrong with it.
func Parse(name string, data []byte) (*Policy, error) { return Stored(name, written.Names, data) }

// Stored reads one that was taken in before, under the names of its time.
func Stored(name string, names int, data []byte) (*Policy, error) {
	p := &Policy{}
	if err := written.Decode(name, "policy", names, data, p); err != nil {
		return nil, err
	}
	bad := &written.Problems{File: name}
	if reflect.ValueOf(*p).IsZero() {
		bad.Add("says nothing; want at least one key, such as approvals")
	}
	for team, people := range p.Teams {
		if len(people) == 0 {
			bad.Add("teams: %s: nobody is in it", team)
		}
		if slices.Contains(roles, team) {
			bad.Add("teams: %s is the name of a role; give the team another", team)
		}
	}
	p.checkApprovals(bad)
	choice := func(key, value, other, strict string) {
		if value != "" && value != other && value != strict {
			bad.Add("%s: %q is neither %s nor %s", key, value, other, strict)
		}
	}
	choice("warnings", p.Warnings, "shown", "acknowledged")
	choice("threads", p.Threads, "open", "settled")
	for _, o := range p.Overrides {
		if by := finding.Overriding(o.Finding); !by.Policy {
			bad.Add("overrides: %s: policy may not override it: %s", o.Finding, by.Why())
		}
		if !slices.Contains(roles[1:], o.By) && !p.team(o.By) {
			bad.Add("overrides: %s: by: %q is neither a team of this policy nor author, reviewer, operator or admin", o.Finding, o.By)
		}
	}
	if e := p.Emergency; e != nil {
		if !p.team(e.By) {
			bad.Add("emergency: by: %q is not a team of this policy", e.By)
		}
		if d := time.Duration(e.Lasts); d > 24*time.Hour {
			bad.Add("emergency: lasts: %s is longer than a day", d)
		}
	}
	for key, d := range map[string]written.Duration{"contents": p.Keep.Contents, "steps": p.Keep.Steps} {
		if d != 0 && time.Duration(d) < shortestKept {
			bad.Add("keep: %s: %s is shorter than a day", key, time.Duration(d))
		}
	}
	p.checkSpans(bad, "windows", p.Windows)
	p.checkSpans(bad, "freezes", p.Freezes)
	return p, bad.Err()
}

func (p *Policy) team(name string) bool { return len(p.Teams[name]) > 0 }

func (p *Policy) checkApprovals(bad *written.Problems) {
	if d := time.Duration(p.ApprovalsLast); d > longest {
		bad.Add("approvals-last: %s is longer than 90 days", d)
	}
	for i, d := range p.Approvals {
		at := fmt.Sprintf("approvals: number %d: ", i+1)
		if err := fits(d.Where); err != nil {
			bad.Add("%swhere: %v", at, err)
		}
		switch {
		case d.Needs < 1:
			bad.Add("%sneeds: %d; want 1 or more", at, d.Needs)
		case d.From != "" && !p.team(d.From) && !slices.Contains(roles[1:], d.From):
			bad.Add("%sfrom: %q is neither a team of this policy nor author, reviewer, operator or admin", at, d.From)
		case p.team(d.From) && len(p.Teams[d.From]) < d.Needs:
			bad.Add("%sneeds: %d from %s, a team of %d", at, d.Needs, d.From, len(p.Teams[d.From]))
		}
	}
}

func fits(where string) error {
	if strings.TrimSpace(where) == "" {
		return nil
	}
	_, err := expr.Compile(where, expr.LabelVars, expr.Bool)
	return err
}

// touches tells whether an expression fits one of several sets of labels; an empty one fits
// them all.
func touches(where string, labels []map[string]string) (bool, error) {
	if strings.TrimSpace(where) == "" {
		return true, nil
	}
	program, err := expr.Compile(where, expr.LabelVars, expr.Bool)
	if err != nil {
		return false, err
	}
	for _, l := range labels {
		if yes, err := program.Bool(expr.Host{Labels: l}.Vars()); yes || err != nil {
			return yes, err
		}
	}
	return false, nil
}

// Wanted gives what is demanded of a change that touches hosts with these labels. At least
// one approval is, whatever the policy says.
func (p *Policy) Wanted(labels []map[string]string) (all []Demand, err error) {
	var errs []error
	for _, d := range p.Approvals {
		yes, err := touches(d.Where, labels)
		if errs = append(errs, err); yes {
			all = append(all, d)
		}
	}
	if len(all) == 0 {
		all = []Demand{{Needs: 1}}
	}
	return all, errors.Join(errs...)
}

// Missing says which demands the approvers, each named once, do not meet yet; nil where all
// are met. What would be met by what another demand lacks is not said beside that.
func (p *Policy) Missing(wanted []Demand, approvers []Who) (all []string) {
	lacks := make([]int, len(wanted))
	for i, d := range wanted {
		lacks[i] = d.Needs
		for _, a := range approvers {
			if d.From == "" || p.In(d.From, a.Name) || slices.Contains(a.Roles, d.From) {
				lacks[i]--
			}
		}
	}
	for i, d := range wanted {
		met := lacks[i] <= 0
		for k, other := range lacks { // of two that lack as many of anybody, the later one is said
			met = met || d.From == "" && k != i && (other > lacks[i] || other == lacks[i] && (k > i || wanted[k].From != ""))
		}
		if !met {
			all = append(all, d.inWords(lacks[i]))
		}
	}
	return all
}

func (d Demand) inWords(n int) string {
	text := "1 approval"
	if n > 1 {
		text = fmt.Sprintf("%d approvals", n)
	}
	if d.Needs > n {
		text = strings.Replace(text, " ", " more ", 1)
	}
	if d.From != "" {
		text += " from " + d.From
	}
	if d.Where != "" {
		text += " (hosts where " + d.Where + ")"
	}
	return text
}

// In tells whether an account is in a team.
func (p *Policy) In(team, account string) bool { return slices.Contains(p.Teams[team], account) }

// Who is somebody whom policy is asked about.
type Who struct {
	Name  string
	Roles []string
}

// MayOverride tells whether somebody may override a veto of that code.
func (p *Policy) MayOverride(code string, who Who) bool {
	return finding.Overriding(code).Policy && slices.ContainsFunc(p.Overrides, func(o Override) bool {
		return o.Finding == code && (slices.Contains(who.Roles, o.By) || p.In(o.By, who.Name))
	})
}

// Overriders says who may override a veto of that code, by teams and roles.
func (p *Policy) Overriders(code string) (all []string) {
	if !finding.Overriding(code).Policy {
		return nil
	}
	for _, o := range p.Overrides {
		if o.Finding == code {
			all = append(all, o.By)
		}
	}
	return all
}

// MayAlone tells whether somebody may approve alone, in an emergency.
func (p *Policy) MayAlone(account string) bool {
	return p.Emergency != nil && p.In(p.Emergency.By, account)
}
