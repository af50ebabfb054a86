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
	const server, one, two, three = 93, 205, 206, 207
	boot(t, server, one, two, three)
	names, scanned := "", "ssh-keyscan -t ed25519"
	for i, n := range []int{one, two, three} {
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
	for i, n := range []int{one, two, three} {
		on(t, n, "cat >>/root/.ssh/authorized_keys <<'END'\n"+key+"END")
		on(t, server, fmt.Sprintf(`echo "- {name: pages-%d, address: 'pages-%d:22', login: root, labels: {web: nginx}}" >>/root/hosts.yaml`, i+1, i+1))
	}
	as("ada", "", "wladder hosts-load -known-hosts known_hosts hosts.yaml")
	loaded := as("ada", "", "wladder services-load nginx.yaml")
	as("ben", "", "wladder services-approve -digest "+lastWord(loaded)+" nginx")
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
	// A change in every state, before the one that climbs meanwhile.
	changes := 0
	draft := func(title, where string, to, hosts int, ladder string) string {
		t.Helper()
		on(t, server, fmt.Sprintf("cat >/root/change.yaml <<'END'\ntitle: %s\nreason: an upgrade under way\nservice: nginx\nwhere: %s\ncount: %d\nedits: [{set: events/worker_connections, file: main, to: %d}]\nladder: %s\nEND", title, where, hosts, to, ladder))
		as("ines", "", "wladder draft change.yaml")
		changes++
		return fmt.Sprint(changes)
	}
	rehearsed := func(n string) (digest string) {
		t.Helper()
		return digestPrinted.FindStringSubmatch(as("ines", "", "wladder rehearse "+n))[1]
	}
	approved := func(n string) string {
		t.Helper()
		digest := rehearsed(n)
		as("ines", "", "wladder offer "+n)
		as("oda", "", "wladder approve -digest "+digest+" "+n)
		return n
	}
	const short, alone = "{stages: [{hosts: all}], soak: 1s}", `name == "pages-1"`
	states := map[string]string{}
	first := approved(draft("Countered", alone, 900, 1, short))
	as("oda", "", "wladder climb "+first)
	until("wladder show "+first, "state     completed")
	as("ines", "", "wladder counter -because 'the map is slow' "+first)
	changes++
	back := approved(fmt.Sprint(changes))
	as("oda", "", "wladder climb "+back)
	until("wladder show "+back, "state     completed")
	states[first], states[back] = "countered", "completed"
	stopped := approved(draft("Stopped", alone, 901, 1, "{stages: [{hosts: all}], soak: 60s}"))
	as("oda", "", "wladder climb "+stopped)
	until("wladder show "+stopped, "soaking")
	as("oda", "", "wladder stop -because 'not today' "+stopped)
	until("wladder show "+stopped, "state     stopped")
	states[stopped] = "stopped"
	states[draft("Draft", alone, 902, 1, short)] = "draft"
	n := draft("Rehearsed", alone, 903, 1, short)
	rehearsed(n)
	states[n] = "rehearsed"
	n = draft("Offered", alone, 904, 1, short)
	rehearsed(n)
	as("ines", "", "wladder offer "+n)
	states[n] = "offered"
	n = draft("Withdrawn", alone, 905, 1, short)
	as("ines", "", "wladder withdraw -because 'not needed' "+n)
	states[n] = "withdrawn"
	waits := approved(draft("Approved", `name == "pages-3"`, 906, 1, short))
	states[waits] = "approved"
	if asked := as("ada", "", "wladder account -roles author,admin ines"); !strings.Contains(asked, "second admin") {
		t.Errorf("asked: %s", asked)
	}
	climbing := approved(draft("Connections", `labels.web == "nginx" && name != "pages-3"`, 1024, 2, "{stages: [{up-to: 1}, {hosts: all}], soak: 12s}"))
	as("oda", "", "wladder climb "+climbing)
	until("wladder show "+climbing, "soaking")

	// The upgrade, under it.
	out := on(t, server, "apt-get install -y /root/now.deb && wladderd version && systemctl is-active wladderd")
	if !strings.Contains(out, "wladderd 0.") || !strings.HasSuffix(out, "active\n") {
		t.Errorf("upgraded: %s", out)
	}
	refused, err := try(server, "dpkg --purge wladder")
	if err == nil || !strings.Contains(refused, "change "+climbing+": its climb has not ended") || !strings.Contains(refused, "its guard is armed") {
		t.Errorf("purged under a climb: %v: %s", err, refused)
	}
	until("wladder show "+climbing, "state     completed")
	for _, n := range []int{one, two} {
		if now := on(t, n, "nginx -T 2>/dev/null | grep worker_connections"); !strings.Contains(now, "1024") {
			t.Errorf("h%d: %s", n, now)
		}
	}
	as("ines", "", "wladder record -verify")
	states[climbing] = "completed"
	for n, want := range states {
		if shown := as("ines", "", "wladder show "+n); !strings.Contains(shown, "state     "+want) {
			t.Errorf("change %s is not %s any more:\n%s", n, want, shown)
		}
		if want != "draft" && want != "withdrawn" && !strings.Contains(as("ines", "", "wladder diff "+n), "worker_connections") {
			t.Errorf("change %s has no diff any more", n)
		}
	}
	if len(states) != 9 {
		t.Errorf("%d states were tried", len(states))
	}
	as("oda", "", "wladder climb "+waits) // approved before
	until("wladder show "+waits, "state     completed")
	as("ben", "", "wladder request -agree 1")
	if who := as("ines", "", "wladder sign-in -show"); !strings.Contains(who, "admin") {
		t.Errorf("what was asked for before is not so: %s", who)
	}
	if checked := as("root", "", "wladderd check"); strings.Contains(checked, "wrong") || !strings.Contains(checked, "a server answers on 127.0.0.1:8480, and is ready") {
		t.Errorf("checked: %s", checked)
	}
	listed := as("root", "", "wladderd diagnostics /tmp/diagnostics.tar.gz >/dev/null && tar -xzOf /tmp/diagnostics.tar.gz")
	if !strings.Contains(listed, `"host run done": 5`) || !strings.Contains(listed, "msg=serving") {
		t.Errorf("diagnostics: %s", listed)
	}
	exposure := on(t, server, "systemd-analyze security wladderd.service 2>/dev/null | tail -1")
	t.Logf("%s", strings.TrimSpace(exposure))
	if !strings.Contains(exposure, " OK ") {
		t.Error("it is exposed more than it was")
	}

	// The server is lost: a host goes back by hand, as the text says.
	page, err := os.ReadFile("../docs/trouble.md")
	if err != nil {
		t.Fatal(err)
	}
	follow := func(who string, at int, with ...string) (last string) {
		t.Helper()
		commands := 0
		for _, c := range commandsOf(t, string(page)) {
			if c.who == who {
				commands++
				line := strings.NewReplacer(with...).Replace(c.command)
				out, err := tryWith(at, "", "cd /root && "+line)
				if err != nil {
					t.Fatalf("docs/trouble.md:%d: %s: %v\n%s", c.line, line, err, out)
				}
				t.Logf("docs/trouble.md:%d: %s\n%s", c.line, line, out)
				last = out
			}
		}
		if commands == 0 {
			t.Fatalf("docs/trouble.md has no commands for %s", who)
		}
		return last
	}
	newest := strings.Fields(on(t, two, "ls -t /var/lib/wladder/runs"))[0]
	follow("host", two, "RUN", newest, "UNIT", "nginx.service")
	if now := on(t, two, "nginx -T 2>/dev/null | grep worker_connections; systemctl is-active nginx"); strings.Contains(now, "1024") || !strings.Contains(now, "768") || !strings.HasSuffix(now, "active\n") {
		t.Errorf("h%d went back by hand: %s", two, now)
	}

	// It moves to another machine, and its hosts answer there; then all is taken away.
	follow("old", server)
	copied(t, three, os.Getenv("LAB_PACKAGE"), "/root/wladder_now.deb", "644")
	moved := filepath.Join(t.TempDir(), "moved")
	fetched(t, server, "/root/wladderd-move.tar.gz", moved)
	copied(t, three, moved, "/root/wladderd-move.tar.gz", "600")
	on(t, three, "cat >>/etc/hosts <<'END'\n"+names+"END")
	follow("new", three)
	if out, err := tryWith(three, password+"\n", "HOME=/root/ada wladder sign-in ada && HOME=/root/ada wladder changes && HOME=/root/ada wladder record -verify"); err != nil || !strings.Contains(out, "Connections") {
		t.Errorf("moved: %v: %s", err, out)
	}
	const reached = "HOME=/root/oda wladder sign-in oda && HOME=/root/oda wladder survey -where 'name == \"pages-1\"'"
	if out, err := tryWith(three, password+", or so\n", reached); err != nil || !strings.Contains(out, "1 host surveyed") {
		t.Errorf("from there the hosts are not reached: %v: %s", err, out)
	}
	key = strings.Fields(on(t, three, "runuser -u wladderd -- wladderd show-key"))[1]
	follow("leave", one, "KEY", key)
	if left := on(t, one, "cat /root/.ssh/authorized_keys; ls /var/lib/wladder 2>&1 | wc -l; systemctl list-units --all 'wladder*' --no-legend"); strings.Contains(left, key) {
		t.Errorf("h%d after it left: %s", one, left)
	}
	if out, err := tryWith(three, password+", or so\n", reached); err == nil {
		t.Errorf("the host that was left lets the server in: %s", out)
	}
	follow("server", three)

	// The end of it on the first machine, from which it has moved.
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
