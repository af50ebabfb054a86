package view

import "time"

// PolicyVersion is what the team has agreed on about its changes.
type PolicyVersion struct {
	Version  int       `json:"version"` // 0: nobody has written one
	Source   string    `json:"source"`
	Names    int       `json:"-"` // the set of names in which it is written
	Digest   string    `json:"digest"`
	LoadedBy string    `json:"loaded_by"`
	AgreedBy string    `json:"agreed_by"`
	At       time.Time `json:"at"`
}

// Review is where the review of a change's newest plan stands.
type Review struct {
	// Missing says which approvals policy demands yet, in words; nil where there is no plan.
	Missing []string `json:"missing,omitempty"`
	// Open are the warnings that wait to be acknowledged, by their ids, where policy wants that.
	Open []string `json:"open,omitempty"`
	// Held says why no host would start now, of a window or a freeze.
	Held string `json:"held,omitempty"`
	// Returning says what of the calendar hosts of a temporary change would meet when they go back.
	Returning string `json:"returning,omitempty"`
	// Acknowledged are the warnings of which a reviewer said that they know.
	Acknowledged []Acknowledged `json:"acknowledged,omitempty"`
	// Barred are the first of the hosts whose vetoes can be overridden: they climb once each of
	// theirs is. BarredCount is how many there are.
	Barred      []Barred   `json:"barred,omitempty"`
	BarredCount int        `json:"barred_count,omitempty"`
	Overrides   []Override `json:"overrides,omitempty"`
	// Looked are who marked diff groups of this plan as read, by name.
	Looked []Looked `json:"looked,omitempty"`
	// Comments are the oldest first, each answer behind what it answers.
	Comments []Comment `json:"comments,omitempty"`
	// Alone are those whom policy lets approve alone in an emergency.
	Alone []string `json:"alone,omitempty"`
	// Named are who may revise the change beside its author; Wrote who cannot approve it.
	Named []string `json:"named,omitempty"`
	Wrote []string `json:"wrote,omitempty"`
}

// Approval is what somebody said of a plan as a whole.
type Approval struct {
	Account string    `json:"account"`
	Verdict string    `json:"verdict"` // approved, declined, taken-back, emergency or reviewed
	Digest  string    `json:"digest"`
	Because string    `json:"because"`
	At      time.Time `json:"at"`
	// EndsAt is until when an approval starts hosts; DueAt when an emergency's is reviewed at the latest.
	EndsAt *time.Time `json:"ends_at,omitempty"`
	DueAt  *time.Time `json:"due_at,omitempty"`
}

// Acknowledged is a warning of which somebody said that they know.
type Acknowledged struct {
	Finding string    `json:"finding"`
	Account string    `json:"account"`
	Because string    `json:"because"`
	At      time.Time `json:"at"`
}

// Acknowledgement says that one knows of a warning.
type Acknowledgement struct {
	Digest  string `json:"digest"`
	Finding string `json:"finding"` // its id
	Because string `json:"because,omitempty"`
}

// Looked is somebody who went through diff groups of a plan, by the keys of those.
type Looked struct {
	Account string   `json:"account"`
	Groups  []string `json:"groups"`
}

// Looking marks a diff group of a plan as read, or as not read.
type Looking struct {
	Digest string `json:"digest"`
	Group  string `json:"group"` // its key
	Read   bool   `json:"read"`
}

// Barred is a host that a veto keeps out of the climb, which somebody may override.
type Barred struct {
	Host   string       `json:"host"`
	Vetoes []BarredVeto `json:"vetoes"`
}

// BarredVeto is one of its vetoes.
type BarredVeto struct {
	Finding string   `json:"finding"`
	Code    string   `json:"code"`
	By      []string `json:"by"` // teams and roles who may override it; nobody where empty
}

// Override is a veto on one host that somebody overrode for one plan.
type Override struct {
	Host    string    `json:"host"`
	Finding string    `json:"finding"`
	Digest  string    `json:"digest"`
	Account string    `json:"account"`
	Because string    `json:"because"`
	At      time.Time `json:"at"`
}

// Overriding overrides a veto.
type Overriding struct {
	Digest  string `json:"digest"`
	Host    string `json:"host"`
	Finding string `json:"finding"` // its id
	Because string `json:"because"`
}

// NewComment is something said of a line, of a diff group, of the whole, or in answer.
type NewComment struct {
	Digest string `json:"digest,omitempty"` // of the plan that was read; the newest where empty
	Group  string `json:"group,omitempty"`
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"` // in the file as it would be
	Old    bool   `json:"old,omitempty"`  // in the file as it is
	To     int64  `json:"to,omitempty"`   // the comment that this answers
	Text   string `json:"text"`
}

// Comment is one that was made.
type Comment struct {
	ID        int64      `json:"id"`
	Digest    string     `json:"digest"`
	Group     string     `json:"group,omitempty"`
	File      string     `json:"file,omitempty"`
	Line      int        `json:"line,omitempty"`
	Old       bool       `json:"old,omitempty"`
	Quote     string     `json:"quote,omitempty"` // the line, as the diff showed it
	To        int64      `json:"to,omitempty"`    // the comment that began its thread
	Account   string     `json:"account"`
	Text      string     `json:"text"`
	At        time.Time  `json:"at"`
	SettledBy string     `json:"settled_by,omitempty"`
	SettledAt *time.Time `json:"settled_at,omitempty"`
}

// Sharing names somebody who may revise a change beside its author.
type Sharing struct {
	With string `json:"with"`
}
