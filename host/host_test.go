package host

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/written"
	"wladder/standin"
)

func privateKey(seed byte) ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, 32))
}

func newSigner(seed byte) ssh.Signer {
	s, _ := ssh.NewSignerFromKey(privateKey(seed))
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

// regular is a file of root's.
func regular(text string) plan.Copy {
	return plan.Copy{Kind: plan.Regular, Content: []byte(text), Owner: "root", Group: "root", Mode: "644"}
}

func from(path string, base, candidate plan.Copy) File {
	content := candidate.Content
	if candidate.Kind == plan.Symlink {
		content = []byte(candidate.Target)
	}
	return File{Path: path, Base: Stands(base), Candidate: Stands(candidate), Content: content}
}

func file(path, old, new string) File { return from(path, regular(old), regular(new)) }

// armed claims, snapshots and arms, as a host run does before it places.
func armed(t *testing.T, conn *Conn, claim Claim, after time.Duration, files []File) {
	t.Helper()
	ctx := t.Context()
	err := conn.TakeOver(ctx, claim)
	if err == nil {
		err = conn.Snapshot(ctx, claim, []string{"nginx.service"}, files)
	}
	if err == nil {
		_, err = conn.Arm(ctx, claim, after, []Service{{Unit: "nginx.service", Act: reload, Heaviest: reload}}, files)
	}
	if err != nil {
		t.Fatal(err)
	}
}

var reload = definition.Act{Name: "reload", Commands: [][]string{{"systemctl", "reload", "nginx.service"}}, Timeout: written.Duration(10 * time.Second)}

func TestHostRun(t *testing.T) {
	h, conn, _ := startHost(t, "127.19.0.1:2222")
	ctx := t.Context()
	traits, err := conn.Survey(ctx, definition.Wants{})
	if err != nil || traits.Cores != 4 || traits.Memory != 2<<30 || traits.Family != "debian" || traits.OSVersion != "12" {
		t.Fatalf("survey: %+v, %v", traits, err)
	}
	found, err := conn.Collect(ctx, []string{conf, dangerous, "/etc/absent"})
	if err != nil || string(found[0].Content) != oldText || found[0].Owner != "root" || found[0].Mode != "644" || len(found[0].Hazards) != 0 || !found[2].Missing {
		t.Fatalf("collect: %+v, %v", found, err)
	}
	if string(found[1].Content) != "a 1;\n" || found[1].Path != dangerous {
		t.Fatalf("a name full of shell is not data: %+v", found[1])
	}

	newText := strings.Replace(oldText, "512", "2048", 1)
	f, claim := file(conf, oldText, newText), Claim{7, "run-1"}
	trial := func(text string) (TrialAnswer, string) {
		result, said, err := conn.Trial(ctx, []File{file(conf, oldText, text)}, definition.Trial{Command: []string{"nginx", "-t"}, Covers: []string{"/run", "/var/log"}}, nil)
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

	// A set over two directories: changed, new in a directory that is made, a
	// link, one gone.
	set := []File{
		from("/etc/wide/deep/new.conf", plan.Copy{Kind: plan.Absent}, plan.Copy{Kind: plan.Regular, Content: []byte("n\n"), Owner: "root", Group: "adm", Mode: "640"}),
		f, from("/etc/nginx/enabled", plan.Copy{Kind: plan.Absent}, plan.Copy{Kind: plan.Symlink, Target: "nginx.conf"}),
		from(dangerous, regular("a 1;\n"), plan.Copy{Kind: plan.Absent}),
	}
	armed(t, conn, claim, time.Minute, set)
	var fenced *Fenced
	if err := conn.TakeOver(ctx, Claim{6, "run-0"}); !errors.As(err, &fenced) || fenced.Seen != 7 {
		t.Errorf("a lower fence: %v", err)
	}
	for range 2 { // twice is the same as once
		if err := conn.Place(ctx, claim, set); err != nil {
			t.Fatal(err)
		}
	}
	if err := conn.TakeOver(ctx, Claim{8, "run-2"}); err == nil || !strings.Contains(err.Error(), "run-1 is still armed") {
		t.Errorf("another run, with a guard armed: %v", err)
	}
	claim.Fence = 8
	if mode, owner, group, err := h.Files.Stat("/etc/wide/deep/new.conf"); err != nil || mode != 0o640 || owner != "root" || group != "adm" {
		t.Errorf("new: %o %s %s %v", mode, owner, group, err)
	}
	if data, _ := h.Files.Read("/etc/nginx/enabled"); string(data) != newText {
		t.Errorf("through the link: %q", data)
	}
	if _, err := conn.Act(ctx, claim, ForwardAct, Service{Unit: "nginx.service", Act: reload, Heaviest: reload}); err != nil {
		t.Fatal(err)
	}
	sight, err := conn.Look(ctx, claim, time.Minute, ForwardAct, Service{Unit: "nginx.service"}, set)
	if err != nil || sight.Files != ladder.FilesNew || sight.Process != ladder.ProcessNew || sight.Guard != ladder.Pending || sight.Acted != 0 || sight.Undone {
		t.Errorf("look: %+v, %v", sight, err)
	}
	if answer := AskNetwork(ctx, Way{Address: "127.19.0.1"}, probe.Probe{}, probe.Ask{Kind: probe.HTTP, Method: "GET", Port: 18480, Path: "/"}, nil); answer.Status != 200 {
		t.Errorf("the page: %+v", answer)
	}
	from := Way{Address: "192.0.2.1", Inside: conn.Inside} // nobody is there
	if answer := AskNetwork(ctx, from, probe.Probe{}, probe.Ask{Kind: probe.HTTP, Method: "GET", Port: 18480, Path: "/", Local: true}, nil); answer.Status != 200 {
		t.Errorf("the page, asked from within the host: %+v", answer)
	}
	if answer := AskNetwork(ctx, from, probe.Probe{}, probe.Ask{Kind: probe.TCP, Port: 18481, Local: true}, nil); answer.Connected || !strings.Contains(answer.Failure, "refused") {
		t.Errorf("a port that is shut, asked from within the host: %+v", answer)
	}
	for range 2 {
		if _, err := conn.Restore(ctx, claim, set); err != nil {
			t.Fatal(err)
		}
	}
	for range 2 {
		if err := conn.Disarm(ctx, claim, set); err != nil {
			t.Fatal(err)
		}
	}
	if kept, _ := h.Files.Read(dangerous); string(kept) != "a 1;\n" {
		t.Errorf("what was deleted came back as %q", kept)
	}
	for _, gone := range []string{"/etc/wide", "/etc/nginx/enabled"} {
		if _, _, _, err := h.Files.Stat(gone); err == nil {
			t.Errorf("%s is still there", gone)
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
	armed(t, conn, claim, time.Minute, two)
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
	if err := conn.Snapshot(ctx, claim, []string{"nginx.service"}, two); !errors.As(err, &changed) {
		t.Errorf("snapshot of an edited file: %v", err)
	}
	var refused *ScriptError
	if _, err := conn.Restore(ctx, claim, two[1:]); !errors.As(err, &refused) || !strings.Contains(err.Error(), "somebody edited it") {
		t.Errorf("restore over an edited file: %v", err)
	}
}

// TestAnEditByRenameIsKept has an editor replace a file by a rename of its own,
// after we have taken hold of the old one.
func TestAnEditByRenameIsKept(t *testing.T) {
	h, conn, _ := startHost(t, "127.19.0.6:2222")
	ctx, claim := t.Context(), Claim{1, "r"}
	set := []File{file(conf, oldText, "events {}\n")}
	armed(t, conn, claim, time.Minute, set)
	theirs, once := "# by rename\n"+oldText, false
	h.Before(func(words []string) {
		if line := strings.Join(words, " "); strings.HasPrefix(line, "stat -c %h") && strings.HasSuffix(line, ".live") && !once {
			once = true
			h.Files.Write("/etc/nginx/4913", []byte(theirs))
			h.Run("mv -f -T -- /etc/nginx/4913 " + conf)
		}
	})
	var changed *ChangedError
	if err := conn.Place(ctx, claim, set); !errors.As(err, &changed) || !once {
		t.Errorf("placed over it: %v, edited: %v", err, once)
	}
	if data, _ := h.Files.Read(conf); string(data) != theirs {
		t.Errorf("the edit is lost: %q", data)
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

// TestWhatAHostSendsIsBounded has a host complain without end.
func TestWhatAHostSendsIsBounded(t *testing.T) {
	c := clipped{most: maxStderr}
	if n, err := io.Copy(&c, struct{ io.Reader }{strings.NewReader(strings.Repeat("no\n", 1<<20))}); err != nil || n != 3<<20 || len(c.kept) != maxStderr {
		t.Errorf("%d bytes taken, %d kept, %v", n, len(c.kept), err)
	}
	m := &metered{Reader: strings.NewReader("more"), arriving: &atomic.Int64{}}
	m.arriving.Store(maxAnswers)
	if _, err := io.ReadAll(m); !errors.Is(err, errTooMuch) {
		t.Errorf("more than all hosts may send at once: %v", err)
	}
	h, conn, _ := startHost(t, "127.19.0.7:2222")
	h.Script(&standin.Fault{Do: standin.Flood, At: "collect"})
	var lost *Lost
	if _, err := conn.Collect(t.Context(), []string{conf}); !errors.As(err, &lost) || !strings.Contains(err.Error(), "sent more than 16777216 bytes") {
		t.Errorf("an answer without end: %v", err)
	}
	if held := conn.arriving.Load(); held != 0 {
		t.Errorf("%d bytes are counted as held still", held)
	}
}

func TestLinkFaults(t *testing.T) {
	h, conn, _ := startHost(t, "127.19.0.4:2222")
	h.Script(&standin.Fault{Do: standin.SlowLink, For: time.Hour})
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var lost *Lost
	if _, err := conn.Survey(ctx, definition.Wants{}); !errors.As(err, &lost) {
		t.Errorf("given up: %v", err)
	}
	h, conn, _ = startHost(t, "127.19.0.8:2222")
	h.Script(&standin.Fault{Do: standin.SlowLink, For: time.Hour})
	ctx, cancel = context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := conn.Survey(ctx, definition.Wants{}); !errors.As(err, &lost) || !strings.HasSuffix(err.Error(), "lost sight of survey: no answer in time") {
		t.Errorf("no answer in time: %v", err)
	}
}

// TestScripts has shellcheck and three shells read every script.
func TestScripts(t *testing.T) {
	all := map[string]string{"guard as sent": guardText, "guard": source("beneath stages guarding putback running guard")}
	for name, from := range parts {
		all[name+" as sent"], all[name] = scripts[name].text, source(from)
	}
	for _, kind := range []string{"guard", "unit", "process", "port", "file", "presence", "size", "command", "journal", "surroundings"} {
		text := asking("watch", map[string]bool{kind: true}).text
		all["watch for "+kind+" as sent"] = text
		if !strings.Contains(text, "ask_"+kind+"() {") && kind != "guard" && kind != "unit" {
			t.Errorf("what is sent for %s does not hold its function", kind)
		}
	}
	for name, from := range parts { // what a script calls it holds, or the tests with real files would fail
		if len(scripts[name].text) >= len(lean(source(from))) && name != "restore" {
			t.Errorf("%s is sent with all that it could call", name)
		}
	}
	for name, text := range all {
		for _, reader := range [][]string{{"shellcheck", "-s", "sh", "-"}, {"dash", "-n"}, {"bash", "-n"}, {"busybox", "sh", "-n"}} {
			if strings.HasSuffix(name, " as sent") && reader[0] == "shellcheck" {
				continue // its hints stand in the comments
			}
			if _, err := exec.LookPath(reader[0]); err != nil {
				t.Logf("SKIPPED: %s is not installed", reader[0])
				continue
			}
			cmd := exec.Command(reader[0], reader[1:]...)
			cmd.Stdin = strings.NewReader(text)
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Errorf("%s does not pass %s: %s", name, reader[0], out)
			}
		}
	}
}

// TestGuardOfStandIns has a guard fire, and one that is disarmed.
func TestGuardOfStandIns(t *testing.T) {
	h, conn, _ := startHost(t, "127.19.0.5:2222")
	ctx := t.Context()
	newText := strings.Replace(oldText, "512", "2048", 1)
	set := []File{file(conf, oldText, newText)}
	for n, confirmed := range []bool{true, false} {
		claim := Claim{int64(n + 1), fmt.Sprint("run-", n)}
		armed(t, conn, claim, time.Second, set)
		if err := conn.Place(ctx, claim, set); err != nil {
			t.Fatal(err)
		}
		if confirmed {
			if err := conn.Disarm(ctx, claim, set); err != nil {
				t.Fatal(err)
			}
			time.Sleep(1200 * time.Millisecond) // past the time of what must not happen
			if data, _ := h.Files.Read(conf); string(data) != newText {
				t.Errorf("a disarmed guard fired: %q", data)
			}
			h.Files.Write(conf, []byte(oldText))
			continue
		}
		for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			if data, _ := h.Files.Read("/var/lib/wladder/ended/" + claim.Run); string(data) == "fired\n" {
				break
			}
			if time.Now().After(deadline) {
				t.Fatal("the guard does not fire")
			}
		}
		if sight, err := conn.Look(ctx, claim, time.Minute, ForwardAct, Service{Unit: "nginx.service"}, set); err != nil || sight.Guard != ladder.Fired || !sight.Undone {
			t.Errorf("after it fired: %+v, %v", sight, err)
		}
		var fired *FiredError
		if err := conn.Disarm(ctx, claim, set); !errors.As(err, &fired) {
			t.Errorf("disarming a guard that has fired: %v", err)
		}
		if data, _ := h.Files.Read(conf); string(data) != oldText {
			t.Errorf("after the guard: %q", data)
		}
		if err := conn.Place(ctx, claim, set); err == nil || !strings.Contains(err.Error(), "its guard has fired") {
			t.Errorf("placing without a guard: %v", err)
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
			if _, err := os.Stat("/run/systemd/system"); err == nil {
				t.Skip("SKIPPED: systemd runs this machine; its units are none of this test's")
			}
			at := dir + "/etc/it's $(touch oops) \"x\""
			os.MkdirAll(at, 0o755)
			path := at + "/a\nb.conf"
			os.WriteFile(path, []byte("old\n"), 0o640)
			os.Chown(path, 33, 4)
			os.Symlink("a\nb.conf", at+"/link")
			os.WriteFile(at+"/gone", []byte("gone\n"), 0o600)
			here := func(text string) string { return strings.ReplaceAll(text, "/var/lib/wladder", dir+"/state") }
			os.MkdirAll(dir+"/state", 0o700)
			os.WriteFile(dir+"/state/lock", nil, 0o600)
			run := func(name string, stdin []byte, args ...string) string {
				t.Helper()
				cmd := exec.Command(shell[0], append(append(shell[1:len(shell):len(shell)], "-c", here(scripts[name].text), "x"), args...)...)
				cmd.Stdin = bytes.NewReader(stdin)
				out, err := cmd.Output()
				if err != nil {
					t.Fatalf("%s: %v %s", name, err, err.(*exec.ExitError).Stderr)
				}
				return string(out)
			}
			state := func() string {
				out, err := exec.Command("sh", "-c", `cd "$1" && find . -printf '%p %y %m %u:%g %n %l %T@\n' | sort && find . -type f -exec sha256sum {} +`, "x", dir+"/etc").Output()
				if err != nil {
					t.Fatal(err)
				}
				return regexp.MustCompile(`(?m)^(.* d \d+ \S+ \d+ ).*$`).ReplaceAllString(string(out), "$1") // a directory's time moves
			}
			old := plan.Copy{Kind: plan.Regular, Content: []byte("old\n"), Owner: "www-data", Group: "adm", Mode: "640"}
			changed, absent := old, plan.Copy{Kind: plan.Absent}
			changed.Content, changed.Mode = []byte("new\n"), "600"
			set := []File{
				from(dir+"/etc/sub/dir/new", absent, plan.Copy{Kind: plan.Regular, Content: []byte("n\n"), Owner: "root", Group: "www-data", Mode: "4750"}),
				from(path, old, changed),
				from(at+"/link", plan.Copy{Kind: plan.Symlink, Target: "a\nb.conf"}, plan.Copy{Kind: plan.Symlink, Target: "gone"}),
				from(at+"/other", absent, plan.Copy{Kind: plan.Symlink, Target: "a\nb.conf"}),
				from(at+"/gone", plan.Copy{Kind: plan.Regular, Content: []byte("gone\n"), Owner: "root", Group: "root", Mode: "600"}, absent),
				{Path: dir + "/etc/made.key", Base: "none", Candidate: "made:440:root:adm", Make: &definition.Make{Command: []string{"sh", "-c", `cat "$2" >"$1"; echo made >>"$1"`, "x", "{path}", "{secret:pass}"}}, Secrets: map[string]string{"pass": "hidden"}},
			}
			before := state()
			if out := run("collect", nil, path, at+"/link", dir+"/etc/sub/dir/new"); strings.Count(out, `"mode":"640"`) != 2 || !strings.Contains(out, "no-directory") || !strings.Contains(out, "own-link") || !strings.Contains(out, "open-parent") {
				t.Errorf("collect: %s", out)
			}
			if out := run("collect", nil, Closed+path); !strings.Contains(out, `"sum":"`+Hash([]byte("old\n"))+`"`) || !strings.Contains(out, `"content":""`) || strings.Contains(out, line([]string{"old\n"})) {
				t.Errorf("a file whose content stays: %s", out)
			}
			os.WriteFile(at+"/long.conf", bytes.Repeat([]byte("x"), 1<<20+1), 0o644)
			if out := run("ask", nil, "none", "act", line([]string{"surroundings", at + "/*.conf", at + "/link", at + "/absent*", at + "/[gn]one"})); strings.Count(out, "\n") != 5 || strings.Count(out, `"content":`) != 2 || // who may change the link chooses what is read
				strings.Count(out, line([]string{path})) != 3 || !strings.Contains(out, `"content":"`+line([]string{"gone\n"})+`"`) {
				t.Errorf("surroundings: %.2000s", out)
			}
			if out := run("ask", nil, "none", "act", line([]string{"surroundings", at + "/absent*"})); out != "{\"n\":0,\"room\":500}\n" {
				t.Errorf("surroundings of nothing: %s", out)
			}
			os.Remove(at + "/long.conf")
			// Two processes of a name that is longer than the kernel keeps.
			program := dir + "/made-up-program-of-this-test"
			if out, err := exec.Command("cp", "/bin/sleep", program).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			for range 2 {
				cmd := exec.Command(program, "60")
				if err := cmd.Start(); err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
			}
			if out := run("ask", nil, "none", "act", line([]string{"process", "made-up-program-of-this-test"})); !strings.HasPrefix(out, `{"n":0,"count":2,"users":".`) || !strings.Contains(out, `"age":0}`) && !strings.Contains(out, `"age":1}`) {
				t.Errorf("processes: %s", out)
			}
			guard := func(fence, seconds string) []byte {
				var lines strings.Builder
				for _, f := range set {
					fmt.Fprintf(&lines, "%s %s %s\n", line([]string{f.Path}), f.Base, f.Candidate)
				}
				left := map[string][]byte{"guard.sh": []byte(here(guardText)), "set": []byte(lines.String())}
				for _, n := range []string{"0", "1", "2"} {
					act := line([]string{"sh", "-c", "echo " + n + " >>" + dir + "/acted"}) + "\n"
					left["unit-"+n], left["seconds-"+n], left["light-"+n], left["heavy-"+n] = []byte("x.service"), []byte("9\n"), []byte(act), []byte(act)
				}
				return archive(left)
			}
			prepare := func(fence, seconds string) {
				t.Helper()
				run("claim", nil, fence, "r")
				for range 2 {
					if out := run("snapshot", nil, triples([]string{fence, "r", "x.service"}, set)...); !strings.Contains(out, "snapshot") {
						t.Fatalf("snapshot: %s", out)
					}
				}
				for range 2 {
					run("make", archive(secretFiles(set[5])), append([]string{fence, "r", "5", set[5].Candidate, "9"}, set[5].Make.Command...)...)
				}
				os.WriteFile(dir+"/state/runs/r/act-1.begun", []byte("1.0\n"), 0o600) // the second of three services was acted on
				run("arm", guard(fence, seconds), fence, "r", seconds)
				for range 2 {
					if out := run("place", archive(contentsOf(set)), triples([]string{fence, "r"}, set)...); out != "{\"placed\":6}\n" {
						t.Fatalf("place: %s", out)
					}
				}
			}
			prepare("3", "60")
			placed := state()
			for _, want := range []string{"./sub/dir/new f 4750 root:www-data", "b.conf f 600 www-data:adm 1 ", "other l 777 root:root 1 a", "./made.key f 440 root:adm"} {
				if !strings.Contains(placed, want) {
					t.Errorf("placed, but for %q:\n%s", want, placed)
				}
			}
			if made, _ := os.ReadFile(dir + "/etc/made.key"); string(made) != "hiddenmade\n" {
				t.Errorf("made: %q", made)
			}
			for range 2 {
				if out := run("restore", nil, triples([]string{"3", "r"}, set)...); out != "{\"restored\":true,\"undone\":false}\n" {
					t.Fatalf("restore: %s", out)
				}
			}
			same := func(what string) {
				t.Helper()
				if now := state(); now != before {
					t.Errorf("%s: not as before:\n%s", what, render.Unified("state", []byte(before), []byte(now)))
				}
			}
			same("restored")
			if out := run("disarm", nil, "3", "r"); out != "{\"disarmed\":true}\n" {
				t.Errorf("disarm: %s", out)
			}
			prepare("4", "60")
			if out, err := exec.Command(dir + "/state/runs/r/restore.sh").CombinedOutput(); err != nil {
				t.Errorf("restore.sh by hand: %v %s", err, out)
			}
			os.RemoveAll(dir + "/etc/sub") // the one thing it leaves: directories
			same("restored by hand")
			// The guard, without systemd: a waiting process. It is armed anew once all is placed: that may take a while.
			prepare("5", "60")
			run("arm", guard("5", "2"), "5", "r", "2")
			if out := run("place", archive(contentsOf(set)), triples([]string{"5", "r"}, set)...); out != "{\"placed\":6}\n" {
				t.Fatalf("place: %s", out)
			}
			for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
				if data, _ := os.ReadFile(dir + "/state/ended/r"); string(data) == "fired\n" {
					break
				}
				if time.Now().After(deadline) {
					t.Fatal("the guard does not fire")
				}
			}
			same("after the guard")
			if acted, _ := os.ReadFile(dir + "/acted"); string(acted) != "1\n0\n" {
				t.Errorf("the guard had these services take the old files up: %q; want those that were acted on, in reverse", acted)
			}
			if out := run("disarm", nil, "5", "r"); !strings.Contains(out, "fired") {
				t.Errorf("disarming a guard that has fired: %s", out)
			}
			// What old runs kept goes, but where a guard is armed.
			old30, young := time.Now().Add(-31*24*time.Hour), time.Now().Add(-29*24*time.Hour)
			for name, at := range map[string]time.Time{"old": old30, "armed": old30, "young": young} {
				os.MkdirAll(dir+"/state/runs/"+name+"/guard", 0o700)
				os.WriteFile(dir+"/state/ended/"+name, []byte("disarmed\n"), 0o600)
				os.Chtimes(dir+"/state/runs/"+name, at, at)
			}
			os.Rename(dir+"/state/ended/armed", dir+"/state/pending/armed")
			for range 2 {
				if out := run("sweep", nil, "30"); out != "{\"swept\":true}\n" {
					t.Errorf("sweep: %s", out)
				}
			}
			for name, stays := range map[string]bool{"runs/old": false, "ended/old": false, "runs/armed/guard": true, "runs/young/guard": true, "ended/young": true, "runs/r/manifest": true} {
				if _, err := os.Stat(dir + "/state/" + name); (err == nil) != stays {
					t.Errorf("%s: %v; stays: %v", name, err, stays)
				}
			}
			os.RemoveAll(dir + "/state/runs")
			run("sweep", nil, "30")
		})
	}
}
