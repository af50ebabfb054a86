package view

import (
	"time"

	"wladder/core/ladder"
)

// Shapes of requests and their answers.
type (
	// SignIn is a request for a session or a token.
	SignIn struct {
		Name     string `json:"name"`
		Password string `json:"password"`
		Kind     string `json:"kind"` // session or token
		Label    string `json:"label"`
	}
	// SignedIn answers it; the token is empty for the console's cookie.
	SignedIn struct {
		Account Account `json:"account"`
		Token   string  `json:"token"`
	}
	// WaysIn says how one may sign in. There is always a name with a password.
	WaysIn struct {
		Directory string `json:"directory,omitempty"` // what the team's directory is called, where there is one
		Why       string `json:"why,omitempty"`       // a sign-in failed
	}
	// Elsewhere is a sign-in of a program without a browser: its person opens the address in any
	// browser, and types the code there; WithCode holds it already.
	Elsewhere struct {
		Device   string    `json:"device"` // for the program alone
		Code     string    `json:"code"`
		Address  string    `json:"address"`
		WithCode string    `json:"with_code,omitempty"`
		EndsAt   time.Time `json:"ends_at"`
		Every    int64     `json:"every"` // seconds between two questions
	}
	// ElsewhereAsked asks whether the code of that device was typed.
	ElsewhereAsked struct {
		Device string `json:"device"`
		Every  int64  `json:"every"`
	}
	// SignedInElsewhere answers: it waits still, or here is the token.
	SignedInElsewhere struct {
		Waiting bool `json:"waiting"`
		SignedIn
	}
	// SurveyOrder names the hosts to survey; empty is all.
	SurveyOrder struct {
		Where string `json:"where"`
	}
	// Surveyed says how a survey went.
	Surveyed struct {
		Hosts  int               `json:"hosts"`
		Failed map[string]string `json:"failed"`
		Aside  map[string]string `json:"aside"` // set aside, and not asked
	}
	// AskOrder puts probes to the hosts that an expression fits.
	AskOrder struct {
		Where   string   `json:"where"`
		Service string   `json:"service"` // whose commands may be asked; may be empty
		Asks    []string `json:"asks"`
	}
	// NewSecret is a secret's value, or its next one.
	NewSecret struct {
		Value   string   `json:"value"`
		Binding *Binding `json:"binding,omitempty"` // where it may go; left out: as before
	}
	// Judgement is a reviewer's answer.
	Judgement struct {
		Digest  string `json:"digest"`
		Because string `json:"because"`
	}
	// Order is what a person tells a climb.
	Order struct {
		Order   ladder.Order `json:"order"`
		Because string       `json:"because"`
	}
	// HostOrder is what a person wants of one host of a climb: again, give-up or overwrite.
	HostOrder struct {
		Order   string `json:"order"`
		Because string `json:"because"`
	}
	// Halting has no host that Where fits be changed; empty: no host at all.
	Halting struct {
		Where   string `json:"where"`
		Because string `json:"because"`
	}
	// Lifting has climbs go on that a halt held.
	Lifting struct {
		Because string `json:"because"`
	}
	// Checked is what a person saw at a gate: of the check with that number, from 1.
	Checked struct {
		Check int    `json:"check"`
		Well  bool   `json:"well"`
		In    string `json:"in"` // in which client; empty: as it was asked
		Note  string `json:"note"`
	}
	// Created names a change.
	Created struct {
		ID int64 `json:"id"`
	}
	// Raised is the fence that a host has seen, to which ours was raised.
	Raised struct {
		To int64 `json:"to"`
	}
	// CompareOrder names the hosts that are asked which fence they have seen; empty is all.
	CompareOrder struct {
		Where string `json:"where"`
		Raise bool   `json:"raise"` // have our next fences be above theirs
	}
	// HostsBeside tells which hosts are newer than the database.
	HostsBeside struct {
		Asked  int          `json:"asked"`
		Newer  []NewerHost  `json:"newer"`
		Missed []MissedHost `json:"missed"`
	}
	// NewerHost is one that has seen a higher fence than this database has given out.
	NewerHost struct {
		Host   string `json:"host"`
		Ours   int64  `json:"ours"`
		Seen   int64  `json:"seen"`
		Raised bool   `json:"raised"`
	}
	// MissedHost is one that could not be asked.
	MissedHost struct {
		Host string `json:"host"`
		Why  string `json:"why"`
	}
	// Exclusion takes a host out of an approved plan.
	Exclusion struct {
		Host    string `json:"host"`
		Because string `json:"because"`
	}
	// Verification says whether the record holds.
	Verification struct {
		Holds   bool    `json:"holds"`
		Entries int64   `json:"entries"`
		Waiting int     `json:"waiting"`         // happened, and not chained yet
		Seams   []int64 `json:"seams,omitempty"` // entries at which the record went on from an older copy
		Hash    string  `json:"hash"`
		Broken  string  `json:"broken"` // where and how, if it does not hold
	}
)
