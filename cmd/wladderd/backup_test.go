package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/store/postmaster"
)

// keeping gives what runs the commands of docs/keeping.md, word by word: a backup of the world's, and
// its restore into an empty database and a directory.
func (w *world) keeping(database, restored string) (run func(what string)) {
	w.Helper()
	text, err := os.ReadFile("../../docs/keeping.md")
	if err != nil {
		w.Fatal(err)
	}
	commands := map[string]string{}
	for _, m := range regexp.MustCompile("(?s)```(backup|restore)\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		commands[m[1]] = m[2]
	}
	sh := append(os.Environ(), "WLADDERD_DATABASE="+w.database, "DATA="+w.data, "WLADDERD_RESTORED="+database, "RESTORED="+restored)
	dir := w.TempDir()
	return func(what string) {
		w.Helper()
		cmd := exec.Command("sh", "-euc", commands[what])
		cmd.Dir, cmd.Env = dir, sh
		if out, err := cmd.CombinedOutput(); err != nil || commands[what] == "" {
			w.Fatalf("%s: %v: %s", what, err, out)
		}
	}
}

// TestBackupAndRestore has what comes back hold, and climbs go on from there.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 37, 2)
	id := w.climb(`labels.role == "bulletin"`, 2, "{stages: [{hosts: all}], soak: 100ms}")
	w.until(id, ended)
	restored, database := t.TempDir(), postmaster.Empty(t)
	run := w.keeping(database, restored)
	run("backup")
	w.kill()
	run("restore")
	people, err := os.ReadFile(filepath.Join(w.data, "people"))
	if err == nil {
		err = os.WriteFile(filepath.Join(restored, "people"), people, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	w.data, w.database = restored, database
	w.start()
	if v, err := w.as("ada").Verify(t.Context()); err != nil || !v.Holds || v.Entries == 0 {
		t.Fatalf("the record that came back: %+v, %v", v, err)
	}
	if run := w.run(id, "b00"); run.State != ladder.Done {
		t.Errorf("b00 is %s", run.State)
	}
	for _, h := range w.hosts {
		h.Files.Write(confPath, []byte(oldText))
		h.Run("systemctl reload nginx.service")
	}
	again := w.climb(`labels.role == "bulletin"`, 2, "{stages: [{hosts: all}], soak: 100ms}")
	if d := w.until(again, ended); d.Counts[ladder.Done] != 2 {
		t.Errorf("from there: %s", fmt.Sprint(d.Counts))
	}
}

// TestDatabaseOfYesterday has two servers find that their database came back from an older copy,
// each by itself: neither approves anything until two admins have said so on its own machine. Hosts
// have seen higher fences than the copy knows by then.
func TestDatabaseOfYesterday(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 39, 2)
	ctx, one := t.Context(), w.data
	climb := func(connections int) {
		t.Helper()
		if d := w.until(w.climbTo(connections, `labels.role == "bulletin"`, 2, "{stages: [{hosts: all}], soak: 100ms}"), ended); d.Counts[ladder.Done] != 2 {
			t.Fatalf("%v", d.Counts)
		}
	}
	climb(1024)
	database := postmaster.Empty(t)
	run := w.keeping(database, t.TempDir())
	run("backup")
	first := w.server
	w.beside(one)
	two := w.data
	climb(2048)
	head := func(dir string) string {
		text, err := os.ReadFile(filepath.Join(dir, "record-head"))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	for deadline := time.Now().Add(10 * time.Second); head(one) != head(two); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("the servers have seen %q and %q", head(one), head(two))
		}
	}
	first.Process.Kill()
	first.Wait()
	w.kill()
	run("restore")
	w.database = database

	// offered drafts a change and has it offered, by the server that is there.
	offered := func() (id int64, digest string) {
		t.Helper()
		ines := w.as("ines")
		id, err := ines.Draft(ctx, 0, []byte("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 2\nedits: [{set: events/worker_connections, to: 4096}]\n"))
		if err == nil {
			err = ines.Rehearse(ctx, id)
		}
		if err != nil {
			t.Fatal(err)
		}
		d := w.until(id, func(d view.ChangeDetail) bool { return d.Rehearsal != nil && d.Rehearsal.EndedAt != nil })
		if err := ines.Offer(ctx, id); err != nil {
			t.Fatal(err)
		}
		return id, d.Rehearsal.Digest
	}
	begin := func(dir string) {
		w.kill()
		w.data = dir
		w.start()
	}
	var id int64
	var digest string
	for k, dir := range []string{one, two} {
		begin(dir)
		if id == 0 {
			id, digest = offered()
		}
		if err := w.as("oda").Approve(ctx, id, digest); err == nil || !strings.Contains(err.Error(), "the database is an older copy") {
			t.Fatalf("server %d approves: %v", k+1, err)
		}
	}
	for _, dir := range []string{one, two} {
		w.kill()
		cmd := exec.Command(w.bin, "go-on-from-copy", "-data", dir, "ada", "ben")
		cmd.Env = append(os.Environ(), "WLADDERD_DATABASE="+w.database)
		cmd.Stdin = strings.NewReader("a long password\na long password\n")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		if dir == one { // the other has not heard of it
			begin(two)
			if err := w.as("oda").Approve(ctx, id, digest); err == nil {
				t.Error("the second server approves, and nobody told it")
			}
		}
	}
	begin(one)
	first = w.server
	t.Cleanup(func() { first.Process.Kill(); first.Wait() })
	if v, err := w.as("ada").Verify(ctx); err != nil || !v.Holds || len(v.Seams) != 2 {
		t.Errorf("the record: %+v, %v", v, err)
	}
	w.data = two
	w.start()
	for n := range 2 {
		raised, err := w.as("ada").RaiseFence(ctx, fmt.Sprintf("b%02d", n))
		if err != nil || raised.To != 2 {
			t.Errorf("b%02d has seen fence %d, %v; two climbs were there", n, raised.To, err)
		}
	}
	climb(4096)
}

// TestCopyOfLastNight restores a backup that was made in the middle of a climb, beside hosts on which
// that climb and a later one have ended since: none of them is acted on, each is named, and after the
// steps of docs/keeping.md work goes on from what stands there.
func TestCopyOfLastNight(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 48, 4)
	ctx := t.Context()
	database, restored := postmaster.Empty(t), t.TempDir()
	run := w.keeping(database, restored)
	night := w.climbTo(1024, "true", 4, "{stages: [{up-to: 1}, {hosts: all}], soak: 4s}")
	w.until(night, func(d view.ChangeDetail) bool { return d.Counts[ladder.Soaking] == 1 })
	run("backup")
	w.until(night, ended)
	later := w.climbTo(2048, `name != "b03"`, 3, "{stages: [{hosts: all}], soak: 100ms}")
	w.until(later, ended)
	w.kill()
	state := func() (all string) {
		for _, h := range w.hosts {
			for _, name := range append(h.Files.List("/etc"), h.Files.List("/var/lib/wladder")...) {
				if data, err := h.Files.Read(name); err == nil && !strings.HasSuffix(name, "/fence") {
					all += name + "\n" + string(data) + "\n"
				}
			}
		}
		return all
	}
	before := state()
	if strings.Count(before, "2048") == 0 || !strings.Contains(before, "/runs/") {
		t.Fatalf("the hosts hold %s", before)
	}
	head, err := os.ReadFile(filepath.Join(w.data, "record-head"))
	people, err2 := os.ReadFile(filepath.Join(w.data, "people"))
	run("restore")
	if err := errors.Join(err, err2, os.WriteFile(filepath.Join(restored, "record-head"), head, 0o600), os.WriteFile(filepath.Join(restored, "people"), people, 0o600)); err != nil {
		t.Fatal(err)
	}
	ran := func() (all int) {
		for _, h := range w.hosts {
			all += len(h.Ran())
		}
		return all
	}
	so := ran()
	untouched := func(when string) {
		t.Helper()
		for wait := time.Now().Add(2500 * time.Millisecond); time.Now().Before(wait); time.Sleep(100 * time.Millisecond) { // five leases
			if n := ran(); n != so {
				t.Fatalf("%s: %d scripts ran on hosts", when, n-so)
			}
		}
		if state() != before {
			t.Errorf("%s: hosts are not what they were", when)
		}
	}
	w.data, w.database = restored, database
	w.start()
	if err := w.as("oda").Order(ctx, night, ladder.Resume, "all is well"); err == nil || !strings.Contains(err.Error(), "older copy") {
		t.Errorf("resumed on the copy: %v", err)
	}
	untouched("before anybody said so")
	w.kill()
	cmd := exec.Command(w.bin, "go-on-from-copy", "-data", restored, "ada", "ben")
	cmd.Env = append(os.Environ(), "WLADDERD_DATABASE="+w.database)
	cmd.Stdin = strings.NewReader("a long password\na long password\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	w.start()
	d, err := w.as("ines").Change(ctx, night)
	if err != nil || d.Climb.State != ladder.Paused || !strings.Contains(d.Climb.Why, "wladder hosts-newer") {
		t.Errorf("the climb of the copy: %+v, %v", d.Climb, err)
	}
	untouched("after two admins said so")
	named := func(raise bool) (all string) {
		t.Helper()
		out, err := w.as("ada").NewerHosts(ctx, "", raise)
		if err != nil || out.Asked != 4 || len(out.Missed) > 0 {
			t.Errorf("asked: %+v, %v", out, err)
		}
		for _, h := range out.Newer {
			all += fmt.Sprintf("%s %d>%d ", h.Host, h.Seen, h.Ours)
		}
		return all
	}
	if got, want := named(false), "b00 2>1 b01 2>0 b02 2>0 b03 1>0 "; got != want {
		t.Errorf("newer are %s; want %s", got, want)
	}
	named(true)
	if got := named(false); got != "" {
		t.Errorf("newer are still %s", got)
	}
	if state() != before {
		t.Error("being asked, hosts are not what they were")
	}
	if err := w.as("oda").Order(ctx, night, ladder.Resume, "compared"); err != nil {
		t.Fatal(err)
	}
	d = w.until(night, func(d view.ChangeDetail) bool { return ended(d) || d.Climb.State == ladder.Paused })
	for n, h := range w.hosts {
		text, _ := h.Files.Read(confPath)
		r := w.run(night, fmt.Sprintf("b%02d", n))
		if want := map[bool]string{true: "1024", false: "2048"}[n == 3]; !strings.Contains(string(text), "worker_connections "+want) {
			t.Errorf("b%02d is %s (%s) and holds %s", n, r.State, r.Why, text)
		}
		t.Logf("b%02d is %s: %s", n, r.State, r.Why)
	}
	again := w.climbTo(4096, "true", 4, "{stages: [{hosts: all}], soak: 100ms}")
	if d := w.until(again, ended); d.Counts[ladder.Done] != 4 {
		t.Errorf("from there: %v", d.Counts)
	}
}
