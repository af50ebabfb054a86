package lab

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/tools/txtar"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/view"
)

// keyPair makes a key for a user of a host, and gives the private half.
func keyPair(t *testing.T, n int, user, group string) string {
	path := filepath.Join(t.TempDir(), user)
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", user, "-f", path).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	public, err := os.ReadFile(path + ".pub")
	must(t, "key", err)
	private, err := os.ReadFile(path)
	must(t, "key", err)
	on(t, n, fmt.Sprintf("groupadd -f %[2]s; useradd -m -s /bin/sh -g %[2]s %[1]s; mkdir -m 700 /home/%[1]s/.ssh; cat >/home/%[1]s/.ssh/authorized_keys <<'END'\n%[3]sEND\nchown -R %[1]s /home/%[1]s/.ssh", user, group, public))
	return string(private)
}

// TestInsideTasks does what operators do, with the client, on real daemons;
// then it looks for secrets in everything that left the host or the server.
func TestInsideTasks(t *testing.T) {
	needInside(t)
	t.Parallel()
	const n = 60
	w := newWorld(t, n)
	tasks, err := txtar.ParseFile("testdata/tasks.txtar")
	must(t, "tasks", err)
	for _, f := range tasks.Files {
		w.file(f.Name, string(f.Data))
	}
	secrets := map[string]string{"charts-store": "drift-Ice_4711", "kim-key": keyPair(t, n, "kim", "duty"), "lou-key": keyPair(t, n, "lou", "guests")}
	for name, value := range secrets {
		w.run("ada", 0, value, "secret", "-all", "-services", "charts,entry", "-hosts", "true", "-probe", "kim signs in", "-probe", "lou does not", name)
	}
	const inBase = "base-hidden-8125" // a password that stands in a base file already
	on(t, n, `systemctl start tomcat10 mariadb nginx
cat >/etc/nginx/sites-available/tiles <<'END'
server {
    listen 8090;
    location /tiles/ {
        return 200 "tiles";
        location /tiles/upload/ {
            return 200 "uploaded";
        }
    }
}
END
ln -s ../sites-available/tiles /etc/nginx/sites-enabled/tiles; systemctl reload nginx
printf '[client]\npassword = `+inBase+`\n[myisamchk]\nkey_buffer_size = 20M\n' >>/etc/mysql/mariadb.conf.d/50-server.cnf
sed -i 's/^#SystemMaxUse=.*/SystemMaxUse=4G\nSystemMaxUse=2G/' /etc/systemd/journald.conf; mkdir -p /var/log/journal; systemctl restart systemd-journald
useradd -r gauge
printf '[Unit]\nDescription=Gauge intake\n[Service]\nUser=gauge\nExecStart=/bin/sleep \\\n    infinity\nRestart=no\n[Install]\nWantedBy=multi-user.target\n' >/etc/systemd/system/gauge.service; systemctl daemon-reload; systemctl start gauge
nohup sh -c 'while :; do ps axww -o args >>/root/processes; sleep 0.1; done' >/dev/null 2>&1 </dev/null &`)
	post := func(path string) int {
		request, _ := http.NewRequest("POST", fmt.Sprintf("http://10.77.0.%d:8090%s", n+2, path), bytes.NewReader(make([]byte, 1200000)))
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return 413 // nginx closes while we still send
		}
		response.Body.Close()
		return response.StatusCode
	}
	if got := post("/tiles/upload/"); got != 413 {
		t.Errorf("before, an upload of 1.2 MB gives %d", got)
	}
	for range 100 { // Tomcat's port is open some seconds after its start
		if _, err := try(n, "ss -Hltn 'sport = :8080' | grep -q ."); err == nil {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	wants := map[string]string{
		"upload":    "+            client_max_body_size 8m;",
		"cache":     "+key_buffer_size        = 24M",
		"groups":    "+AllowGroups root op duty",
		"log":       "-SystemMaxUse=4G\n-SystemMaxUse=2G\n+#SystemMaxUse=4G\n+#SystemMaxUse=2G",
		"policy":    "-Restart=no\n+Restart=on-failure\n+RestartSec=2s",
		"connector": "‹secret›",
	}
	units := map[string]string{"connector": "tomcat10", "upload": "nginx", "cache": "mariadb", "groups": "ssh", "log": "systemd-journald", "policy": "gauge"}
	for _, task := range []string{"upload", "cache", "groups", "log", "policy", "connector"} {
		w.load(task + "/service.yaml")
		began := time.Now()
		id, diff := w.approved(task + "/change.yaml")
		rehearsed := time.Since(began)
		if !strings.Contains(strings.ReplaceAll(diff, "\n  ", "\n"), wants[task]) {
			t.Errorf("%s: the diff lacks %q:\n%s", task, wants[task], diff)
		}
		began = time.Now()
		out := w.run("ines", 0, "", "climb", "-follow", id)
		climbed := time.Since(began)
		steps := w.run("ines", 0, "", "show", "-host", hostName(n), id)
		if !strings.Contains(steps, "done, files new, process new") {
			t.Errorf("%s: %s", task, out)
		}
		own := on(t, n, "t=$(date +%s%N); systemctl restart "+units[task]+"; echo $(( ($(date +%s%N)-t)/1000000 ))")
		t.Logf("%s: planned, rehearsed and approved in %.2f s, climbed in %.1f s with 3 s of soak; the service's own restart takes %s ms\n%s\n%s", task, rehearsed.Seconds(), climbed.Seconds(), strings.TrimSpace(own), diff, steps)
	}
	if up, above := post("/tiles/upload/"), post("/tiles/"); up != 200 || above != 413 {
		t.Errorf("an upload of 1.2 MB gives %d, above it %d", up, above)
	}
	if out := on(t, n, "mariadb -NBe 'select @@key_buffer_size'; grep -A1 myisamchk /etc/mysql/mariadb.conf.d/50-server.cnf"); out != "25165824\n[myisamchk]\nkey_buffer_size = 20M\n" {
		t.Errorf("the cache: %s", out)
	}
	if out := on(t, n, "p=$(systemctl show -p MainPID --value gauge); kill -9 $p; sleep 3; systemctl is-active gauge"); out != "active\n" {
		t.Errorf("after a kill: %s", out)
	}
	w.lookForSecrets(n, secrets, inBase)
}

// lookForSecrets searches all that left the host or the server.
func (w *world) lookForSecrets(n int, secrets map[string]string, more ...string) {
	w.Helper()
	needles := map[string]string{}
	add := func(name, value string) {
		for i, part := range strings.Split(strings.TrimSpace(value), "\n") {
			if len(part) > 6 && !strings.HasPrefix(part, "-----") {
				needles[fmt.Sprint(name, " ", i)] = part
				needles[fmt.Sprint(name, " ", i, " in base64")] = base64.StdEncoding.EncodeToString([]byte(part))
			}
		}
	}
	for name, value := range secrets {
		add(name, value)
	}
	for _, v := range more {
		add("in a base file", v)
	}
	places := map[string]string{"the client's output": w.said.String(), "the server's log": w.log.String(), "the host's process lists": on(w.T, n, "cat /root/processes"), "the host's journal": on(w.T, n, "journalctl -b --no-pager")}
	dumps, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pg_dump")
	out, err := exec.Command(dumps[0], w.database).CombinedOutput()
	if err != nil {
		w.Fatalf("%v: %s", err, out)
	}
	places["the database's dump"] = string(out)
	var answers strings.Builder
	for _, path := range []string{"/changes", "/record", "/secrets", "/services", "/hosts", "/services/charts"} {
		answers.WriteString(w.get(path))
	}
	for id := 1; id <= 6; id++ {
		for _, path := range []string{"", "/rehearsal/hosts", "/runs/" + hostName(n)} {
			answers.WriteString(w.get(fmt.Sprintf("/changes/%d%s", id, path)))
		}
		ctx := w.Context()
		w.client("ines").Follow(ctx, int64(id), func(e client.Event) error { answers.Write(e.Data); return io.EOF })
	}
	for service, file := range map[string]string{"charts": "/etc/tomcat10/server.xml", "readings": "/etc/mysql/mariadb.conf.d/50-server.cnf"} {
		answers.WriteString(w.run("ines", 0, "", "ask", "-where", "name == \""+hostName(n)+"\"", "-service", service, "file "+file))
	}
	places["the API's answers"] = answers.String()
	for place, text := range places {
		w.Logf("%s: %d kB searched for %d forms of secrets", place, len(text)/1024, len(needles))
		for name, needle := range needles {
			if i := strings.Index(text, needle); i >= 0 {
				w.Errorf("%s holds the secret %s: …%q…", place, name, text[max(0, i-80):i])
			}
		}
	}
	if !strings.Contains(on(w.T, n, "cat /etc/tomcat10/server.xml"), secrets["charts-store"]) {
		w.Error("the secret did not reach its file; the search proves nothing")
	}
}

func (w *world) get(path string) string {
	request, _ := http.NewRequest("GET", w.url+"/api/v1"+path, nil)
	request.Header.Set("Authorization", "Bearer "+w.token("ines"))
	response, err := http.DefaultClient.Do(request)
	must(w.T, path, err)
	defer response.Body.Close()
	data, _ := io.ReadAll(response.Body)
	return string(data)
}

const lockout = `
service: %s
title: Sign-in
where: labels.role == "bulletin"
unit: ssh.service
files: {main: {format: sshd, paths: {any: /etc/ssh/sshd_config}}}
trial: {command: [sshd, -t], covers: [/run]}
acts: [{name: restart, command: [systemctl, restart, ssh.service]}]
in-force: {ask: unit ssh.service, expect: renewed > 0}
%s
settle: 60s
guard: 6s
`

// TestInsideLockout shuts everybody out: with the server alive it puts that
// back over the connection it has; with the server dead, the host does, also
// after a power cut.
func TestInsideLockout(t *testing.T) {
	needInside(t)
	t.Parallel()
	w := newWorld(t, 61, 63, 65)
	// The probe never gets well once sign-in is shut, so the run waits there.
	probe := `probes: [{name: somebody answers, ask: "ssh :22", expect: size(methods) > 0}]`
	w.file("alive.yaml", fmt.Sprintf(lockout, "alive", ""))
	w.file("dead.yaml", fmt.Sprintf(lockout, "dead", strings.Replace(probe, "size(methods) > 0", "size(methods) > 9", 1)))
	w.load("alive.yaml")
	w.load("dead.yaml")
	change := func(file, service string, n int, edits string) string {
		w.file(file, fmt.Sprintf("title: t\nreason: r\nservice: %s\nwhere: name == %q\ncount: 1\nedits:\n%s\nladder: {soak: 200ms}\n", service, hostName(n), edits))
		out := w.run("ines", 0, "", "draft", file)
		id := strings.Fields(out)[1]
		w.run("ines", 0, "", "rehearse", id)
		w.run("ines", 0, "", "offer", id)
		var number int64
		fmt.Sscan(id, &number)
		d, err := w.client("ines").Change(t.Context(), number)
		must(t, "change", err)
		w.run("oda", 0, "", "approve", "-digest", d.Rehearsal.Digest, id)
		return id
	}
	shut := "  - {set: AllowUsers, to: nobody-at-all}"
	moved := "  - {set: ListenAddress, to: 127.0.0.1}"
	opened := func(n int, since time.Time) time.Duration {
		for time.Since(since) < 60*time.Second {
			if _, err := try(n, "true"); err == nil {
				return time.Since(since)
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatalf("h%d stays shut", n)
		return 0
	}

	for _, edits := range []string{shut, moved} {
		id := change("a.yaml", "alive", 61, edits)
		began := time.Now()
		w.run("ines", 1, "", "climb", "-follow", id)
		steps := w.run("ines", 0, "", "show", "-host", "h61", id)
		if !strings.Contains(steps, "restored") || !strings.Contains(steps, "no new connection could be made") {
			t.Errorf("server alive: %s", steps)
		}
		t.Logf("server alive,%s: put back over the old connection, %.1f s after the climb began", strings.TrimPrefix(edits, "  -"), time.Since(began).Seconds())
		if _, err := try(61, "true"); err != nil {
			t.Errorf("h61 is shut: %v", err)
		}
	}

	one, two := change("b.yaml", "dead", 63, shut), change("c.yaml", "dead", 65, moved)
	w.run("ines", 0, "", "climb", one)
	w.run("ines", 0, "", "climb", two)
	for _, n := range []int{63, 65} { // until the act is over
		var id int64 = 3
		if n == 65 {
			id = 4
		}
		for range 2400 {
			run, err := w.client("ines").HostRun(t.Context(), id, hostName(n))
			if err == nil && slices.ContainsFunc(run.Steps, func(s view.StepTaken) bool { return s.Step == ladder.Act && s.Outcome == ladder.OK }) {
				break
			}
			time.Sleep(25 * time.Millisecond)
		}
	}
	w.kill()
	began := time.Now()
	for _, n := range []int{63, 65} {
		if _, err := try(n, "true"); err == nil {
			t.Errorf("h%d is not shut: the test shows nothing", n)
		}
	}
	must(t, "cut", script("cut", "65").Run())
	must(t, "boot", exec.Command("./lab.sh", "boot", "65").Start())
	t.Logf("server killed: h63 lets us in again %.1f s later, by its timer", opened(63, began).Seconds())
	t.Logf("server killed and power cut: h65 lets us in again %.1f s later, at its boot", opened(65, began).Seconds())
	w.start()
	for _, id := range []string{one, two} {
		n := map[string]string{one: "h63", two: "h65"}[id]
		var steps string
		for range 200 {
			if steps = w.run("ines", 0, "", "show", "-host", n, id); strings.Contains(steps, "= restored") {
				break
			}
			time.Sleep(200 * time.Millisecond)
		}
		if !strings.Contains(steps, "= restored, files old, process old") || !strings.Contains(steps, "guard fired") {
			t.Errorf("%s: %s", n, steps)
		}
	}
}
