package render_test

import (
	"fmt"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/render"
)

func ExampleCandidates() {
	svc, err := definition.Parse("gauge.yaml", []byte(`
service: gauge
title: Gauge intake
where: labels.role == "gauge"
files: {main: {format: ini, paths: {any: /etc/gauge.ini}}}
unit: gauge.service
acts: [{name: restart, command: [systemctl, restart, gauge.service]}]
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	spec, err := change.Parse("poll.yaml", []byte(`
title: Ask the gauges more often
reason: the river rises
service: gauge
where: labels.role == "gauge"
count: 1
edits: [{set: intake/poll_seconds, compute: string(cores * 15)}]
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	found := render.Found{Path: "/etc/gauge.ini", Resolved: "/etc/gauge.ini", Kind: "regular file", Content: []byte("[intake]\npoll_seconds = 60\n")}
	result := render.Candidates(svc, spec, render.Reading{
		Host: expr.Host{Name: "gauge-1", Traits: expr.Traits{Cores: 2}}, Files: map[string]render.Found{"main": found}})
	fmt.Println(result.Act.Name, result.Files[0].Alterations[0].Words())
	fmt.Print(result.Files[0].Diff)
	// Output:
	// restart intake/poll_seconds: 60 → 30
	// --- /etc/gauge.ini
	// +++ /etc/gauge.ini
	// @@ -1,2 +1,2 @@
	//  [intake]
	// -poll_seconds = 60
	// +poll_seconds = 30
}
