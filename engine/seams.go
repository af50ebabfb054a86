package engine

import (
	"context"
	"net"
	"time"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/drift"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/render"
	"wladder/core/signin"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// Store is what the engine needs of what is remembered. *store.Store is one.
type Store interface {
	Runs
	Plans
	Rehearsals
	Inventory
	Services
	Events
}

// Runs are the host runs of all climbs, and who works on them. A run belongs to
// who holds its fence: all others are refused with a *store.Conflict. Errors that
// store.Transient knows may pass, and what failed with them may be repeated.
type Runs interface {
	// Advance has each climb decide, and claims the runs that it starts.
	Advance(ctx context.Context, me store.Server, free int) ([]*store.Claimed, error)
	// ClaimRuns takes over runs whose lease has lapsed, but for those held.
	ClaimRuns(ctx context.Context, me store.Server, limit int, held []int64) ([]*store.Claimed, error)
	// Present tells other servers that this one is there, until its connection ends; see store.Present.
	Present(ctx context.Context, me store.Server, ready, gone func()) error
	RenewLeases(ctx context.Context, me store.Server, fences map[int64]int64) (kept map[int64]bool, err error)
	Write(ctx context.Context, c *store.Claimed, p store.Progress) error
	Release(ctx context.Context, c *store.Claimed) error
	// Overwritten says over which edits a person has a run put the old files.
	Overwritten(ctx context.Context, c *store.Claimed) ([]store.Edited, error)
	// Steer says what people want of runs that are under way.
	Steer(ctx context.Context, runs []int64) (store.Steered, error)
	// Touched gives the hosts that a climb has begun with, or any climb is at work on, and those
	// that wait for their turn in it.
	Touched(ctx context.Context, climb int64) (touched, waiting []int64, err error)
	// NoteControls keeps by which probes hosts are well that a climb has not begun with, and Controls
	// gives those that no climb has begun with since.
	NoteControls(ctx context.Context, climb int64, controls []store.Control) error
	Controls(ctx context.Context, climb int64) ([]store.Control, error)
	// PauseOver pauses a climb that runs, since what fails is not its hosts' fault.
	PauseOver(ctx context.Context, climb int64, why string) error
	// OutOfPool gives the hosts of a pool that are under way, in any climb.
	OutOfPool(ctx context.Context, pool string) ([]int64, error)
}

// Plans are what was approved, held against its digest, and what it refers to.
type Plans interface {
	Plan(ctx context.Context, id int64) (*store.Plan, error)
	Leaf(ctx context.Context, p *store.Plan, hostID int64) (plan.Leaf, error)
	Content(ctx context.Context, id string) ([]byte, error)
	// DoneWith gives the plan of a climb, and the hosts that are done with it, by name.
	DoneWith(ctx context.Context, climb int64) (*store.Plan, []int64, error)
	ContentID(data []byte) string
	// SumID names a content by its SHA-256.
	SumID(sum string) string
}

// Rehearsals are those under way, under leases as host runs are.
type Rehearsals interface {
	Revision(ctx context.Context, changeID int64) (store.Revision, error)
	Change(ctx context.Context, id int64) (*view.ChangeDetail, error)
	Draft(ctx context.Context, actor string, id int64, spec *change.Spec) (int64, error)
	RehearseProlonging(ctx context.Context, actor string, id int64, revision int, spec *change.Spec) error
	// DoneSince lists the hosts that are done with a change, or with one of its line of followers.
	DoneSince(ctx context.Context, changeID int64) ([]int64, error)
	BeginRehearsal(ctx context.Context, actor string, changeID int64, t store.Targets) (int64, error)
	ClaimRehearsals(ctx context.Context, me store.Server, limit int, held []int64) ([]*store.Rehearsing, error)
	RenewRehearsals(ctx context.Context, me store.Server, fences map[int64]int64) (kept map[int64]bool, err error)
	ReleaseRehearsal(ctx context.Context, r *store.Rehearsing) error
	Unread(ctx context.Context, rehearsal int64) ([]view.Host, error)
	Placed(ctx context.Context, hosts []int64) (map[int64]map[string]store.Stood, error)
	AddRead(ctx context.Context, r *store.Rehearsing, all []store.Read) error
	Overlaps(ctx context.Context, changeID, rehearsal int64) ([]store.Overlap, error)
	PlannedLeaves(ctx context.Context, rehearsal int64) ([]store.Planned, error)
	EndRehearsal(ctx context.Context, r *store.Rehearsing, findings []finding.Finding, made *store.Made) error
}

// Inventory is the machines that are known.
type Inventory interface {
	Hosts(ctx context.Context) ([]view.Host, error)
	Host(ctx context.Context, name string) (view.Host, error)
	NoteAsk(ctx context.Context, actor, where, service string, asks []string, hosts int) error
	Surveyed(ctx context.Context, id int64, t expr.Traits) (time.Time, error)
	Missed(ctx context.Context, id int64, why string) error
	LoadHosts(ctx context.Context, actor string, hosts []view.Host) (view.HostsLoaded, error)
	RaiseFence(ctx context.Context, actor, name string, to int64) error
	Fences(ctx context.Context) (map[string]int64, error)
	// Carriers gives the host keys of machines on which servers run, and the addresses of databases.
	Carriers(ctx context.Context) (keys, addresses []string, err error)
	// ToSweep gives hosts where something is kept for longer than it has to be, at
	// most limit, in an order of chance; Swept notes that it is gone.
	ToSweep(ctx context.Context, kept time.Duration, limit int) ([]view.Host, error)
	Swept(ctx context.Context, id int64) error

	// Standings gives what stands on hosts by our hand; DueForDrift those that nobody has looked
	// at for so long, and KeepDrift keeps what a look found.
	Standings(ctx context.Context, hosts []int64) (all map[int64][]store.Standing, asOf time.Time, err error)
	DueForDrift(ctx context.Context, every time.Duration, limit int) ([]view.Host, error)
	KeepDrift(ctx context.Context, hostID int64, host string, since time.Time, found []store.Drifted, unready string) error
	// AcceptDrift has a path stay as it stands now.
	AcceptDrift(ctx context.Context, actor string, h view.Host, path string, changeID int64, stands drift.Copy, because string) error
	// History gives what climbs placed at a path of a host, the oldest first.
	History(ctx context.Context, hostID int64, path string) ([]store.PastLeaf, error)
}

// Services are the definitions, and the secrets that they and changes name.
type Services interface {
	ApprovedService(ctx context.Context, name string) (view.Service, error)
	ServiceOf(ctx context.Context, name, digest string) (view.Service, error)
	TryApproved(ctx context.Context, name, digest, host string) (by string, until time.Time, err error)
	NoteTry(ctx context.Context, actor, name, digest, host string) error
	ServicesInForce(ctx context.Context) ([]view.Service, error)
	Secrets(ctx context.Context, names []string) (values map[string]string, versions map[string]int, err error)
	Bindings(ctx context.Context, names []string) (map[string]view.Binding, error)
	SecretVersions(ctx context.Context, versions map[string]int) (map[string]string, error)
}

// Events go between the servers on one database.
type Events interface {
	Announce(ctx context.Context, from string, events []view.Event) error
	Listen(ctx context.Context, self string, ready func(), f func(view.Event)) error
}

// Dialer reaches hosts. Over makes one of a *host.Dialer.
type Dialer interface {
	Connect(ctx context.Context, t host.Target) (Conn, error)
	// HostKey gives the key that a host shows, as in authorized_keys, and its fingerprint.
	HostKey(ctx context.Context, t host.Target) (key, print string, err error)
}

// Conn is a connection to one host; each method is one operation there, as
// docs/host-scripts.md has them. *host.Conn is one.
type Conn interface {
	Close() error

	Survey(ctx context.Context, w definition.Wants) (expr.Traits, error)
	Examine(ctx context.Context, w definition.Wants, paths []string) (expr.Traits, []render.Found, error)
	Collect(ctx context.Context, paths []string) ([]render.Found, error)
	Trial(ctx context.Context, files []host.File, t definition.Trial, shown []string) (host.TrialAnswer, string, error)
	Effective(ctx context.Context, files []host.File, t definition.Trial, people []signin.Person) (before, after []signin.Settings, err error)
	Ask(ctx context.Context, run, label string, questions []host.Question) ([]host.Reply, error)
	Inside(ctx context.Context, port int) (net.Conn, error)
	Outside(ctx context.Context, port int) (net.Conn, error)
	Fence(ctx context.Context) (int64, error)

	TakeOver(ctx context.Context, claim host.Claim) error
	Snapshot(ctx context.Context, claim host.Claim, units []string, files []host.File) error
	Make(ctx context.Context, claim host.Claim, files []host.File) error
	Arm(ctx context.Context, claim host.Claim, after time.Duration, services []host.Service, files []host.File) (how string, err error)
	Drain(ctx context.Context, claim host.Claim, s host.Service) error
	Readmit(ctx context.Context, claim host.Claim, s host.Service) error
	Place(ctx context.Context, claim host.Claim, files []host.File) error
	Act(ctx context.Context, claim host.Claim, label string, s host.Service) (undone bool, err error)
	Reboot(ctx context.Context, claim host.Claim, label string, s host.Service, span time.Duration) (rebooted bool, err error)
	Watch(ctx context.Context, claim host.Claim, guard time.Duration, label string, questions []host.Question) ([]host.Reply, error)
	Confirm(ctx context.Context, claim host.Claim, files []host.File) error
	Look(ctx context.Context, claim host.Claim, guard time.Duration, label string, of host.Service, files []host.File) (ladder.Sight, error)
	Restore(ctx context.Context, claim host.Claim, files []host.File) (undone bool, err error)
	Disarm(ctx context.Context, claim host.Claim, files []host.File) error

	Sweep(ctx context.Context, kept time.Duration) error
}

// Over has the engine reach hosts by SSH.
func Over(d *host.Dialer) Dialer { return overSSH{d} }

type overSSH struct{ dialer *host.Dialer }

func (o overSSH) HostKey(ctx context.Context, t host.Target) (key, print string, err error) {
	return o.dialer.HostKey(ctx, t)
}

func (o overSSH) Connect(ctx context.Context, t host.Target) (Conn, error) {
	conn, err := o.dialer.Connect(ctx, t)
	if err != nil {
		return nil, err // not a nil connection in an interface
	}
	return conn, nil
}
