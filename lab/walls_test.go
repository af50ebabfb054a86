package lab

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/definition"
	"wladder/core/plan"
	"wladder/demo"
	"wladder/host"
)

// assault is a candidate that tries what a rehearsal must not do, and what the
// checker says then, behind the walls of a trial.
type assault struct{ text, said string }

// intakeChecker is the worst checker there is: it runs what the file says.
const intakeChecker = `#!/bin/sh
sed -n 's/^check *= *//p' /etc/gauge-intake/intake.ini | while read -r line; do sh -c "$line" 2>&1; done | { grep . && exit 1; exit 0; }
`

// assaults are made on the demo's definitions, on real daemons.
var assaults = []struct {
	service, file, base string // of demo/services; the file's key; where the attempt goes in
	attempts            []assault
}{
	{"gauge-intake", "main", "[intake]\npoll_seconds = 60\ncheck = %s\n", []assault{
		{"echo shut >/etc/nologin", "Read-only file system"},
		{"chown www-data /root/.ssh", "chown: changing ownership of '/root/.ssh': "},
		{"chmod 777 /etc/shadow", "Read-only file system"},
		{"mount -o remount,rw / ; mount -t tmpfs x /mnt", "permission denied"},
		{"systemctl stop nginx", "Failed to connect"},
		{"bash -c 'echo x >/dev/tcp/10.77.0.1/22'", "Network is unreachable"},
		{"kill -9 $(cat /srv/nginx.pid)", "No such process"},
		{"cp /bin/true /run/x && /run/x", "Permission denied"},
		{"cat /dev/kmsg /dev/mem /dev/tty", "No such file or directory"},
		{"cat /home/op/own", "Permission denied"},
		{"cat /proc/1/environ; ls /proc/1/root/", "Permission denied"},
		{"ls /var/lib/wladder/runs", "No such file or directory"},
		{"perl -MIO::Socket::UNIX -e 'IO::Socket::UNIX->new(Peer => \"/srv/gauge.sock\") or die $!'", "Connection refused"},
		{"perl -MIO::Socket::UNIX -e 'IO::Socket::UNIX->new(Peer => \"/run/systemd/private\") or die $!'", "No such file or directory"},
		{"unshare --mount true; nsenter -t 1 -m true; echo b >/proc/sysrq-trigger", "Operation not permitted"},
		{"(setsid sleep 600 >/dev/null 2>&1 &) ; echo begun", "begun"},
		{"dd if=/dev/zero of=/run/fill bs=1M count=100", "No space left on device"},
	}},
	{"bulletin-pages", "main", "user www-data;\n%s\nevents {\n    worker_connections 512;\n}\n", []assault{
		{"error_log /etc/nologin;", "Read-only file system"},
		{"pid /etc/cron.d/gauges;", "Read-only file system"},
		{"http {\n client_body_temp_path /root/.ssh;\n}", "chown(\"/root/.ssh\", 33) failed"},
		{"http {\n client_body_temp_path /etc/gauges;\n}", "mkdir() \"/etc/gauges\" failed (30"},
		{"http {\n access_log /usr/share/x;\n}", "Read-only file system"},
		{"http {\n server {\n listen 443 ssl;\n ssl_certificate_key engine:gauges:x;\n ssl_certificate /etc/ssl/x.pem;\n}\n}", "failed"},
		{"load_module /home/op/own;", "Permission denied"},
		{"include /proc/1/environ;", "Permission denied"},
		{"include /home/op/own;", "Permission denied"},
		{"include /var/lib/wladder/fence;", "No such file or directory"},
		{"http {\n server {\n location / {\n proxy_pass http://bulletin.vellmere.example/;\n}\n}\n}", "host not found in upstream"},
		{"http {\n server {\n listen 10.77.0.1:80;\n}\n}", "Cannot assign requested address"},
	}},
	{"entry", "main", "%s\n", []assault{
		{"HostKey /home/op/own", "Unable to load host key: /home/op/own"},
		{"HostKey /proc/1/environ", "Unable to load host key: /proc/1/environ"},
		{"HostKey /dev/mem", "Unable to load host key: /dev/mem"},
		{"HostKey /run/systemd/private", "Unable to load host key: /run/systemd/private"},
		{"HostKey /var/lib/wladder/fence", "Unable to load host key: /var/lib/wladder/fence"},
		{"HostKeyAgent /srv/gauge.sock", "Connection refused"},
		{"HostKeyAgent /run/systemd/private", "No such file or directory"},
		{"ListenAddress bulletin.vellmere.example", "bulletin.vellmere.example"},
		{"HostKey /home/op/.ssh/id", "Unable to load host key: /home/op/.ssh/id"},
		{"Include /home/op/own", "Permission denied"},
	}},
}

// wholeTree is what there is on a host: bytes, owners, modes, times, processes,
// mounts and sockets.
const wholeTree = `find / -xdev \( -path /proc -o -path /sys \) -prune -o -printf '%p %y %m %u %g %s %n %T@ %C@\n'
find /run -printf '%p %y %m %u %g\n'
find /etc /root /home /srv /usr/local /var/lib -xdev -type f -exec sha256sum {} +
ps -eo comm,user,args | grep -v ' ps -eo\| find /\|sshd: \|sha256sum'
cat /proc/1/mountinfo
ss -xlH | while read -r _ _ _ _ at _; do echo "socket $at"; done`

var digits = regexp.MustCompile(`[0-9a-f]{8,}|[0-9]+`)

// touched gives what differs between two trees: each path, process, mount or
// socket, numbers left out.
func touched(before, after string) []string {
	had := map[string]bool{}
	for line := range strings.Lines(before) {
		had[line] = true
	}
	var all []string
	for line := range strings.Lines(after) {
		if !had[line] {
			f := strings.Fields(line)
			all = append(all, digits.ReplaceAllString(strings.Join(f[:min(1, len(f))], ""), "#"))
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// strays gives what of a host is another than before, but for what is so anyway between first
// and before, and for the usual. The last scripts end a moment after they have answered: what
// goes away by itself is none.
func strays(first, before string, usual []string, tree func() string) (all []string) {
	anyway := append(touched(before, first), usual...)
	for range 20 {
		after := tree()
		all = slices.DeleteFunc(append(touched(before, after), touched(after, before)...), func(what string) bool { return slices.Contains(anyway, what) })
		if len(all) == 0 {
			break
		}
		time.Sleep(500 * time.Millisecond)
	}
	return all
}

// TestInsideWalls tries to write, run, connect and read with candidates of its
// own: in a rehearsal the checker never sees them, behind the walls of a trial
// it fails, and nothing on the host is another afterwards.
func TestInsideWalls(t *testing.T) {
	needInside(t)
	t.Parallel()
	r := newRig(t, []int{91})
	n := 91
	r.on(n, `mkdir -p /etc/gauge-intake /srv /var/lib/wladder/runs && printf '[intake]\npoll_seconds = 60\n' >/etc/gauge-intake/intake.ini
printf own >/home/op/own && chown op:op /home/op/own && chmod 600 /home/op/own
printf '[Socket]\nListenStream=/srv/gauge.sock\n' >/etc/systemd/system/gauge.socket && printf '[Service]\nExecStart=/bin/sleep infinity\n' >/etc/systemd/system/gauge.service
cp /etc/systemd/system/gauge.service /etc/systemd/system/gauge-intake.service
systemctl daemon-reload && systemctl start gauge.socket nginx gauge-intake && systemctl show -p MainPID --value nginx >/srv/nginx.pid`)
	r.on(n, "cat >/usr/local/bin/gauge-intake <<'EOF'\n"+intakeChecker+"EOF\nchmod 755 /usr/local/bin/gauge-intake")
	var services []*definition.Service
	for _, a := range assaults {
		text := strings.NewReplacer(`labels.role == "gauge"`, `labels.role == "bulletin"`, `labels.role == "entry"`, `labels.role == "bulletin"`).Replace(string(demo.File("services/" + a.service + ".yaml")))
		r.define(text)
		svc, err := definition.Parse(a.service, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		services = append(services, svc)
	}
	conn, err := r.dialer.Connect(t.Context(), target(hostView(t, n)))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	r.on(n, wholeTree)
	first := r.on(n, wholeTree)
	r.on(n, "true") // an empty sign-in
	before := r.on(n, wholeTree)
	usual := touched(first, before)

	attempts := 0
	for i, a := range assaults {
		f := services[i].Files[a.file]
		at := f.Path("debian")
		found, err := conn.Collect(t.Context(), []string{at})
		if err != nil {
			t.Fatal(err)
		}
		base := found[0].Copy()
		// With the file as it is, the checker is content: the walls are not in its way.
		if answer, said, err := conn.Trial(t.Context(), nil, services[i].Trial, nil); err != nil || answer != host.Accepted {
			t.Errorf("%s: untouched: %s %s, %v", a.service, answer, said, err)
		}
		for _, try := range a.attempts {
			attempts++
			text := fmt.Sprintf(a.base, try.text)
			candidate := plan.Copy{Kind: plan.Regular, Content: []byte(text), Owner: base.Owner, Group: base.Group, Mode: base.Mode}
			answer, said, err := conn.Trial(t.Context(), []host.File{{Path: at, Base: host.Stands(base), Candidate: host.Stands(candidate), Content: candidate.Content}}, services[i].Trial, nil)
			if err != nil || answer != host.Refused && !strings.HasPrefix(try.text, "HostKeyAgent") || !strings.Contains(said, try.said) {
				t.Errorf("%s: %s: %s, %v: it says %q; want %q", a.service, try.text, answer, err, said, try.said)
			}
		}
		// As a rehearsal, all of them in one go each: the checker is not asked.
		for _, try := range a.attempts {
			text := fmt.Sprintf(a.base, try.text)
			d, _ := r.draft(a.service, fmt.Sprintf("  - put: %s\n    text: %q\n", a.file, text), "")
			said := fmt.Sprintf("%+v", d.Rehearsal.Groups)
			if !strings.Contains(said, "tried-later") || strings.Contains(said, "refuses the candidate") {
				t.Errorf("%s: %s, rehearsed: %s", a.service, try.text, said)
			}
		}
	}
	for _, what := range strays(first, before, usual, func() string { return r.on(n, wholeTree) }) {
		t.Errorf("%s is not as it was before %d attempts", what, attempts)
	}
	t.Logf("%d attempts, each tried behind walls and rehearsed; an empty sign-in touches %v", attempts, usual)
}
