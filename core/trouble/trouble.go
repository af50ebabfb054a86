// Package trouble names the parts of docs/trouble.md, so that a message can say where a person reads
// on: "wladder trouble stranded" prints that part.
package trouble

// Name is a heading of docs/trouble.md, in small letters with hyphens.
type Name string

const (
	Restored     Name = "restored"
	Stranded     Name = "stranded"
	Unknown      Name = "unknown"
	PassedOver   Name = "passed-over"
	GuardFired   Name = "guard-fired"
	Paused       Name = "paused"
	DatabaseGone Name = "database-gone"
	KeyLost      Name = "key-lost"
	FenceRefused Name = "fence-refused"
	HostAnew     Name = "host-installed-anew"
	ServerLost   Name = "server-lost"
	DiskFull     Name = "disk-full"
	Moving       Name = "moving-the-server"
	Upgrading    Name = "upgrading"
	Uninstalling Name = "uninstalling"
)

// All lists them as the page has them.
var All = []Name{Restored, Stranded, Unknown, PassedOver, GuardFired, Paused, DatabaseGone, KeyLost, FenceRefused, HostAnew, ServerLost, DiskFull, Moving, Upgrading, Uninstalling}

// Help says where to read on, as the end of a message.
func (n Name) Help() string { return "what to do: wladder trouble " + string(n) }
