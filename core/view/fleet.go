package view

import (
	"time"

	"wladder/core/conf"
	"wladder/core/ladder"
)

// Drift is what is not as it was left on hosts, as of the last look at each.
type Drift struct {
	Paths   []Drifted `json:"paths"`
	Unready []Unready `json:"unready"` // hosts on which something is saved and not in force
	// Looked counts the hosts that carry something of ours and were looked at, NotLooked the
	// others; Oldest is the oldest look.
	Looked    int        `json:"looked"`
	NotLooked int        `json:"not_looked"`
	Oldest    *time.Time `json:"oldest,omitempty"`
	// Missed says which hosts were not reached now, and why.
	Missed map[string]string `json:"missed,omitempty" db:"-"`
}

// Drifted is a path that is not as it was left.
type Drifted struct {
	Host   string    `json:"host"`
	Path   string    `json:"path"`
	Change int64     `json:"change"` // that placed it
	Kind   string    `json:"kind"`   // edited, edited-back, replaced, gone, rights or appeared
	Words  string    `json:"words" db:"-"`
	Since  time.Time `json:"since"` // it was first seen
	SeenAt time.Time `json:"seen_at"`
}

// PathOf names a path of a host.
type PathOf struct {
	Host string `json:"host"`
	Path string `json:"path"`
	// Because is why the path is to stay as it stands; unused where it is only looked at.
	Because string `json:"because,omitempty"`
}

// DriftedPath is a path that is not as it was left.
type DriftedPath struct {
	Host    string `json:"host"`
	Path    string `json:"path"`
	Change  int64  `json:"change"` // that placed it
	Service string `json:"service,omitempty"`
	Diff    string `json:"diff,omitempty"`  // from what was left to what is there
	Edits   string `json:"edits,omitempty"` // those that would put it back, as a change's YAML has them
	Why     string `json:"why,omitempty"`   // there are none
}

// Unready is a host on which something is saved and not in force.
type Unready struct {
	Host   string    `json:"host"`
	What   string    `json:"what"`
	SeenAt time.Time `json:"seen_at"`
}

// Where names hosts by an expression.
type Where struct {
	Where string `json:"where"`
}

// HostService is a service that a host carries.
type HostService struct {
	Service string        `json:"service"`
	Title   string        `json:"title"`
	Unit    string        `json:"unit"`
	Files   []ServiceFile `json:"files"`
	Last    *LastRun      `json:"last,omitempty"` // nil: no climb has touched it
}

// LastRun is what a climb last did on a host.
type LastRun struct {
	Change int64           `json:"change"`
	Title  string          `json:"title"`
	State  ladder.RunState `json:"state"`
	Why    string          `json:"why,omitempty"`
	At     time.Time       `json:"at"`
}

// ServiceParts is a version of a definition as people read it.
type ServiceParts struct {
	Service  Service          `json:"service"`
	Where    string           `json:"where"` // which hosts carry it
	Unit     string           `json:"unit"`
	Files    []ServiceFile    `json:"files"`
	Settings []ServiceSetting `json:"settings"`
	Rules    []ServiceRule    `json:"rules"`
	Trial    []string         `json:"trial"` // the checker's words
	Acts     []ServiceAct     `json:"acts"`  // the lightest first
	InForce  []ServiceProbe   `json:"in_force"`
	Probes   []ServiceProbe   `json:"probes"`
	Pool     string           `json:"pool,omitempty"` // what names the pool of a host
	Keep     int              `json:"keep,omitempty"`
	Settle   string           `json:"settle"`
	// Difference is a unified diff from the version that serves hosts to this one; empty where none
	// does, or it is this one.
	Difference string `json:"difference,omitempty"`
}

// ServiceFile is a file of a definition; Paths are by family of distributions.
type ServiceFile struct {
	Key    string            `json:"key"`
	Format string            `json:"format"`
	Paths  map[string]string `json:"paths"`
}

// ServiceSetting is a setting that a definition explains.
type ServiceSetting struct {
	Address     string   `json:"address"`
	File        string   `json:"file,omitempty"`
	Type        string   `json:"type"`
	Range       string   `json:"range,omitempty"`
	Choices     []string `json:"choices,omitempty"`
	Measure     string   `json:"measure,omitempty"`
	Default     string   `json:"default,omitempty"`
	Explanation string   `json:"explanation,omitempty"`
	Source      string   `json:"source,omitempty"`
	Act         string   `json:"act,omitempty"`
	Secret      bool     `json:"secret,omitempty"`
	Since       string   `json:"since,omitempty"`
	Until       string   `json:"until,omitempty"`
}

// ServiceRule is what has to hold between settings.
type ServiceRule struct {
	Holds  string `json:"holds"`
	Weight string `json:"weight"`
	Say    string `json:"say"`
}

// ServiceAct is what has the service take its files up.
type ServiceAct struct {
	Name     string     `json:"name"`
	Commands [][]string `json:"commands"`
	Serves   bool       `json:"serves,omitempty"`
	Reboots  bool       `json:"reboots,omitempty"`
}

// ServiceProbe is what is asked of a host, and what is expected.
type ServiceProbe struct {
	Name   string `json:"name"`
	Ask    string `json:"ask"`
	Expect string `json:"expect,omitempty"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Label is a label that hosts have, with its values, the commonest first.
type Label struct {
	Name   string       `json:"name"`
	Values []LabelValue `json:"values"`
}

// LabelValue is a value of a label, and how many hosts have it.
type LabelValue struct {
	Value string `json:"value"`
	Hosts int    `json:"hosts"`
}

// HostFiles are the files of a service on a host, as they are there now.
type HostFiles struct {
	Host    string     `json:"host"`
	Service string     `json:"service"`
	ReadAt  time.Time  `json:"read_at"`
	Files   []HostFile `json:"files"`
}

// HostFile is one of them, with secrets covered.
type HostFile struct {
	Instance string         `json:"instance,omitempty"`
	Key      string         `json:"key"`
	Path     string         `json:"path"`
	Owner    string         `json:"owner"`
	Group    string         `json:"group"`
	Mode     string         `json:"mode"`
	Problem  string         `json:"problem,omitempty"` // why it is not shown, or not as settings
	Text     string         `json:"text,omitempty"`
	Settings []conf.Setting `json:"settings,omitempty"` // with their fate
}

// Comparing asks what hosts say of a setting, or in what two hosts differ.
type Comparing struct {
	Service string `json:"service"`
	Where   string `json:"where,omitempty"`
	File    string `json:"file,omitempty"` // by its key; the service's only one where empty
	Address string `json:"address,omitempty"`
	// Hosts are two that are laid side by side, in place of Where and Address.
	Hosts []string `json:"hosts,omitempty"`
}

// Compared is a setting over hosts, by its value.
type Compared struct {
	Service string            `json:"service"`
	Address string            `json:"address,omitempty"`
	Hosts   int               `json:"hosts"` // that carry the service and were read
	Values  []ComparedValue   `json:"values,omitempty"`
	Differ  []ComparedSetting `json:"differ,omitempty"` // of two hosts
	Alike   int               `json:"alike,omitempty"`  // settings that are the same on both
	Missed  map[string]string `json:"missed,omitempty"`
}

// ComparedValue is a value and the hosts that have it, the most common first.
type ComparedValue struct {
	Value   string   `json:"value"`
	Missing bool     `json:"missing,omitempty"` // it is not set; Value is the definition's default
	As      []string `json:"as,omitempty"`      // addresses under which it was found, where there are synonyms
	Count   int      `json:"count"`
	Hosts   []string `json:"hosts"`
}

// ComparedSetting is a setting in which two hosts differ; an empty value may be none.
type ComparedSetting struct {
	File    string    `json:"file"`
	Address string    `json:"address"`
	Values  [2]string `json:"values"`
	There   [2]bool   `json:"there"`
}

// Told is one thing that became of a setting on a host, the oldest first.
type Told struct {
	At     time.Time `json:"at"`
	Change int64     `json:"change,omitempty"` // 0: by somebody past this server
	Title  string    `json:"title,omitempty"`
	By     string    `json:"by,omitempty"` // who wrote the change
	Path   string    `json:"path"`
	From   string    `json:"from"`
	To     string    `json:"to"`
	// What says in words what happened where no value can be told.
	What string `json:"what"`
}

// Form is a change that is kept with blanks in it.
type Form struct {
	Name    string    `json:"name"`
	Version int       `json:"version"`
	Title   string    `json:"title"`
	Source  string    `json:"source"`
	Names   int       `json:"-"` // the set of names in which it is written
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Blanks  []Blank   `json:"blanks" db:"-"`
}

// Blank is what is filled in.
type Blank struct {
	Name        string   `json:"name"`
	Type        string   `json:"type"`
	Range       string   `json:"range,omitempty"`
	Choices     []string `json:"choices,omitempty"`
	Measure     string   `json:"measure,omitempty"`
	Default     string   `json:"default,omitempty"`
	Explanation string   `json:"explanation,omitempty"`
}

// Filling fills the blanks of a form in.
type Filling struct {
	Blanks map[string]string `json:"blanks"`
}

// EditedCopy is a file of a host that somebody edited by hand, to have the edits told.
type EditedCopy struct {
	Service  string `json:"service"`
	File     string `json:"file,omitempty"` // by its key; the service's only one where empty
	Instance string `json:"instance,omitempty"`
	Text     string `json:"text"`
}

// DerivedEdits are the edits that give it, as a change writes them.
type DerivedEdits struct {
	Edits string `json:"edits"` // YAML
}
