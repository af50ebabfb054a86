package lab

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/change"
	"wladder/core/drift"
	"wladder/core/ladder"
	"wladder/core/view"
)

const levelsService = `
service: levels
title: Levels
where: labels.role == "bulletin"
unit: levels.service
files:
  a: {format: ini, paths: {any: /etc/levels/a.ini}}
  b: {format: ini, paths: {any: /etc/levels/b.ini}}
  c: {format: ini, paths: {any: /etc/levels/c.ini}}
  d: {format: ini, paths: {any: /etc/levels/d.ini}}
  e: {format: ini, paths: {any: /etc/levels/e.ini}}
  f: {format: ini, paths: {any: /etc/levels/f.ini}, owner: root, group: root, mode: "640"}
acts: [{name: restart, command: [systemctl, restart, levels.service]}]
in-force: {ask: unit levels.service, expect: state == "active"}
settle: 1s
`

// TestInsideFleet has a temporary change go back by itself on real hosts, another stay, and
// people and packages do to its files what they do: each is told apart, by hashes alone.
func TestInsideFleet(t *testing.T) {
	needInside(t)
	t.Parallel()
	hosts := []int{131, 132} // the second by sudo
	r := newRig(t, hosts, levelsService)
	r.all("mkdir -p /etc/levels && cd /etc/levels && for f in a b c d e; do printf '[levels]\nwarn = 3\n' >$f.ini; done && printf '[Service]\nExecStart=/bin/sleep infinity\n' >/etc/systemd/system/levels.service && systemctl daemon-reload && systemctl start levels")
	state := func(n int) string {
		return r.on(n, "cd /etc/levels && sha256sum * && stat -c '%n %a %U:%G' *")
	}
	before := []string{state(hosts[0]), state(hosts[1])}
	_, id := r.draft("levels", "  - {file: a, set: levels/warn, to: 9}\n  - {put: f, text: \"[levels]\\nwarn = 9\\n\"}", "\nfor: 3s")
	r.begin(id)
	events, stop := r.engine.Subscribe(id)
	defer stop()
	d := r.show(id)
	for deadline := time.After(2 * time.Minute); d.State != change.Countered; d = r.show(id) {
		select {
		case <-events:
		case <-time.After(time.Second):
		case <-deadline:
			t.Fatalf("it is %s, back are %+v", d.State, d.Temporary)
		}
	}
	if d.Temporary == nil || d.Temporary.Back != 2 {
		t.Errorf("back are %+v", d.Temporary)
	}
	for i, n := range hosts {
		if now := state(n); now != before[i] {
			t.Errorf("h%d is not as it was before the temporary change:\n%s\nbefore:\n%s", n, now, before[i])
		}
	}

	edits := ""
	for _, f := range []string{"a", "b", "c", "d", "e"} {
		edits += fmt.Sprintf("  - {file: %s, set: levels/warn, to: 5}\n", f)
	}
	_, id = r.draft("levels", edits, "")
	d = r.climb(id)
	for _, n := range hosts {
		r.wants(d, n, ladder.Done, "")
	}
	look := func() map[string]string {
		t.Helper()
		missed, err := r.engine.LookForDrift(t.Context(), "")
		told, err2 := r.store.Drift(t.Context(), "")
		if err != nil || err2 != nil || len(missed) > 0 {
			t.Fatal(missed, err, err2)
		}
		all := map[string]string{}
		for _, p := range told.Paths {
			all[p.Host] += strings.TrimPrefix(p.Path, "/etc/levels/") + "=" + p.Kind + " "
		}
		for _, u := range told.Unready {
			all[u.Host] += "unready "
		}
		return all
	}
	if told := look(); len(told) > 0 {
		t.Errorf("right after the climb it is told %v", told)
	}
	r.on(hosts[0], "cd /etc/levels && sed -i 's/5/6/' a.ini && sed -i 's/5/3/' b.ini && mv c.ini c.ini.dpkg-old && echo '[levels]' >c.ini && rm d.ini && chown nobody e.ini")
	r.on(hosts[1], "cd /etc/levels && chmod 600 a.ini && touch b.ini && systemctl stop levels")
	told := look()
	want := strings.Join([]string{"a.ini=" + string(drift.Edited), "b.ini=" + string(drift.Back), "c.ini=" + string(drift.Replaced), "d.ini=" + string(drift.Gone), "e.ini=" + string(drift.Rights)}, " ") + " "
	if got := told[hostName(hosts[0])]; got != want {
		t.Errorf("told apart: %s; want %s", got, want)
	}
	if got := told[hostName(hosts[1])]; got != "a.ini=rights unready " {
		t.Errorf("of the other: %s", got)
	}

	compared, err := r.engine.Compare(t.Context(), view.Comparing{Service: "levels", File: "b", Address: "levels/warn"})
	if err != nil || len(compared.Values) != 2 || len(compared.Missed) > 0 || !slices.ContainsFunc(compared.Values, func(v view.ComparedValue) bool { return v.Value == "3" && v.Hosts[0] == hostName(hosts[0]) }) {
		t.Errorf("compared: %+v, %v", compared, err)
	}
}
