package view

// DraftChecked is what a change says before it is drafted.
type DraftChecked struct {
	Title    string         `json:"title"`
	Problems []DraftProblem `json:"problems"`
	Hosts    int            `json:"hosts"` // that its expression fits now
	First    []string       `json:"first"` // of them, by name
}

// DraftProblem is what is wrong with it; a Line of 0 is of the whole.
type DraftProblem struct {
	Line   int    `json:"line"`
	Column int    `json:"column,omitempty"`
	Text   string `json:"text"`
}
