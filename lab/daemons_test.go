package lab

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/ladder"
)

const web = `
service: web
title: Web server
where: labels.role == "bulletin"
unit: nginx.service
files:
  main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}, tried: true}
  site: {format: nginx, paths: {debian: /etc/nginx/sites-enabled/default}}
trial: {command: [nginx, -t, -q], covers: [/run, /var/log/nginx, /var/lib/nginx], dump: [nginx, -T, -q]}
acts:
  - {name: reload, command: [systemctl, reload, nginx.service]}
  - {name: restart, command: [systemctl, restart, nginx.service]}
in-force: {ask: unit nginx.service, expect: renewed > 0}
settings:
  - {address: events/worker_connections, file: main, type: integer, act: reload, shown: "worker_connections {value};"}
  - {address: server/root, file: site, type: text, act: reload}
probes:
  - {name: front page, ask: "http GET :80/", expect: 'status == 200 && body.contains("Welcome")'}
  - {name: unit, ask: unit nginx.service, expect: state == "active"}
settle: 3s
`

const signIn = `
service: sign-in
title: OpenSSH
where: labels.role == "bulletin"
unit: ssh.service
files:
  main: {format: sshd, paths: {any: /etc/ssh/sshd_config}}
trial: {command: [sshd, -t], covers: [/run], dump: [sshd, -T]}
acts:
  - {name: restart, command: [systemctl, restart, ssh.service]}
in-force: {ask: unit ssh.service, expect: renewed > 0}
settings:
  - {address: MaxAuthTries, type: integer, shown: "maxauthtries {value}"}
probes:
  - {name: sign-in answers, ask: "tcp :22", expect: 'connected && banner.startsWith("SSH-2.0-OpenSSH")'}
settle: 3s
`

// everything is all of a host's files that a change could touch: contents,
// owners, modes, links and times. A directory's own time moves with any rename.
func (r *rig) everything(n int) string {
	r.Helper()
	return r.on(n, `find /etc /usr/share/nginx /var/www /var/lib/nginx -type f -exec sha256sum {} + | sort -k2; find /etc /var/www \( -type d -printf '%p %m %u %g\n' -o -printf '%p %m %u %g %n %l %T@\n' \) | sort`)
}

func TestInsideRealDaemons(t *testing.T) {
	needInside(t)
	t.Parallel()
	r := newRig(t, []int{1, 2}, web, signIn)
	r.all("systemctl start nginx")

	t.Log("a good change reaches nginx")
	attributes := r.on(1, "stat -c '%a %U %G %h' /etc/nginx/nginx.conf")
	_, id := r.draft("web", "  - {file: main, set: events/worker_connections, to: 1024}", "")
	d := r.climb(id)
	for n := 1; n <= 2; n++ {
		r.wants(d, n, ladder.Done, "")
		if dump := r.on(n, "nginx -T 2>/dev/null"); !strings.Contains(dump, "worker_connections 1024;") {
			t.Errorf("nginx on h%d does not read the new value", n)
		}
	}
	if now := r.on(1, "stat -c '%a %U %G %h' /etc/nginx/nginx.conf"); now != attributes {
		t.Errorf("owner, mode or links were %sand are %s", attributes, now)
	}

	t.Log("a change that the checker refuses touches nothing")
	before := r.everything(1)
	d, _ = r.draft("web", "  - {file: main, set: http/no_such_directive, to: 1}", "")
	if len(d.Rehearsal.Groups) != 1 || // alike on both hosts, whatever time and process number nginx prints
		d.Rehearsal.Digest != "" || !strings.Contains(fmt.Sprint(d.Rehearsal.Groups[0].Findings), `unknown directive "no_such_directive"`) {
		t.Errorf("rehearsal: %+v", d.Rehearsal)
	}
	if r.everything(1) != before {
		t.Error("the rehearsal changed something on the host")
	}

	t.Log("files that became bad after the rehearsal stop the trial, not the service")
	_, id = r.draft("web", "  - {file: main, set: events/worker_connections, to: 2048}", "")
	r.on(1, "echo 'bogus on;' >/etc/nginx/conf.d/left-over.conf")
	before = r.everything(1)
	d = r.climb(id)
	r.wants(d, 1, ladder.PassedOver, "refuses the files as they are now")
	r.wants(d, 2, ladder.Done, "")
	if r.everything(1) != before {
		t.Error("the host that was passed over was changed")
	}
	r.on(1, "rm /etc/nginx/conf.d/left-over.conf; systemctl is-active -q nginx")

	t.Log("a change that makes nginx answer wrongly is put back, through its link")
	r.on(1, "chmod 640 /etc/nginx/sites-available/default; chown root:www-data /etc/nginx/sites-available/default")
	_, id = r.draft("web", "  - {file: site, set: server/root, to: /srv/nowhere}", "")
	before = r.everything(1)
	d = r.climb(id)
	for n := 1; n <= 2; n++ {
		r.wants(d, n, ladder.Restored, "status 404")
	}
	if after := r.everything(1); after != before {
		t.Errorf("not all is as before:\n%s", difference(before, after))
	}
	if left := r.on(1, "find / -xdev -name '.wladder-*'; ls -A /var/lib/wladder/pending; find /etc/systemd -name 'wladder*'; find /var/lib/wladder/runs -name stage"); left != "" {
		t.Errorf("left behind: %q", left)
	}

	t.Log("sign-in settings reach sshd, which is asked for them")
	_, id = r.draft("sign-in", "  - {set: MaxAuthTries, to: 3}\n  - {set: X11Forwarding, to: no}", "")
	d = r.climb(id)
	r.wants(d, 1, ladder.Done, "")
	if dump := r.on(1, "sshd -T | grep -E '^(maxauthtries|x11forwarding) '"); dump != "maxauthtries 3\nx11forwarding no\n" {
		t.Errorf("sshd says %s", dump)
	}
	t.Logf("steps on h1:\n%s", r.steps(d, 1))

	t.Log("a line that another wins over stops the change, by its place and by the daemon's own dump")
	r.all("echo 'MaxAuthTries 5' >/etc/ssh/sshd_config.d/50-local.conf")
	d, _ = r.draft("sign-in", "  - {set: MaxAuthTries, to: 4}", "")
	said := fmt.Sprint(d.Rehearsal.Groups[0].Findings)
	for _, want := range []string{"overruled", "/etc/ssh/sshd_config.d/50-local.conf:1 comes first; set MaxAuthTries in /etc/ssh/sshd_config.d/50-local.conf instead", "not-shown"} {
		if !strings.Contains(said, want) {
			t.Errorf("a value that loses: %s; want %q", said, want)
		}
	}
}
