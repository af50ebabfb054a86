package standin

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func signer(seed byte) ssh.Signer {
	s, _ := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, 32)))
	return s
}

const webConf = "worker_processes 3;\nevents { worker_connections 64; }\nhttp { server { listen 18470; add_header X-Build \"a; b\"; } }\n"

func start(t *testing.T, n int) *Host {
	h, err := Start(Config{
		Name: "x", Address: fmt.Sprintf("127.19.60.%d:2222", n), Cores: 3, MemoryMB: 100, Signer: signer(1), Client: signer(2).PublicKey(),
		Image: map[string]string{"/etc/web.conf": webConf},
		Units: []UnitConfig{{Name: "web.service", Checker: "webd", Read: WebServer("/etc/web.conf", "Bulletin")}},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Close)
	return h
}

// run runs a line on the host's own files and gives output and status.
func run(h *Host, line string, args ...string) (string, int) {
	var out bytes.Buffer
	status := h.newShell(h.Files).run(h.ctx, line, strings.NewReader("input\n"), &out, &out, args...)
	return out.String(), status
}

// TestCommandsAgreeWithRealOnes runs the same lines here and in a real shell
// with coreutils, in an empty directory of its own.
func TestCommandsAgreeWithRealOnes(t *testing.T) {
	h := start(t, 1)
	for _, line := range []string{
		`printf 'a\nb' >f; cat f; sha256sum <f; base64 <f; base64 <f | base64 -d`,
		`printf x >f; cp -a f g; mv -f -T -- g h; ls=$(cat h); printf %s "$ls"; [ -e g ] || echo gone`,
		`printf x >f; ln -- f g; stat -c '%a %h %s %F' -- f; rm -f g; stat -c %h f`,
		`mkdir -p a/b; mkdir c; [ -d a/b ] && echo made; mkdir c; echo $?`,
		`printf x >f; chmod 640 f; printf y >g; chmod --reference=f g; stat -c %a g`,
		`for d in ./*/; do echo "$d"; done; mkdir p q; for d in ./*/; do echo "$d"; done`,
		`printf 'a b  c' | cut -d ' ' -f 2; printf 'one\ntwo\n' | tr -d '\n'`,
		`: >e; stat -c '%F %s' e; cat nothing 2>/dev/null || echo none; echo "$(cat <e)."`,
		`while IFS='=' read -r k v; do echo "$k/$v"; done <<-END
			A=1=2
			B=
		END`,
		`f() { eval "x=\$$1"; echo "$x"; }; f 2 two`,
		`printf x >f; printf yy >>f; cat f; readlink -f -- f | cut -d / -f 2 >/dev/null; timeout 5 cat f`,
		`printf abcdef >f; head -c 2 f; tail -c 2 f; head -c 3 <f; wc -c <f; printf 'a\nb\n' | wc -l`,
		`printf x >f; ln -s f g; readlink -n -- g; echo; cat g; ln -s h g 2>/dev/null || echo there; ln -sf h g; readlink g; [ -L g ] && echo link; [ -e g ] || echo leads nowhere`,
		`printf x >f; ln -T -- f g; stat -c %h g; rm -f -- g; stat -c %h f; mkdir a; rmdir a; [ -d a ] || echo gone; mkdir b; : >b/c; rmdir -- b 2>/dev/null || echo full`,
		`printf 'a\0b\0' | tr '\0' ' '; printf 'a\tb\n' | cut -f 2; readlink -m -n -- a/../b/c | tail -c 4`,
		`umask 077; for x; do echo "$x"; done; (umask 022 && echo in); x=abc; echo ${#x} ${x%?}`,
		`case ":a:b:" in *":b:"*) echo in ;; esac; x=a/b/c; echo "${x%/*} ${x##*/}"`,
	} {
		dir := t.TempDir()
		cmd := exec.Command("dash", "-c", "cd "+dir+" && "+line)
		want, err := cmd.CombinedOutput()
		wantStatus := cmd.ProcessState.ExitCode()
		if cmd.Err != nil {
			t.Skipf("SKIPPED: %v", err)
		}
		at := fmt.Sprintf("/tmp/%x", len(line)*7919)
		h.Files.mkdirs(at)
		got, status := run(h, "cd "+at+" && "+line)
		clean := func(s string) string { // messages differ in wording, not in where they come
			var kept []string
			for _, l := range strings.Split(s, "\n") {
				if !strings.Contains(l, "mkdir:") {
					kept = append(kept, l)
				}
			}
			return strings.Join(kept, "\n")
		}
		if clean(got) != clean(string(want)) || status != wantStatus {
			t.Errorf("%s\ngot  %q, status %d\nwant %q, status %d", line, got, status, want, wantStatus)
		}
	}
}

func TestWhatIsNotKnownIsAnError(t *testing.T) {
	h := start(t, 2)
	for _, line := range []string{"frobnicate", "cp -r /etc /tmp", "tr a b", "mount --bind /etc /tmp", "systemctl mask web.service", "systemctl restart other.service", "stat -Z /etc", "tar -czf - /etc"} {
		if out, status := run(h, line); status == 0 {
			t.Errorf("%s is taken: %s", line, out)
		}
	}
}

func TestANamespaceKeepsTheFilesAsTheyAre(t *testing.T) {
	h := start(t, 3)
	out, status := run(h, `unshare --mount --propagation private sh -c '
		mount -t tmpfs -o mode=700 x /run; printf seen >/run/f
		mkdir /run/etc; printf changed >/run/etc/web.conf; mount --bind /run/etc /etc
		cat /etc/web.conf; printf again >/etc/web.conf; cat /run/etc/web.conf'`)
	if out != "changedagain" || status != 0 {
		t.Errorf("inside: %q, %d", out, status)
	}
	if data, _ := h.Files.Read("/etc/web.conf"); string(data) != webConf {
		t.Errorf("outside: %q", data)
	}
}

func get(t *testing.T, n int) (int, http.Header, string) {
	response, err := http.Get(fmt.Sprintf("http://127.19.60.%d:18470/", n))
	if err != nil {
		return 0, nil, err.Error()
	}
	defer response.Body.Close()
	body, _ := io.ReadAll(response.Body)
	return response.StatusCode, response.Header, string(body)
}

func TestUnitsDoWhatTheirFilesSay(t *testing.T) {
	h := start(t, 4)
	status, header, body := get(t, 4)
	if status != 200 || header.Get("X-Build") != "a; b" || !strings.Contains(body, "Bulletin") {
		t.Errorf("at first: %d %v %s", status, header, body)
	}
	count := func() string {
		out, _ := run(h, `m=$(systemctl show -p MainPID web.service); while IFS== read -r k v; do if [ $k = MainPID ]; then cat /proc/$v/task/$v/children; fi; done <<END
$m
END`)
		return out
	}
	before := count()
	if len(strings.Fields(before)) != 3 {
		t.Errorf("3 workers are %q", before)
	}
	// A reload that cannot be taken says nothing, and changes nothing.
	h.Files.Write("/etc/web.conf", []byte("nonsense\n"))
	if out, status := run(h, "webd -t"); status == 0 || !strings.Contains(out, "[emerg]") {
		t.Errorf("the checker: %q", out)
	}
	if _, status := run(h, "systemctl reload web.service"); status != 0 || count() != before {
		t.Errorf("a bad reload: status %d, workers %q, then %q", status, before, count())
	}
	h.Files.Write("/etc/web.conf", []byte(strings.Replace(webConf, "processes 3", "processes 1", 1)))
	run(h, "systemctl reload web.service")
	if now := count(); len(strings.Fields(now)) != 1 || now == before {
		t.Errorf("after a good reload: %q", now)
	}
	// A restart that cannot be taken leaves it down.
	h.Files.Write("/etc/web.conf", []byte("nonsense\n"))
	if _, status := run(h, "systemctl restart web.service"); status == 0 {
		t.Error("a bad restart succeeds")
	}
	if _, status := run(h, "systemctl is-active --quiet web.service"); status == 0 {
		t.Error("active after a bad restart")
	}
	if status, _, _ := get(t, 4); status != 0 {
		t.Errorf("answers %d while down", status)
	}
}

func TestFaults(t *testing.T) {
	h := start(t, 5)
	h.Script(&Fault{Do: AnswerWrongly, When: "worker_connections 128", Times: 1})
	if status, _, _ := get(t, 5); status != 200 {
		t.Errorf("a fault for another configuration shows: %d", status)
	}
	changed := strings.Replace(webConf, "worker_connections 64", "worker_connections 128", 1)
	h.Files.Write("/etc/web.conf", []byte(changed))
	run(h, "systemctl reload web.service")
	first, _, _ := get(t, 5)
	second, _, _ := get(t, 5)
	if first != 500 || second != 200 {
		t.Errorf("once wrong, then right: %d, %d", first, second)
	}
	h.Script(&Fault{Do: RefuseStart})
	if _, status := run(h, "systemctl restart web.service"); status == 0 {
		t.Error("it starts in spite of the fault")
	}
	h.Mend()
	h.Script(&Fault{Do: DieAfter, For: 20 * time.Millisecond, Times: 1})
	run(h, "systemctl restart web.service")
	for deadline := time.Now().Add(60 * time.Second); ; {
		if out, _ := run(h, "systemctl show -p ActiveState web.service"); strings.Contains(out, "ActiveState=failed") {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("it does not die")
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func TestSSH(t *testing.T) {
	h := start(t, 6)
	dial := func(key ssh.Signer) (*ssh.Client, error) {
		return ssh.Dial("tcp", h.Address, &ssh.ClientConfig{User: "root", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.FixedHostKey(signer(1).PublicKey())})
	}
	if _, err := dial(signer(9)); err == nil {
		t.Error("a strange key signs in")
	}
	c, err := dial(signer(2))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	remote := func(line string) (string, error) {
		s, err := c.NewSession()
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		s.Stdin = strings.NewReader("from here")
		out, err := s.CombinedOutput(line)
		return string(out), err
	}
	if out, err := remote("sh -c 'cat; exit 3' 'wladder-claim'"); out != "from here" || err == nil || err.(*ssh.ExitError).ExitStatus() != 3 {
		t.Errorf("%q, %v", out, err)
	}
	if ran := h.Ran(); len(ran) != 1 || ran[0] != "claim" {
		t.Errorf("ran %v", ran)
	}
	if _, _, err := c.OpenChannel("direct-tcpip", nil); err == nil {
		t.Error("a channel that is no session opens")
	}
	h.Script(&Fault{Do: CutBefore, At: "place"})
	if _, err := remote("sh -c 'printf x >/etc/placed' 'wladder-place'"); err == nil {
		t.Error("a cut link answers")
	}
	if _, err := h.Files.Read("/etc/placed"); err == nil {
		t.Error("what was cut before ran")
	}
}

// TestNothingIsLeftBehind closes hosts and looks for goroutines and ports.
func TestNothingIsLeftBehind(t *testing.T) {
	before := runtime.NumGoroutine()
	for n := range 5 {
		h, err := Start(Config{Name: "x", Address: fmt.Sprintf("127.19.61.%d:2222", n+1), Signer: signer(1), Client: signer(2).PublicKey(),
			Image: map[string]string{"/etc/ssh/sshd_config": "Port 2201\n"},
			Units: []UnitConfig{{Name: "ssh.service", Checker: "sshd", Read: ShellServer("/etc/ssh/sshd_config")}}})
		if err != nil {
			t.Fatal(err)
		}
		if c, err := net.Dial("tcp", fmt.Sprintf("127.19.61.%d:2201", n+1)); err != nil {
			t.Error(err)
		} else {
			banner := make([]byte, 7)
			io.ReadFull(c, banner)
			if string(banner) != "SSH-2.0" {
				t.Errorf("greets with %q", banner)
			}
			c.Close()
		}
		h.Close()
	}
	for deadline := time.Now().Add(60 * time.Second); runtime.NumGoroutine() > before && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	if after := runtime.NumGoroutine(); after > before {
		t.Errorf("%d goroutines before, %d after", before, after)
	}
	if _, err := net.Dial("tcp", "127.19.61.1:2201"); err == nil {
		t.Error("a port is still open")
	}
}

func TestPrograms(t *testing.T) {
	read := func(p func(string) Program, text string) error {
		_, err := p("/f")(NewFiles(map[string]string{"/f": text}))
		return err
	}
	web := func(f string) Program { return WebServer(f, "x") }
	for _, c := range []struct {
		program func(string) Program
		text    string
		wrong   string // empty: right
	}{
		{web, webConf, ""}, {web, "", ""},
		{web, "events {", "unexpected end"}, {web, "}", `unexpected "}"`}, {web, "worker_processes many;", "invalid number"},
		{web, "events { worker_connections 0; }", "invalid value"}, {web, "http { server_tokens maybe; }", "it must be"}, {web, "bogus on;", "unknown directive"},
		{ShellServer, "Port 22\n# x\nMatch User a\n", ""}, {ShellServer, "UsePAM perhaps\n", "yes/no"}, {ShellServer, "Bogus x\n", "Bad configuration option"}, {ShellServer, "MaxAuthTries x\n", "Bad number"},
		{Intake, "[intake]\nport = 1\npoll_seconds=2\nmax_gauges= 3\n", ""}, {Intake, "[intake]\nport = 0\n", "want a number"}, {Intake, "[intake]\nport\n", "no ="},
	} {
		err := read(c.program, c.text)
		if (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%q: %v; want %q", c.text, err, c.wrong)
		}
	}
}

// TestFullDisk has a shell hear that nothing can be written, and keep what stands: a fence above all.
func TestFullDisk(t *testing.T) {
	h := start(t, 77)
	run(h, "mkdir -p /var/lib/w; printf '1\\n' >/var/lib/w/fence")
	h.Fill(true)
	out, _ := run(h, `if ! printf '%s\n' 2 2>/dev/null >/var/lib/w/fence.new; then echo full; else mv -f -T -- /var/lib/w/fence.new /var/lib/w/fence; fi; printf '%s,' a "$(printf %s b)"; cat /var/lib/w/fence`)
	if out != "full\na,b,1\n" {
		t.Errorf("on a full disk: %q", out)
	}
	h.Fill(false)
	if out, status := run(h, "printf '2\\n' >/var/lib/w/fence; cat /var/lib/w/fence"); out != "2\n" || status != 0 {
		t.Errorf("once it is free: %q, %d", out, status)
	}
}
