package render

import (
	"bytes"
	"fmt"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
)

// BenchmarkRenderLarge changes one line of a file of 16 MiB.
func BenchmarkRenderLarge(b *testing.B) {
	var text bytes.Buffer
	text.WriteString("events { worker_connections 768; }\n")
	for i := 0; text.Len() < 16<<20-100; i++ {
		fmt.Fprintf(&text, "# comment %d, with password: none and more of it\n", i)
	}
	svc, err := definition.Parse("s", []byte(serviceYAML))
	if err != nil {
		b.Fatal(err)
	}
	spec, err := change.Parse("c", []byte(specYAML("  - {set: events/worker_connections, to: 1024}")))
	if err != nil {
		b.Fatal(err)
	}
	found := Found{Path: "/etc/nginx/nginx.conf", Resolved: "/etc/nginx/nginx.conf", Kind: "regular file", Content: text.Bytes(), Owner: "root", Group: "root", Mode: "644"}
	for b.Loop() {
		r := Candidates(svc, spec, Reading{Host: expr.Host{Traits: expr.Traits{Family: "debian"}}, Files: map[string]Found{"main": found}})
		if len(r.Files) != 1 {
			b.Fatal(r.Findings)
		}
	}
}
