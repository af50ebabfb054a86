package lab

import (
	"strings"
	"testing"

	"wladder/core/ladder"
)

// chartsController keeps a program running, and starts it anew when chartsctl says so: the
// service manager sees the controller alone.
const chartsController = `mkdir -p /etc/charts && printf '[charts]\nsize = 3\n' >/etc/charts/charts.ini
cat >/usr/local/bin/charts-controller <<'END'
#!/bin/bash
trap 'kill "$child"' USR1
while :; do
	bash -c 'cp /etc/charts/charts.ini /run/charts.taken; exec -a charts sleep infinity' &
	child=$!
	echo $$ >/run/charts.pid
	wait "$child"
	wait "$child"
done
END
cat >/usr/local/bin/chartsctl <<'END'
#!/bin/sh
case $1 in
restart) kill -USR1 "$(cat /run/charts.pid)" ;;
pretend) echo restarted ;;
esac
END
chmod 755 /usr/local/bin/charts*
printf '[Service]\nExecStart=/usr/local/bin/charts-controller\n' >/etc/systemd/system/charts.service
systemctl daemon-reload && systemctl start charts && sleep 1 && test -s /run/charts.taken`

const controlledService = `
service: charts
title: Charts, under a controller of their own
where: labels.role == "bulletin"
unit: charts.service
files: {main: {format: ini, paths: {any: /etc/charts/charts.ini}}}
acts:
  - {name: pretend, command: [chartsctl, pretend]}
  - {name: restart, command: [chartsctl, restart]}
commands: {taken: {command: [cat, /run/charts.taken], shown: true}}
settings:
  - {address: charts/size, type: integer, in-force: {ask: command taken, expect: 'output.contains("size = " + value + "\n")'}}
  - {address: charts/depth, type: integer}
  - {address: charts/width, type: integer, act: pretend}
probes: [{name: runs, ask: process sleep, expect: count == 1}]
settle: 3s
`

// TestInsideController changes a program that a controller of its own starts anew, not the
// service manager: by its own check, and by processes begun since. An act that only says that
// it did is found out.
func TestInsideController(t *testing.T) {
	needInside(t)
	if !*every {
		t.Skip("in the long run")
	}
	t.Parallel()
	const n = 129
	r := newRig(t, []int{n}, controlledService)
	r.on(n, chartsController)
	for _, c := range []struct {
		setting string
		state   ladder.RunState
		why     string
	}{
		{"size", ladder.Done, ""},
		{"depth", ladder.Done, ""},
		{"width", ladder.Restored, "processes begun since the act"},
	} {
		before := r.on(n, "cat /etc/charts/charts.ini")
		_, id := r.draft("charts", "  - {set: charts/"+c.setting+", to: 7}", "")
		r.wants(r.climb(id), n, c.state, c.why)
		now, taken := r.on(n, "cat /etc/charts/charts.ini"), r.on(n, "cat /run/charts.taken")
		if well := c.state == ladder.Done; well && (taken != now || !strings.Contains(now, c.setting+" = 7")) || !well && now != before {
			t.Errorf("%s: the file says\n%s, taken up is\n%s", c.setting, now, taken)
		}
	}
}
