package engine

import (
	"strings"
	"testing"

	"wladder/standin"
)

// TestWholeFiles opens the files of a host of the plan: every line of them, but no secret.
func TestWholeFiles(t *testing.T) {
	t.Parallel()
	text := strings.Replace(confText, "http {", "http {\n    # admin_password = swordfish-99", 1)
	r := newRig(t, 3, func(i int, c *standin.Config) {
		c.Image = map[string]string{confPath: text}
		if i == 2 {
			c.Image[confPath] = strings.Replace(text, "512", "2048", 1) // as it is to be
		}
	})
	id := r.draft("  - {set: events/worker_connections, to: 2048}", quick)
	r.rehearse(id)
	p, leaf, err := r.store.LeafOf(t.Context(), id, r.hosts[0].Name)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := r.engine.Whole(t.Context(), p.Head, leaf)
	if err != nil || whole.Host != r.hosts[0].Name || len(whole.Files) != 1 {
		t.Fatalf("%+v, %v", whole, err)
	}
	got := whole.Files[0].Diff
	for line := range strings.Lines(text) {
		if strings.Contains(line, "swordfish") {
			continue
		}
		if n, want := strings.Count(got, line), strings.Count(text, line); n != want {
			t.Errorf("%q is there %d times; want %d", line, n, want)
		}
	}
	if !strings.Contains(got, "-    worker_connections 512;") || !strings.Contains(got, "+    worker_connections 2048;") || strings.Contains(got, "swordfish") || !strings.Contains(got, "admin_password") {
		t.Errorf("the whole file is shown as\n%s", got)
	}
	for host, want := range map[string]string{r.hosts[2].Name: "is not in the plan", "nobody": "there is no"} {
		if _, _, err := r.store.LeafOf(t.Context(), id, host); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", host, err, want)
		}
	}
	names := map[string]bool{}
	for range 40 {
		picked, err := r.store.PickedHosts(t.Context(), id, "", 1)
		if err != nil || len(picked) != 1 {
			t.Fatalf("%v, %v", picked, err)
		}
		names[picked[0]] = true
	}
	if len(names) != 2 || names[r.hosts[2].Name] {
		t.Errorf("picked at random: %v; want either of those in the plan", names)
	}
}
