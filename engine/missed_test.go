package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
	"wladder/store"
)

// TestRehearseMissed reads again just the hosts that a rehearsal did not get into its plan,
// and those that are reached in another way since, or have another label.
func TestRehearseMissed(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 5)
	id := r.draft(connections, "{stages: [{hosts: all}], at_once: 9, soak: 200ms, pause_after: 9}")
	var refused *store.Conflict
	if err := r.engine.RehearseMissed(ctx, "ines", id); !errors.As(err, &refused) || !strings.Contains(err.Error(), "rehearse all of change") {
		t.Errorf("with no rehearsal before: %v", err)
	}
	r.hosts[1].Deaf(true)
	r.hosts[2].Files.Write(confPath, []byte("worker_processes {;\n"))
	if d := r.rehearse(id); d.Rehearsal.Planned != 3 {
		t.Fatalf("%d planned", d.Rehearsal.Planned)
	}
	r.hosts[1].Deaf(false)
	r.hosts[2].Files.Write(confPath, []byte(confText))
	h, err := r.store.Host(ctx, "b03")
	if err != nil {
		t.Fatal(err)
	}
	h.Labels = map[string]string{"role": "bulletin", "site": "delta"}
	if _, err := r.store.LoadHosts(ctx, "ada", []view.Host{h}); err != nil {
		t.Fatal(err)
	}
	before := make([]int, len(r.hosts))
	for i, h := range r.hosts {
		before[i] = len(h.Ran())
	}
	if err := r.engine.RehearseMissed(ctx, "ines", id); err != nil {
		t.Fatal(err)
	}
	d := r.until(id, func(d shown) bool { return d.Rehearsal.EndedAt != nil })
	if d.Rehearsal.Planned != 5 || d.Rehearsal.Digest == "" || len(d.Rehearsal.Groups) != 2 {
		t.Fatalf("%+v", d.Rehearsal)
	}
	for i, h := range r.hosts {
		if read := len(h.Ran()) > before[i]; read != (i == 1 || i == 2 || i == 3) {
			t.Errorf("%s is read again: %v", h.Name, read)
		}
	}
	for _, g := range d.Rehearsal.Groups {
		if !strings.Contains(g.Diff, "+    worker_connections") {
			t.Errorf("the group of %v has the diff %q", g.Hosts, g.Diff)
		}
	}
	// A host whose file was edited since is passed over, as ever.
	r.hosts[4].Files.Write(confPath, []byte(confText+"# mended\n"))
	if err := r.store.Offer(ctx, "ines", id); err != nil {
		t.Fatal(err)
	}
	if err := r.store.Judge(ctx, "oda", id, d.Rehearsal.Digest, change.Approval, ""); err != nil {
		t.Fatal(err)
	}
	d = r.climb(id)
	for i := range r.hosts {
		want := ladder.Done
		if i == 4 {
			want = ladder.PassedOver
		}
		if run := find(d, r.hosts[i].Name); run.State != want {
			t.Errorf("%s is %s (%s)", run.Host, run.State, run.Why)
		}
	}
}

// TestFoldersOfBlocks has a change bring blocks about directories that a host has, and has not.
func TestFoldersOfBlocks(t *testing.T) {
	t.Parallel()
	const at = "/etc/apache/site.conf"
	r := newRig(t, 1, func(_ int, c *standin.Config) {
		c.Image = map[string]string{confPath: confText, at: "<Directory /srv/old>\n    Require all granted\n</Directory>\n", "/srv/charts/index.html": "x"}
	})
	r.load("pages", strings.NewReplacer("format: nginx, paths: {debian: /etc/nginx/nginx.conf}", "format: apache, paths: {any: "+at+"}", "unit: nginx.service", "unit: nginx.service\nroots: [/etc, /srv]", "trial: {command: [nginx, -t], covers: [/run]}\n", "").Replace(pagesDefinition))
	for folder, want := range map[string]bool{"/srv/charts": false, "/srv/none": true, "/srv/charts/index.html": true, "/opt/none": false} {
		d := r.rehearse(r.drafted(fmt.Sprintf(oneService, "pages", "edits: [{insert: \"<Directory "+folder+">\\n    Options +Indexes\\n</Directory>\\n\", into: ''}]")))
		if text := fmt.Sprint(d.Rehearsal.Groups); strings.Contains(text, "no-folder") != want {
			t.Errorf("%s: %s", folder, text)
		}
	}
}
