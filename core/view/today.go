package view

import (
	"time"

	"wladder/core/policy"
	"wladder/core/record"
)

// Today is what one person looks at first.
type Today struct {
	Climbs []Change  `json:"climbs"` // under way, the newest first
	Waits  []Waiting `json:"waits"`  // for this person, in the order of Waits, the oldest of each first
	Unwell []Unwell  `json:"unwell"` // the worst first
	// Ahead are the windows and freezes of the next fortnight.
	Ahead  []policy.Coming `json:"ahead"`
	Latest []Sentence      `json:"latest"` // of the record
	Halts  []Halt          `json:"halts"`
	Hosts  int             `json:"hosts"` // in service
	// Services counts the definitions that serve hosts.
	Services int `json:"services"`
}

// Waits are the kinds of what waits for a person.
var Waits = []string{"gate", "paused", "review", "review-afterwards", "climb", "returns", "draft", "request"}

// Waiting is a change that waits for somebody, or a request of an admin.
type Waiting struct {
	Kind   string    `json:"kind"` // one of Waits
	Change int64     `json:"change,omitempty"`
	Title  string    `json:"title"`
	Author string    `json:"author,omitempty"`
	Since  time.Time `json:"since"`
	Hosts  int       `json:"hosts,omitempty"`
	// Vetoes and Warnings count the hosts of its plan that have one.
	Vetoes   int    `json:"vetoes,omitempty"`
	Warnings int    `json:"warnings,omitempty"`
	Next     string `json:"next"` // in words
	// Until is when temporary hosts go back, or a review is due.
	Until *time.Time `json:"until,omitempty"`
}

// Ills are the kinds of what is not well, the worst first.
var Ills = []string{"stranded", "unknown", "undone", "restored", "drifted", "unready", "unreached"}

// UnwellHosts is how many hosts an ill names.
const UnwellHosts = 20

// Unwell is hosts that are not well in one way.
type Unwell struct {
	Kind  string       `json:"kind"` // one of Ills
	Count int          `json:"count"`
	Since time.Time    `json:"since"` // the oldest of them
	Hosts []UnwellHost `json:"hosts"` // the first of them by name
}

// UnwellHost is one of them.
type UnwellHost struct {
	Host   string `json:"host"`
	Change int64  `json:"change,omitempty"` // in whose climb, or that placed what drifted
	Why    string `json:"why,omitempty"`
}

// Sentence is an entry of the record with what it says.
type Sentence struct {
	record.Entry
	Says   string `json:"says"`             // who did what
	Change int64  `json:"change,omitempty"` // that it concerns
}
