package lab

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/ladder"
)

const keptService = `
service: charts
title: Charts
where: labels.role == "bulletin"
unit: charts.service
kept: [store, other]
files:
  main: {format: ini, paths: {any: /etc/charts/charts.ini}, mode: "600"}
  extra: {format: ini, paths: {any: /etc/charts/extra.ini}, mode: "600"}
  store: {paths: {any: /etc/charts/store}, mode: "640"}
makes:
  store: {file: store, command: [sh, -c, 'printf "sealed with %s" "$(sha256sum <"$2")" >"$1"', made, "{path}", "{kept:store}"]}
trial: {command: [grep, -q, "^store-password = [A-Za-z0-9]*$", /etc/charts/charts.ini]}
acts: [{name: restart, command: [systemctl, restart, charts.service]}]
commands: {show: {command: [cat, /etc/charts/charts.ini], shown: true}}
probes:
  - {name: takes it, ask: command show, expect: exit == 0}
  - {name: file, ask: file /etc/charts/charts.ini, expect: mode == "600"}
settle: 5s
`

// TestInsideKept has hosts make secrets for themselves, puts them into files and edits those
// on, and looks for them in all that came back.
func TestInsideKept(t *testing.T) {
	needInside(t)
	t.Parallel()
	hosts := []int{127, 128}
	r := newRig(t, hosts, keptService)
	r.all("mkdir -p /etc/charts && printf '[charts]\nsize = 3\nstore-password = none\n' >/etc/charts/charts.ini && chmod 600 /etc/charts/charts.ini && printf '[Service]\nExecStart=/bin/sleep infinity\n' >/etc/systemd/system/charts.service && systemctl daemon-reload && systemctl start charts")
	secret := func(n int, name string) string {
		return strings.TrimSpace(r.on(n, "cat /var/lib/wladder/kept/charts."+name))
	}
	var values []string
	nowhere := func(what string, v any) {
		t.Helper()
		for _, value := range values {
			if strings.Contains(fmt.Sprintf("%+v", v), value) {
				t.Errorf("%s: a secret has left its host", what)
			}
		}
	}
	const edits = "  - {file: main, set: charts/store-password, to: '{kept:store}'}\n  - {make: store}\n  - {put: extra, text: \"[extra]\\npassword = {kept:other}\\n\"}"
	d, id := r.draft("charts", edits, "")
	if said := refusal(d); said != "" || d.Rehearsal.Planned != 2 || len(d.Rehearsal.Groups) != 1 {
		t.Fatalf("%s: %+v", said, d.Rehearsal)
	}
	if out, _ := try(hosts[0], "ls /var/lib/wladder/kept"); strings.Contains(out, "charts") {
		t.Error("a rehearsal made a secret")
	}
	d = r.climb(id)
	for _, n := range hosts {
		r.wants(d, n, ladder.Done, "")
		store, other := secret(n, "store"), secret(n, "other")
		values = append(values, store, other)
		if len(store) != 32 || store == other {
			t.Errorf("h%d keeps %q and %q", n, store, other)
		}
		out := r.on(n, "cat /etc/charts/charts.ini /etc/charts/extra.ini; stat -c %a /etc/charts/charts.ini /var/lib/wladder/kept/*; cat /etc/charts/store; sha256sum </var/lib/wladder/kept/charts.store")
		hash := strings.Fields(strings.SplitN(out, "sealed with ", 2)[1])
		if !strings.Contains(out, "size = 3\nstore-password = "+store+"\n") || !strings.Contains(out, "[extra]\npassword = "+other+"\n600\n600\n600\n") || strings.TrimPrefix(hash[1], "-") != hash[0] {
			t.Errorf("h%d: %s", n, out)
		}
	}
	if values[0] == values[2] {
		t.Error("two hosts keep the same secret")
	}
	nowhere("the change", r.show(id))
	for _, n := range hosts {
		nowhere("its steps", r.steps(d, n))
	}

	// The file is edited on, around the secret, which stays; a rehearsal shows none of it.
	d, id = r.draft("charts", "  - {file: main, set: charts/size, to: 5}\n", "")
	if said := refusal(d); said != "" || len(d.Rehearsal.Groups) != 1 || !strings.Contains(d.Rehearsal.Groups[0].Diff, "+size = 5") {
		t.Fatalf("%s: %+v", said, d.Rehearsal.Groups)
	}
	nowhere("the diff", d.Rehearsal.Groups)
	d = r.climb(id)
	for i, n := range hosts {
		r.wants(d, n, ladder.Done, "")
		if out := r.on(n, "cat /etc/charts/charts.ini"); !strings.Contains(out, "size = 5\nstore-password = "+values[2*i]+"\n") {
			t.Errorf("h%d: %s", n, out)
		}
	}

	// A host where it fails gets the same bytes back; one that takes the secret out is plain again.
	r.on(hosts[1], "printf '[Service]\nExecStart=/bin/sh -c \"grep -q size.=.5 /etc/charts/charts.ini && exec sleep infinity\"\nRestart=no\n' >/etc/systemd/system/charts.service && systemctl daemon-reload")
	before := r.on(hosts[1], "sha256sum /etc/charts/charts.ini; stat -c '%a %U:%G' /etc/charts/charts.ini")
	_, id = r.draft("charts", "  - {file: main, set: charts/size, to: 7}\n  - {file: main, set: charts/spare, to: '{kept:other}'}", "\nprobes: [{name: runs, ask: unit charts.service, expect: state == \"active\"}]")
	d = r.climb(id)
	r.wants(d, hosts[0], ladder.Done, "")
	r.wants(d, hosts[1], ladder.Restored, "")
	if after := r.on(hosts[1], "sha256sum /etc/charts/charts.ini; stat -c '%a %U:%G' /etc/charts/charts.ini"); after != before {
		t.Errorf("put back: %s, before %s", after, before)
	}
	if out := r.on(hosts[0], "cat /etc/charts/charts.ini"); !strings.Contains(out, "spare = "+values[1]) {
		t.Errorf("h%d: %s", hosts[0], out)
	}
	_, id = r.draft("charts", "  - {file: extra, remove: extra/password}", "\nwhere: name == \"h127\"\ncount: 1")
	r.wants(r.climb(id), hosts[0], ladder.Done, "")
	if d, _ := r.draft("charts", "  - {file: main, set: charts/size, to: '{kept:none}'}", ""); !strings.Contains(refusal(d), `keeps no secret "none"; it keeps store, other`) {
		t.Errorf("one that nobody keeps: %s", refusal(d))
	}
	for _, stolen := range []string{"wladder.kept.entry.key.kept", "wladder.kept.charts.none.kept"} {
		if d, _ := r.draft("charts", "  - {file: main, set: charts/size, to: "+stolen+"}", ""); !strings.Contains(refusal(d), "no-such-kept") {
			t.Errorf("%s: %s", stolen, refusal(d))
		}
	}
	nowhere("all of it", r.show(id))
}
