package render

import (
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
)

const triedService = `
service: pages
title: Pages
where: labels.role == "bulletin"
unit: nginx.service
files:
  closed: {format: nginx, paths: {any: /etc/nginx/closed.conf}}
  open: {format: nginx, paths: {any: /etc/nginx/open.conf}, tried: true}
  text: {paths: {any: /etc/nginx/text}}
  text-tried: {paths: {any: /etc/nginx/text-tried}, tried: true}
  new: {format: nginx, paths: {any: /etc/nginx/new.conf}}
  key: {paths: {any: /etc/nginx/key}}
makes:
  key: {file: key, command: [openssl, genpkey, -out, "{path}"]}
trial: {command: [nginx, -t]}
acts: [{name: restart, command: [systemctl, restart, nginx.service]}]
settings:
  - {address: events/worker_connections, file: closed, type: integer}
  - {address: http/client_max_body_size, file: closed, type: size}
  - {address: http/keepalive_timeout, file: closed, type: seconds}
  - {address: http/server_tokens, file: closed, type: switch}
  - {address: http/gzip_proxied, file: closed, type: choice, choices: ["any", "off"]}
  - {address: worker_processes, file: closed, type: text}
  - {address: http/default_type, file: closed, type: text, tried: true}
  - {address: http/index, file: closed, type: text, tried: true}
  - {address: http/error_log, file: closed, type: text, tried: true}
  - {address: http/lingering_time, file: closed, type: seconds, executes: true}
  - {address: http/server/expires, file: closed, type: seconds}
`

// TestTriedLater walks what a checker may see of a change that nobody approved
// yet: kind of edit × what the definition says.
func TestTriedLater(t *testing.T) {
	svc, err := definition.Parse("pages.yaml", []byte(triedService))
	if err != nil {
		t.Fatal(err)
	}
	const text = "worker_processes 2;\nevents {\n    worker_connections 768;\n}\nhttp {\n    default_type plain;\n    sendfile on;\n    #gzip_proxied any;\n    server {\n        listen 80;\n    }\n}\n"
	for _, c := range []struct {
		edit string
		why  string // it waits, in these words; empty: it is tried at once
	}{
		{"{file: closed, set: events/worker_connections, to: 1024}", ""},
		{"{file: closed, set: events/worker_connections, compute: cores * 512}", ""},
		{"{file: closed, set: http/client_max_body_size, to: 8m}", ""},
		{"{file: closed, set: http/keepalive_timeout, to: 65s}", ""},
		{"{file: closed, set: http/server_tokens, to: off}", ""},
		{"{file: closed, set: http/gzip_proxied, to: any}", ""},
		{"{file: closed, uncomment: http/gzip_proxied}", ""},
		{"{file: closed, remove: worker_processes}", ""},
		{"{file: closed, comment-out: http/default_type}", ""},
		{`{file: closed, mode: "600"}`, ""},
		{"{file: closed, set: http/default_type, to: octets}", ""},
		{"{file: closed, set: http/server/expires, to: 1h}", ""},
		{"{file: closed, set: 'http/server[\"x\"]/expires', to: 1h, new-block: true}", "is in a new block"},
		{"{file: closed, set: http/lingering_time, to: 5s}", "can bring code"},
		{"{file: closed, set: worker_processes, to: auto}", "is text"},
		{"{file: closed, set: http/index, to: /etc/shadow}", "can name a file"},
		{"{file: closed, set: http/index, to: 'engine:gauges'}", "can name a file"},
		{"{file: closed, set: http/index, to: '../x'}", "can name a file"},
		{"{file: closed, set: http/error_log, to: nologin}", "can name a file"},
		{"{file: closed, set: http/sendfile, to: off}", "is not one of the definition's settings"},
		{"{file: closed, remove: http/sendfile}", "is not what the definition lists"},
		{"{file: closed, secret: s, set: http/default_type}", "holds a secret"},
		{"{file: closed, insert: 'server_tokens off;', into: http}", "text of the change's own"},
		{"{file: closed, set: http/load_module, to: x.so}", "can bring code"},
		{"{put: closed, text: 'worker_processes 3;'}", "text of the change's own"},
		{"{put: new, text: 'worker_processes 3;'}", "text of the change's own"},
		{"{link: new, leads-to: closed.conf}", "a link"},
		{"{delete: closed}", "a file that goes"},
		{"{move: text, onto: new}", "a file that moves"},
		{"{make: key}", "what is made"},
		{"{file: text, replace: worker_processes, with: worker_processors}", "text of the change's own"},
		{"{file: text-tried, replace: worker_processes, with: worker_processors}", ""},
		{"{file: open, insert: 'tcp_nopush on;', into: http}", ""},
		{"{put: open, text: 'worker_processes 3;'}", ""},
		{"{file: open, set: http/tcp_nodelay, to: off}", ""},
		{"{file: open, insert: 'ssl_certificate_key engine:x:y;', into: http}", "can name a file"},
		{"{file: open, insert: 'error_log stderr;', into: http}", "can name a file"},
		{"{file: open, insert: 'load_module x.so;', into: http}", "can bring code"},
		{"{file: open, insert: 'include x.conf;', into: http}", "can bring code"},
		{"{file: open, set: http/client_body_temp_path, to: gauges}", "can name a file"},
	} {
		spec, err := change.Parse("c.yaml", []byte("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 1\nedits:\n  - "+c.edit+"\n"))
		if err != nil {
			t.Errorf("%s: %v", c.edit, err)
			continue
		}
		files := map[string]Found{}
		for key, f := range svc.Files {
			at := f.Path("debian")
			files[key] = Found{Path: at, Resolved: at, Kind: "regular file", Content: []byte(text), Owner: "root", Group: "root", Mode: "644", Missing: key == "new" || key == "key"}
		}
		r := Candidates(svc, spec, Reading{Host: expr.Host{Traits: expr.Traits{Family: "debian", Cores: 2}}, Files: files, Secrets: map[string]string{"s": "kept-for-s"}})
		said := ""
		for _, f := range r.Findings {
			said += f.Code + ": " + f.Text + "; "
		}
		if r.Vetoed() || len(r.Files) == 0 || r.Waits != (c.why != "") || !strings.Contains(said, c.why) || r.Waits != strings.Contains(said, "tried-later") {
			t.Errorf("%s: waits: %v (%s); want %q", c.edit, r.Waits, said, c.why)
		}
	}
}

// TestMadeFilesStay walks what may become of a file that was made on its host, whose
// content never leaves it.
func TestMadeFilesStay(t *testing.T) {
	svc, err := definition.Parse("pages.yaml", []byte(triedService))
	if err != nil {
		t.Fatal(err)
	}
	for edit, want := range map[string]string{
		"{file: key, replace: a, with: b}":           "never leaves it",
		"{move: key, onto: new}":                     "made elsewhere, not moved",
		"{make: key}":                                "",
		"{delete: key}":                              "",
		`{file: key, mode: "600"}`:                   "",
		"{put: key, text: 'a key of somebody else'}": "",
	} {
		spec, err := change.Parse("c.yaml", []byte("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 1\nedits:\n  - "+edit+"\n"))
		if err != nil {
			t.Fatal(err)
		}
		found := Found{Path: "/etc/nginx/key", Resolved: "/etc/nginx/key", Kind: "regular file", Sum: strings.Repeat("a", 64), Owner: "root", Group: "root", Mode: "640"}
		absent := Found{Path: "/etc/nginx/new.conf", Resolved: "/etc/nginx/new.conf", Missing: true}
		r := Candidates(svc, spec, Reading{Host: expr.Host{Traits: expr.Traits{Family: "debian"}}, Files: map[string]Found{"key": found, "new": absent}})
		said := ""
		for _, f := range r.Findings {
			said += f.Text + "; "
		}
		if r.Vetoed() != (want != "") || !strings.Contains(said, want) {
			t.Errorf("%s: %s; want %q", edit, said, want)
		}
		for _, f := range r.Files {
			if f.Base.Sum != found.Sum || len(f.Base.Content) > 0 {
				t.Errorf("%s: its base is %+v", edit, f.Base)
			}
		}
	}
}
