package lab

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"golang.org/x/tools/txtar"

	"wladder/bundled"
	"wladder/core/ladder"
	"wladder/core/view"
)

// job is one change over three hosts, with a judge for each.
type job struct {
	name     string
	services []string
	before   map[string]string // by host, or all
	after    map[string]string
	change   string
	judges   [4]judge  // from 1
	back     [4]*judge // once the change was countered
	booted   [4]*judge // after a reboot
}

// judge asks a host itself: a shell line, and what it prints.
type judge struct{ reported, line, says string }

func (j judge) ask(n int) (said string, well bool) {
	out, _ := try(n, "bash -c '"+strings.ReplaceAll(j.line, "'", `'\''`)+"'")
	return out, out == j.says
}

func readJobs(t *testing.T) (all []*job) {
	a, err := txtar.ParseFile("testdata/jobs.txtar")
	must(t, "jobs", err)
	for _, f := range a.Files {
		words := strings.Fields(f.Name)
		text := string(f.Data)
		if words[0] == "job" {
			all = append(all, &job{name: words[1], services: words[2:], before: map[string]string{}, after: map[string]string{}})
			continue
		}
		j := all[len(all)-1]
		switch words[0] {
		case "before":
			j.before[words[1]] = text
		case "after":
			j.after[words[1]] = text
		case "change":
			j.change = text
		case "judge", "countered", "rebooted":
			n := int(words[1][0] - '0')
			one := judge{}
			one.line, one.says, _ = strings.Cut(text, "\n")
			switch words[0] {
			case "judge":
				one.reported = words[2]
				j.judges[n] = one
			case "countered":
				j.back[n] = &one
			default:
				j.booted[n] = &one
			}
		default:
			t.Fatalf("jobs.txtar: %s", f.Name)
		}
	}
	return all
}

// more is what a team adds to a bundled definition for these jobs.
var more = map[string]string{
	"tomcat": `
makes:
  keystore:
    file: keystore
    command: [keytool, -genkeypair, -alias, charts, -keyalg, EC, -validity, "365", -storetype, PKCS12, -dname, "CN=charts.vellmere.example",
      -ext, "SAN=dns:charts.vellmere.example", -keystore, "{path}", "-storepass:file", "{secret:charts-store}"]
`,
}

// sampled are the jobs of the short run.
const sampled = " port groups watchdog "

// TestInsideJobs does each job by the client, as one change, and holds what the product
// reports beside what the hosts themselves say.
func TestInsideJobs(t *testing.T) {
	needInside(t)
	t.Parallel()
	numbers := []int{0, 121, 122, 123}
	w := newWorld(t, numbers[1:]...)
	var hosts []map[string]any
	sites := []string{"", "coast", "delta", "upland"}
	for i, n := range numbers[1:] {
		h := hostView(t, n)
		hosts = append(hosts, map[string]any{"name": h.Name, "address": h.Address, "login": h.Login, "sudo": h.Sudo, "host_key": strings.TrimSpace(h.HostKey), "labels": map[string]string{"role": "bulletin", "site": sites[i+1]}})
	}
	text, _ := json.Marshal(hosts)
	w.file("hosts.yaml", string(text))
	w.run("ada", 0, "", "hosts-load", "hosts.yaml")
	w.run("ada", 0, "drift-Ice_4711", "secret", "-services", "tomcat", "-hosts", "true", "charts-store")
	loaded := map[string]bool{}
	changes, judged := 0, 0
	for _, j := range readJobs(t) {
		if !*every && !strings.Contains(sampled, " "+j.name+" ") {
			continue
		}
		for _, name := range j.services {
			if loaded[name] {
				continue
			}
			loaded[name] = true
			source, _ := bundled.Source(name)
			where := strings.SplitN(strings.SplitN(string(source), "\nwhere: ", 2)[1], "\n", 2)[0]
			definition := strings.Replace(string(source), where, `labels.role == "bulletin"`, 1) + more[name]
			switch name {
			case "tomcat":
				definition = strings.Replace(definition, "  web: {", "  keystore: {paths: {debian: /etc/tomcat10/office.p12}, group: tomcat, mode: \"640\"}\n  web: {", 1)
			case "redis":
				definition = strings.Replace(definition, "commands:\n", "commands:\n  clients: {command: [redis-cli, config, get, maxclients], shown: true}\n", 1)
			}
			w.file(name+".yaml", definition)
			w.load(name + ".yaml")
		}
		for i := 1; i <= 3; i++ {
			for _, who := range []string{"all", fmt.Sprint(i)} {
				if line := j.before[who]; line != "" {
					on(t, numbers[i], line)
				}
			}
		}
		text := j.change
		if len(j.services) == 1 {
			text += "service: " + j.services[0] + "\n"
		} else {
			text += "services: [" + strings.Join(j.services, ", ") + "]\n"
		}
		text += "where: labels.role == \"bulletin\"\ncount: 3\n"
		if !strings.Contains(text, "ladder:") {
			text += "ladder: {stages: [{hosts: all}], soak: 2s, at_once: 9, pause_after: 9}\n"
		}
		w.file(j.name+".yaml", text)
		began := time.Now()
		changes++
		id := strings.Fields(w.run("ines", 0, "", "draft", j.name+".yaml"))[1]
		number, planned, climbed := w.carried(id)
		runs, err := w.client("ines").AllRuns(t.Context(), number, time.Time{})
		must(t, "runs", err)
		reported := w.reported(t, number, runs.Runs)
		t.Logf("%s: one change, %.0f s\n%s%s", j.name, time.Since(began).Seconds(), planned, climbed)
		for i := 1; i <= 3; i++ {
			judge, said := j.judges[i], reported[hostName(numbers[i])]
			out, well := judge.ask(numbers[i])
			judged++
			if said != judge.reported {
				t.Errorf("%s, host %d: the product says %s; want %s\n%s%s", j.name, i, said, judge.reported, planned, climbed)
			}
			if !well {
				t.Errorf("%s, host %d, reported as %s: the judge says\n%swant\n%s", j.name, i, said, out, judge.says)
			}
		}
		if j.back[1] != nil {
			out := w.run("ines", 0, "", "counter", "-because", "it was an exercise", id)
			_, planned, climbed := w.carried(strings.Fields(out)[1])
			t.Logf("%s, countered:\n%s%s", j.name, planned, climbed)
		}
		for i := 1; i <= 3; i++ {
			if j.booted[i] != nil {
				try(numbers[i], "systemctl reboot")
				time.Sleep(2 * time.Second)
				must(t, "await", script("await", fmt.Sprint(numbers[i])).Run())
			}
			for _, judge := range []*judge{j.back[i], j.booted[i]} {
				if judge == nil {
					continue
				}
				if out, well := judge.ask(numbers[i]); !well {
					t.Errorf("%s, host %d, afterwards: the judge says\n%swant\n%s", j.name, i, out, judge.says)
				}
			}
		}
		for i := 1; i <= 3; i++ {
			for _, who := range []string{"all", fmt.Sprint(i)} {
				if line := j.after[who]; line != "" {
					on(t, numbers[i], line)
				}
			}
		}
	}
	t.Logf("%d changes, %d hosts judged", changes, judged)
}

// carried takes a draft all the way, and gives its number, its diff, and how it climbed.
func (w *world) carried(id string) (number int64, planned, climbed string) {
	w.Helper()
	fmt.Sscan(id, &number)
	w.status("ines", "rehearse", id)
	planned = w.run("ines", 0, "", "diff", id)
	w.run("ines", 0, "", "offer", id)
	d, err := w.client("ines").Change(w.Context(), number)
	must(w.T, "change", err)
	w.run("oda", 0, "", "approve", "-digest", d.Rehearsal.Digest, id)
	climbed = w.status("ines", "climb", "-follow", id)
	if d, err = w.client("ines").Change(w.Context(), number); err == nil && d.Climb.State == ladder.Paused {
		w.run("ines", 0, "", "stop", "-because", "the job is over", id)
	}
	return number, planned, climbed
}

// status runs the client as run does, where the status may be 1, and says which it was.
func (w *world) status(who string, args ...string) string {
	w.Helper()
	out, got := w.tried(who, "", args...)
	if got > 1 {
		w.Fatalf("wladder %s: status %d:\n%s", strings.Join(args, " "), got, out)
	}
	return fmt.Sprintf("%s(status %d)\n", out, got)
}

// reported says of each host in a word what the product says: done, failed (put back, or
// passed over by its trial), vetoed, or left since there is nothing to do.
func (w *world) reported(t *testing.T, change int64, runs []view.HostRun) map[string]string {
	all := map[string]string{}
	d, err := w.client("ines").Change(t.Context(), change)
	must(t, "change", err)
	for _, g := range d.Rehearsal.Groups {
		for _, h := range g.Hosts {
			all[h] = "left"
			for _, f := range g.Findings {
				if f.Level == "veto" {
					all[h] = "vetoed"
				}
			}
		}
	}
	for _, r := range runs {
		switch r.State {
		case ladder.Done:
			all[r.Host] = "done"
			if r.Proof == ladder.ProofNone {
				all[r.Host] = "done, not proven"
			}
		case ladder.Restored:
			all[r.Host] = "failed"
		case ladder.PassedOver:
			if all[r.Host] = "passed over"; strings.HasPrefix(r.Why, "trial") {
				all[r.Host] = "failed"
			}
		default:
			all[r.Host] = string(r.State)
		}
	}
	return all
}
