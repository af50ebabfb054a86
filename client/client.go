// Package client calls a Wide Ladder server over HTTP.
//
//	c := client.New("http://127.0.0.1:8480", token)
//	changes, err := c.Changes(ctx, client.ChangeFilter{})
package client

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"wladder/core/ladder"
	"wladder/core/record"
	"wladder/core/view"
)

// Client calls one server with one token.
type Client struct {
	base, token string
	http        http.Client
}

// New makes a client; the token may be empty before signing in.
func New(server, token string) *Client {
	return &Client{base: strings.TrimRight(server, "/"), token: token}
}

// Problem is a server's refusal.
type Problem struct {
	Status int    `json:"status"`
	Detail string `json:"detail"`
}

func (p *Problem) Error() string { return p.Detail }

// NotReached tells that no server answered.
type NotReached struct {
	Server string
	Err    error
}

func (n *NotReached) Error() string {
	return fmt.Sprintf("no answer from %s: %v", n.Server, n.Err)
}
func (n *NotReached) Unwrap() error { return n.Err }

func (c *Client) send(ctx context.Context, method, path, kind string, body []byte, header http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, bytes.NewReader(body))
	if err != nil {
		return nil, &NotReached{c.base, err}
	}
	for name, values := range header {
		request.Header[name] = values
	}
	request.Header.Set("Content-Type", kind)
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	response, err := c.http.Do(request)
	if err != nil {
		var call *url.Error
		if errors.As(err, &call) {
			err = call.Err
		}
		return nil, &NotReached{c.base, err}
	}
	if response.StatusCode < 400 {
		return response, nil
	}
	defer response.Body.Close()
	p := &Problem{Status: response.StatusCode}
	data, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if json.Unmarshal(data, p) != nil || p.Detail == "" {
		p.Detail = fmt.Sprintf("%s answered %s; is that a Wide Ladder server?", c.base, response.Status)
	}
	return nil, p
}

// sends is how often a request is sent that may be sent again.
const sends = 4

// sendOnce sends a request; what must not happen twice goes with a key, and so is sent again
// where no answer came.
func (c *Client) sendOnce(ctx context.Context, method, path, kind string, body []byte) (*http.Response, error) {
	if method != "POST" || !strings.HasPrefix(path, "/changes") && !strings.HasPrefix(path, "/halts") {
		return c.send(ctx, method, path, kind, body, nil)
	}
	header := http.Header{"Idempotency-Key": {rand.Text()}}
	for n := 1; ; n++ {
		response, err := c.send(ctx, method, path, kind, body, header)
		if lost := (*NotReached)(nil); !errors.As(err, &lost) || n == sends {
			return response, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(time.Duration(n) * 200 * time.Millisecond):
		}
	}
}

// call sends JSON, or YAML where in is a []byte, and reads JSON into T.
func call[T any](ctx context.Context, c *Client, method, path string, in any) (out T, err error) {
	body, isText := in.([]byte)
	kind := "application/yaml"
	if !isText {
		kind = "application/json"
		if body, err = json.Marshal(in); err != nil {
			return out, err
		}
	}
	response, err := c.sendOnce(ctx, method, path, kind, body)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	err = json.NewDecoder(response.Body).Decode(&out)
	if err == io.EOF {
		err = nil
	}
	return out, err
}

type none struct{}

func (c *Client) do(ctx context.Context, method, path string, in any) error {
	_, err := call[none](ctx, c, method, path, in)
	return err
}

func at(id int64, rest string) string { return fmt.Sprintf("/changes/%d%s", id, rest) }

// SignIn gives an account and its new token.
func (c *Client) SignIn(ctx context.Context, in view.SignIn) (view.SignedIn, error) {
	return call[view.SignedIn](ctx, c, "POST", "/session", in)
}

// SignOut ends the token.
func (c *Client) SignOut(ctx context.Context) error { return c.do(ctx, "DELETE", "/session", nil) }

// Who gives the account behind the token.
func (c *Client) Who(ctx context.Context) (view.Account, error) {
	return call[view.Account](ctx, c, "GET", "/session", nil)
}

// Hosts gives the hosts whose names hold part and that have all labels, each as
// KEY=VALUE.
func (c *Client) Hosts(ctx context.Context, part, where string, labels ...string) ([]view.Host, error) {
	return pages(ctx, c, "/hosts", url.Values{"name": {part}, "where": {where}, "label": labels}, func(h view.Host) string { return h.Name })
}

// pages reads a list page by page, each behind the name of the last one before.
func pages[T any](ctx context.Context, c *Client, path string, query url.Values, name func(T) string) (all []T, err error) {
	for {
		page, err := call[[]T](ctx, c, "GET", path+"?"+query.Encode(), nil)
		if err != nil || len(page) == 0 {
			return all, err
		}
		all = append(all, page...)
		query.Set("after", name(page[len(page)-1]))
	}
}

// Host gives one host.
func (c *Client) Host(ctx context.Context, name string) (view.Host, error) {
	return call[view.Host](ctx, c, "GET", "/hosts/"+url.PathEscape(name), nil)
}

// LoadHosts adds hosts, or brings labels up to date; where the way in to a known one
// changes, a second admin has to agree.
func (c *Client) LoadHosts(ctx context.Context, hosts []view.Host) (view.HostsLoaded, error) {
	return call[view.HostsLoaded](ctx, c, "POST", "/hosts", hosts)
}

// SetAside leaves a host alone until a time.
func (c *Client) SetAside(ctx context.Context, host string, a view.Aside) error {
	return c.do(ctx, "PATCH", "/hosts/"+url.PathEscape(host), view.HostChange{Aside: &a})
}

// TakeBack takes a host that was set aside back into service.
func (c *Client) TakeBack(ctx context.Context, host string) error {
	return c.do(ctx, "PATCH", "/hosts/"+url.PathEscape(host), view.HostChange{Back: true})
}

// RenameHost gives a host another name.
func (c *Client) RenameHost(ctx context.Context, host, to string) error {
	return c.do(ctx, "POST", "/hosts/"+url.PathEscape(host)+"/name", view.Renaming{To: to})
}

// RetireHost takes a host out of service for good.
func (c *Client) RetireHost(ctx context.Context, host, because string) error {
	return c.do(ctx, "POST", "/hosts/"+url.PathEscape(host)+"/retirement", view.Judgement{Because: because})
}

// HostKey gives the key that a host shows now, beside the pinned one.
func (c *Client) HostKey(ctx context.Context, host string) (view.HostKey, error) {
	return call[view.HostKey](ctx, c, "GET", "/hosts/"+url.PathEscape(host)+"/key", nil)
}

// PinKey pins the key that a host shows, where its fingerprint is the one given.
func (c *Client) PinKey(ctx context.Context, host, fingerprint string) (view.HostsLoaded, error) {
	return call[view.HostsLoaded](ctx, c, "POST", "/hosts/"+url.PathEscape(host)+"/key", view.KeyPinned{Fingerprint: fingerprint})
}

// Survey asks hosts what they are.
func (c *Client) Survey(ctx context.Context, where string) (view.Surveyed, error) {
	return call[view.Surveyed](ctx, c, "POST", "/survey", view.SurveyOrder{Where: where})
}

// Ask puts probes to hosts without a change.
func (c *Client) Ask(ctx context.Context, order view.AskOrder) (view.AskedHosts, error) {
	return call[view.AskedHosts](ctx, c, "POST", "/ask", order)
}

// Secrets gives the secrets, by name.
func (c *Client) Secrets(ctx context.Context) ([]view.Secret, error) {
	return call[[]view.Secret](ctx, c, "GET", "/secrets", nil)
}

// PutSecret keeps a secret's value as its next version. It may go where the binding
// says; as before where that is nil.
func (c *Client) PutSecret(ctx context.Context, name, value string, b *view.Binding) (view.Secret, error) {
	return call[view.Secret](ctx, c, "PUT", "/secrets/"+url.PathEscape(name), view.NewSecret{Value: value, Binding: b})
}

// BindSecret says where a secret may go.
func (c *Client) BindSecret(ctx context.Context, name string, b view.Binding) error {
	return c.do(ctx, "PUT", "/secrets/"+url.PathEscape(name)+"/binding", b)
}

// Services gives the newest version of each definition whose name holds part.
func (c *Client) Services(ctx context.Context, part string) ([]view.Service, error) {
	return pages(ctx, c, "/services", url.Values{"name": {part}}, func(s view.Service) string { return s.Name })
}

// Service gives the newest version of one definition.
func (c *Client) Service(ctx context.Context, name string) (view.Service, error) {
	return call[view.Service](ctx, c, "GET", "/services/"+url.PathEscape(name), nil)
}

// ServiceInForce gives the version of a definition that serves hosts.
func (c *Client) ServiceInForce(ctx context.Context, name string) (view.Service, error) {
	return call[view.Service](ctx, c, "GET", "/services/"+url.PathEscape(name)+"/in-force", nil)
}

// LoadService loads a definition's YAML.
func (c *Client) LoadService(ctx context.Context, text []byte) (view.Service, error) {
	return call[view.Service](ctx, c, "POST", "/services", text)
}

// ApproveService lets a version serve hosts.
func (c *Client) ApproveService(ctx context.Context, name, digest string) error {
	return c.do(ctx, "POST", "/services/"+url.PathEscape(name)+"/approval", view.Judgement{Digest: digest})
}

// Draft drafts a change from YAML, or a new revision where id is not 0.
func (c *Client) Draft(ctx context.Context, id int64, text []byte) (int64, error) {
	path := "/changes"
	if id != 0 {
		path = at(id, "/revisions")
	}
	made, err := call[view.Created](ctx, c, "POST", path, text)
	return made.ID, err
}

// Counter drafts the opposite of a change.
func (c *Client) Counter(ctx context.Context, id int64, because string) (int64, error) {
	made, err := call[view.Created](ctx, c, "POST", at(id, "/counter"), view.Judgement{Because: because})
	return made.ID, err
}

// Runs gives a page of the host runs of the newest climb behind the number after;
// where since is set, of those that changed since.
func (c *Client) Runs(ctx context.Context, id, after int64, since time.Time) (view.Runs, error) {
	query := url.Values{"after": {fmt.Sprint(after)}}
	if !since.IsZero() {
		query.Set("since", since.Format(time.RFC3339Nano))
	}
	return call[view.Runs](ctx, c, "GET", at(id, "/runs?"+query.Encode()), nil)
}

// AllRuns reads the pages of Runs to their end.
func (c *Client) AllRuns(ctx context.Context, id int64, since time.Time) (all view.Runs, err error) {
	for after := int64(0); ; {
		page, err := c.Runs(ctx, id, after, since)
		if err != nil {
			return all, err
		}
		if all.AsOf.IsZero() {
			all.AsOf = page.AsOf // what changes while we read is read again
		}
		all.Runs = append(all.Runs, page.Runs...)
		if !page.More {
			return all, nil
		}
		after = page.Runs[len(page.Runs)-1].ID
	}
}

// RehearsedHosts gives all hosts of a rehearsal's diff group; an empty group is
// all of them.
func (c *Client) RehearsedHosts(ctx context.Context, id int64, group string) (all []view.RehearsedHost, err error) {
	for after := ""; ; {
		page, err := call[[]view.RehearsedHost](ctx, c, "GET", at(id, "/rehearsal/hosts?"+url.Values{"group": {group}, "after": {after}}.Encode()), nil)
		if err != nil || len(page) == 0 {
			return all, err
		}
		all, after = append(all, page...), page[len(page)-1].Host
	}
}

// LeaveOut takes a host out of an approved plan.
func (c *Client) LeaveOut(ctx context.Context, id int64, host, because string) error {
	return c.do(ctx, "POST", at(id, "/left-out"), view.Exclusion{Host: host, Because: because})
}

// NewerHosts asks hosts which fence they have seen, and names those that are newer than the database.
func (c *Client) NewerHosts(ctx context.Context, where string, raise bool) (view.HostsBeside, error) {
	return call[view.HostsBeside](ctx, c, "POST", "/hosts/newer", view.CompareOrder{Where: where, Raise: raise})
}

// RaiseFence raises a host's fence to what the host has seen.
func (c *Client) RaiseFence(ctx context.Context, host string) (view.Raised, error) {
	return call[view.Raised](ctx, c, "POST", "/hosts/"+url.PathEscape(host)+"/fence", nil)
}

// Checkpoint has the server sign where its record ends.
func (c *Client) Checkpoint(ctx context.Context) (record.Checkpoint, error) {
	return call[record.Checkpoint](ctx, c, "GET", "/record/checkpoint", nil)
}

// Try says what a definition would find on a host, before it is approved.
func (c *Client) Try(ctx context.Context, source []byte, host string) (view.Tried, error) {
	return call[view.Tried](ctx, c, "POST", "/tries", view.Trying{Source: string(source), Host: host})
}

// ApproveTry lets a version of a definition be tried on one host for a day.
func (c *Client) ApproveTry(ctx context.Context, name, digest, host string) error {
	return c.do(ctx, "POST", "/services/"+url.PathEscape(name)+"/try-approval", view.TryApproval{Digest: digest, Host: host})
}

// WithdrawService has a version serve no host any more.
func (c *Client) WithdrawService(ctx context.Context, name, digest, because string) error {
	return c.do(ctx, "POST", "/services/"+url.PathEscape(name)+"/withdrawal", view.Judgement{Digest: digest, Because: because})
}

// Changes gives the newest changes.
func (c *Client) Changes(ctx context.Context, f ChangeFilter) ([]view.Change, error) {
	query := url.Values{"state": {f.State}, "service": {f.Service}, "author": {f.Author}, "limit": {strconv.Itoa(cmp.Or(f.Limit, 500))}}
	if f.Before > 0 {
		query.Set("before", strconv.FormatInt(f.Before, 10))
	}
	return call[[]view.Change](ctx, c, "GET", "/changes?"+query.Encode(), nil)
}

// ChangeFilter chooses changes; what is empty chooses all, up to 500.
type ChangeFilter struct {
	State, Service, Author string
	Limit                  int
	Before                 int64 // number of a change
}

// Change gives a change's summary.
func (c *Client) Change(ctx context.Context, id int64) (view.ChangeDetail, error) {
	return call[view.ChangeDetail](ctx, c, "GET", at(id, ""), nil)
}

// Rehearse begins a rehearsal.
func (c *Client) Rehearse(ctx context.Context, id int64) error {
	return c.do(ctx, "POST", at(id, "/rehearsal"), nil)
}

// RehearseMissed begins a rehearsal of those hosts alone that the last one did not get into
// its plan.
func (c *Client) RehearseMissed(ctx context.Context, id int64) error {
	return c.do(ctx, "POST", at(id, "/rehearsal?hosts=missed"), nil)
}

// Offer offers the plan for review.
func (c *Client) Offer(ctx context.Context, id int64) error {
	return c.do(ctx, "POST", at(id, "/offer"), nil)
}

// Approve approves the plan under its digest.
func (c *Client) Approve(ctx context.Context, id int64, digest string) error {
	return c.do(ctx, "POST", at(id, "/approval"), view.Judgement{Digest: digest})
}

// Whole gives the files of one host of a change's plan, with all of their lines.
func (c *Client) Whole(ctx context.Context, id int64, host string) (view.WholeFiles, error) {
	return call[view.WholeFiles](ctx, c, "GET", at(id, "/rehearsal/hosts/"+url.PathEscape(host)), nil)
}

// PickedHosts names up to n hosts of a change's plan at random, of a diff group where one is given.
func (c *Client) PickedHosts(ctx context.Context, id int64, group string, n int) ([]string, error) {
	return call[[]string](ctx, c, "GET", at(id, "/rehearsal/picked?"+url.Values{"group": {group}, "limit": {strconv.Itoa(n)}}.Encode()), nil)
}

// PlansCompared says what differs between two plans of a change, by their digests or the
// first 12 characters of these; to may be empty for the newest plan.
func (c *Client) PlansCompared(ctx context.Context, id int64, from, to string) (view.PlansCompared, error) {
	return call[view.PlansCompared](ctx, c, "GET", at(id, "/differences?"+url.Values{"from": {from}, "to": {to}}.Encode()), nil)
}

// Decline declines the plan.
func (c *Client) Decline(ctx context.Context, id int64, because string) error {
	return c.do(ctx, "POST", at(id, "/decline"), view.Judgement{Because: because})
}

// ClimbBehind starts the hosts of the approved plan that were passed over.
func (c *Client) ClimbBehind(ctx context.Context, id int64) error {
	return c.do(ctx, "POST", at(id, "/climb?hosts=behind"), nil)
}

// FollowUp drafts a change with the same edits for hosts that are not done with this one.
func (c *Client) FollowUp(ctx context.Context, id int64, because string) (int64, error) {
	made, err := call[view.Created](ctx, c, "POST", at(id, "/follow-up"), view.Judgement{Because: because})
	return made.ID, err
}

// Climb starts the approved plan.
func (c *Client) Climb(ctx context.Context, id int64) error {
	return c.do(ctx, "POST", at(id, "/climb"), nil)
}

// Order tells a climb to pause, resume, stop or roll back, and why.
func (c *Client) Order(ctx context.Context, id int64, o ladder.Order, because string) error {
	return c.do(ctx, "POST", at(id, "/orders"), view.Order{Order: o, Because: because})
}

// OrderHost has one host of a climb be tried again (again) or given up (give-up), or
// has its old files put over what somebody edited (overwrite).
func (c *Client) OrderHost(ctx context.Context, id int64, host, order, because string) error {
	return c.do(ctx, "POST", at(id, "/runs/"+url.PathEscape(host)+"/orders"), view.HostOrder{Order: order, Because: because})
}

// Answer notes what was seen of a check at the gate.
func (c *Client) Answer(ctx context.Context, id int64, in view.Checked) error {
	return c.do(ctx, "POST", at(id, "/checks"), in)
}

// Receivers gives who is told of what asks for people, and what waits for each.
func (c *Client) Receivers(ctx context.Context) ([]view.Receiver, error) {
	return call[[]view.Receiver](ctx, c, "GET", "/receivers", nil)
}

// Halts gives the halts that hold.
func (c *Client) Halts(ctx context.Context) ([]view.Halt, error) {
	return call[[]view.Halt](ctx, c, "GET", "/halts", nil)
}

// Halt has no climb change hosts that where fits, or any at all, and gives its number.
func (c *Client) Halt(ctx context.Context, where, because string) (int64, error) {
	made, err := call[view.Created](ctx, c, "POST", "/halts", view.Halting{Where: where, Because: because})
	return made.ID, err
}

// LiftHalt lifts a halt.
func (c *Client) LiftHalt(ctx context.Context, number int64, because string) error {
	return c.do(ctx, "POST", fmt.Sprintf("/halts/%d/lifting", number), view.Lifting{Because: because})
}

// HostRun gives one host's run with its steps.
func (c *Client) HostRun(ctx context.Context, id int64, host string) (view.HostRun, error) {
	return call[view.HostRun](ctx, c, "GET", at(id, "/runs/"+url.PathEscape(host)), nil)
}

// Record gives entries behind after; id 0 means all changes.
func (c *Client) Record(ctx context.Context, id, after int64) ([]record.Entry, error) {
	return call[[]record.Entry](ctx, c, "GET", fmt.Sprintf("/record?change=%d&after=%d", id, after), nil)
}

// RecordFilter picks entries of the record; what is empty picks all.
type RecordFilter struct {
	Change   int64
	Host, By string
	Since    time.Time
	Before   int64 // entries with a smaller number
	Limit    int   // 500 at most
}

// Told gives entries of the record in sentences, the newest first.
func (c *Client) Told(ctx context.Context, f RecordFilter) ([]view.Sentence, error) {
	q := url.Values{"limit": {strconv.Itoa(f.Limit)}}
	for name, n := range map[string]int64{"change": f.Change, "before": f.Before} {
		if n != 0 {
			q.Set(name, strconv.FormatInt(n, 10))
		}
	}
	for name, text := range map[string]string{"host": f.Host, "by": f.By} {
		if text != "" {
			q.Set(name, text)
		}
	}
	if !f.Since.IsZero() {
		q.Set("since", f.Since.UTC().Format(time.RFC3339Nano))
	}
	return call[[]view.Sentence](ctx, c, "GET", "/record/told?"+q.Encode(), nil)
}

// Verify tells whether the record holds.
func (c *Client) Verify(ctx context.Context) (view.Verification, error) {
	return call[view.Verification](ctx, c, "GET", "/record/verification", nil)
}

// Event is one message of the event stream.
type Event struct {
	ID   int64 // of an entry of the record; 0 for hints
	Type string
	Data []byte
}

// Follow calls f for each event of a change until the context ends or f gives
// an error; it connects again when the stream breaks, and misses no entry.
func (c *Client) Follow(ctx context.Context, id int64, f func(Event) error) error {
	last := int64(0)
	for {
		header := http.Header{}
		if last > 0 {
			header.Set("Last-Event-ID", strconv.FormatInt(last, 10))
		}
		response, err := c.send(ctx, "GET", at(id, "/events"), "text/plain", nil, header)
		if err != nil {
			if p, ok := err.(*Problem); ok && p.Status < 500 || last == 0 {
				return err
			}
		} else {
			err = events(response.Body, func(e Event) error {
				last = max(last, e.ID)
				return f(e)
			})
			response.Body.Close()
			if err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// events reads Server-Sent Events to the end of the stream; the error is f's.
func events(r io.Reader, f func(Event) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 4<<20)
	var e Event
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch name {
		case "id":
			e.ID, _ = strconv.ParseInt(value, 10, 64)
		case "event":
			e.Type = value
		case "data":
			e.Data = append(e.Data, value...)
		case "":
			comment := lines.Text() != "" // it wakes the reader; an empty line ends an event, or is behind a comment
			if comment != (e.Type == "") {
				continue
			}
			if err := f(e); err != nil {
				return err
			}
			e = Event{}
		}
	}
	return nil
}
