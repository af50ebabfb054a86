package main

import (
	"bytes"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"wladder/client"
	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
	"wladder/store/postmaster"
)

// oldPage is a web server's file as the dump has it, before and after its changes.
func oldPage(connections int) string {
	return fmt.Sprintf("worker_processes 2;\nevents {\n    worker_connections %d; # per worker\n}\nhttp {\n    server { listen 18480; }\n}\n", connections)
}

// TestUpgrade has the server before plans had leaves leave a database with
// changes in every state, two hosts under way among them: one in its soak (its
// guard taken away, as was the way then), one in the middle of its act. It is
// brought up to date, read by the client, and what was under way goes on.
func TestUpgrade(t *testing.T) {
	t.Parallel()
	w := &world{T: t, bin: built(t), data: t.TempDir(), at: "127.19.90.254", database: postmaster.Empty(t), tokens: map[string]string{}}
	dump, err := os.ReadFile("testdata/version-2.sql")
	if err != nil {
		t.Fatal(err)
	}
	db, err := pgx.Connect(t.Context(), w.database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(t.Context())
	if _, err := db.PgConn().Exec(t.Context(), string(dump)).ReadAll(); err != nil {
		t.Fatal(err)
	}
	// The keys that the dump's server had.
	key := [32]byte{1}
	os.WriteFile(filepath.Join(w.data, "key"), []byte(hex.EncodeToString(key[:])), 0o600)
	private := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{2}, 32))
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(w.data, "ssh_key"), pem.EncodeToMemory(block), 0o600)
	client, _ := ssh.NewSignerFromKey(private)
	signer, _ := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{1}, 32)))
	for n := range 6 {
		image := map[string]string{confPath: oldPage(512)}
		run, connections, guard := "", 0, ""
		switch n {
		case 1:
			image[confPath] = oldPage(4096)
		case 2:
			run, connections, guard = "run-4", 2048, "ended"
		case 3:
			run, connections, guard = "run-5", 4096, "pending"
		}
		if run != "" {
			at := "/var/lib/wladder/runs/" + run + "/"
			image[confPath], image[at+"0.base"] = oldPage(connections), oldPage(512)
			image[at+"act.begun"], image[at+"act.ended"], image[at+"placed"] = "3500.00\n", "0\n", ""
			image["/var/lib/wladder/"+guard+"/"+run] = map[string]string{"ended": "disarmed\n", "pending": "123\n"}[guard]
			image["/var/lib/wladder/fence"] = "3\n"
			for _, dir := range []string{"pending", "firing", "ended"} {
				image["/var/lib/wladder/"+dir+"/.keep"] = ""
			}
		}
		h, err := standin.Start(standin.Config{
			Name: fmt.Sprintf("b%02d", n), Address: fmt.Sprintf("127.19.90.%d:2222", n+1), Cores: 2 + n%2*2, MemoryMB: 1024, Signer: signer, Client: client.PublicKey(),
			Image: image, Units: []standin.UnitConfig{{Name: "nginx.service", Checker: "nginx", Read: standin.WebServer(confPath, "x")}},
		})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(h.Close)
		w.hosts = append(w.hosts, h)
	}
	t.Cleanup(w.kill)
	w.start()
	ctx, c := t.Context(), w.as("ines")
	d := w.until(8, func(d view.ChangeDetail) bool { return d.Counts[ladder.Done] == 2 && d.Climb.State == ladder.Paused })
	if !strings.Contains(d.Climb.Why, "upgraded since") || d.Counts[ladder.Queued] != 1 || d.Climb.Policy.PauseAfter != 1 {
		t.Errorf("what was under way: %+v, %v", d.Climb, d.Counts)
	}
	for n, connections := range map[int]int{2: 2048, 3: 4096, 4: 512} {
		if data, _ := w.hosts[n].Files.Read(confPath); string(data) != oldPage(connections) {
			t.Errorf("b%02d holds %q", n, data)
		}
	}
	all, err := c.Changes(ctx, everyChange)
	if err != nil || len(all) != 9 {
		t.Fatalf("%d changes, %v", len(all), err)
	}
	want := []change.State{change.Draft, change.Climbing, change.Withdrawn, change.Stopped, change.Completed, change.Approved, change.Offered, change.Rehearsed, change.Draft}
	for i, one := range all {
		d, err := c.Change(ctx, one.ID)
		if err != nil || one.State != want[i] {
			t.Errorf("change %d is %s, %v; want %s", one.ID, one.State, err, want[i])
			continue
		}
		if planned := one.State != change.Draft && one.State != change.Withdrawn; planned && (d.Rehearsal.Digest == "" || d.Rehearsal.Planned == 0 || d.Rehearsal.Plan != nil || !strings.Contains(d.Rehearsal.Groups[0].Diff, "+    worker_connections")) {
			t.Errorf("change %d: its plan is not shown: %+v", one.ID, d.Rehearsal)
		}
	}
	if run, err := c.HostRun(ctx, 5, "b01"); err != nil || run.State != ladder.Done || run.Proof != ladder.ProofNone || len(run.Steps) != 15 || run.Steps[0].Step != ladder.Connect {
		t.Errorf("a run of then: %+v, %v", run, err)
	}
	if d, err := c.Change(ctx, 9); err != nil || d.Rehearsal.EndedAt == nil || d.Rehearsal.Findings[0].Code != "lost" {
		t.Errorf("a rehearsal that was lost: %+v, %v", d.Rehearsal, err)
	}
	for _, table := range []string{"diff_groups", "steps"} {
		var rows, open int
		if err := db.QueryRow(ctx, `select count(*), count(*) filter (where t::text like '%connections%' or t::text like '%nginx%') from `+table+` t`).Scan(&rows, &open); err != nil || rows == 0 || open != 0 {
			t.Errorf("%s: %d of %d rows show lines of files: %v", table, open, rows, err)
		}
	}
	// An approved plan of then starts nothing now, and says what to do.
	if err := c.Climb(ctx, 4); err == nil || !strings.Contains(err.Error(), "rehearse the change and have it approved again") {
		t.Errorf("an old plan: %v", err)
	}
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		v, err := c.Verify(ctx)
		if err != nil || !v.Holds {
			t.Fatalf("the record: %+v, %v", v, err)
		}
		if v.Waiting == 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d entries wait", v.Waiting)
		}
	}
	if err := c.Rehearse(ctx, 4); err != nil {
		t.Fatal(err)
	}
	if d := w.until(4, func(d view.ChangeDetail) bool { return d.Rehearsal.EndedAt != nil }); d.State != change.Rehearsed || d.Rehearsal.Planned != 1 {
		t.Errorf("rehearsed anew: %s, %+v", d.State, d.Rehearsal)
	}
}

var everyChange client.ChangeFilter
