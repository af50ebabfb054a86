package api

import (
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
)

// said has, by the name of a field, what stands there in examples.
var said = map[string]string{
	"host": "bulletin-coast-01", "name": "bulletin-coast-01", "because": "the flood is over", "digest": "7c4f4be136c70011a2b3c4d5e6f708192a3b4c5d6e7f8091a2b3c4d5e6f70819", "why": "the probe “front page” is not well: status 500",
	"service": "bulletin-pages", "kind": "session", "where": `labels.site == "coast"`, "title": "More connections for the spring flood", "address": "events/worker_connections", "file": "main", "text": "What of the small hosts?",
	"path": "/etc/nginx/nginx.conf", "account": "ines", "value": "1024", "source": "service: bulletin-pages\n", "group": "3f9a1c", "words": "approved change 5 under 7c4f4be136c7", "finding": "rule", "key": "main", "by": "oda",
	"diff": "--- /etc/nginx/nginx.conf\n+++ /etc/nginx/nginx.conf\n@@ -4 +4 @@\n-    worker_connections 512;\n+    worker_connections 1024;\n", "to": "1024", "from": "192.0.2.7", "ask": "http GET :8080/", "hash": "9b1d", "act": "reload", "unit": "nginx.service",
	"display": "Ines Vael", "code": "BCDF-GHJK", "type": "integer", "author": "ines", "started_by": "tam", "subject": "change/5", "password": "spring tide at seven", "label": "the duty board", "token": "wl_…", "old": "spring tide at seven", "new": "nine barges and a raft",
	"hosts": `labels.site == "coast"`, "reason": "In last year's flood the pages refused connections.", "ticket": "FLO-2211", "zone": "Europe/Vienna", "host_key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl",
	"login": "root", "fingerprint": "SHA256:6vzHnzoUN4aCohf5R7KTKz1sO3j30zAo0wG6THO3lGI", "expect": "status == 200", "settled_by": "ines", "loaded_by": "ada", "approved_by": "ben", "actor": "oda", "look": "the map of the coast shows its tiles", "in": "a browser that never saw them",
	"note": "all there", "device": "GmRhmhcxhwAzkoEqiMEg", "with_code": "https://id.vellmere.example/device?user_code=BCDF-GHJK", "since": "2031-03-01", "until": "2031-04-01", "os": "debian", "os_version": "12", "family": "debian", "arch": "amd64", "kernel": "6.1.0", "origin": "192.0.2.7",
	"after": "", "before": "", "probe": "front page", "problem": "", "owner": "root", "mode": "644", "instance": "", "prev": "8a0c", "signature": "MEUCIQ", "asked_by": "ada", "what": "kit is to have the roles author, admin", "detail": "there is no change 99",
	"directory": "the office's directory", "user": "ines", "at": "main:12", "edits": "", "often": "each host", "version": "1.22.1", "order": "again",
}

// asking has the bodies of requests for which one example of each field would not do.
var asking = map[string]any{
	"POST /session":                map[string]any{"name": "ines", "password": "spring tide at seven", "kind": "session", "label": "a script"},
	"PATCH /accounts/{name}":       map[string]any{"roles": []any{"author", "operator"}},
	"POST /accounts":               map[string]any{"name": "ines", "display": "Ines Vael", "roles": []any{"author"}, "password": "first of all change me"},
	"PATCH /hosts/{name}":          map[string]any{"aside": map[string]any{"because": "a new disk", "until": "2031-03-01T23:00:00Z"}},
	"POST /ask":                    map[string]any{"where": `labels.role == "bulletin"`, "service": "", "asks": []any{"unit nginx.service", "http GET :8080/"}},
	"POST /services":               "service: bulletin-pages\ntitle: Bulletin pages\nwhere: labels.role == \"bulletin\"\nunit: nginx.service\nfiles: {main: {format: nginx, paths: {any: /etc/nginx/nginx.conf}}}\nacts: [{name: reload, command: [systemctl, reload, nginx.service]}]\n",
	"POST /changes":                exampleChange,
	"POST /changes/{id}/revisions": exampleChange,
	"POST /drafts/check":           exampleChange,
	"POST /forms":                  "form: connections\ntitle: More connections\nblanks: {limit: {type: integer, range: 512..8192}}\nchange: {title: Connections, reason: The flood is forecast., service: bulletin-pages, where: labels.role == \"bulletin\", count: 24, edits: [{set: events/worker_connections, to: '{blank:limit}'}]}\n",
	"PUT /policy":                  "approvals: [{needs: 1}, {where: labels.tier == \"core\", needs: 2}]\napprovals-last: 72h\n",
	"POST /changes/{id}/orders":    map[string]any{"order": "pause", "because": "the river rises"},
	"POST /changes/{id}/comments":  map[string]any{"text": "Why 1024?", "group": "3f9a1c", "file": "/etc/nginx/nginx.conf", "line": 4},
	"POST /changes/{id}/comments/{comment}/settlement": map[string]any{"settled": true},
}

const exampleChange = "title: More connections for the spring flood\nreason: In last year's flood the pages refused connections.\nservice: bulletin-pages\nwhere: labels.role == \"bulletin\"\ncount: 24\nedits: [{set: events/worker_connections, file: main, to: 1024}]\nladder: {stages: [{up-to: 2}, {hosts: all, gate: true}], soak: 30s}\n"

// exampled gives each call of the description an example of what it takes and of what it answers.
func exampled(doc *openapi3.T) {
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if op.RequestBody != nil {
				for _, media := range op.RequestBody.Value.Content {
					if media.Example = asking[method+" "+path]; media.Example == nil {
						media.Example = example(doc, media.Schema, "", 0)
					}
				}
			}
			for _, response := range op.Responses.Map() {
				if media := response.Value.Content.Get("application/json"); media != nil {
					media.Example = example(doc, media.Schema, "", 0)
				}
			}
		}
	}
}

// example makes a value that fits a schema: of what may be left out, only what stands at the top and is
// no object itself.
func example(doc *openapi3.T, of *openapi3.SchemaRef, name string, depth int) any {
	s := of.Value
	if of.Ref != "" {
		s = doc.Components.Schemas[strings.TrimPrefix(of.Ref, "#/components/schemas/")].Value
	}
	is := func(kind string) bool { return s.Type != nil && s.Type.Is(kind) }
	switch {
	case len(s.Enum) > 0:
		first := s.Enum[0]
		if text, ok := said[name]; ok && slices.Contains(s.Enum, any(text)) {
			first = text
		}
		return first
	case is("string") && s.Format == "date-time":
		return "2031-03-01T14:00:00Z"
	case is("string") && s.Format == "byte":
		return "dGV4dA=="
	case is("string"):
		if text, ok := said[name]; ok {
			return text
		}
		return name
	case is("integer"):
		return 3
	case is("number"):
		return 12.5
	case is("boolean"):
		return true
	case is("array"):
		if depth > 4 || s.Items == nil {
			return []any{}
		}
		one := example(doc, s.Items, strings.TrimSuffix(name, "s"), depth+1)
		if n := int(s.MinItems); n > 1 {
			return slices.Repeat([]any{one}, n)
		}
		return []any{one}
	case is("object") || s.Properties != nil:
		all := map[string]any{}
		for field, inner := range s.Properties {
			required := slices.Contains(s.Required, field)
			simple := inner.Ref == "" && inner.Value.Properties == nil && inner.Value.Type != nil && !inner.Value.Type.Is("array") && !inner.Value.Type.Is("object")
			if required || depth == 0 && simple {
				all[field] = example(doc, inner, field, depth+1)
			}
		}
		if s.Properties == nil && s.AdditionalProperties.Schema != nil && depth <= 4 {
			all[said["name"]] = example(doc, s.AdditionalProperties.Schema, name, depth+1)
		}
		return all
	}
	return map[string]any{}
}

// TestExamples holds each example to the schema of its call, by the description as it is served; each
// call that takes or answers JSON or YAML has one.
func TestExamples(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromFile("openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(context.Background(), openapi3.EnableExamplesValidation()); err != nil {
		t.Error(err)
	}
	examples, named := 0, map[string]bool{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			named[method+" "+path] = true
			var all []*openapi3.MediaType
			if op.RequestBody != nil {
				for _, media := range op.RequestBody.Value.Content {
					all = append(all, media)
				}
			}
			for _, response := range op.Responses.Map() {
				if media := response.Value.Content.Get("application/json"); media != nil {
					all = append(all, media)
				}
			}
			for _, media := range all {
				if examples++; media.Example == nil {
					t.Errorf("%s %s has no example", method, path)
				} else if err := media.Schema.Value.VisitJSON(media.Example); err != nil {
					t.Errorf("%s %s: %v", method, path, err)
				}
			}
			if op.Security == nil {
				t.Errorf("%s %s does not say how one signs in", method, path)
			}
		}
	}
	for call := range asking {
		if !named[call] {
			t.Errorf("there is no call %s", call)
		}
	}
	t.Logf("%d examples", examples)
}
