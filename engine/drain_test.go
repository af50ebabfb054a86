package engine

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/host"
	"wladder/standin"
)

// Whether a host's pages are out of the way, and how many connections are open.
const placePath, openPath = "/run/pages.place", "/run/pages.open"

// drainingDefinition is that of the pages, which get out of the way before a restart.
var drainingDefinition = strings.Replace(pagesDefinition, "act: reload}", "act: restart}", 1) + `
drain:
  command: [cp, /run/out, ` + placePath + `]
  until: {ask: command open, expect: output.trim() == "0"}
  within: 2s
  readmit: [cp, /run/in, ` + placePath + `]
commands:
  open: {command: [cat, ` + openPath + `]}
`

// told lists what a host's service was told: out, in, its acts; and when its file was new.
type told struct {
	mu  sync.Mutex
	all []string
	at  func(what string) // called beside
}

func (o *told) watch(h *standin.Host) {
	h.Before(func(words []string) {
		line, what := strings.Join(words, " "), ""
		switch {
		case line == "cp /run/out "+placePath:
			what = "out"
		case line == "cp /run/in "+placePath:
			what = "in"
		case len(words) == 3 && words[0] == "systemctl" && (words[1] == "reload" || words[1] == "restart"):
			what = words[1]
		case line == "systemctl reboot":
			what = "boot"
		}
		if what == "" {
			return
		}
		if file, _ := h.Files.Read(confPath); string(file) != confText {
			what += " (new)"
		}
		o.mu.Lock()
		o.all = append(o.all, what)
		at := o.at
		o.mu.Unlock()
		if at != nil {
			at(what)
		}
	})
}

func (o *told) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.Join(o.all, ", ")
}

// newDrainRig has hosts whose pages get out of the way, without open connections.
func newDrainRig(t *testing.T, n int) (*rig, []*told) {
	r := newRig(t, n, func(_ int, c *standin.Config) {
		c.Image = map[string]string{confPath: confText, openPath: "0\n", "/run/out": "out", "/run/in": "in", placePath: "in"}
	})
	r.load("pages", drainingDefinition)
	return r, r.listen()
}

// listen notes what the service of each host is told from now on.
func (r *rig) listen() []*told {
	all := make([]*told, len(r.hosts))
	for i, h := range r.hosts {
		all[i] = &told{}
		all[i].watch(h)
	}
	return all
}

// TestDrain has services get out of the way before their files are replaced, and come back once
// they work with the new ones; and whatever goes wrong on the way, they come back.
func TestDrain(t *testing.T) {
	t.Parallel()
	r, tell := newDrainRig(t, 9)
	r.hosts[1].Files.Write(openPath, []byte("3\n")) // and so it stays
	r.hosts[2].Script(&standin.Fault{Do: standin.RefuseStart, When: "worker_connections 1024"})
	r.hosts[3].Script(&standin.Fault{Do: standin.CutAfter, At: "drain", Times: 1})
	tell[4].at = func(what string) {
		if what == "out" { // somebody edits it meanwhile
			r.hosts[4].Files.Write(confPath, []byte("# by hand\n"+confText))
		}
	}
	r.hosts[5].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	r.hosts[6].Script(&standin.Fault{Do: standin.CutBefore, At: "place", Times: 1})
	r.hosts[7].Files.Write(openPath, []byte("2\n"))
	tell[7].at = func(what string) { r.hosts[7].Files.Write(openPath, []byte("0\n")) }
	r.hosts[8].Script(&standin.Fault{Do: standin.CutAfter, At: "act", Times: 1})
	id := r.draft("  - {set: events/worker_connections, to: 1024}", "{stages: [{hosts: all}], at_once: 9, soak: 300ms, pause_after: 9}")
	d := r.approved(id)
	if text := d.Rehearsal.Plan.Parts[0].Words; !strings.Contains(text, "gets out of the way first (cp /run/out "+placePath+"), until command open says output.trim() == \"0\", within 2 s, and comes back after (cp /run/in "+placePath+")") {
		t.Errorf("a reviewer reads:\n%s", text)
	}
	d = r.climb(id)
	for i, want := range []struct {
		state     ladder.RunState
		told, why string
	}{
		{ladder.Done, "out, restart (new), in (new)", ""},
		{ladder.Restored, "out, in", "has 2s to get out of the way"},
		{ladder.Restored, "out, restart (new), restart, in", "act: "},
		{ladder.Done, "out, out, restart (new), in (new)", ""},
		{ladder.Restored, "out, in (new)", "edited"},
		{ladder.Restored, "out, restart (new), in (new), restart, in", "front page"},
		{ladder.Done, "out, out, restart (new), in (new)", ""},
		{ladder.Done, "out, restart (new), in (new)", ""},
		{ladder.Done, "out, restart (new), in (new)", ""},
	} {
		run := find(d, r.hosts[i].Name)
		full, err := r.store.HostRun(t.Context(), id, run.Host)
		if err != nil {
			t.Fatal(err)
		}
		if run.State != want.state || !strings.Contains(run.Why, want.why) || tell[i].String() != want.told || (want.why == "" || i == 4) != !run.Failed {
			t.Errorf("%s is %s, failed %v (%s), told %s; want %s, %s\n%+v", run.Host, run.State, run.Failed, run.Why, tell[i], want.state, want.told, full.Steps)
		}
		if place, _ := r.hosts[i].Files.Read(placePath); string(place) != "in" {
			t.Errorf("%s is still out of the way", run.Host)
		}
	}
	tell[0].all = nil
	r.load("pages", strings.Replace(drainingDefinition, "[systemctl, restart, nginx.service]}", "[systemctl, restart, nginx.service], serves: true}", 1))
	id = r.drafted("title: t\nreason: r\nservice: pages\nwhere: name == \"b00\"\ncount: 1\nedits:\n  - {set: events/worker_connections, to: 2048}\nladder: {soak: 100ms}\n")
	r.approved(id)
	if d := r.climb(id); find(d, "b00").State != ladder.Done || tell[0].String() != "restart (new)" {
		t.Errorf("an act through which it serves: %s, told %s", find(d, "b00").State, tell[0])
	}
}

// TestDrainedAlone leaves hosts alone that are out of the way: with nothing placed, with new files,
// and before a boot. The guard has the services come back.
func TestDrainedAlone(t *testing.T) {
	t.Parallel()
	r, tell := newDrainRig(t, 3)
	faults := []*standin.Fault{{Do: standin.CutAfter, At: "drain"}, {Do: standin.CutAfter, At: "place"}, {Do: standin.CutAfter, At: "place"}}
	for i, f := range faults {
		f.Times, f.Reached, f.Release = 1, make(chan struct{}), make(chan struct{})
		r.hosts[i].Script(f)
	}
	id := r.drafted("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 3\nguard: 2s\nedits:\n  - {set: events/worker_connections, to: 1024}\nladder: {stages: [{hosts: all}], at_once: 9, soak: 300ms, pause_after: 9}\n")
	r.approved(id)
	if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	for _, f := range faults {
		<-f.Reached
	}
	for _, h := range r.hosts {
		h.Deaf(true)
	}
	for _, f := range faults {
		close(f.Release)
	}
	r.stop()
	r.hosts[2].Reboot()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for i, h := range r.hosts {
		if err := h.Await(ctx, placePath, func(content []byte) bool { return string(content) == "in" }); err != nil {
			t.Errorf("%s, left alone, stays out of the way: told %s", h.Name, tell[i])
		}
		r.putBack(i)
		h.Deaf(false)
	}
	r.start()
	d := r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
	for i, h := range r.hosts {
		if run := find(d, h.Name); run.State != ladder.Restored || !strings.Contains(run.Why, "guard fired") {
			t.Errorf("%s is %s (%s), told %s", h.Name, run.State, run.Why, tell[i])
		}
	}
}
