package outline_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/probe"
)

func seconds(n int) ladder.Span { return ladder.Span(time.Duration(n) * time.Second) }

// TestOutline reads a plan of ten hosts: two services, of which some hosts carry one alone.
func TestOutline(t *testing.T) {
	spec, err := change.Parse("t", []byte("title: t\nreason: r\nservices: [intake, pages]\nwhere: 'true'\ncount: 10\nvalues: {old: {compute: cores}}\nbring-into-force: true\nedits:\n  - {service: pages, set: a, to: 1, where: cores > 2}\n"))
	if err != nil {
		t.Fatal(err)
	}
	reload, restart := definition.Act{Name: "reload", Commands: [][]string{{"systemctl", "reload", "nginx"}}}, definition.Act{Name: "restart"}
	head := plan.Head{
		Policy: ladder.Policy{Stages: []ladder.Stage{{Count: 1}, {Where: "false", Gate: true}, {Percent: 50, Gate: true, Checks: []ladder.Check{{Look: "the front page", In: "a phone"}}}, {AtOnce: 1}}, AtOnce: 2, PoolAtOnce: 2, Apart: "rack", Budget: seconds(600), Soak: seconds(15), PauseAfter: 1},
		Parts: []plan.Part{
			{Service: "intake", Unit: "intake.service", Settle: seconds(2), Guard: seconds(90), Probes: []probe.Probe{{Name: "lives", Ask: "unit intake.service", Expect: "restarts == 0", Tries: 3, Share: 60}}},
			{Service: "pages", Unit: "nginx.service", Settle: seconds(3), Guard: seconds(90), Trial: definition.Trial{Command: []string{"nginx", "-t"}}, InForce: []probe.Probe{{Name: "workers", Ask: "unit nginx.service", After: "renewed > 0"}}},
		},
		Probes: []probe.Probe{{Name: "page", Ask: "http :80/", Before: "status == 500", After: "status == 200", Hold: 10}},
	}
	var leaves []plan.Leaf
	for i := range 10 {
		l := plan.Leaf{Host: fmt.Sprintf("b%d", i), Stage: []int{0, 2, 2, 2, 2, 3, 3, 3, 3, 3}[i], MayFail: i > 7}
		if i%2 == 0 {
			l.Parts = append(l.Parts, plan.LeafPart{Part: 0, Act: restart})
		}
		act := reload
		if i == 9 {
			act = restart
		}
		check := probe.Probe{Name: "a is in force", Ask: "command a", After: "value == '1'"}
		l.Parts = append(l.Parts, plan.LeafPart{Part: 1, Act: act, InForce: []probe.Probe{check}})
		if i == 3 {
			l.Parts = append(l.Parts, plan.LeafPart{Part: 1, Instance: "two", Act: act, InForce: []probe.Probe{check}})
		}
		leaves = append(leaves, l)
	}
	pools := outline.Pools{Keep: map[string]int{"pages": 3}, Size: map[string]map[string]int{"pages": {"coast": 7, "delta": 6}}, Of: func(service string, leaf int) string {
		if service == "intake" {
			return ""
		}
		return []string{"coast", "delta"}[leaf/5]
	}}
	o := outline.Of(spec, head, leaves, pools)
	pools.Of = func(service string, leaf int) string { return fmt.Sprint(leaf) } // a pool for each host, sixty times over
	many := head
	many.Parts = nil
	for range 10 {
		many.Parts = append(many.Parts, head.Parts...)
	}
	var all []plan.Leaf
	for _, l := range leaves {
		l.Parts = nil
		for i := range many.Parts {
			l.Parts = append(l.Parts, plan.LeafPart{Part: i, Act: reload})
		}
		all = append(all, l)
	}
	if o := outline.Of(spec, many, all, pools); len(o.Pools) != 50 || o.MorePools != 150 || o.Pools[0].Keep != 3 {
		t.Errorf("of 200 pools %d are told, %d not, first %+v", len(o.Pools), o.MorePools, o.Pools[0])
	}
	got, _ := json.MarshalIndent(o, "", " ")
	flat := strings.Join(strings.Fields(string(got)), " ")
	for _, want := range []string{
		`"edits": [ { "service": "pages", "words": "set a to 1", "where": "cores \u003e 2" }, { "service": "intake", "words": "bring into force what is saved already, where the two differ" } ]`,
		`"values": [ { "name": "old", "words": "what cores comes to" } ]`,
		// No host is in the second stage. Waves of two: one of 20 s, as both services are acted on, two and five of 18 s.
		`{ "stage": 0, "takes": "up to 1", "hosts": { "count": 1, "first": [ "b0" ] }, "least": 20000000000 }, { "stage": 2, "takes": "up to 50%", "gate": true, "hosts": { "count": 4,`,
		`"guard": 90000000000`, `"least": 146000000000`,
		`"service": "intake", "unit": "intake.service", "instances": 5, "hosts": 5, "acts": [ { "name": "restart", "commands": [], "hosts": 5 } ], "settle"`,
		`"instances": 11, "hosts": 10, "acts": [ { "name": "reload", "commands": [ "systemctl reload nginx" ], "hosts": 9 }, { "name": "restart", "commands": [], "hosts": 1 } ], "checker": "nginx -t"`,
		`"name": "page", "ask": "http :80/", "before": "status == 500", "after": "status == 200", "often": "held for 10 s", "hosts": 10`,
		`"name": "lives", "ask": "unit intake.service", "before": "restarts == 0", "after": "restarts == 0", "often": "3 tries, 60 % of them well", "hosts": 5`,
		`"name": "a is in force", "ask": "command a", "before": "", "after": "value == '1'", "proves": true, "hosts": 10`,
		`"may_fail": { "count": 2, "first": [ "b8", "b9" ] }`,
		`{ "service": "intake", "name": "", "hosts": 5, "changed": 5, "most": 2, "keep": 0, "words": "all hosts with intake: 5 hosts, 5 of them changed, 2 under way at once at most" }, { "service": "pages", "name": "coast", "hosts": 7, "changed": 5, "most": 2, "keep": 3, "words": "pool coast of pages: 7 hosts, 5 of them changed, 2 under way at once at most; 3 stay well" }, { "service": "pages", "name": "delta", "hosts": 6, "changed": 5, "most": 1, "keep": 3,`,
		`"pace": [ "at most 2 hosts at once, each watched for 15 s (soak); one that fails gets its old files back, and at 1 failed host in a stage all pauses", "takes 2 min 26 s at least, acts and probes apart, and waits for a person at 1 gate", "guard: a host puts the old files back by itself once it hears nothing for 90 s", "of one pool at most 2 hosts at once", "hosts with one value of the label rack are never out together", "a host that takes longer than 10 min to come to its soak goes back", "check 1 before stage 3: the front page (in a phone)", "in stage 4 at most 1 host at once", "may fail: b8, b9" ]`,
		`"words": "pages (nginx.service): reload on 9 hosts, restart (no command) on 1 host, then 3 s to settle; checked before by nginx -t"`,
	} {
		if !strings.Contains(flat, want) {
			t.Errorf("want %s in\n%s", want, flat)
		}
	}
}
