package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/conf"
	"wladder/core/drift"
	"wladder/core/ladder"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/standin"
)

// fleetDefinition has a setting with two names and a default, and an in-force check that can
// be asked at any time.
const fleetDefinition = `
service: pages
title: Bulletin pages
where: labels.role == "bulletin"
unit: nginx.service
files: {main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}}
acts:
  - {name: reload, command: [systemctl, reload, nginx.service]}
in-force: {ask: unit nginx.service, expect: state == "active"}
settings:
  - {address: events/worker_connections, type: integer, range: 64..65536, act: reload, default: 512, synonyms: [events/multi_accept]}
  - {address: http/index, type: text, secret: true, act: reload}
settle: 1s
`

// TestFleet climbs a change on hosts, has people do on them what people do, and holds what is
// told of the fleet against it: drift, a setting by its values, two hosts side by side, a
// host's files, and the past of a setting.
func TestFleet(t *testing.T) {
	t.Parallel()
	r := newRig(t, 10, func(i int, c *standin.Config) {
		text := strings.Replace(confText, "http {", "http {\n    index swordfish-99;", 1)
		if i == 8 {
			text = strings.Replace(text, "worker_connections 512; # per worker", "multi_accept 640;", 1)
		}
		if i == 9 {
			text = strings.Replace(text, "    worker_connections 512; # per worker\n", "", 1)
		}
		c.Image = map[string]string{confPath: text}
	})
	r.load("pages", fleetDefinition)
	ctx := t.Context()
	id := r.drafted("title: More connections\nreason: a flood\nservice: pages\nwhere: name < \"b08\"\ncount: 8\nedits:\n  - {set: events/worker_connections, to: 2048}\nladder: " + quick + "\n")
	r.approved(id)
	if d := r.climb(id); d.State != "completed" || d.Counts[ladder.Done] != 8 {
		t.Fatalf("the climb ended %s with %v", d.State, d.Counts)
	}
	before := r.file(9)
	now, _ := r.hosts[0].Files.Read(confPath)
	base := strings.Replace(string(now), "2048", "512", 1)
	look := func(where string) view.Drift {
		t.Helper()
		missed, err := r.engine.LookForDrift(ctx, where)
		if err != nil {
			t.Fatal(err)
		}
		d, err := r.store.Drift(ctx, "")
		if err != nil {
			t.Fatal(err)
		}
		d.Missed = missed
		return d
	}
	if d := look(""); len(d.Paths)+len(d.Unready)+len(d.Missed) > 0 || d.Looked != 8 || d.NotLooked != 0 {
		t.Errorf("right after the climb it is told: %+v", d)
	}

	edited := strings.Replace(string(now), "2048", "4096", 1)
	r.hosts[1].Files.Write(confPath, []byte(edited))
	r.hosts[2].Files.Write(confPath, []byte(base))
	r.hosts[3].Files.Write(confPath, []byte("# as packaged\n"+base))
	r.hosts[3].Files.Write(confPath+".dpkg-old", now)
	r.hosts[4].Files.Remove(confPath)
	r.hosts[5].Files.Own(confPath, "www-data", "root", 0o640)
	r.hosts[6].Files.Write(confPath, now) // the same again
	r.hosts[7].Close()
	want := map[string]drift.Kind{"b01": drift.Edited, "b02": drift.Back, "b03": drift.Replaced, "b04": drift.Gone, "b05": drift.Rights}
	check := func(d view.Drift, want map[string]drift.Kind) {
		t.Helper()
		got := map[string]drift.Kind{}
		for _, p := range d.Paths {
			got[p.Host] = drift.Kind(p.Kind)
			if p.Path != confPath || p.Change != id || p.Words == "" {
				t.Errorf("%+v", p)
			}
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("it drifted: %v; want %v", got, want)
		}
	}
	d := look("")
	check(d, want)
	if len(d.Missed) != 1 || d.Missed["b07"] == "" {
		t.Errorf("not reached: %v; want b07", d.Missed)
	}
	r.hosts[1].Files.Write(confPath, now) // one is put back by hand
	delete(want, "b01")
	check(look(`name == "b01" || name == "b02"`), want)
	entries := r.kinds("host.drifted", "host.drift-ended")
	if entries["host.drifted"] != 5 || entries["host.drift-ended"] != 1 {
		t.Errorf("the record tells of %v; want each once", entries)
	}

	// What drifted is shown beside what was left there, with the edits that would put it back.
	for host, want := range map[string]view.DriftedPath{
		"b02": {Service: "pages", Diff: "-    worker_connections 2048; # per worker\n+    worker_connections 512; # per worker\n", Edits: "- set: events/worker_connections\n  to: \"2048\"\n"},
		"b04": {Service: "pages", Why: "does not exist"},
		"b01": {Service: "pages"},
	} {
		got, err := r.engine.Drifted(ctx, host, confPath)
		if err != nil || got.Service != want.Service || got.Edits != want.Edits || got.Why != want.Why || !strings.Contains(got.Diff, want.Diff) || want.Diff == "" && got.Diff != "" || got.Change != id || strings.Contains(got.Diff, "swordfish") {
			t.Errorf("%s: %+v, %v; want %+v", host, got, err, want)
		}
	}
	if _, err := r.engine.Drifted(ctx, "b02", "/etc/shadow"); err == nil || !strings.Contains(err.Error(), "there is no") {
		t.Errorf("a path that nobody placed: %v", err)
	}
	// Somebody has it stay: it counts again once it stands otherwise.
	for because, refused := range map[string]bool{"": true, "the old value did": false} {
		if err := r.engine.Accept(ctx, "ines", "b02", confPath, because); (err != nil) != refused {
			t.Errorf("accepted because of %q: %v", because, err)
		}
	}
	delete(want, "b02")
	check(look(`name == "b02"`), want)
	if err := r.engine.Accept(ctx, "ines", "b02", confPath, "once more"); err == nil || !strings.Contains(err.Error(), "is as it was left") {
		t.Errorf("accepted what has not drifted: %v", err)
	}
	r.hosts[2].Files.Write(confPath, []byte(base+"# more\n"))
	want["b02"] = drift.Edited
	check(look(`name == "b02"`), want)
	r.hosts[2].Files.Write(confPath, []byte(base))
	delete(want, "b02")
	check(look(`name == "b02"`), want)

	compared, err := r.engine.Compare(ctx, view.Comparing{Service: "pages", Address: "events/worker_connections"})
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, v := range compared.Values {
		told = append(told, fmt.Sprintf("%s %t %v %s", v.Value, v.Missing, v.As, strings.Join(v.Hosts, " ")))
	}
	if want := []string{"2048 false [] b00 b01 b05 b06", "512 false [] b02 b03", "512 true [] b09", "640 false [events/multi_accept] b08", "does not exist true [] b04"}; !slices.Equal(told, want) || compared.Hosts != 9 || compared.Missed["b07"] == "" {
		t.Errorf("compared: %q of %d hosts, not reached %v; want %q", told, compared.Hosts, compared.Missed, want)
	}
	for _, c := range []struct {
		c    view.Comparing
		want string
	}{
		{view.Comparing{Service: "none", Address: "a"}, "there is no"},
		{view.Comparing{Service: "pages", Address: "a["}, "address a[: "},
		{view.Comparing{Service: "pages", Address: "a", File: "other"}, `file "other" is not one of service pages; it has main`},
		{view.Comparing{Service: "pages", Address: "a", Where: "cores =="}, "where: "},
		{view.Comparing{Service: "pages", Address: "a", Where: "cores > 99"}, "matches no host"},
		{view.Comparing{Service: "pages", Hosts: []string{"b00"}}, "want two hosts"},
	} {
		if _, err := r.engine.Compare(ctx, c.c); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v; want %q", c.c, err, c.want)
		}
	}
	two, err := r.engine.Compare(ctx, view.Comparing{Service: "pages", Hosts: []string{"b08", "b00"}})
	if err != nil || two.Alike < 3 {
		t.Errorf("%d settings are alike, %v", two.Alike, err)
	}
	told = nil
	for _, s := range two.Differ {
		told = append(told, fmt.Sprintf("%s %s %q", s.File, s.Address, s.Values))
	}
	if want := []string{`main events/multi_accept ["640" ""]`, `main events/worker_connections ["" "2048"]`}; !slices.Equal(told, want) {
		t.Errorf("side by side they differ in %q; want %q", told, want)
	}
	covered, err := r.engine.Compare(ctx, view.Comparing{Service: "pages", Address: "http/index"})
	if err != nil || strings.Contains(fmt.Sprint(covered), "swordfish") || covered.Values[0].Value != secret.Placeholder {
		t.Errorf("a secret is compared as %+v, %v", covered, err)
	}

	files, err := r.engine.HostFiles(ctx, "b00", "pages", "main")
	if err != nil || len(files.Files) != 1 || files.Files[0].Text != strings.Replace(string(now), "swordfish-99", secret.Placeholder, 1) || files.Files[0].Owner != "root" {
		t.Errorf("the files of b00 are %+v, %v", files, err)
	}
	at := slices.IndexFunc(files.Files[0].Settings, func(s conf.Setting) bool { return s.Address == "events/worker_connections" })
	if at < 0 || files.Files[0].Settings[at].InForce == "" || files.Files[0].Settings[at].Value != "2048" {
		t.Errorf("its settings are %+v", files.Files[0].Settings)
	}
	if r.file(9) != before {
		t.Error("looking has changed a file")
	}

	// Somebody edits by hand, a second change builds on that, and somebody edits again.
	r.hosts[0].Files.Write(confPath, []byte(strings.Replace(string(now), "2048", "3000", 1)))
	again := r.drafted("title: Still more\nreason: a flood\nservice: pages\nwhere: name == \"b00\"\ncount: 1\nedits:\n  - {set: events/worker_connections, to: 5000}\nladder: " + quick + "\n")
	r.approved(again)
	r.climb(again)
	r.hosts[0].Files.Write(confPath, []byte(edited))
	past, err := r.engine.History(ctx, "b00", "pages", "", "events/worker_connections")
	if err != nil {
		t.Fatal(err)
	}
	told = nil
	for _, p := range past {
		told = append(told, fmt.Sprintf("%d %s %s→%s %.12s", p.Change, p.By, p.From, p.To, p.What))
	}
	if want := []string{"1 ines 512→2048 ", "0  2048→3000 found so by ", "2 ines 3000→5000 ", "0  5000→4096 found so now"}; !slices.Equal(told, want) {
		t.Errorf("its past is %q; want %q", told, want)
	}
}

// kinds counts entries of the record.
func (r *rig) kinds(kinds ...string) map[string]int {
	r.t.Helper()
	if _, err := r.store.AppendRecord(r.t.Context()); err != nil {
		r.t.Fatal(err)
	}
	counts := map[string]int{}
	for after := int64(0); ; {
		some, err := r.store.Record(r.t.Context(), 0, after, 1000)
		if err != nil {
			r.t.Fatal(err)
		}
		for _, e := range some {
			if slices.Contains(kinds, e.Kind) {
				counts[e.Kind]++
			}
			after = e.Seq
		}
		if len(some) < 1000 {
			return counts
		}
	}
}

// TestDriftIsLookedForAgain has the standing look find what was edited, each host once in a
// span and at a moment of its own.
func TestDriftIsLookedForAgain(t *testing.T) {
	t.Parallel()
	r := newRig(t, 6)
	id := r.draft("  - {set: events/worker_connections, to: 2048}", quick)
	r.approved(id)
	r.climb(id)
	r.hosts[3].Files.Write(confPath, []byte(confText))
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	// Within half a span of the climb about half the hosts are due; after a whole one, all.
	due, err := r.store.DueForDrift(ctx, 24*time.Hour, 100)
	if err != nil || len(due) > 1 { // as good as nobody within a second of a day
		t.Errorf("%d of 6 hosts are due at once, %v", len(due), err)
	}
	events, end := r.engine.Subscribe(id)
	defer end()
	ended := make(chan struct{})
	go func() { r.engine.WatchDrift(ctx, 500*time.Millisecond); close(ended) }()
	for {
		d, err := r.store.Drift(ctx, "")
		if err != nil {
			t.Fatal(err)
		}
		if len(d.Paths) == 1 && d.NotLooked == 0 {
			if p := d.Paths[0]; p.Host != "b03" || p.Kind != string(drift.Back) {
				t.Errorf("it found %+v", p)
			}
			break
		}
		select {
		case <-events:
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			t.Fatalf("it found %+v", d)
		}
	}
	stop()
	<-ended
	r.verifyRecord()
}

// TestDerivedFromACopy has somebody edit a host's file by hand, and a change be derived from
// that: with the secrets in it or covered, and not where a secret was edited.
func TestDerivedFromACopy(t *testing.T) {
	t.Parallel()
	text := strings.Replace(confText, "http {", "http {\n    index swordfish-99;", 1)
	r := newRig(t, 2, func(_ int, c *standin.Config) { c.Image = map[string]string{confPath: text} })
	r.load("pages", fleetDefinition)
	ctx := t.Context()
	for _, c := range []struct{ copied, edits, refused string }{
		{strings.Replace(text, "512", "2048", 1), "- set: events/worker_connections\n  to: \"2048\"\n", ""},
		{strings.Replace(strings.Replace(text, "512", "2048", 1), "swordfish-99", secret.Placeholder, 1), "- set: events/worker_connections\n  to: \"2048\"\n", ""},
		{strings.Replace(text, "swordfish-99", "swordfish-100", 1), "", "another value at http/index, which is secret"},
		{text, "", "says what /etc/nginx/nginx.conf on b00 says already"},
		{"events {", "", "the edited copy"},
	} {
		out, err := r.engine.Derive(ctx, "b00", view.EditedCopy{Service: "pages", Text: c.copied})
		if out.Edits != c.edits || (err != nil) != (c.refused != "") || err != nil && !strings.Contains(err.Error(), c.refused) || strings.Contains(fmt.Sprint(err), "swordfish-100") {
			t.Errorf("%.60q: %q, %v; want %q, %q", c.copied, out.Edits, err, c.edits, c.refused)
		}
	}
	for _, c := range []struct {
		host string
		in   view.EditedCopy
		want string
	}{{"nobody", view.EditedCopy{Service: "pages"}, "there is no"}, {"b00", view.EditedCopy{Service: "none"}, "there is no"}, {"b00", view.EditedCopy{Service: "pages", File: "other"}, "it has main"}, {"b00", view.EditedCopy{Service: "pages", Instance: "x"}, "or that instance"}} {
		if _, err := r.engine.Derive(ctx, c.host, c.in); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s, %+v: %v; want %q", c.host, c.in, err, c.want)
		}
	}
}
