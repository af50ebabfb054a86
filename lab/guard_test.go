package lab

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/written"
	"wladder/host"
)

const headerPath = "/etc/nginx/conf.d/lab.conf"

// header is a file whose value nginx says in its answers: what the process
// works with shows from outside.
func header(value string) plan.Copy {
	text := fmt.Sprintf("server { listen 8088; location / { add_header X-Lab %s; return 200 ok; } }\n", value)
	return plan.Copy{Kind: plan.Regular, Content: []byte(text), Owner: "root", Group: "adm", Mode: "640"}
}

var reload = definition.Act{Name: "reload", Commands: [][]string{{"systemctl", "reload", "nginx.service"}}, Timeout: written.Duration(20 * time.Second)}
var restart = definition.Act{Name: "restart", Commands: [][]string{{"systemctl", "restart", "nginx.service"}}, Timeout: written.Duration(20 * time.Second)}

// prepared has nginx running with the old header, and gives the set of paths
// that a change would place: one changed, one new in a new directory, one gone.
func prepared(t *testing.T, n int) []host.File {
	old := header("old")
	on(t, n, fmt.Sprintf("cat >%[1]s <<'END'\n%[2]sEND\nchmod 640 %[1]s; chgrp adm %[1]s; rm -rf /etc/nginx/more /etc/nginx/.wladder*; echo gone >/etc/nginx/gone; systemctl enable -q --now nginx; systemctl restart nginx", headerPath, old.Content))
	changed := header("new")
	return []host.File{
		{Path: "/etc/nginx/more/new.txt", Base: "none", Candidate: host.Stands(plan.Copy{Kind: plan.Regular, Content: []byte("n\n"), Owner: "root", Group: "root", Mode: "644"}), Content: []byte("n\n")},
		{Path: headerPath, Base: host.Stands(old), Candidate: host.Stands(changed), Content: changed.Content},
		{Path: "/etc/nginx/gone", Base: host.Stands(plan.Copy{Kind: plan.Regular, Content: []byte("gone\n"), Owner: "root", Group: "root", Mode: "644"}), Candidate: "none"},
	}
}

// serves says with which header nginx on a host answers; empty where none does.
func serves(n int) string {
	client := http.Client{Timeout: 2 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	response, err := client.Get(fmt.Sprintf("http://10.77.0.%d:8088/", n+2))
	if err != nil {
		return ""
	}
	response.Body.Close()
	return response.Header.Get("X-Lab")
}

func connect(t *testing.T, n int) *host.Conn {
	t.Helper()
	conn, err := (&host.Dialer{Signer: signer(t)}).Connect(t.Context(), target(hostView(t, n)))
	if err != nil {
		t.Fatal(err)
	}
	return conn
}

func must(t *testing.T, what string, err error) {
	t.Helper()
	if err != nil {
		t.Fatalf("%s: %v", what, err)
	}
}

// placed brings a host to where a change is placed and its guard armed.
func placed(t *testing.T, conn *host.Conn, claim host.Claim, guard time.Duration, files []host.File) {
	t.Helper()
	armed(t, conn, claim, guard, files)
	must(t, "place", conn.Place(t.Context(), claim, files))
}

// armed brings a host to where the guard of a change is armed.
func armed(t *testing.T, conn *host.Conn, claim host.Claim, guard time.Duration, files []host.File) {
	t.Helper()
	ctx := t.Context()
	must(t, "claim", conn.TakeOver(ctx, claim))
	must(t, "snapshot", conn.Snapshot(ctx, claim, []string{"nginx.service"}, files))
	_, err := conn.Arm(ctx, claim, guard, []host.Service{{Unit: "nginx.service", Act: reload, Heaviest: restart}}, files)
	must(t, "arm", err)
}

// state is how the paths of prepared stand, in one line.
func state(n int) string {
	out, err := try(n, "cat "+headerPath+" | grep -o 'X-Lab [a-z]*'; stat -c '%a %U:%G %h' "+headerPath+"; ls -d /etc/nginx/more /etc/nginx/gone 2>/dev/null; find /etc/nginx -name '.wladder*'; exit 0")
	if err != nil {
		return "not reached: " + err.Error()
	}
	return strings.ReplaceAll(strings.TrimSpace(out), "\n", ", ")
}

const (
	asOld = "X-Lab old, 640 root:adm 1, /etc/nginx/gone"
	asNew = "X-Lab new, 640 root:adm 1, /etc/nginx/more"
)

// becomesOld waits until files and process are as they were.
func becomesOld(t *testing.T, n int, within time.Duration) time.Duration {
	t.Helper()
	began := time.Now()
	for {
		process, files := serves(n), "not looked at"
		if process == "old" {
			if files = state(n); files == asOld {
				return time.Since(began)
			}
		}
		if time.Since(began) > within {
			journal, _ := try(n, "journalctl -b --no-pager -u 'wladder*' | tail -n 20; systemctl status wladder-guard nginx --no-pager -l | tail -n 30; ls -R /var/lib/wladder | head -60")
			t.Fatalf("h%d: files %q, process %q after %s\n%s", n, files, process, within, journal)
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// TestInsideGuard has things befall a host between placing and confirming, with
// nobody there to put it back: the host does.
func TestInsideGuard(t *testing.T) {
	needInside(t)
	t.Parallel()
	const guard = 4 * time.Second
	acted := func(t *testing.T, conn *host.Conn, claim host.Claim) {
		_, err := conn.Act(t.Context(), claim, host.ForwardAct, host.Service{Unit: "nginx.service", Act: reload, Heaviest: restart})
		must(t, "act", err)
	}
	for i, c := range []struct {
		name   string
		before string // run on the host beforehand
		happen func(t *testing.T, n int, conn *host.Conn, claim host.Claim)
	}{
		{"the session ends", "", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) { acted(t, conn, claim); conn.Close() }},
		{"sshd restarts", "", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) {
			acted(t, conn, claim)
			on(t, n, "systemctl restart ssh")
		}},
		{"systemd is executed anew", "", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) {
			acted(t, conn, claim)
			on(t, n, "systemctl daemon-reexec")
		}},
		{"a reboot before the act", "", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) { try(n, "systemctl reboot") }},
		{"a reboot after the act", "", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) {
			acted(t, conn, claim)
			try(n, "systemctl reboot")
		}},
		{"a power cut before the act", "", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) {
			must(t, "cut", script("cut", fmt.Sprint(n)).Run())
			must(t, "boot", script("boot", fmt.Sprint(n)).Run())
		}},
		{"a power cut after the act", "", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) {
			acted(t, conn, claim)
			must(t, "cut", script("cut", fmt.Sprint(n)).Run())
			must(t, "boot", script("boot", fmt.Sprint(n)).Run())
		}},
		{"no timers of systemd", "mv /usr/bin/systemd-run /usr/bin/not-systemd-run", func(t *testing.T, n int, conn *host.Conn, claim host.Claim) { acted(t, conn, claim); conn.Close() }},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			n := 21 + i
			boot(t, n)
			files := prepared(t, n)
			if c.before != "" {
				on(t, n, c.before)
			}
			conn, claim := connect(t, n), host.Claim{Fence: 1, Run: "run-1"}
			placed(t, conn, claim, guard, files)
			if now := state(n); now != asNew {
				t.Errorf("placed: %s", now)
			}
			c.happen(t, n, conn, claim)
			took := becomesOld(t, n, 60*time.Second)
			t.Logf("%-26s files and process old, %.1f s later", c.name, took.Seconds())
			conn.Close()
			conn = connect(t, n)
			defer conn.Close()
			sight, err := conn.Look(t.Context(), host.Claim{Fence: 2, Run: "run-1"}, time.Second, host.ForwardAct, host.Service{Unit: "nginx.service"}, files)
			if err != nil || sight.Guard != ladder.Fired || !sight.Undone {
				t.Errorf("look: %+v, %v", sight, err)
			}
			if left := on(t, n, "find /etc/systemd -name 'wladder*'; ls /var/lib/wladder/pending /var/lib/wladder/firing"); strings.Contains(left, "run-1") || strings.Contains(left, "guard") {
				t.Errorf("left behind: %s", left)
			}
		})
	}
}

// TestInsideGuardRace disarms while the guard fires: one wins, never both, and
// what the winner says is how the files stand.
func TestInsideGuardRace(t *testing.T) {
	needInside(t)
	t.Parallel()
	boot(t, 30)
	files := prepared(t, 30)
	conn := connect(t, 30)
	defer conn.Close()
	disarmed, fired := 0, 0
	// After a win the other side gets a little more time, whatever the load.
	delay := time.Second
	for round := range 14 {
		claim := host.Claim{Fence: int64(round + 1), Run: fmt.Sprint("run-", round)}
		placed(t, conn, claim, 2*time.Second, files)
		time.Sleep(delay) // around the moment of firing
		err := conn.Disarm(t.Context(), claim, files)
		var gone *host.FiredError
		switch {
		case err == nil:
			disarmed++
			delay += 150 * time.Millisecond
			time.Sleep(500 * time.Millisecond) // past the moment
			if now := state(30); now != asNew {
				t.Errorf("round %d: disarmed, yet %s", round, now)
			}
			must(t, "restore", restore(t, conn, claim, files))
		case errors.As(err, &gone):
			fired++
			delay = max(0, delay-150*time.Millisecond)
		default:
			t.Fatal(err)
		}
		if now := state(30); now != asOld {
			t.Errorf("round %d: fired or restored, yet %s", round, now)
		}
	}
	t.Logf("disarmed %d times, fired %d times", disarmed, fired)
	if disarmed == 0 || fired == 0 {
		t.Error("there was no race: one of the two won always")
	}
}

// TestInsideFullAndImmutable fills the disk, and makes a file immutable, between the
// snapshot and placing, and again before putting back.
func TestInsideFullAndImmutable(t *testing.T) {
	needInside(t)
	t.Parallel()
	boot(t, 29)
	files := prepared(t, 29)
	conn := connect(t, 29)
	defer conn.Close()
	ctx, claim := t.Context(), host.Claim{Fence: 1, Run: "run-1"}
	armed(t, conn, claim, time.Minute, files)
	on(t, 29, "chattr +i /etc/nginx/gone")
	if err := conn.Place(ctx, claim, files); err == nil || !strings.Contains(err.Error(), "/etc/nginx/gone cannot be replaced") {
		t.Errorf("placing over an immutable file: %v", err)
	}
	if now := state(29); now != asOld {
		t.Errorf("after an immutable file: %s", now)
	}
	on(t, 29, "chattr -i /etc/nginx/gone")
	must(t, "disarm", conn.Disarm(ctx, claim, files))

	// /etc/nginx on a small disk of its own.
	on(t, 29, "cp -a /etc/nginx /root/nginx; mount -t tmpfs -o size=400k,mode=755 small /etc/nginx; cp -a /root/nginx/. /etc/nginx/; systemctl restart nginx")
	claim = host.Claim{Fence: 2, Run: "run-2"}
	armed(t, conn, claim, time.Minute, files)
	on(t, 29, "dd if=/dev/zero of=/etc/nginx/filler bs=1k 2>/dev/null; sync; true")
	if err := conn.Place(ctx, claim, files); err == nil || !strings.Contains(err.Error(), "cannot be written") {
		t.Errorf("placing on a full disk: %v", err)
	}
	if now := state(29); now != asOld {
		t.Errorf("after a full disk: %s", now)
	}
	on(t, 29, "rm /etc/nginx/filler")
	must(t, "place", conn.Place(ctx, claim, files))
	on(t, 29, "dd if=/dev/zero of=/etc/nginx/filler bs=1k 2>/dev/null; sync; true")
	must(t, "restore on a full disk", restore(t, conn, claim, files)) // the very files that stood there are kept
	on(t, 29, "rm /etc/nginx/filler")
	if now := state(29); now != asOld {
		t.Errorf("in the end: %s", now)
	}
}

// TestInsideTwoServers has four servers do the same to one host at once.
func TestInsideTwoServers(t *testing.T) {
	needInside(t)
	t.Parallel()
	boot(t, 20)
	files := prepared(t, 20)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var both sync.WaitGroup
	for fence := range int64(4) {
		both.Go(func() {
			conn := connect(t, 20)
			defer conn.Close()
			claim := host.Claim{Fence: fence + 1, Run: "run-1"}
			if conn.TakeOver(ctx, claim) != nil {
				return
			}
			conn.Snapshot(ctx, claim, []string{"nginx.service"}, files)
			conn.Arm(ctx, claim, time.Minute, []host.Service{{Unit: "nginx.service", Act: reload, Heaviest: restart}}, files)
			conn.Place(ctx, claim, files)
		})
	}
	both.Wait()
	conn := connect(t, 20)
	defer conn.Close()
	sight, err := conn.Look(ctx, host.Claim{Fence: 9, Run: "run-1"}, time.Second, host.ForwardAct, host.Service{Unit: "nginx.service"}, files)
	if now := state(20); err != nil || now != asNew && now != asOld || sight.Files == "mixed" {
		t.Errorf("four servers at once: %s, %+v, %v", now, sight, err)
	}
	must(t, "restore", restore(t, conn, host.Claim{Fence: 9, Run: "run-1"}, files))
	if now := state(20); now != asOld {
		t.Errorf("restored: %s", now)
	}
}

func restore(t *testing.T, conn *host.Conn, claim host.Claim, files []host.File) error {
	_, err := conn.Restore(t.Context(), claim, files)
	return err
}

// TestInsideLostInTheSoak has the server gone for good at each point of a soak:
// the host is back at its old files within the guard's span. Where somebody looks
// in time, for far longer than that span, the new files stay, and stay confirmed.
func TestInsideLostInTheSoak(t *testing.T) {
	needInside(t)
	const span, every = 5 * time.Second, 2 * time.Second
	for i, looks := range []int{0, 1, 2, 4, -1} { // the last is confirmed after three spans
		t.Run(fmt.Sprintf("after %d looks", looks), func(t *testing.T) {
			t.Parallel()
			n := 60 + i
			boot(t, n)
			files := prepared(t, n)
			conn := connect(t, n)
			claim := host.Claim{Fence: 1, Run: "run-1"}
			placed(t, conn, claim, span, files)
			_, err := conn.Act(t.Context(), claim, host.ForwardAct, host.Service{Unit: "nginx.service", Act: reload, Heaviest: restart})
			must(t, "act", err)
			confirmed := looks < 0
			if confirmed {
				looks = int(3 * span / every)
			}
			last := time.Now()
			for range looks {
				time.Sleep(every)
				replies, err := conn.Watch(t.Context(), claim, span, host.ForwardAct, []host.Question{{Guard: true}})
				must(t, "watch", err)
				if last = time.Now(); replies[0].Guard != ladder.Pending {
					t.Fatalf("its guard is %s", replies[0].Guard)
				}
			}
			if confirmed {
				must(t, "confirm", conn.Confirm(t.Context(), claim, files))
				conn.Close()
				time.Sleep(2 * span)
				if now, process := state(n), serves(n); now != asNew || process != "new" {
					t.Errorf("confirmed, and then %s, %s", now, process)
				}
				return
			}
			conn.Close()
			becomesOld(t, n, 2*span)
			took := time.Since(last)
			t.Logf("back %.1f s after the last look", took.Seconds())
			if took < span-2*time.Second { // the deadline is in whole seconds
				t.Errorf("its guard fired %s after a look that pushed it on by %s", took, span)
			}
		})
	}
}
