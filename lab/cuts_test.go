package lab

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/host"
)

// tracer stands before sh on a host under test: scripts of the product run
// under bash, whose DEBUG trap is called before every command, and can end the
// script, or take the host's power, before any that changes something. /run/cut
// holds the script's name, the point (0: count only) and what happens there.
const tracer = `cat >/usr/local/bin/sh <<'END'
#!/bin/bash
case $1 in
-c) label=${3-} ;;
*/guard.sh) label=wladder-guard ;;
esac
case $label in
wladder-*) echo "${label#wladder-}" >>/run/ran ;;
esac
if [ -s /run/cut ] && read -r name point mode </run/cut && [ "$label" = "wladder-$name" ]; then
	trap_text='
set -T
cut_point() {
	case $1 in
	"mv "*|"rm "*|"cp "*|"ln "*|"cat "*|"mkdir "*|"rmdir "*|"chmod "*|"chown "*|"sync "*|"tar "*|"systemctl "*|"systemd-run "*|"timeout "*|"setsid "*|"put "*|": "*|"printf "*) ;;
	*) return 0 ;;
	esac
	printf . >>/run/points
	if [ "$(stat -c %s /run/points)" = '"$point"' ]; then
		rm -f /run/cut
		if [ -s /run/cut2 ]; then mv /run/cut2 /run/cut; rm -f /run/points; fi
		case '"$mode"' in
		power) reboot -ff ;;
		esac
		kill -9 $$ $BASHPID
	fi
}
trap "cut_point \"\$BASH_COMMAND\"" DEBUG
'
	if [ "$1" = -c ]; then
		text=$2
		shift 3
		exec /bin/bash --posix -c "$trap_text
$text" "$label" "$@"
	fi
	file=$1
	shift
	exec /bin/bash --posix -c "$trap_text
. $file" "$label" "$@"
fi
exec /bin/dash "$@"
END
chmod 755 /usr/local/bin/sh; rm -f /run/cut /run/points /run/ran`

const cutService = `
service: %s
title: Cut at every point
where: labels.role == "bulletin"
unit: nginx.service
files:
  header: {format: text, paths: {any: /etc/nginx/conf.d/lab.conf}}
  new: {paths: {any: /etc/nginx/more/new.txt}}
  gone: {paths: {any: /etc/nginx/gone}}
  made: {paths: {any: /etc/nginx/more/made}}
makes:
  made: {file: made, command: [cp, /etc/hostname, "{path}"]}
acts:
  - {name: reload, command: [systemctl, reload, nginx.service]}
probes:
  - {name: header, ask: "http :8088/", before: 'headers["x-lab"] == "old"', after: 'headers["x-lab"] == "%s"'}
settle: 1s
`

const cutEdits = `  - {file: header, replace: X-Lab old, with: X-Lab new}
  - {put: new, text: "n\n"}
  - {make: made}
  - {delete: gone}`

// cutting is one script of one direction of a host run.
type cutting struct {
	script  string
	service string // forward, or back: its probe refuses the new header
}

var cuttings = []cutting{
	{"claim", "forward"}, {"snapshot", "forward"}, {"make", "forward"}, {"arm", "forward"}, {"place", "forward"}, {"act", "forward"}, {"watch", "forward"}, {"confirm", "forward"}, {"look", "forward"},
	{"restore", "back"}, {"act", "back"}, {"watch", "back"}, {"disarm", "back"},
}

// TestInsideCuts kills every script before every command that can change
// something, or takes the host's power there, and lets the server recover: the
// host must be wholly old or new, as the report says. Without -every, a sample.
func TestInsideCuts(t *testing.T) {
	needInside(t)
	t.Parallel()
	numbers := []int{51, 52, 53, 58}
	r := newRig(t, numbers, fmt.Sprintf(cutService, "forward", "new"), fmt.Sprintf(cutService, "back", "never"))
	r.all(tracer)
	type job struct {
		cutting
		point int
		mode  string
	}
	jobs := make(chan job, 2000)
	var counting, working sync.WaitGroup
	counting.Add(len(cuttings))
	var mu sync.Mutex
	kills, powers, table := 0, 0, map[string]int{}
	run := func(n int, j job) {
		prepared(t, n)
		where := fmt.Sprintf("rm -f /run/points /run/cut2; echo '%s %d %s' >/run/cut", j.script, j.point, j.mode)
		if j.script == "look" { // it is sent when something was lost
			where += "2; echo 'place 30 kill' >/run/cut"
		}
		on(t, n, where)
		_, id := r.draft(j.service, cutEdits, fmt.Sprintf("where: name == %q\ncount: 1\nladder: {soak: 200ms}", hostName(n)))
		d := r.climb(id)
		out := r.run(d, n)
		points, _ := strconv.Atoi(strings.TrimSpace(on(t, n, "stat -c %s /run/points 2>/dev/null || echo 0; rm -f /run/cut")))
		now, process := state(n), serves(n)
		for range 20 { // old workers of a reload may answer for a moment
			if process != "" && (process == "new") == (out.State == ladder.Done) {
				break
			}
			time.Sleep(100 * time.Millisecond)
			process = serves(n)
		}
		want, wantProcess := asOld, "old"
		if out.State == ladder.Done {
			want, wantProcess = asNew, "new"
		}
		whole := now == want && process == wantProcess && out.State != ladder.Stranded && out.State != ladder.Unknown
		if whole && out.State == ladder.Done && j.service == "back" {
			whole = false
		}
		if !whole {
			t.Errorf("%s %s cut by %s at point %d: %s (%s), files %s, process %s; the host: %s, serves %q\n%s", j.service, j.script, j.mode, j.point, out.State, out.Why, out.Files, out.Process, now, process, r.steps(d, n))
			try(n, "chattr -i /etc/nginx/gone; rm -rf /var/lib/wladder/pending/* /var/lib/wladder/firing/*")
		}
		mu.Lock()
		defer mu.Unlock()
		if j.mode == "power" {
			powers++
		} else if j.point > 0 {
			kills++
		}
		if j.point > 0 {
			table[fmt.Sprintf("%-8s %-9s by %-5s ends %s", j.service, j.script, j.mode, out.State)]++
			return
		}
		// The count tells the points; which of them are tried?
		t.Logf("%s %s: %d points", j.service, j.script, points)
		if points == 0 {
			t.Errorf("%s %s is cut nowhere: it is not sent, or changes nothing", j.service, j.script)
		}
		step := 1
		if !*every {
			step = max(1, points/2)
		}
		for p := 1 + (points/3)*min(1, step-1); p <= points; p += step {
			jobs <- job{j.cutting, p, "kill"}
		}
		if (j.script == "place" || j.script == "restore" || j.script == "confirm") && points > 4 {
			for p := points / 2; p <= points; p += max(1, points/4) {
				if *every || p == points/2 {
					jobs <- job{j.cutting, p, "power"}
				}
			}
		}
		counting.Done()
	}
	for _, c := range cuttings {
		if *cut != "" && !slices.Contains(strings.Fields(*cut), c.script) {
			counting.Done()
			continue
		}
		jobs <- job{c, 0, "none"}
	}
	go func() { counting.Wait(); close(jobs) }()
	for _, n := range numbers {
		working.Go(func() {
			for j := range jobs {
				run(n, j)
			}
		})
	}
	working.Wait()
	var lines strings.Builder
	for k, n := range table {
		fmt.Fprintf(&lines, "%4d × %s\n", n, k)
	}
	t.Logf("%d kills and %d power cuts, none mixed where no error stands above:\n%s", kills, powers, lines.String())
}

// TestInsideGuardCut cuts the guard itself while it puts things back: with
// -every at each point, by a kill and by a power cut in turn.
func TestInsideGuardCut(t *testing.T) {
	needInside(t)
	t.Parallel()
	numbers := []int{54}
	if *every {
		numbers = []int{54, 55, 56, 57}
	}
	boot(t, numbers...)
	for _, n := range numbers {
		on(t, n, tracer)
	}
	points := guardCut(t, 54, 1, 0, "none")
	t.Logf("the guard has %d points", points)
	step := max(1, points/4)
	if *every {
		step = 1
	}
	work := make(chan int, points)
	for point := 1; point <= points; point += step {
		work <- point
	}
	close(work)
	var all sync.WaitGroup
	for _, n := range numbers {
		all.Go(func() {
			for fence := 2; ; fence++ {
				point, more := <-work
				if !more || t.Failed() {
					return
				}
				guardCut(t, n, fence, point, []string{"power", "kill"}[fence%2])
			}
		})
	}
	all.Wait()
}

// guardCut has a guard fire and cut at a point, and waits until all is old; it
// gives how many points there were.
func guardCut(t *testing.T, n, fence, point int, mode string) int {
	files := prepared(t, n)
	conn := connect(t, n)
	claim := host.Claim{Fence: int64(fence), Run: fmt.Sprint("run-", fence)}
	placed(t, conn, claim, 2*time.Second, files)
	_, err := conn.Act(t.Context(), claim, host.ForwardAct, host.Service{Unit: "nginx.service", Act: reload, Heaviest: restart})
	must(t, "act", err)
	on(t, n, fmt.Sprintf("rm -f /run/points; echo 'guard %d %s' >/run/cut", point, mode))
	conn.Close()
	took := becomesOld(t, n, 60*time.Second) // cut by a kill, it comes again
	for range 300 {
		if out, _ := try(n, "ls /var/lib/wladder/pending /var/lib/wladder/firing | grep -c run-"); strings.TrimSpace(out) == "0" {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	points, _ := strconv.Atoi(strings.TrimSpace(on(t, n, "stat -c %s /run/points 2>/dev/null || echo 0; rm -f /run/cut")))
	if point > 0 {
		t.Logf("guard cut by %s at point %d: all old, %.1f s later", mode, point, took.Seconds())
	}
	return points
}
