package view

import (
	"time"

	"wladder/core/conf"
	"wladder/core/finding"
	"wladder/core/outline"
)

// DraftHosts is how many hosts are named of those that a draft fits.
const DraftHosts = 12

// DraftChecked is what a change says before it is drafted, from what is known of hosts: none is
// asked for it.
type DraftChecked struct {
	Title    string         `json:"title"`
	Problems []DraftProblem `json:"problems"`
	Hosts    int            `json:"hosts"` // that its expression fits now
	First    []string       `json:"first"` // of them, by name
	// Without is how many of them do not carry the service, by the last survey of each.
	Without int `json:"without"`
	// Doubts are what the rehearsal would refuse, as far as that can be told without it.
	Doubts []string     `json:"doubts"`
	Edits  []DraftEdit  `json:"edits"`  // none while something is wrong with the text
	Probes []DraftProbe `json:"probes"` // none while something is wrong with the text
	// Outline is the ladder as it would be; none while something is wrong with it.
	Outline *outline.Outline `json:"outline,omitempty"`
}

// DraftProblem is what is wrong with it; a Line of 0 is of the whole.
type DraftProblem struct {
	Line   int    `json:"line"`
	Column int    `json:"column,omitempty"`
	Text   string `json:"text"`
}

// DraftEdit is what an edit comes to over the hosts.
type DraftEdit struct {
	Words string `json:"words"`
	Hosts int    `json:"hosts"` // on which it is made
	// Values are what a value that is not written out comes to, the commonest first.
	Values []DraftValue `json:"values"`
	// Why says of which hosts it cannot be told, and why.
	Why string `json:"why,omitempty"`
}

// DraftValue is a value, and how many hosts get it.
type DraftValue struct {
	Value string   `json:"value"`
	Hosts int      `json:"hosts"`
	First []string `json:"first"` // of them, by name
}

// DraftProbe is a question that the change would ask.
type DraftProbe struct {
	Service string `json:"service"`
	Name    string `json:"name"`
	Ask     string `json:"ask"`
	// Waits says why it may not be tried without an approval; empty where it may.
	Waits string `json:"waits,omitempty"`
}

// Previewing asks what a change that is being written comes to on one host.
type Previewing struct {
	Text string `json:"text"`
	Host string `json:"host"`
	// Again has the host's files read anew; else the copy last read will do.
	Again bool `json:"again"`
}

// Preview is what a change would come to on one host, by the copy of its files that was last read.
type Preview struct {
	Host   string    `json:"host"`
	ReadAt time.Time `json:"read_at"`
	Diff   string    `json:"diff"`
	Act    string    `json:"act"`
	// Alterations are the settings that it changes there.
	Alterations []conf.Alteration `json:"alterations"`
	Findings    []finding.Finding `json:"findings"`
	// Checkers are what only the rehearsal runs on the files.
	Checkers []string `json:"checkers"`
}
