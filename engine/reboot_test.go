package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/ladder"
	"wladder/host"
	"wladder/standin"
)

// bootingDefinition is that of the pages, one setting of which only a boot takes up.
var bootingDefinition = strings.Replace(strings.Replace(pagesDefinition, "act: reload}", "act: boot}", 1),
	"restart, nginx.service]}\n", "restart, nginx.service]}\n  - {name: boot, reboots: true, timeout: 20s}\n", 1)

const booting = "title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 1..9\nguard: 4s\nedits:\n  - {set: events/worker_connections, to: 1024}\nladder: {stages: [{hosts: all, gate: true}], at_once: 9, soak: 1s, pause_after: 9}\n"

// opened has a climb begin, and somebody open its first gate.
func (r *rig) opened(id int64) {
	r.t.Helper()
	r.begin(id)
	r.until(id, func(d shown) bool { return d.Climb.State == ladder.Waiting })
	if err := r.store.Order(r.t.Context(), "ines", id, ladder.Resume, "they may boot", host.ScriptsDigest()); err != nil {
		r.t.Fatal(err)
	}
}

// TestReboot has hosts boot anew as planned: the guard knows of that boot, and of no other.
func TestReboot(t *testing.T) {
	t.Parallel()
	r := newRig(t, 5)
	r.load("pages", bootingDefinition)
	tell := r.listen()
	d := r.rehearse(r.drafted(strings.Replace(booting, ", gate: true", "", 1)))
	if !strings.Contains(d.Rehearsal.Findings[0].Text, "5 hosts boot anew, and nobody opens a gate") {
		t.Errorf("without a gate: %+v", d.Rehearsal.Findings)
	}
	r.hosts[1].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	r.hosts[2].Script(&standin.Fault{Do: standin.CutAfter, At: "reboot", Times: 1})
	r.hosts[0].Script(&standin.Fault{Do: standin.GoDownLate, For: 1500 * time.Millisecond, Times: 1}) // it is asked again meanwhile
	alone := &standin.Fault{Do: standin.CutBefore, At: "confirm", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[4].Script(alone)
	id := r.drafted(booting)
	r.approved(id)
	r.opened(id)
	r.until(id, func(d shown) bool { return find(d, "b03").State == ladder.Soaking })
	r.hosts[3].Reboot() // and this time nobody planned it
	<-alone.Reached
	d = r.until(id, func(d shown) bool {
		for _, run := range d.runs {
			if run.Host != "b04" && !run.State.Final() {
				return false
			}
		}
		return true
	})
	for i, want := range []struct {
		state     ladder.RunState
		told, why string
	}{
		{ladder.Done, "boot (new)", ""},
		{ladder.Restored, "boot (new), boot", "front page"},
		{ladder.Done, "boot (new)", ""},
		{ladder.Restored, "boot (new)", "guard fired"},
	} {
		run := find(d, r.hosts[i].Name)
		if run.State != want.state || !strings.Contains(run.Why, want.why) || tell[i].String() != want.told {
			full, _ := r.store.HostRun(t.Context(), id, run.Host)
			t.Errorf("%s is %s (%s), told %s; want %s, %s\n%+v", run.Host, run.State, run.Why, tell[i], want.state, want.told, full.Steps)
		}
	}
	// Another service of the run finds that its files were in place when the host booted.
	conn, err := r.engine.Dialer.Connect(t.Context(), host.Target{Name: "b00", Address: r.hosts[0].Address, User: "root", HostKey: string(ssh.MarshalAuthorizedKey(signer(1).PublicKey()))})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	rebooted, err := conn.Reboot(t.Context(), host.Claim{Fence: 1 << 40, Run: fmt.Sprintf("run-%d", find(d, "b00").ID)}, host.ForwardAct, host.Service{At: 1, Unit: "nginx.service"}, time.Second)
	if err != nil || !rebooted || tell[0].String() != "boot (new)" {
		t.Errorf("a second service: rebooted %v, %v, told %s", rebooted, err, tell[0])
	}
	r.hosts[4].Deaf(true)
	close(alone.Release)
	r.stop()
}

// TestRebootedAlone leaves a host alone that boots as planned: its guard waits for its span anew,
// and then has it boot once more, with the old files.
func TestRebootedAlone(t *testing.T) {
	t.Parallel()
	r := newRig(t, 1)
	r.load("pages", bootingDefinition)
	tell := r.listen()[0]
	alone := &standin.Fault{Do: standin.CutAfter, At: "reboot", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[0].Script(alone)
	id := r.drafted(booting)
	r.approved(id)
	r.opened(id)
	<-alone.Reached
	r.hosts[0].Deaf(true)
	close(alone.Release)
	r.stop()
	r.putBack(0)
	r.start()
	d := r.until(id, func(d shown) bool { return d.runs[0].State.Final() })
	if run := d.runs[0]; run.State != ladder.Restored || !strings.Contains(run.Why, "guard fired") || tell.String() != "boot (new), boot" {
		t.Errorf("b00 is %s (%s), told %s", run.State, run.Why, tell)
	}
}
