package lab

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/host"
)

// bootingService takes connections up at a boot alone, and is out of the way meanwhile: the mark
// of that is where a boot leaves it.
const bootingService = `service: bulletin-pages
title: Public bulletin pages (nginx)
where: labels.role == "bulletin"
unit: nginx.service
files: {main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}}
trial: {command: [nginx, -t, -q], covers: [/run, /var/log/nginx, /var/lib/nginx]}
acts:
  - {name: restart, command: [systemctl, restart, nginx.service]}
  - {name: boot, reboots: true, timeout: 60s}
drain: {command: [touch, /var/tmp/out], readmit: [rm, -f, /var/tmp/out], within: 5s}
settings: [{address: events/worker_connections, type: integer, act: boot}]
probes: [{name: front page, ask: "http GET :80/", expect: status == 200}]
settle: 10s
`

// boots counts how often the host has booted since the test began, by what each boot leaves.
const boots = `mkdir -p /srv/boots && cat >/etc/systemd/system/count-boots.service <<'END'
[Service]
Type=oneshot
ExecStart=/bin/sh -c 'touch /srv/boots/$(cat /proc/sys/kernel/random/boot_id)'
[Install]
WantedBy=multi-user.target
END
systemctl daemon-reload && systemctl enable -q --now count-boots nginx && ls /srv/boots | wc -l`

// TestInsideReboot has real hosts boot anew as planned, and otherwise: the guard tells one from the
// other, and what was out of the way comes back in each case.
func TestInsideReboot(t *testing.T) {
	needInside(t)
	t.Parallel()
	const planned, again, gated = 250, 251, "\nguard: 15s\nladder: {stages: [{hosts: all, gate: true}], at_once: 9, soak: 8s, pause_after: 9}"
	r := newRig(t, []int{planned, again}, bootingService)
	r.all(boots)
	opened := func(value int, where string) int64 {
		_, id := r.draft("bulletin-pages", fmt.Sprintf("  - {set: events/worker_connections, to: %d}", value), where+gated)
		r.begin(id)
		for r.show(id).Climb.State != ladder.Waiting {
			time.Sleep(50 * time.Millisecond)
		}
		must(t, "open the gate", r.store.Order(t.Context(), "oda", id, ladder.Resume, "they may boot", host.ScriptsDigest()))
		return id
	}
	after := func(n, booted int, value string) {
		t.Helper()
		text := r.on(n, "ls /srv/boots | wc -l; ls /var/tmp/out 2>/dev/null; grep -o 'worker_connections [0-9]*' /etc/nginx/nginx.conf; find /etc/systemd -name 'wladder*'; systemctl is-active nginx; ls /var/lib/wladder/pending")
		if want := fmt.Sprintf("%d\nworker_connections %s\nactive\n", booted, value); text != want {
			t.Errorf("h%d: %q; want %q", n, text, want)
		}
	}
	id := opened(1024, "where: labels.role == \"bulletin\"\ncount: 2")
	for began := time.Now(); r.run(r.show(id), again).State != ladder.Soaking; time.Sleep(50 * time.Millisecond) {
		if time.Since(began) > time.Minute {
			console, _ := os.ReadFile(fmt.Sprintf("%s/run/h%d/console", os.Getenv("WLADDER_LAB"), again))
			t.Logf("console:\n%s", console[max(0, len(console)-6000):])
			out, _ := try(again, "cat /proc/sys/kernel/random/boot_id; ls /srv/boots; cat /var/lib/wladder/runs/run-*/*reboot; journalctl --no-pager -n 60")
			t.Fatalf("it never soaks:\n%s%s", r.steps(r.show(id), again), out)
		}
	}
	try(again, "touch /var/tmp/out && cp /var/tmp/out /var/lib/wladder/runs/run-*/drain.begun; systemctl reboot") // as if it were out of the way still
	d := r.ended(id)
	r.wants(d, planned, ladder.Done, "")
	r.wants(d, again, ladder.Restored, "guard fired")
	t.Logf("planned:\n%s", r.steps(d, planned))
	after(planned, 2, "1024")
	for range 100 { // what takes it in again waits for the boot's end
		if out, _ := try(again, "ls /var/tmp/out"); !strings.HasPrefix(out, "/var/tmp/out") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	after(again, 3, "768")

	id = opened(2048, fmt.Sprintf("where: name == \"h%d\"\ncount: 1", planned))
	for began := time.Now(); time.Since(began) < time.Minute; time.Sleep(50 * time.Millisecond) {
		if _, err := try(planned, "[ ! -e /var/lib/wladder/runs/run-3/reboot ] && [ -e /var/lib/wladder/runs/run-3/act.reboot ]"); err == nil {
			break // it is up again, and nobody has looked yet, or has just
		}
	}
	r.stop()
	on(t, planned, "echo 1 >/var/lib/wladder/runs/run-3/deadline") // what an orderly stop gave it is over
	for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		if out, err := try(planned, "ls /srv/boots | wc -l"); err == nil && strings.TrimSpace(out) == "4" {
			break
		}
		if time.Since(began) > time.Minute {
			out, _ := try(planned, "ls -R /srv/boots /var/lib/wladder | head -60; journalctl --no-pager -n 30 -u 'wladder*'")
			t.Fatalf("left alone after its boot, it does not go back: %s", out)
		}
	}
	r.start()
	d = r.ended(id)
	r.wants(d, planned, ladder.Restored, "guard fired")
	after(planned, 4, "1024")
}
