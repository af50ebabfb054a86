package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/ladder"
	"wladder/core/record"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
	"wladder/store"
)

// TestHostsByWayOfOthers rehearses and changes hosts that are reached by way of another,
// their probes as well, which two admins agreed on.
func TestHostsByWayOfOthers(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 3, func(i int, c *standin.Config) { c.Forwards = i == 0 })
	load := func(name, via string) (view.HostsLoaded, error) {
		h, err := r.store.Host(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		h.Via = via
		return r.store.LoadHosts(ctx, "ada", []view.Host{h})
	}
	for name, via := range map[string]string{"b01": "b00", "b02": "b01"} {
		out, err := load(name, via)
		if err != nil || out.Request == 0 {
			t.Fatalf("%+v, %v", out, err)
		}
		if h, err := r.store.Host(ctx, name); err != nil || h.Via != "" {
			t.Errorf("%s is reached by way of %q before a second admin agreed, %v", name, h.Via, err)
		}
		if err := r.store.Decide(ctx, "ada", out.Request, true); err == nil {
			t.Error("the admin who asked agreed")
		}
		if err := r.store.Decide(ctx, "ben", out.Request, true); err != nil {
			t.Fatal(err)
		}
	}
	h, err := r.store.Host(ctx, "b02")
	if err != nil || len(h.Hops) != 2 || h.Hops[0].Name != "b00" || h.Hops[1].Name != "b01" {
		t.Fatalf("%+v, %v", h.Hops, err)
	}
	if out, err := load("b00", "b09"); err == nil {
		t.Errorf("by way of a host that is not known: %+v", out)
	}
	out, err := load("b00", "b02")
	if err == nil && out.Request != 0 {
		err = r.store.Decide(ctx, "ben", out.Request, true)
	}
	if err == nil {
		t.Error("hosts are reached in a circle")
	}

	// b01 forwards nothing: b02 is not reached, by its name and not as if it were ill itself.
	id := r.draft(connections, quick)
	d := r.rehearse(id)
	if text := fmt.Sprint(d.Rehearsal.Groups); d.Rehearsal.Planned != 2 || !strings.Contains(text, "by way of b01: ") || !strings.Contains(text, "no-way-there") {
		t.Errorf("%d planned: %s", d.Rehearsal.Planned, text)
	}
	if h, err := r.store.Host(ctx, "b02"); err != nil || h.MissedAt == nil || h.MissedWhy != "no-way-there" {
		t.Errorf("b02 was missed at %v: %q, %v", h.MissedAt, h.MissedWhy, err)
	}
	d = r.approved(r.draft(connections, quick))
	d = r.climb(d.ID)
	if run := find(d, "b01"); run.State != ladder.Done || run.Proof != ladder.ProofInForce {
		t.Errorf("b01 by way of b00 is %+v", run)
	}

	// Its name changes, and those behind it are reached as before.
	if err := r.store.Retire(ctx, "ada", "b00", "scrapped"); err == nil || !strings.Contains(err.Error(), "b00 is the way to b01") {
		t.Errorf("the way to others is retired: %v", err)
	}
	if err := r.store.Rename(ctx, "ada", "b00", "b01"); !errors.As(err, new(*store.Conflict)) {
		t.Errorf("two hosts of one name: %v", err)
	}
	if err := r.store.Rename(ctx, "ada", "b00", "gate"); err != nil {
		t.Fatal(err)
	}
	if _, failed, err := r.engine.Survey(ctx, `name != "b02"`); err != nil || len(failed) != 0 {
		t.Errorf("after the rename: %v, %v", failed, err)
	}
}

// TestHostsComeAndGo takes hosts aside, back and out of service, and pins a host's key.
func TestHostsComeAndGo(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 3)
	for _, until := range []time.Time{time.Now().Add(-time.Minute), time.Now().AddDate(2, 0, 0)} {
		if err := r.store.SetAside(ctx, "tam", "b01", "its disk is changed", until); err == nil {
			t.Errorf("set aside until %s", until)
		}
	}
	if err := r.store.SetAside(ctx, "tam", "b01", "its disk is changed", time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	before := len(r.hosts[1].Ran())
	id := r.draft(connections, quick)
	d := r.rehearse(id)
	if text := fmt.Sprint(d.Rehearsal.Groups); d.Rehearsal.Planned != 2 || !strings.Contains(text, "set aside by tam until") || !strings.Contains(text, "its disk is changed") {
		t.Errorf("%d planned: %s", d.Rehearsal.Planned, text)
	}
	_, failed, err := r.engine.Survey(ctx, "")
	if err != nil || len(failed) != 1 || !strings.Contains(fmt.Sprint(failed["b01"]), "set aside by tam") {
		t.Errorf("surveyed: %v, %v", failed, err)
	}
	asked, err := r.engine.Ask(ctx, "ines", `name == "b01"`, "pages", []string{"unit nginx.service"})
	if err != nil || !strings.Contains(fmt.Sprint(asked.Answers), "set aside by tam") {
		t.Errorf("asked: %+v, %v", asked, err)
	}
	if after := len(r.hosts[1].Ran()); after != before {
		t.Errorf("%d scripts ran on a host that is set aside", after-before)
	}

	// Set aside after the approval, and retired after it: passed over, with the reason.
	if err := r.store.TakeBack(ctx, "tam", "b01"); err != nil {
		t.Fatal(err)
	}
	if err := r.store.TakeBack(ctx, "tam", "b01"); err == nil {
		t.Error("it is taken back twice")
	}
	d = r.approved(r.draft(connections, "{stages: [{up-to: 100%}], at_once: 3, soak: 300ms, pause_after: 3}"))
	if d.Rehearsal.Planned != 3 {
		t.Fatalf("%d planned once it is back", d.Rehearsal.Planned)
	}
	if err := r.store.SetAside(ctx, "tam", "b01", "its fan is changed", time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := r.store.Retire(ctx, "ada", "b02", "scrapped"); err != nil {
		t.Fatal(err)
	}
	before = len(r.hosts[1].Ran()) + len(r.hosts[2].Ran())
	d = r.climb(d.ID)
	for name, why := range map[string]string{"b01": "tam set it aside: its fan is changed", "b02": "the host is retired"} {
		if run := find(d, name); run.State != ladder.PassedOver || !strings.Contains(run.Why, why) {
			t.Errorf("%s is %s (%s)", name, run.State, run.Why)
		}
	}
	if run := find(d, "b00"); run.State != ladder.Done {
		t.Errorf("b00 is %s (%s)", run.State, run.Why)
	}
	if after := len(r.hosts[1].Ran()) + len(r.hosts[2].Ran()); after != before {
		t.Errorf("%d scripts ran on hosts that are set aside or retired", after-before)
	}

	// Its name is free; the new host of that name has no key until a person pins one.
	if _, err := r.store.Host(ctx, "b02"); !errors.As(err, new(*store.NotFound)) {
		t.Errorf("a retired host: %v", err)
	}
	fresh := view.Host{Name: "b02", Address: r.hosts[2].Address, Login: "root", Labels: map[string]string{"role": "bulletin"}}
	if out, err := r.store.LoadHosts(ctx, "ada", []view.Host{fresh}); err != nil || out.Added != 1 {
		t.Fatalf("%+v, %v", out, err)
	}
	key, err := r.engine.HostKey(ctx, "b02")
	if err != nil || key.Pinned != "" || key.Fingerprint != ssh.FingerprintSHA256(signer(1).PublicKey()) {
		t.Fatalf("%+v, %v", key, err)
	}
	if _, failed, _ := r.engine.Survey(ctx, `name == "b02"`); host.RefusalOf(failed["b02"]) != host.KeyUnknown {
		t.Errorf("without a key: %v", failed)
	}
	if _, err := r.engine.PinKey(ctx, "ada", "b02", ssh.FingerprintSHA256(signer(9).PublicKey())); !errors.As(err, new(*store.Conflict)) {
		t.Errorf("another fingerprint than it shows: %v", err)
	}
	if out, err := r.engine.PinKey(ctx, "ada", "b02", key.Fingerprint); err != nil || out.Pinned != 1 || out.Request != 0 {
		t.Errorf("%+v, %v", out, err)
	}
	if _, failed, err := r.engine.Survey(ctx, ""); err != nil || len(failed) != 1 || failed["b02"] != nil {
		t.Errorf("with its key: %v, %v", failed, err)
	}
	if out, err := r.store.LoadHosts(ctx, "ada", []view.Host{fresh}); err != nil || out.Request != 0 {
		t.Errorf("loaded again from a file without keys: %+v, %v", out, err)
	}
	// Another key in place of one that was pinned wants a second admin.
	h, err := r.store.Host(ctx, "b00")
	if err != nil {
		t.Fatal(err)
	}
	h.HostKey = string(ssh.MarshalAuthorizedKey(signer(9).PublicKey()))
	out, err := r.store.LoadHosts(ctx, "ada", []view.Host{h})
	if err != nil || out.Pinned != 0 || out.Request == 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	if err := r.store.Decide(ctx, "ben", out.Request, true); err != nil {
		t.Fatal(err)
	}
	if out, err = r.engine.PinKey(ctx, "ada", "b00", key.Fingerprint); err != nil || out.Request == 0 {
		t.Errorf("a key in another's place: %+v, %v", out, err)
	}
	if _, err := r.store.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	all, err := r.store.Record(ctx, 0, 0, 1000)
	for _, kind := range []string{"host.set-aside", "host.taken-back", "host.retired", "host.way-in-ended"} {
		if err != nil || !slices.ContainsFunc(all, func(e record.Entry) bool { return e.Kind == kind }) {
			t.Errorf("the record has no %s, %v", kind, err)
		}
	}
}
