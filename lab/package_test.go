package lab

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestInsidePackage upgrades the server's package while a climb is under way, tries to remove it
// meanwhile, and purges it afterwards.
func TestInsidePackage(t *testing.T) {
	needInside(t)
	t.Parallel()
	before := os.Getenv("LAB_PACKAGE_BEFORE")
	if before == "" {
		t.Skip("SKIPPED: the version before could not be built; no upgrade was tried")
	}
	const server, one, two = 93, 205, 206
	boot(t, server, one, two)
	names, scanned := "", "ssh-keyscan -t ed25519"
	for i, n := range []int{one, two} {
		names += fmt.Sprintf("10.77.0.%d pages-%d\n", n+2, i+1)
		scanned += fmt.Sprintf(" pages-%d", i+1)
		on(t, n, "systemctl start nginx")
	}
	packages := map[string]string{before: "before.deb", os.Getenv("LAB_PACKAGE"): "now.deb"}
	for from, to := range packages {
		copied(t, server, from, "/root/"+to, "644")
	}
	copied(t, server, "../bundled/nginx.yaml", "/root/nginx.yaml", "644")
	on(t, server, "cat >>/etc/hosts <<'END'\n"+names+"END\n"+scanned+" >/root/known_hosts 2>/dev/null")
	const password = "the weir is open again"
	as := func(who, stdin, line string) string {
		t.Helper()
		out, err := tryWith(server, stdin, "cd /root && HOME=/root/"+who+" "+line)
		if err != nil {
			t.Fatalf("%s: %s: %v\n%s", who, line, err, out)
		}
		return out
	}

	// The version before, with a climb that takes its time.
	on(t, server, "apt-get install -y /root/before.deb")
	for _, name := range []string{"ada", "ben"} {
		as("root", password+"\n", "runuser -u wladderd -- wladderd -data /var/lib/wladderd -first-admin "+name+" -display "+name)
	}
	on(t, server, "systemctl start wladderd")
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		if _, err := tryWith(server, password+"\n", "HOME=/root/ada wladder sign-in ada"); err == nil {
			break
		} else if time.Now().After(deadline) {
			t.Fatal("the version before does not come up")
		}
	}
	for _, account := range []string{"ines -roles author", "oda -roles reviewer,operator"} {
		name, roles, _ := strings.Cut(account, " ")
		as("ada", password+"\n", "wladder account-add -display "+name+" "+roles+" "+name)
		as(name, password+"\n", "wladder sign-in "+name)
		as(name, password+"\n"+password+", or so\n", "wladder password")
	}
	as("ben", password+"\n", "wladder sign-in ben")
	key := on(t, server, "runuser -u wladderd -- wladderd -data /var/lib/wladderd -show-key")
	for i, n := range []int{one, two} {
		on(t, n, "cat >>/root/.ssh/authorized_keys <<'END'\n"+key+"END")
		on(t, server, fmt.Sprintf(`echo "- {name: pages-%d, address: 'pages-%d:22', login: root, labels: {web: nginx}}" >>/root/hosts.yaml`, i+1, i+1))
	}
	as("ada", "", "wladder hosts-load -known-hosts known_hosts hosts.yaml")
	loaded := as("ada", "", "wladder services-load nginx.yaml")
	as("ben", "", "wladder services-approve -digest "+lastWord(loaded)+" nginx")
	on(t, server, "cat >/root/change.yaml <<'END'\n"+`title: Connections
reason: an upgrade under way
service: nginx
where: labels.web == "nginx"
count: 2
edits: [{set: events/worker_connections, file: main, to: 1024}]
ladder: {stages: [{up-to: 1}, {hosts: all}], soak: 12s}
`+"END")
	as("ines", "", "wladder draft change.yaml")
	digest := digestPrinted.FindStringSubmatch(as("ines", "", "wladder rehearse 1"))[1]
	as("ines", "", "wladder offer 1")
	as("oda", "", "wladder approve -digest "+digest+" 1")
	as("oda", "", "wladder climb 1")
	until := func(what, want string) string {
		t.Helper()
		for deadline := time.Now().Add(120 * time.Second); ; time.Sleep(200 * time.Millisecond) {
			out, err := tryWith(server, "", "HOME=/root/ines "+what)
			if err == nil && strings.Contains(out, want) {
				return out
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s: %v\n%s\nwant %s\n%s", what, err, out, want, on(t, server, "journalctl -u wladderd --no-pager | tail -30"))
			}
		}
	}
	until("wladder show 1", "soaking")

	// The upgrade, under it.
	out := on(t, server, "apt-get install -y /root/now.deb && wladderd version && systemctl is-active wladderd")
	if !strings.Contains(out, "wladderd 0.") || !strings.HasSuffix(out, "active\n") {
		t.Errorf("upgraded: %s", out)
	}
	refused, err := try(server, "dpkg --purge wladder")
	if err == nil || !strings.Contains(refused, "change 1: its climb has not ended") || !strings.Contains(refused, "its guard is armed") {
		t.Errorf("purged under a climb: %v: %s", err, refused)
	}
	until("wladder show 1", "state     completed")
	for _, n := range []int{one, two} {
		if now := on(t, n, "nginx -T 2>/dev/null | grep worker_connections"); !strings.Contains(now, "1024") {
			t.Errorf("h%d: %s", n, now)
		}
	}
	as("ines", "", "wladder record -verify")
	if checked := as("root", "", "wladderd check"); strings.Contains(checked, "wrong") || !strings.Contains(checked, "a server answers on 127.0.0.1:8480, and is ready") {
		t.Errorf("checked: %s", checked)
	}
	listed := as("root", "", "wladderd diagnostics /tmp/diagnostics.tar.gz >/dev/null && tar -xzOf /tmp/diagnostics.tar.gz")
	if !strings.Contains(listed, `"host run done": 2`) || !strings.Contains(listed, "msg=serving") {
		t.Errorf("diagnostics: %s", listed)
	}
	exposure := on(t, server, "systemd-analyze security wladderd.service 2>/dev/null | tail -1")
	t.Logf("%s", strings.TrimSpace(exposure))
	if !strings.Contains(exposure, " OK ") {
		t.Error("it is exposed more than it was")
	}

	// The end of it.
	said := on(t, server, "dpkg --purge wladder")
	if !strings.Contains(said, "rm -r /var/lib/wladderd") {
		t.Errorf("purged: %s", said)
	}
	if left := on(t, server, "ls /usr/bin/wladder* /etc/wladderd /usr/share/wladder /usr/lib/systemd/system/wladderd.service 2>/dev/null; systemctl is-active wladderd; stat -c '%a %U %n' /var/lib/wladderd /var/lib/wladderd/key /var/lib/wladderd/ssh_key"); left != "inactive\n711 wladderd /var/lib/wladderd\n600 wladderd /var/lib/wladderd/key\n600 wladderd /var/lib/wladderd/ssh_key\n" {
		t.Errorf("left is: %s", left)
	}
	// And back again: what was kept is there.
	on(t, server, "apt-get install -y /root/now.deb && systemctl start wladderd")
	if again := as("ines", "", "wladder changes"); !strings.Contains(again, "Connections") {
		t.Errorf("installed again: %s", again)
	}
	t.Logf("upgraded from %s", filepath.Base(before))
}

func lastWord(s string) string {
	words := strings.Fields(s)
	return words[len(words)-1]
}
