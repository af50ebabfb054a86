package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/expr"
	"wladder/core/secret"
	"wladder/core/view"
)

const hostColumns = `select id, name, address, login, host_key, sudo, labels, traits, surveyed_at, via, missed_at, missed_why,
	case when aside_until > now() then aside_because else '' end as aside_because, case when aside_until > now() then aside_by else '' end as aside_by,
	case when aside_until > now() then aside_until end as aside_until from hosts `

// serving picks the hosts that are not retired.
const serving = ` retired_at is null `

// LoadHosts adds hosts, and brings the labels of those that are known up to date.
// Where the way in to a known one changes (address, login, escalation, pinned key), a
// second admin has to agree: all of those together are one request.
func (s *Store) LoadHosts(ctx context.Context, actor string, hosts []view.Host) (out view.HostsLoaded, err error) {
	for _, h := range hosts {
		if why := cmp.Or(h.Fault(), illNamed(h)); why != "" {
			return out, unfit("host %q: %s", shortened(h.Name), why)
		}
	}
	err = s.tx(ctx, func(tx pgx.Tx) error {
		names := make([]string, len(hosts))
		for i, h := range hosts {
			names[i] = h.Name
		}
		known := map[string]view.Host{}
		rows, err := many[view.Host](ctx, tx, hostColumns+`where name = any($1) and`+serving+`for update`, names)
		if err != nil {
			return err
		}
		for _, h := range rows {
			known[h.Name] = h
		}
		var batch pgx.Batch
		var moved, added []view.Host
		var said []string
		for _, h := range hosts {
			if h.Labels == nil {
				h.Labels = map[string]string{}
			}
			was, there := known[h.Name]
			if h.HostKey == "" { // a file without keys takes none away
				h.HostKey = was.HostKey
			}
			switch {
			case !there:
				out.Added++
				added = append(added, h)
				batch.Queue(`insert into hosts (name, address, login, host_key, sudo, via, labels) values ($1, $2, $3, $4, $5, $6, $7)`, h.Name, h.Address, h.Login, h.HostKey, h.Sudo, h.Via, h.Labels)
				continue
			case was.HostKey == "" && h.HostKey != "" && sameWay(was, view.Host{Address: h.Address, Login: h.Login, Sudo: h.Sudo, Via: h.Via}): // what never was reached has no way in yet
				out.Pinned++
				added = append(added, h)
				batch.Queue(`update hosts set host_key = $2, missed_at = null, missed_why = '' where name = $1 and`+serving, h.Name, h.HostKey)
			case !sameWay(was, h):
				moved, said = append(moved, h), append(said, wayIn(was, h))
			default:
				out.Known++
			}
			batch.Queue(`update hosts set labels = $2 where name = $1 and`+serving, h.Name, h.Labels)
		}
		if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
			return err
		}
		if err := s.leads(ctx, tx, hosts); err != nil {
			return err
		}
		if len(added) > 0 {
			if err := s.tellWaysIn(ctx, tx, actor, added); err != nil {
				return err
			}
		}
		if len(moved) > 0 {
			out.Asked = len(moved)
			what := fmt.Sprintf("%d hosts are to be reached in another way: %s", len(moved), strings.Join(said[:min(len(said), 20)], "; "))
			if out.Request, err = s.request(ctx, tx, actor, ask{hostsAsked, "hosts", what, moved}); err != nil {
				return err
			}
		}
		return s.happened(ctx, tx, actor, "hosts.loaded", 0, "hosts", map[string]any{"count": len(names), "hosts": names[:min(len(names), 50)]})
	})
	return out, err
}

// sameWay tells whether two hosts are reached alike.
func sameWay(a, b view.Host) bool {
	return a.Address == b.Address && a.Login == b.Login && a.Sudo == b.Sudo && a.Via == b.Via && strings.TrimSpace(a.HostKey) == strings.TrimSpace(b.HostKey)
}

// wayIn says in words what changes about how a host is reached.
func wayIn(was, is view.Host) string {
	var all []string
	tell := func(what, a, b string) {
		if a != b {
			all = append(all, fmt.Sprintf("%s %s → %s", what, a, b))
		}
	}
	tell("address", was.Address, is.Address)
	tell("login", was.Login, is.Login)
	tell("sudo", fmt.Sprint(was.Sudo), fmt.Sprint(is.Sudo))
	tell("by way of", cmp.Or(was.Via, "none"), cmp.Or(is.Via, "none"))
	if strings.TrimSpace(was.HostKey) != strings.TrimSpace(is.HostKey) {
		all = append(all, "another host key")
	}
	return was.Name + " (" + strings.Join(all, ", ") + ")"
}

// shortened is a name that may be too long to be said.
func shortened(name string) string {
	if len(name) > 60 {
		return name[:60] + "…"
	}
	return name
}

// illNamed says why a host cannot be kept as it is: what is shown everywhere holds no
// character that acts on what shows it.
func illNamed(h view.Host) string {
	texts := []string{h.Name, h.Address, h.Login, strings.TrimSpace(h.HostKey)}
	for k, v := range h.Labels {
		texts = append(texts, k, v)
	}
	for _, t := range texts {
		if len(t) > 1000 || secret.Legible(t) != t || strings.ContainsAny(t, "\n\t") {
			return "a text of it is too long, or holds a character that cannot be shown"
		}
	}
	return ""
}

// carryOutHosts has hosts be reached in the way that two admins agreed on.
func (s *Store) carryOutHosts(ctx context.Context, tx pgx.Tx, actor string, body []byte) error {
	var hosts []view.Host
	if err := json.Unmarshal(body, &hosts); err != nil {
		return err
	}
	names := make([]string, len(hosts))
	var batch pgx.Batch
	for i, h := range hosts {
		names[i] = h.Name
		batch.Queue(`update hosts set address = $2, login = $3, host_key = $4, sudo = $5, via = $6 where name = $1 and`+serving, h.Name, h.Address, h.Login, h.HostKey, h.Sudo, h.Via)
	}
	if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
		return err
	}
	if err := s.leads(ctx, tx, hosts); err != nil {
		return err
	}
	if err := s.tellWaysIn(ctx, tx, actor, hosts); err != nil {
		return err
	}
	return s.happened(ctx, tx, actor, hostsAsked, 0, "hosts", map[string]any{"count": len(names), "hosts": names[:min(len(names), 50)]})
}

// Hosts gives all hosts by name, to be reached: each just as admins agreed on.
func (s *Store) Hosts(ctx context.Context) ([]view.Host, error) {
	return s.reachable(ctx, func() ([]view.Host, error) {
		return many[view.Host](ctx, s.pool, hostColumns+`where`+serving+`order by name`)
	})
}

// ToSweep gives hosts where a host run has ended longer ago than kept, and nobody took
// away yet what it left there: at most limit, in an order of chance, so that none that
// fails keeps others waiting. None where a host run is under way. An hour more is
// given, for clocks that differ.
func (s *Store) ToSweep(ctx context.Context, kept time.Duration, limit int) ([]view.Host, error) {
	if s.AnotherCopy() {
		return nil, nil
	}
	return s.reachable(ctx, func() ([]view.Host, error) {
		return many[view.Host](ctx, s.pool, hostColumns+`h where`+serving+`and coalesce(aside_until, '-infinity') < now() and exists (select from host_runs r where r.host_id = h.id and `+ended+`
				and r.updated_at + $1::interval + '1 hour' < now() and r.updated_at + $1::interval + '1 hour' > coalesce(h.swept_at, '-infinity'))
			and not exists (select from host_runs r where r.host_id = h.id and not `+ended+`) order by random() limit $2`, kept, limit)
	})
}

// ended picks the host runs that are over and may have left something behind.
const ended = `r.state in ('done', 'restored', 'stranded', 'passed-over')`

// Swept notes that what old host runs left on a host is gone.
func (s *Store) Swept(ctx context.Context, id int64) error {
	_, err := s.pool.Exec(ctx, `update hosts set swept_at = now() where id = $1`, id)
	return err
}

// HostFilter picks hosts for a list; the zero of each but Limit picks all.
type HostFilter struct {
	Name   string            // a part of it
	Labels map[string]string // all of them
	Where  string            // an expression over expr.HostVars
	After  string            // those behind this name
	Limit  int
}

// HostList gives the hosts that fit, by name.
func (s *Store) HostList(ctx context.Context, f HostFilter) ([]view.Host, error) {
	labels := f.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	var program *expr.Program
	most := &f.Limit
	if f.Where != "" { // the database does not know what it means
		var err error
		if program, err = expr.Compile(f.Where, expr.HostVars, expr.Bool); err != nil {
			return nil, unfit("where: %v", err)
		}
		most = nil
	}
	all, err := many[view.Host](ctx, s.pool, hostColumns+`where`+serving+`and name > $1 and position($2 in name) > 0 and labels @> $3 order by name limit $4`, f.After, f.Name, labels, most)
	if err != nil || program == nil {
		return orEmpty(all), err
	}
	fit := []view.Host{}
	for _, h := range all {
		yes, err := program.Bool(h.Expr().Vars())
		if err != nil {
			return nil, unfit("where: %s: %v", h.Name, err)
		}
		if yes && len(fit) < f.Limit {
			fit = append(fit, h)
		}
	}
	return fit, nil
}

// maxLabelValues bounds the values of labels that are listed.
const maxLabelValues = 2000

// Labels gives the labels that hosts have, by name.
func (s *Store) Labels(ctx context.Context) ([]view.Label, error) {
	type row struct {
		Name, Value string
		Hosts       int
	}
	rows, err := many[row](ctx, s.pool, `select l.key as name, l.value, count(*)::int as hosts from hosts, jsonb_each_text(labels) l where`+serving+`group by 1, 2 order by 1, 3 desc, 2 limit $1`, maxLabelValues)
	all := []view.Label{}
	for _, r := range rows {
		if len(all) == 0 || all[len(all)-1].Name != r.Name {
			all = append(all, view.Label{Name: r.Name})
		}
		last := &all[len(all)-1]
		last.Values = append(last.Values, view.LabelValue{Value: r.Value, Hosts: r.Hosts})
	}
	return all, err
}

// NoteAsk records that somebody asks hosts something, before it is asked.
func (s *Store) NoteAsk(ctx context.Context, actor, where, service string, asks []string, hosts int) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		return s.happened(ctx, tx, actor, "hosts.asked", 0, "hosts", map[string]any{"where": where, "service": service, "asks": asks, "hosts": hosts})
	})
}

// maxRaise bounds how far a fence is raised at once, so that no host can use up
// the numbers.
const maxRaise = 1_000_000_000

// Fences gives the newest fence of each host that is in service, by name.
func (s *Store) Fences(ctx context.Context) (map[string]int64, error) {
	all, err := many[struct {
		Name  string
		Fence int64
	}](ctx, s.pool, `select name, fence from hosts where`+serving)
	fences := map[string]int64{}
	for _, h := range all {
		fences[h.Name] = h.Fence
	}
	return fences, err
}

// RaiseFence raises one host's fence to what the host answered when it refused
// us: its database was lost, or came back from an older copy.
func (s *Store) RaiseFence(ctx context.Context, actor, name string, to int64) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var now int64
		err := tx.QueryRow(ctx, `select fence from hosts where name = $1 and`+serving+`for update`, name).Scan(&now)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return &NotFound{"host " + name}
		case err != nil:
			return err
		case to <= now:
			return unfit("fence %d is not above what we have for %s (%d); nothing has to be raised", to, name, now)
		case to-now > maxRaise:
			return unfit("fence %d is more than %d above ours (%d): no rollout of ours has come so far. Leave %s out and find out who wrote that number there", to, maxRaise, now, name)
		}
		if _, err := tx.Exec(ctx, `update hosts set fence = $2 where name = $1 and`+serving, name, to); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "host.fence-raised", 0, "host/"+name, map[string]any{"from": now, "to": to})
	})
}

// Host gives one host by name, to be reached as admins agreed on.
func (s *Store) Host(ctx context.Context, name string) (view.Host, error) {
	all, err := s.reachable(ctx, func() ([]view.Host, error) {
		h, err := one[view.Host](ctx, s.pool, "host "+name, hostColumns+`where name = $1 and`+serving, name)
		return []view.Host{h}, err
	})
	if err != nil {
		return view.Host{}, err
	}
	return all[0], nil
}

// Surveyed keeps what a survey found.
func (s *Store) Surveyed(ctx context.Context, id int64, t expr.Traits) (at time.Time, err error) {
	err = s.pool.QueryRow(ctx, `update hosts set traits = $2, surveyed_at = now(), missed_at = null, missed_why = '' where id = $1 returning surveyed_at`, id, t).Scan(&at)
	return at, err
}
