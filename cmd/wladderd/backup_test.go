package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"

	"wladder/core/ladder"
	"wladder/store/postmaster"
)

// TestBackupAndRestore runs the commands of docs/keeping.md, word by word: what comes back holds,
// and climbs go on from there.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/keeping.md")
	if err != nil {
		t.Fatal(err)
	}
	commands := map[string]string{}
	for _, m := range regexp.MustCompile("(?s)```(backup|restore)\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		commands[m[1]] = m[2]
	}
	w := newWorld(t, 37, 2)
	id := w.climb(`labels.role == "bulletin"`, 2, "{stages: [{hosts: all}], soak: 100ms}")
	w.until(id, ended)
	dir, restored, database := t.TempDir(), t.TempDir(), postmaster.Empty(t)
	run := func(what string) {
		t.Helper()
		sh := exec.Command("sh", "-euc", commands[what])
		sh.Dir = dir
		sh.Env = append(os.Environ(), "WLADDERD_DATABASE="+w.database, "DATA="+w.data, "WLADDERD_RESTORED="+database, "RESTORED="+restored)
		if out, err := sh.CombinedOutput(); err != nil || commands[what] == "" {
			t.Fatalf("%s: %v: %s", what, err, out)
		}
	}
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
