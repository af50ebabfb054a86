package host

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/standin"
)

func newSigner(seed byte) ssh.Signer {
	s, _ := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, 32)))
	return s
}

const (
	conf    = "/etc/nginx/nginx.conf"
	oldText = "worker_processes 2;\nevents { worker_connections 512; }\nhttp { server { listen 18480; } }\n"
)

// dangerous is a file name that would do harm anywhere but as data.
const dangerous = "/etc/nginx/it's \"$(touch oops)`x`\n<script>;&.conf"

func startHost(t *testing.T, address string) (*standin.Host, *Conn, Target) {
	h, err := standin.Start(standin.Config{
		Name: "b1", Address: address, Cores: 4, MemoryMB: 2048, Signer: newSigner(1), Client: newSigner(2).PublicKey(),
		Image: map[string]string{conf: oldText, dangerous: "a 1;\n"},
		Units: []standin.UnitConfig{{Name: "nginx.service", Checker: "nginx", Read: standin.WebServer(conf, "x")}},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Close)
	target := Target{Name: "b1", Address: address, User: "root", HostKey: string(ssh.MarshalAuthorizedKey(newSigner(1).PublicKey()))}
	conn, err := (&Dialer{Signer: newSigner(2)}).Connect(t.Context(), target)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	return h, conn, target
}

func file(path, old, new string) File {
	return File{Path: path, Base: Hash([]byte(old)), Candidate: Hash([]byte(new)), Content: []byte(new), Meta: "644:root:root"}
}

func TestHostRun(t *testing.T) {
	h, conn, _ := startHost(t, "127.19.0.1:2222")
	ctx := t.Context()
	traits, err := conn.Survey(ctx)
	if err != nil || traits.Cores != 4 || traits.Memory != 2<<30 || traits.OSFamily != "debian" || traits.OSVersion != "12" {
		t.Fatalf("survey: %+v, %v", traits, err)
	}
	found, err := conn.Collect(ctx, []string{conf, dangerous, "/etc/absent"})
	if err != nil || string(found[0].Content) != oldText || found[0].Owner != "root" || found[0].Mode != "644" || found[0].Links != 1 || !found[2].Missing {
		t.Fatalf("collect: %+v, %v", found, err)
	}
	if string(found[1].Content) != "a 1;\n" || found[1].Path != dangerous {
		t.Fatalf("a name full of shell is not data: %+v", found[1])
	}

	newText := strings.Replace(oldText, "512", "2048", 1)
	f, claim := file(conf, oldText, newText), Claim{7, "run-1"}
	trial := func(text string) (TrialAnswer, string) {
		result, said, err := conn.Trial(ctx, []File{file(conf, oldText, text)}, []string{"nginx", "-t"}, []string{"/run", "/var/log"})
		if err != nil {
			t.Fatal(err)
		}
		if data, _ := h.Files.Read(conf); string(data) != oldText {
			t.Fatal("a trial touched the live file")
		}
		return result, said
	}
	if result, said := trial(newText); result != Accepted {
		t.Errorf("a good candidate: %s %s", result, said)
	}
	if result, said := trial("events { worker_connection 1; }\n"); result != Refused || !strings.Contains(said, `unknown directive "worker_connection"`) {
		t.Errorf("a bad candidate: %s %s", result, said)
	}

	if err := conn.TakeOver(ctx, claim); err != nil {
		t.Fatal(err)
	}
	var fenced *ScriptError
	if err := conn.TakeOver(ctx, Claim{6, "run-0"}); !errors.As(err, &fenced) || fenced.Status != 76 {
		t.Errorf("a lower fence: %v", err)
	}
	two := []File{f, file(dangerous, "a 1;\n", "a 2;\n")}
	for range 2 { // twice is the same as once
		if err := conn.Snapshot(ctx, claim, two); err != nil {
			t.Fatal(err)
		}
	}
	for range 2 {
		if err := conn.Place(ctx, claim, two); err != nil {
			t.Fatal(err)
		}
	}
	h.Files.Own(conf, "root", "adm", 0o640)
	reload := change.Act{Name: "reload", Command: []string{"systemctl", "reload", "nginx.service"}, Timeout: change.Duration(10 * time.Second)}
	if err := conn.Act(ctx, claim, ForwardAct, "nginx.service", reload, reload); err != nil {
		t.Fatal(err)
	}
	sight, err := conn.Look(ctx, claim, ForwardAct, "nginx.service", two)
	if err != nil || sight.Files != ladder.FilesNew || sight.Process != ladder.ProcessNew || sight.Unit.Renewed != 2 || sight.Unit.Processes != 3 {
		t.Errorf("look: %+v, %v", sight, err)
	}
	if answer := AskNetwork(ctx, "127.19.0.1", probe.Ask{Kind: probe.HTTP, Method: "GET", Port: 18480, Path: "/"}); answer.Status != 200 {
		t.Errorf("the page: %+v", answer)
	}
	for range 2 {
		if err := conn.Restore(ctx, claim, two); err != nil {
			t.Fatal(err)
		}
	}
	data, _ := h.Files.Read(conf)
	if mode, _, group, _ := h.Files.Stat(conf); string(data) != oldText || mode != 0o644 || group != "root" {
		t.Errorf("restored as %q, %o, %s", data, mode, group)
	}
	for _, name := range append(h.Files.List("/etc/nginx"), h.Files.List("/tmp")...) {
		if strings.Contains(name, ".wladder") || strings.HasSuffix(name, "oops") {
			t.Errorf("left behind: %s", name)
		}
	}
}

func TestPlaceRefusesWhatWasEdited(t *testing.T) {
	h, conn, _ := startHost(t, "127.19.0.2:2222")
	ctx, claim := t.Context(), Claim{1, "r"}
	two := []File{file(dangerous, "a 1;\n", "a 2;\n"), file(conf, oldText, "x")}
	if err := conn.Snapshot(ctx, claim, two); err != nil {
		t.Fatal(err)
	}
	h.Files.Write(conf, []byte("# by hand\n"+oldText))
	var changed *ChangedError
	if err := conn.Place(ctx, claim, two); !errors.As(err, &changed) || changed.Path != conf {
		t.Errorf("place over an edited file: %v", err)
	}
	if first, _ := h.Files.Read(dangerous); string(first) != "a 1;\n" {
		t.Errorf("the first file stayed new: %q", first)
	}
	if second, _ := h.Files.Read(conf); string(second) != "# by hand\n"+oldText {
		t.Errorf("the edited file was touched: %q", second)
	}
	if err := conn.Snapshot(ctx, claim, two); !errors.As(err, &changed) {
		t.Errorf("snapshot of an edited file: %v", err)
	}
	var refused *ScriptError
	if err := conn.Restore(ctx, claim, two); !errors.As(err, &refused) || !strings.Contains(err.Error(), "somebody edited it") {
		t.Errorf("restore over an edited file: %v", err)
	}
}

func TestConnectFailsClosed(t *testing.T) {
	h, conn, target := startHost(t, "127.19.0.3:2222")
	dialer := &Dialer{Signer: newSigner(2)}
	var key *KeyError
	for pinned, want := range map[string]string{"": "no host key is pinned", string(ssh.MarshalAuthorizedKey(newSigner(9).PublicKey())): "is pinned"} {
		target.HostKey = pinned
		if _, err := dialer.Connect(t.Context(), target); !errors.As(err, &key) || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "SHA256:") {
			t.Errorf("pinned %q: %v", pinned, err)
		}
	}
	var gone *Unreachable
	if _, err := dialer.Connect(t.Context(), Target{Name: "x", Address: "127.19.0.3:1"}); !errors.As(err, &gone) {
		t.Errorf("nobody there: %v", err)
	}
	h.Script(&standin.Fault{Do: standin.CutAfter, At: "claim"})
	var lost *Lost
	if err := conn.TakeOver(t.Context(), Claim{1, "r"}); !errors.As(err, &lost) {
		t.Errorf("a cut link: %v", err)
	}
}

func TestLinkFaults(t *testing.T) {
	h, conn, _ := startHost(t, "127.19.0.4:2222")
	h.Script(&standin.Fault{Do: standin.SlowLink, For: time.Hour})
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var lost *Lost
	if _, err := conn.Survey(ctx); !errors.As(err, &lost) {
		t.Errorf("given up: %v", err)
	}
}

// TestScripts has shellcheck and three shells read every script.
func TestScripts(t *testing.T) {
	for name, s := range scripts {
		for _, reader := range [][]string{{"shellcheck", "-s", "sh", "-"}, {"dash", "-n"}, {"bash", "-n"}, {"busybox", "sh", "-n"}} {
			if _, err := exec.LookPath(reader[0]); err != nil {
				t.Logf("SKIPPED: %s is not installed", reader[0])
				continue
			}
			cmd := exec.Command(reader[0], reader[1:]...)
			cmd.Stdin = strings.NewReader(s.text)
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Errorf("%s does not pass %s: %s", name, reader[0], out)
			}
		}
	}
}

// TestScriptsOnRealFiles runs the scripts that change files under three real
// shells and coreutils, below a directory of the test's own.
func TestScriptsOnRealFiles(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("wants root: the scripts keep owners")
	}
	for _, shell := range [][]string{{"dash"}, {"bash"}, {"busybox", "sh"}} {
		t.Run(shell[0], func(t *testing.T) {
			dir := t.TempDir()
			path := dir + "/it's $(touch oops) \"x\"\n.conf"
			os.WriteFile(path, []byte("old\n"), 0o640)
			os.Chown(path, 33, 4)
			run := func(name string, stdin []byte, args ...string) string {
				text := strings.ReplaceAll(scripts[name].text, "state=/var/lib/wladder", "state="+quote(dir+"/state"))
				os.MkdirAll(dir+"/state", 0o700)
				cmd := exec.Command(shell[0], append(append(shell[1:len(shell):len(shell)], "-c", text, "x"), args...)...)
				cmd.Stdin = bytes.NewReader(stdin)
				out, err := cmd.Output()
				if err != nil {
					t.Fatalf("%s: %v %s", name, err, err.(*exec.ExitError).Stderr)
				}
				return string(out)
			}
			f := file(path, "old\n", "new\n")
			run("claim", nil, "3", "r")
			meta := "640:www-data:adm"
			if out := run("collect", nil, path); !strings.Contains(out, `"mode":"640"`) {
				t.Errorf("collect: %s", out)
			}
			for range 2 {
				if out := run("snapshot", nil, "3", "r", path, f.Base, meta); !strings.Contains(out, "snapshot") {
					t.Fatalf("snapshot: %s", out)
				}
			}
			if out := run("place", archive([]File{f}), "3", "r", path, f.Base, f.Candidate); out != "{\"placed\":1}\n" {
				t.Fatalf("place: %s", out)
			}
			state := func() string {
				data, _ := os.ReadFile(path)
				out, _ := exec.Command("stat", "-c", "%a:%U:%G:%h", path).Output()
				return string(data) + string(out)
			}
			if got := state(); got != "new\n640:www-data:adm:1\n" {
				t.Errorf("placed: %q", got)
			}
			if out := run("restore", nil, "3", "r", path, f.Base, f.Candidate); out != "{\"restored\":true}\n" {
				t.Fatalf("restore: %s", out)
			}
			if got := state(); got != "old\n640:www-data:adm:1\n" {
				t.Errorf("restored: %q", got)
			}
			run("place", archive([]File{f}), "3", "r", path, f.Base, f.Candidate)
			if out, err := exec.Command(dir + "/state/runs/r/restore.sh").CombinedOutput(); err != nil || state() != "old\n640:www-data:adm:1\n" {
				t.Errorf("restore.sh by hand: %v %s, then %q", err, out, state())
			}
			entries, _ := os.ReadDir(dir)
			if names := fmt.Sprint(entries); len(entries) != 2 {
				t.Errorf("left behind: %s", names)
			}
		})
	}
}
