package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"wladder/core/definition"
	"wladder/core/view"
	"wladder/standin"
	"wladder/store"
)

// TestTry tries definitions that nobody has approved: nothing of a file is read and none of
// their commands run, before another admin lets that very text be tried on that very host.
func TestTry(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 2, func(i int, c *standin.Config) {
		c.Image = map[string]string{confPath: confText, "/etc/shadow": "root:hidden-hash:19000:0:\n", "/etc/nginx/pass.conf": "ssl_password_file hunter2-secret;\n"}
	})
	text := strings.NewReplacer("{main: {", "{shadow: {paths: {any: /etc/shadow}}, pass: {format: nginx, paths: {any: /etc/nginx/pass.conf}}, outside: {paths: {any: /srv/x}}, none: {paths: {any: /etc/none}}, main: {",
		"service: pages", "service: spying\nroots: [/etc]\ncommands: {look: {command: [cat, /etc/shadow], shown: true}}", "settings:", "settings:\n  - {address: ssl_password_file, file: pass, type: text, secret: true}").Replace(pagesDefinition)
	text = strings.Replace(text, "probes:", "probes:\n  - {name: look, ask: command look, expect: exit == 0}", 1)
	text = strings.ReplaceAll(text, "  - {address: events/worker_connections,", "  - {address: events/worker_connections, file: main,")
	scripts := func() []string {
		ran := r.hosts[0].Ran()
		slices.Sort(ran)
		return slices.Compact(ran)
	}
	var words []string
	r.hosts[0].Before(func(w []string) { words = append(words, strings.Join(w, " ")) })
	try := func(text, host string) (view.Tried, error) {
		svc, err := definition.Parse("spying", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return r.engine.Try(ctx, "ada", svc, host)
	}
	tried, err := try(text, "b00")
	if err != nil {
		t.Fatal(err)
	}
	said := fmt.Sprintf("%+v", tried)
	if !tried.Carries || tried.ApprovedBy != "" || !slices.Equal(scripts(), []string{"ask", "survey"}) || strings.Contains(said, "hidden-hash") || strings.Contains(said, "worker_processes 2") {
		t.Errorf("%v ran: %s", scripts(), said)
	}
	for _, line := range words {
		if strings.HasPrefix(line, "nginx") || strings.HasPrefix(line, "cat /etc") || strings.HasPrefix(line, "base64 ") {
			t.Errorf("before any approval: %s", line)
		}
	}
	one := tried.Instances[0]
	standing := ""
	for _, f := range one.Files {
		standing += fmt.Sprintf("%s %v %v %s %d %s; ", f.Key, f.Outside, f.Missing, f.Kind, f.Bytes, f.Mode)
	}
	if standing != fmt.Sprintf("main false false regular file %d 644; none false true  0 ; outside true false  0 ; pass false false regular file 34 644; shadow false false regular file 26 644; ", len(confText)) {
		t.Error(standing)
	}
	if runs := fmt.Sprint(one.Runs); !strings.Contains(runs, "{trial [nginx -t]}") || !strings.Contains(runs, "{command look [cat /etc/shadow]}") || !strings.Contains(runs, "{probe front page [http GET :18480/]}") || one.Checker+fmt.Sprint(one.Settings, one.Probes) != "[] []" {
		t.Errorf("%s, %+v", runs, one)
	}

	svc, err := definition.Parse("spying", []byte(text))
	if err == nil {
		_, err = r.store.LoadService(ctx, "ada", svc)
	}
	if err != nil {
		t.Fatal(err)
	}
	var refused *store.NotPermitted
	if err := r.store.ApproveTry(ctx, "ada", "spying", svc.Digest, "b00"); !errors.As(err, &refused) {
		t.Errorf("by who loaded it: %v", err)
	}
	if err := r.store.ApproveTry(ctx, "ben", "spying", svc.Digest, "b00"); err != nil {
		t.Fatal(err)
	}
	for _, other := range []struct{ text, host string }{{text, "b01"}, {text + "# one more line\n", "b00"}} {
		if tried, err := try(other.text, other.host); err != nil || tried.ApprovedBy != "" || len(tried.Instances[0].Settings) > 0 {
			t.Errorf("on another host, or another text: %+v, %v", tried, err)
		}
	}
	if tried, err = try(text, "b00"); err != nil || tried.ApprovedBy != "ben" {
		t.Fatalf("%+v, %v", tried, err)
	}
	one = tried.Instances[0]
	if said := fmt.Sprintf("%+v", one); one.Checker != "accepted" || len(one.Probes) != 3 || !strings.Contains(said, "events/worker_connections Value:512") || !strings.Contains(said, "ssl_password_file Value:‹secret›") || strings.Contains(said, "hunter2") {
		t.Errorf("approved for this host: %s", said)
	}
	if _, err := r.store.ApprovedService(ctx, "spying"); !errors.As(err, new(*store.NotFound)) {
		t.Errorf("it serves hosts: %v", err)
	}
}
