package view

import "time"

// Person is an account as those see it who look after accounts.
type Person struct {
	Name       string     `json:"name"`
	Display    string     `json:"display"`
	Roles      []string   `json:"roles"`
	Disabled   bool       `json:"disabled"`
	MustChange bool       `json:"must_change"` // its password was set by somebody else
	Directory  bool       `json:"directory"`   // it signs in with the team's directory, whose groups give its roles
	CreatedAt  time.Time  `json:"created_at"`
	SignedInAt *time.Time `json:"signed_in_at,omitempty"` // last, of those that have not ended
	SignIns    int        `json:"sign_ins"`               // that have not ended
}

// NewPerson is an account to be made.
type NewPerson struct {
	Name     string   `json:"name"`
	Display  string   `json:"display"`
	Roles    []string `json:"roles"`
	Password string   `json:"password"` // changed at the first sign-in
}

// PersonChange is what is to become of an account: what is left out stays.
type PersonChange struct {
	Roles    *[]string `json:"roles,omitempty"`
	Password string    `json:"password,omitempty"`
	Disabled *bool     `json:"disabled,omitempty"`
	// Directory ties the account to who comes from the team's directory under its name; its
	// password is gone then. A password given later unties it.
	Directory bool `json:"directory,omitempty"`
}

// Requested tells whether a second admin has to agree before it is done.
type Requested struct {
	Request int64 `json:"request,omitempty"`
}

// PasswordChange changes one's own.
type PasswordChange struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// SignInRow is a sign-in or a token that has not ended.
type SignInRow struct {
	ID        int64     `json:"id"`
	Kind      string    `json:"kind"` // session or token
	Label     string    `json:"label"`
	Scopes    []string  `json:"scopes"` // of a token; none: it reads alone
	Origin    string    `json:"origin"` // the address that it was made from
	CreatedAt time.Time `json:"created_at"`
	ExpiresAt time.Time `json:"expires_at"`
	This      bool      `json:"this"` // it is the one that asks
}

// NewToken is a token to be made for a program.
type NewToken struct {
	Label  string   `json:"label"`
	Scopes []string `json:"scopes"` // the roles that it has, of those of the account; none is to read alone
	Days   int      `json:"days"`   // until it ends; 0 is 30
}

// Token is a token that was just made: it is shown once.
type Token struct {
	Token string `json:"token"`
}

// KeyChanged says how the server's key was changed.
type KeyChanged struct {
	From      string `json:"from"` // the keys' ids
	To        string `json:"to"`
	RecordKey string `json:"record_key"` // the public key of the record's checkpoints from now on
}

// Request is what one admin asks for and another has to agree to.
type Request struct {
	ID      int64     `json:"id"`
	Kind    string    `json:"kind"`
	Subject string    `json:"subject"`
	What    string    `json:"what"` // in words
	AskedBy string    `json:"asked_by"`
	AskedAt time.Time `json:"asked_at"`
	EndsAt  time.Time `json:"ends_at"`
	Text    string    `json:"text,omitempty"` // of a policy: what it would be
}

// Decision answers a request.
type Decision struct {
	Agreed bool `json:"agreed"`
}

// HostsLoaded says what became of a list of hosts.
type HostsLoaded struct {
	Added   int   `json:"added"`
	Known   int   `json:"known"`
	Pinned  int   `json:"pinned,omitempty"`  // that had no host key, and have one now
	Asked   int   `json:"asked"`             // whose way in changes once a second admin agrees
	Request int64 `json:"request,omitempty"` // to whom the request is put
}

// Binding says where a secret may go; what is empty is nowhere.
type Binding struct {
	Services []string `json:"services"`
	Probes   []string `json:"probes"` // by their names
	Hosts    string   `json:"hosts"`  // an expression over hosts
}
