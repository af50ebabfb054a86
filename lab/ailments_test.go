package lab

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/core/ladder"
)

// ailing is a daemon that falls ill as its file says.
const ailing = `cat >/usr/local/bin/lab-daemon <<'END'
#!/bin/sh
value= die= say= noise=
. /etc/lab/daemon.conf
mkdir -p /run/lab
echo "$value" >/run/lab/value
if [ -n "$say" ]; then echo "$say"; fi
if [ -n "$noise" ]; then for i in 1 2 3 4 5 6 7 8 9; do echo "<3>trouble $i"; done; fi
if [ -n "$die" ]; then sleep "$die"; exit 3; fi
exec sleep infinity
END
chmod 755 /usr/local/bin/lab-daemon
mkdir -p /etc/lab; echo 'value=1' >/etc/lab/daemon.conf
cat >/etc/systemd/system/lab.service <<'END'
[Service]
ExecStart=/usr/local/bin/lab-daemon
ExecReload=/bin/true
Restart=no
END
systemctl daemon-reload; systemctl start lab`

const ailingService = `
service: %s
title: A daemon that falls ill
where: labels.role == "bulletin"
unit: lab.service
files: {main: {format: ini, paths: {any: /etc/lab/daemon.conf}}}
commands: {value: {command: [cat, /run/lab/value], shown: true}}
settle: 2s
`

type ailment struct {
	name, definition, edits, rest string
	before                        string // on the host
	during                        string // on the host, while it soaks
	state                         ladder.RunState
	why                           string
}

const restartAct = "acts: [{name: restart, command: [systemctl, restart, lab.service]}]\n"

var ailments = []ailment{
	{"dies 20 s later", restartAct, "  - {set: die, to: 20}", "ladder: {soak: 30s}", "", "", ladder.Restored, "into the soak and is failed: it ended by itself with status 3; Restart=no"},
	{"a reload that has no effect, asked for its value", "acts: [{name: reload, command: [systemctl, reload, lab.service]}]\nin-force: {ask: command value, expect: 'output.trim() == \"2\"'}\n",
		"  - {set: value, to: 2}", "", "", "", ladder.Restored, "in-force: probe \"in force\" is not well: exit 0: 1"},
	{"a reload that has no effect, with no in-force check", "acts: [{name: reload, command: [systemctl, reload, lab.service]}]\n", "  - {set: value, to: 2}", "", "", "", ladder.Restored, "not proven"},
	{"an act that hangs", "acts: [{name: reload, command: [systemctl, reload, lab.service], timeout: 2s}]\n", "  - {set: value, to: 2}", "", "sed -i \"s#ExecReload=.*#ExecReload=/bin/sh -c 'grep -q value=1 /etc/lab/daemon.conf || sleep 61'#\" /etc/systemd/system/lab.service; systemctl daemon-reload; systemctl restart lab", "", ladder.Restored, "systemctl reload lab.service hung for 2 s and was ended; lab.service is at"},
	{"a line in its journal", restartAct + "logs: {refuse: ['(?i)cannot open .* for writing']}\n", "  - {set: say, to: '\"cannot open gauges.db for writing\"'}", "", "", "", ladder.Restored, `the journal of lab.service says "cannot open gauges.db for writing"`},
	{"more errors in its journal than before", restartAct + "logs: {severity: err, allow: 2}\n", "  - {set: noise, to: 'yes'}", "", "", "", ladder.Restored, "lines of severity err or worse in the journal"},
	{"ended by a signal", restartAct, "  - {set: value, to: 2}", "ladder: {soak: 20s}", "", "systemctl kill -s KILL lab", ladder.Restored, "it was ended by signal 9 (KILL); Restart=no"},
	// Seen while systemd waits to start it again, or after: both are true.
	{"restarted by systemd", restartAct, "  - {set: die, to: 3}", "ladder: {soak: 12s}", "sed -i 's/Restart=no/Restart=always/' /etc/systemd/system/lab.service; systemctl daemon-reload; systemctl restart lab", "", ladder.Restored, "into the soak and "},
	{"a reload that ends it", "acts: [{name: reload, command: [systemctl, reload, lab.service]}]\n", "  - {set: value, to: 2}", "", "sed -i 's|ExecReload=.*|ExecReload=/bin/kill -HUP $MAINPID|' /etc/systemd/system/lab.service; systemctl daemon-reload; systemctl restart lab", "", ladder.Restored, "inactive: it ended cleanly"},
	{"the front door shut for too long", "FRONT", "  - {set: value, to: 2}", "", "mkdir -p /etc/systemd/system/nginx.service.d; printf '[Service]\\nExecStartPre=/bin/sleep 1\\n' >/etc/systemd/system/nginx.service.d/slow.conf; systemctl daemon-reload; systemctl start nginx", "", ladder.Restored, "at most 300ms are allowed"},
	// systemd keeps its counter where somebody restarts a unit that waits for an automatic restart.
	{"well, though systemd was about to restart it", "acts: [{name: restart, commands: [[sh, -c, 'systemctl kill -s KILL lab; until [ \"$(systemctl show -p SubState --value lab)\" = auto-restart ]; do sleep 0.1; done'], [systemctl, restart, lab.service]]}]\n", "  - {set: value, to: 2}", "probes: [{name: not restarted, ask: unit lab.service, after: 'restarts == 0'}]",
		"sed -i 's/Restart=no/Restart=always\\nRestartSec=5/' /etc/systemd/system/lab.service; systemctl daemon-reload; systemctl restart lab; systemctl kill -s KILL lab; until [ $(systemctl show -p NRestarts --value lab) = 1 ]; do sleep 0.1; done", "", ladder.Done, ""},
	{"well", restartAct + "in-force: {ask: command value, expect: 'output.trim() == \"2\"'}\nlogs: {severity: err}\n", "  - {set: value, to: 2}", "", "", "", ladder.Done, ""},
}

// TestInsideAilments has services fall ill after a change in many ways.
func TestInsideAilments(t *testing.T) {
	needInside(t)
	t.Parallel()
	var numbers []int
	for i := range ailments {
		numbers = append(numbers, 31+i)
	}
	r := newRig(t, numbers)
	r.all(ailing)
	var each sync.WaitGroup
	for i, a := range ailments {
		n := numbers[i]
		if a.definition == "FRONT" {
			a.definition = "acts: [{name: restart, commands: [[systemctl, restart, lab.service], [systemctl, restart, nginx.service]]}]\nfront-door: {ask: \"http :80/\", expect: status < 500, out: 300ms}\n"
		}
		service := fmt.Sprintf("ailing-%d", i)
		r.define(fmt.Sprintf(ailingService, service) + a.definition)
		each.Go(func() {
			if a.before != "" {
				if out, err := try(n, a.before); err != nil {
					r.Errorf("%s: %v %s", a.name, err, out)
				}
			}
			before, _ := try(n, "cat /etc/lab/daemon.conf")
			began := time.Now()
			_, id := r.draft(service, a.edits, fmt.Sprintf("where: name == %q\ncount: 1\n%s", hostName(n), a.rest))
			r.begin(id)
			if a.during != "" {
				for range 600 {
					if r.run(r.show(id), n).State == ladder.Soaking {
						time.Sleep(time.Second)
						try(n, a.during)
						break
					}
					time.Sleep(50 * time.Millisecond)
				}
			}
			d := r.ended(id)
			run := r.run(d, n)
			t.Logf("%-52s %-9s %5.1f s  %s", a.name, run.State, time.Since(began).Seconds(), run.Why)
			r.wants(d, n, a.state, a.why)
			after, _ := try(n, "cat /etc/lab/daemon.conf; systemctl is-active lab")
			if want := before + "active\n"; a.state == ladder.Restored && after != want {
				r.Errorf("%s: restored as %q; want %q", a.name, after, want)
			}
			if a.state == ladder.Done && !strings.Contains(after, "value=2") {
				r.Errorf("%s: done with %q", a.name, after)
			}
		})
	}
	each.Wait()
}
