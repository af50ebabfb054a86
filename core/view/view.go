// Package view holds the shapes in which the product shows what it knows: to
// the API, the client and, through the API's description, the console. Times
// are UTC.
package view

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
)

// Account is a person. Roles are viewer, author, reviewer, operator, admin.
type Account struct {
	Name    string   `json:"name"`
	Display string   `json:"display"`
	Roles   []string `json:"roles"`
	Kind    string   `json:"kind,omitempty"` // of the sign-in: session or token
	// MustChange tells that the password was set by somebody else.
	MustChange bool `json:"must_change,omitempty"`
}

// Has tells whether the account has the role; everybody may read.
func (a Account) Has(role string) bool { return role == "viewer" || slices.Contains(a.Roles, role) }

// Host is a machine.
type Host struct {
	ID         int64             `json:"id"`
	Name       string            `json:"name"`
	Address    string            `json:"address"`
	Login      string            `json:"login"`
	HostKey    string            `json:"host_key"`
	Sudo       bool              `json:"sudo"`
	Labels     map[string]string `json:"labels"`
	Traits     expr.Traits       `json:"traits"`
	SurveyedAt *time.Time        `json:"surveyed_at,omitempty"`
	// Via is the name of the host by way of which this one is reached; empty where there is none.
	Via string `json:"via,omitempty"`
	// Hops are those on the way to it, the first from here at the front: Via is the last.
	Hops []Host `json:"-" db:"-"`
	// AsideBecause says why the host is left alone, by whom and until when; empty where it is not.
	AsideBecause string     `json:"aside_because,omitempty"`
	AsideBy      string     `json:"aside_by,omitempty"`
	AsideUntil   *time.Time `json:"aside_until,omitempty"`
	// MissedAt is when it was not reached, since it was last, and MissedWhy the reason.
	MissedAt  *time.Time `json:"missed_at,omitempty"`
	MissedWhy string     `json:"missed_why,omitempty"`
}

// Aside says in words that the host is set aside; empty where it is not.
func (h Host) Aside() string {
	if h.AsideBecause == "" || h.AsideUntil == nil {
		return ""
	}
	return fmt.Sprintf("set aside by %s until %s: %s", h.AsideBy, h.AsideUntil.UTC().Format("2006-01-02 15:04 UTC"), h.AsideBecause)
}

// HostChange sets a host aside, or takes it back into service.
type HostChange struct {
	Aside *Aside `json:"aside,omitempty"`
	Back  bool   `json:"back,omitempty"`
}

// Aside leaves a host alone for a while.
type Aside struct {
	Because string    `json:"because"`
	Until   time.Time `json:"until"`
}

// Renaming gives a host another name.
type Renaming struct {
	To string `json:"to"`
}

// HostKey is the key that a host shows, beside the one that is pinned.
type HostKey struct {
	Shown       string `json:"shown"`       // as in authorized_keys
	Fingerprint string `json:"fingerprint"` // of that
	Pinned      string `json:"pinned"`      // the fingerprint of the pinned one; empty where none is
}

// KeyPinned is the fingerprint that a person compared on the host's console.
type KeyPinned struct {
	Fingerprint string `json:"fingerprint"`
}

// Expr gives the host as expressions know it.
func (h Host) Expr() expr.Host { return expr.Host{Name: h.Name, Labels: h.Labels, Traits: h.Traits} }

// Service is a version of a definition.
type Service struct {
	Name       string     `json:"name"`
	Title      string     `json:"title"`
	Version    int        `json:"version"`
	Digest     string     `json:"digest"`
	Source     string     `json:"source,omitempty"`
	Names      int        `json:"-"` // the set of names in which it is written
	LoadedBy   string     `json:"loaded_by"`
	LoadedAt   time.Time  `json:"loaded_at"`
	ApprovedBy string     `json:"approved_by"`
	ApprovedAt *time.Time `json:"approved_at,omitempty"`
	InForce    int        `json:"in_force"` // the version that serves hosts; 0 where none does
	// WithdrawnBy is who had it serve no host any more, and why.
	WithdrawnBy      string `json:"withdrawn_by,omitempty"`
	WithdrawnBecause string `json:"withdrawn_because,omitempty"`
}

// Trying asks what a definition would find on a host, before it is approved.
type Trying struct {
	Source string `json:"source"`
	Host   string `json:"host"`
}

// TryApproval lets a version of a definition be tried on one host.
type TryApproval struct {
	Digest string `json:"digest"`
	Host   string `json:"host"`
}

// Tried is what it found. Of what is not approved, for that host at least, it is what stands
// at its paths, and what would be run: nothing is read, and nothing run.
type Tried struct {
	Service   string          `json:"service"`
	Digest    string          `json:"digest"`
	Host      string          `json:"host"`
	Carries   bool            `json:"carries"`           // the definition says that the host carries the service
	Version   string          `json:"version,omitempty"` // of the software
	Why       string          `json:"why,omitempty"`     // there are no instances
	Instances []TriedInstance `json:"instances"`
	// ApprovedBy is who approved the digest for this host, until when; empty where nobody did.
	ApprovedBy string     `json:"approved_by,omitempty"`
	Until      *time.Time `json:"until,omitempty"`
}

// TriedInstance is an instance of the service on a host.
type TriedInstance struct {
	Name  string      `json:"name,omitempty"`
	Unit  string      `json:"unit"`
	Files []TriedFile `json:"files"`
	Runs  []TriedRun  `json:"runs"` // what would be run or asked
	// Settings, Checker and Probes are there once the digest is approved for this host.
	Settings []conf.Setting  `json:"settings,omitempty"`
	Checker  string          `json:"checker,omitempty"`
	Probes   []probe.Verdict `json:"probes,omitempty"`
}

// TriedFile is a file of the definition on a host.
type TriedFile struct {
	Key     string `json:"key"`
	Path    string `json:"path"`
	Outside bool   `json:"outside,omitempty"` // it lies outside the roots, and was not looked at
	Missing bool   `json:"missing,omitempty"`
	Kind    string `json:"kind,omitempty"`
	Bytes   int64  `json:"bytes"`
	Owner   string `json:"owner,omitempty"`
	Group   string `json:"group,omitempty"`
	Mode    string `json:"mode,omitempty"`
	Problem string `json:"problem,omitempty"` // why it cannot be read as its format
}

// TriedRun is a command or question of the definition, as it would be put to the host.
type TriedRun struct {
	For   string   `json:"for"`
	Words []string `json:"words"`
}

// Change is a row of the list of changes.
type Change struct {
	ID        int64        `json:"id"`
	Title     string       `json:"title"`
	Services  []string     `json:"services"` // in the order in which they are acted on
	Author    string       `json:"author"`
	State     change.State `json:"state"`
	Revision  int          `json:"revision"`
	Hosts     int          `json:"hosts"` // in the plan; while there is none, those rehearsed
	CreatedAt time.Time    `json:"created_at"`
	UpdatedAt time.Time    `json:"updated_at"`
	Next      string       `json:"next"` // what is asked of whom, in words
	Counts    Counts       `json:"counts"`
	// ClimbState is the state of the newest climb, empty where there is none; Why the reason, in words,
	// and ClimbingSince when it began.
	ClimbState    ladder.ClimbState `json:"climb_state,omitempty" db:"climb_state"`
	Why           string            `json:"why,omitempty"`
	ClimbingSince *time.Time        `json:"climbing_since,omitempty"`
	// Rungs count the hosts of that climb by stage, in a list alone: a summary has them in its climb.
	Rungs []Rung `json:"rungs,omitempty" db:"-"`
	// ReviewDue is when somebody else reviews, at the latest, what was approved in an emergency.
	ReviewDue *time.Time `json:"review_due,omitempty"`
}

// Counts says how many host runs stand in each state.
type Counts map[ladder.RunState]int

// ChangeDetail is everything about one change.
type ChangeDetail struct {
	Change
	Source    string `json:"source"`
	Names     int    `json:"-"` // the set of names in which it is written
	Reason    string `json:"reason"`
	Ticket    string `json:"ticket"`
	Where     string `json:"where"`
	TakesBack int64  `json:"takes_back,omitempty"` // the change whose opposite this is
	// TakenBackBy are the changes that take this one back and were not withdrawn.
	TakenBackBy []int64 `json:"taken_back_by,omitempty"`
	// Follows is the change whose edits this one brings to other hosts, 0 for none; FollowedBy are
	// those that do so with this one's and were not withdrawn.
	Follows    int64   `json:"follows,omitempty"`
	FollowedBy []int64 `json:"followed_by,omitempty"`
	// Prolongs is the temporary change whose hosts go back later by this one, 0 for none;
	// ProlongedBy are those that do so with this one's and were not withdrawn.
	Prolongs    int64   `json:"prolongs,omitempty"`
	ProlongedBy []int64 `json:"prolonged_by,omitempty"`
	// Behind are the first of the hosts that climbs of the plan passed over: they can be taken
	// later. BehindCount is how many there are.
	Behind      []string `json:"behind,omitempty"`
	BehindCount int      `json:"behind_count,omitempty"`
	// Earlier are the climbs before the newest.
	Earlier []EarlierClimb `json:"earlier,omitempty"`
	// Temporary says when its hosts go back; nil where it is for good, or has not climbed.
	Temporary *Temporary `json:"temporary,omitempty"`
	Rehearsal *Rehearsal `json:"rehearsal,omitempty"`
	Review    Review     `json:"review"`
	Approvals []Approval `json:"approvals"`
	LeftOut   []LeftOut  `json:"left_out"`
	Climb     *Climb     `json:"climb,omitempty"`
}

// WholeFiles are the files of a host that a plan concerns, with all of their lines.
type WholeFiles struct {
	Host  string      `json:"host"`
	Files []WholeFile `json:"files"`
}

// WholeFile is one of them: a unified diff that leaves no line out, or why there is none.
type WholeFile struct {
	Path string `json:"path"`
	Diff string `json:"diff"`
	Why  string `json:"why,omitempty"`
}

// PlansCompared is what differs between two plans of a change.
type PlansCompared struct {
	From        string            `json:"from"` // digests
	To          string            `json:"to"`
	Differences []plan.Difference `json:"differences"`
}

// LeftOut is a host that was taken out of a plan after it was offered.
type LeftOut struct {
	Host    string    `json:"host"`
	Digest  string    `json:"digest"`
	Account string    `json:"account"`
	Because string    `json:"because"`
	At      time.Time `json:"at"`
}

// GroupHosts is how many hosts a diff group names in a change's summary; the
// others are read by the page.
const GroupHosts = 50

// Rehearsal is a read-only pass over the target hosts.
type Rehearsal struct {
	ID        int64             `json:"id"`
	Revision  int               `json:"revision"`
	StartedBy string            `json:"started_by"`
	BegunAt   time.Time         `json:"begun_at"`
	EndedAt   *time.Time        `json:"ended_at,omitempty"`
	Digest    string            `json:"digest"`   // of the plan; empty where there is none
	Hosts     int               `json:"hosts"`    // targets
	Read      int               `json:"read"`     // hosts gone through so far
	Planned   int               `json:"planned"`  // hosts in the plan
	Findings  []finding.Finding `json:"findings"` // about the whole
	Groups    []render.Group    `json:"groups"`
	// Plan is what the plan comes to, for those who judge it.
	Plan *outline.Outline `json:"plan,omitempty"`
}

// RehearsedHost is what a rehearsal found on one host.
type RehearsedHost struct {
	HostID      int64             `json:"host_id"`
	Host        string            `json:"host"`
	Group       string            `json:"group"`
	Diff        string            `json:"diff"`
	Alterations []conf.Alteration `json:"alterations"`
	Act         string            `json:"act"`
	Findings    []finding.Finding `json:"findings"`
	Probes      []probe.Verdict   `json:"probes"`
}

// Temporary is how the hosts of a temporary change stand.
type Temporary struct {
	For   ladder.Span `json:"for"`
	Waits int         `json:"waits"` // hosts that are done and go back yet
	Back  int         `json:"back"`  // hosts that are back
	// First and Last are when the first and the last of those that wait go back.
	First *time.Time `json:"first,omitempty"`
	Last  *time.Time `json:"last,omitempty"`
	Stuck []NotBack  `json:"stuck"` // the first of them, by name
	// StuckCount is how many there are.
	StuckCount int `json:"stuck_count"`
}

// NotBack is a host that was to go back and is not.
type NotBack struct {
	Host  string `json:"host"`
	Why   string `json:"why"`
	Again bool   `json:"again"` // it is tried again; else a person has to look
}

// EarlierClimb is a rollout of the same plan before the newest one.
type EarlierClimb struct {
	ID        int64             `json:"id"`
	State     ladder.ClimbState `json:"state"`
	StartedBy string            `json:"started_by"`
	StartedAt time.Time         `json:"started_at"`
	Hosts     int               `json:"hosts"`
	Done      int               `json:"done"`
}

// Climb is a rollout.
type Climb struct {
	ID        int64             `json:"id"`
	Change    int64             `json:"change"`
	Digest    string            `json:"digest"`
	State     ladder.ClimbState `json:"state"`
	Why       string            `json:"why"`
	Policy    ladder.Policy     `json:"policy"`
	StartedBy string            `json:"started_by"`
	StartedAt time.Time         `json:"started_at"`
	EndedAt   *time.Time        `json:"ended_at,omitempty"`
	Rungs     []Rung            `json:"rungs"` // from the bottom up
	// NotProven counts the done hosts of which nothing proves that the new values are in force.
	NotProven int `json:"not_proven"`
	// Returns tells that hosts go back in it from what the change made of them.
	Returns bool `json:"returns,omitempty"`
	// RollsBack tells that a person has them go back.
	RollsBack bool `json:"rolls_back,omitempty"`
	// Gate is the one at which it waits, where a person has to look at something there.
	Gate *Gate `json:"gate,omitempty"`
	// Excused counts the hosts that ended otherwise than done and may, by state.
	Excused Counts `json:"excused"`
}

// Latency is how long the answers to a probe took over the hosts of a climb, in milliseconds.
type Latency struct {
	Probe  string `json:"probe"`
	Hosts  int    `json:"hosts"` // that answered both times
	Before Spread `json:"before"`
	After  Spread `json:"after"`
}

// Spread is where the middle of some numbers lies, and the most of them.
type Spread struct {
	Low    float64 `json:"low"` // a tenth lies below
	Middle float64 `json:"middle"`
	High   float64 `json:"high"` // a tenth lies above
}

// CoursePoint is how the hosts of a climb stood at a time.
type CoursePoint struct {
	At     time.Time `json:"at"`
	Counts Counts    `json:"counts"`
}

// Halt has no climb change hosts that it fits, until somebody lifts it.
type Halt struct {
	Number  int64     `json:"number"`
	Where   string    `json:"where,omitempty"` // empty: all hosts
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Because string    `json:"because"`
}

// Words say what is halted, by whom and why.
func (h Halt) Words() string {
	where := "everywhere"
	if h.Where != "" {
		where = "where " + h.Where
	}
	return fmt.Sprintf("halt %d by %s, %s: %s", h.Number, h.By, where, h.Because)
}

// Gate is what a person looks at before a climb goes on from it.
type Gate struct {
	Stage  int         `json:"stage"` // that it stands before, from 0
	Checks []GateCheck `json:"checks"`
}

// GateCheck is one thing to look at, and what was seen; By is empty while nobody has looked.
type GateCheck struct {
	Look string     `json:"look"`
	In   string     `json:"in,omitempty"` // in which client; once it was looked at, the one that it was
	Well bool       `json:"well"`
	By   string     `json:"by,omitempty"`
	At   *time.Time `json:"at,omitempty"`
	Note string     `json:"note,omitempty"`
}

// Well tells whether a climb is through, every host done that has to be, and each proven.
func (c Climb) Well() bool {
	ill := c.NotProven
	for _, r := range c.Rungs {
		for state, n := range r.Counts {
			if state != ladder.Done {
				ill += n
			}
		}
	}
	for _, n := range c.Excused {
		ill -= n
	}
	return c.State == ladder.Completed && ill == 0
}

// Rung counts the hosts of one stage by state.
type Rung struct {
	Stage  int    `json:"stage"` // from 0
	Hosts  int    `json:"hosts"`
	Counts Counts `json:"counts"`
}

// Runs is a page of host runs, or what changed of them.
type Runs struct {
	AsOf time.Time `json:"as_of"` // ask for what changed since
	More bool      `json:"more"`  // there are further ones, behind the last
	Runs []HostRun `json:"runs"`
}

// HostRun is one host's part of a climb.
type HostRun struct {
	ID        int64           `json:"id"`
	Host      string          `json:"host"`
	Stage     int             `json:"stage"` // from 0
	State     ladder.RunState `json:"state"`
	Step      ladder.Step     `json:"step"` // under way or next; empty at the end
	Failed    bool            `json:"failed"`
	MayFail   bool            `json:"may_fail,omitempty"` // its restore counts for nothing
	Edited    bool            `json:"edited,omitempty"`   // it was to be rolled back, somebody edited what is there, and a person decides
	Why       string          `json:"why"`                // in words, where it did not end as wanted
	Files     ladder.Files    `json:"files"`
	Process   ladder.Process  `json:"process"`
	Proof     ladder.Proof    `json:"proof,omitempty"` // what a done run rests on
	UpdatedAt time.Time       `json:"updated_at"`
	Before    []probe.Verdict `json:"before,omitempty"` // what its probes answered before it was changed
	After     []probe.Verdict `json:"after,omitempty"`  // and when they were asked last, after the act
	Steps     []StepTaken     `json:"steps,omitempty"`
	StepsGone bool            `json:"steps_gone,omitempty"` // they are older than policy has them kept
}

// StepTaken is one step of a host run.
type StepTaken struct {
	Step    ladder.Step    `json:"step"`
	BegunAt time.Time      `json:"begun_at"`
	EndedAt *time.Time     `json:"ended_at,omitempty"`
	Outcome ladder.Outcome `json:"outcome"` // empty while under way, or lost with its server
	Note    string         `json:"note"`
}

// Secret is a secret as it is shown: by name alone.
type Secret struct {
	Name    string    `json:"name"`
	Version int       `json:"version"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Binding *Binding  `json:"binding,omitempty"` // none: it may go nowhere
}

// AskedHosts is what hosts answered to probes without a change.
type AskedHosts struct {
	Hosts   int      `json:"hosts"`
	Answers []Answer `json:"answers"`
}

// Answer gathers hosts by what they answered to one question.
type Answer struct {
	Ask    string        `json:"ask"`
	Groups []AnswerGroup `json:"groups"`
}

// AnswerGroup is the hosts that gave one answer; Missing tells that they gave
// none, and Value why.
type AnswerGroup struct {
	Value   string   `json:"value"`
	Missing bool     `json:"missing"`
	Hosts   []string `json:"hosts"`
}

// Receiver is somebody who is told of what asks for people.
type Receiver struct {
	Name    string     `json:"name"`
	To      string     `json:"to"`    // where
	Kinds   []string   `json:"kinds"` // of which entries of the record
	Waiting int        `json:"waiting"`
	Tries   int        `json:"tries"` // of what waits first, so far
	Error   string     `json:"error,omitempty"`
	ToldAt  *time.Time `json:"told_at,omitempty"` // last
	Lost    int        `json:"lost"`              // given up after a day
}

// Event is one message of the event stream.
type Event struct {
	Type   string          `json:"type"`   // record, step or rehearsal
	Change int64           `json:"change"` // 0 where it concerns none
	Data   json.RawMessage `json:"data"`
}
