package lab

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/client"
	"wladder/core/view"
)

var looped = flag.Int("loop", 0, "how many real hosts TestInsideLoop changes, and a loop of the shell as well; 0: none")

// restartedService restarts, and is looked at as the loop does: it is active after a second, and
// answers.
const restartedService = `service: bulletin-pages
title: Public bulletin pages (nginx)
where: labels.role == "bulletin"
unit: nginx.service
files: {main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}}
trial: {command: [nginx, -t, -q], covers: [/run, /var/log/nginx, /var/lib/nginx]}
acts: [{name: restart, command: [systemctl, restart, nginx.service]}]
in-force: {ask: unit nginx.service, expect: renewed > 0}
probes: [{name: front page, ask: "http GET :80/", expect: status == 200}]
settle: 1s
`

// byHand is what people write for one host: copy aside, write, check, restart, wait, look; in one
// session, which is the least that it costs.
const byHand = `ssh -F none -n -i %[1]s -o IdentitiesOnly=yes -o BatchMode=yes -o StrictHostKeyChecking=yes -o UserKnownHostsFile=%[2]s -o GlobalKnownHostsFile=none %[3]s root@$1 '
cp -a /etc/nginx/nginx.conf /etc/nginx/nginx.conf.old &&
sed -i "s/worker_connections [0-9]*/worker_connections %[4]d/" /etc/nginx/nginx.conf &&
nginx -t -q && systemctl restart nginx && sleep 1 && systemctl is-active -q nginx' && curl -fsS -m 5 -o /dev/null http://$1/ && echo well`

var errEnded = errors.New("the climb has ended")

// TestInsideLoop changes real hosts, and has xargs and OpenSSH's client do the same, as many at
// once. It prints what each took, and asserts that all did it.
func TestInsideLoop(t *testing.T) { // not beside others
	needInside(t)
	if *looped == 0 {
		t.Skip("SKIPPED: it takes minutes; -args -loop 20 -only 'TestInsideLoop$'")
	}
	var numbers []int
	for n := range *looped {
		numbers = append(numbers, 101+2*n) // where root signs in
	}
	w := newWorld(t, numbers...)
	atOnce := min(10, *looped)
	known, addresses := "", ""
	for _, n := range numbers {
		on(t, n, "systemctl enable -q --now nginx")
		h := hostView(t, n)
		ip := strings.TrimSuffix(h.Address, ":22")
		known += ip + " " + h.HostKey + "\n"
		addresses += ip + "\n"
	}
	w.file("known", known)
	w.file("pages.yaml", restartedService)
	w.load("pages.yaml")
	type cost struct{ wall, cpu time.Duration }
	took := map[string][]cost{}
	value := 800
	loop := func(name, options string) {
		value++
		cmd := exec.Command("xargs", "-P", fmt.Sprint(atOnce), "-n", "1", "sh", "-c", fmt.Sprintf(byHand, filepath.Join(os.Getenv("WLADDER_LAB"), "id"), filepath.Join(w.dir, "known"), options, value), "loop")
		cmd.Stdin = strings.NewReader(addresses)
		begun := time.Now()
		out, err := cmd.CombinedOutput()
		if well := strings.Count(string(out), "well"); err != nil || well != *looped {
			t.Fatalf("%s: %d of %d hosts are well: %v: %s", name, well, *looped, err, out)
		}
		took[name] = append(took[name], cost{time.Since(begun), cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()})
	}
	used := func() time.Duration {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", w.server.Process.Pid))
		must(t, "stat", err)
		_, rest, _ := strings.Cut(string(text), ") ")
		f := strings.Fields(rest)
		var ticks, more int64
		fmt.Sscan(f[11]+" "+f[12], &ticks, &more) // utime, stime; proc(5)
		return time.Duration(ticks+more) * 10 * time.Millisecond
	}
	var steps view.HostRun
	ours := func() {
		value++
		w.file("change.yaml", fmt.Sprintf("title: t\nreason: r\nservice: bulletin-pages\nwhere: labels.role == \"bulletin\"\ncount: %d\nedits: [{set: events/worker_connections, to: %d}]\nladder: {stages: [{hosts: all}], at_once: %d, soak: 0s}\n", *looped, value, atOnce))
		before, asked := used(), time.Now()
		id, _ := w.approved("change.yaml")
		rehearsed, begun, c := used(), time.Now(), w.client("oda")
		took["rehearsal"] = append(took["rehearsal"], cost{begun.Sub(asked), rehearsed - before})
		var n int64
		fmt.Sscan(id, &n)
		must(t, "climb", c.Climb(t.Context(), n))
		err := c.Follow(t.Context(), n, func(e client.Event) error { // as people do
			if e.Type == "record" && (strings.Contains(string(e.Data), `"climb.completed"`) || strings.Contains(string(e.Data), `"climb.paused"`)) {
				return errEnded
			}
			return nil
		})
		if !errors.Is(err, errEnded) {
			t.Fatal(err)
		}
		took["climb"] = append(took["climb"], cost{time.Since(begun), used() - rehearsed})
		d, err := c.Change(t.Context(), n)
		must(t, "change", err)
		if d.Counts["done"] != *looped {
			all, _ := c.AllRuns(t.Context(), n, time.Time{})
			t.Fatalf("%v: %+v", d.Counts, all.Runs)
		}
		steps, _ = c.HostRun(t.Context(), n, hostName(numbers[0]))
	}
	for range 3 {
		loop("loop, by default", "")
		ours()
		loop("loop, curve25519", "-o KexAlgorithms=curve25519-sha256")
	}
	for _, name := range []string{"loop, by default", "loop, curve25519", "climb", "rehearsal"} {
		all := took[name]
		slices.SortFunc(all, func(a, b cost) int { return int(a.wall - b.wall) })
		wall := all[1].wall
		slices.SortFunc(all, func(a, b cost) int { return int(a.cpu - b.cpu) })
		t.Logf("%-17s %d hosts, %d at once: %5.1f s, %6.1f ms CPU a host of the side that steers (medians of 3)", name, *looped, atOnce, wall.Seconds(), float64(all[1].cpu.Microseconds())/1000/float64(*looped))
	}
	for _, s := range steps.Steps {
		t.Logf("%-10s %4d ms %s", s.Step, s.EndedAt.Sub(s.BegunAt).Milliseconds(), s.Note)
	}
}
