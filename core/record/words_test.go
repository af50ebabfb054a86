package record

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode"
)

// TestWords has an entry of each kind say what happened, once with all that the store puts into one
// and once with nothing.
func TestWords(t *testing.T) {
	full := `{"account": "ines", "agreed": true, "approved_by": "oda", "asked_by": "ada", "asks": ["unit nginx.service"], "because": "the flood", "by": 9, "change": 0, "check": 1, "climb": 3, "comment": 4,
		"count": 2, "days": 30, "digest": "7c4f4be136c70011", "doubt": 1, "for": "48h", "from": 3, "halt": 2, "host": "b01", "hosts": 24, "in": "a phone", "kind": "edited", "label": "board", "look": "the map", "note": "blank",
		"path": "/etc/nginx/nginx.conf", "revision": 2, "roles": ["author", "operator"], "scopes": [], "stage": 1, "text": "not-proven", "title": "More connections", "to": 5, "undone": true,
		"until": "2031-03-01T22:59:59.123Z", "version": 7, "well": true, "what": "ines is to have the roles admin", "where": "labels.site == \"delta\"", "why": "the unit is failed", "with": "kai"}`
	said := map[string]string{}
	for kind := range words {
		for _, body := range []string{full, "{}"} {
			e := Entry{Actor: "oda", Kind: kind, Subject: "change/12", Body: json.RawMessage(body)}
			text := e.Sentence("Oda Marsh")
			if text == "" || strings.Contains(text, "%!") || strings.Contains(text, kind) || body == full && strings.TrimRight(text, " :") != text || !strings.HasPrefix(text, "Oda Marsh ") {
				t.Errorf("%s says %q", kind, text)
			}
			if body == full {
				said[text] += kind
				if said[text] != kind {
					t.Errorf("%s says the same: %q", said[text], text)
				}
			}
		}
	}
	for _, c := range []struct{ actor, display, kind, subject, body, want string }{
		{"oda", "Oda Marsh", "change.approved", "change/5", `{"digest": "7c4f4be136c70011", "because": ""}`, "Oda Marsh approved change 5 under 7c4f4be136c7"},
		{"oda", "", "change.declined", "change/5", `{"digest": "7c4f4be136c70011", "because": "too many"}`, "oda declined change 5 under 7c4f4be136c7: too many"},
		{"wladderd", "", "host.restored", "host/b01", `{"change": 5, "why": "status 500", "files": "old"}`, "b01 has its old files again, in change 5: status 500"},
		{"wladderd", "", "host.restored", "host/b01", `{"change": 5, "why": "", "undone": true}`, "b01 has its old files again, in change 5, by its own guard"},
		{"wladderd", "", "climb.paused", "change/5", `{"why": "1 host failed"}`, "The server paused the climb of change 5: 1 host failed"},
		{"ines", "Ines Vael", "host.set-aside", "host/b01", `{"because": "a new disk", "until": "2031-03-01T22:59:59.123Z"}`, "Ines Vael set b01 aside until 2031-03-01 22:59 UTC: a new disk"},
		{"ines", "Ines Vael", "gate.answered", "change/4", `{"stage": 1, "look": "the map", "in": "a phone", "well": true, "note": "all there"}`, "Ines Vael looked at the gate before stage 2 of change 4: “the map” is well in a phone, “all there”"},
		{"ada", "", "account.added", "account/kit", `{"roles": null, "row": "x"}`, "ada made the account kit with no roles"},
		{"ada", "", "not.known", "thing/1", `{}`, "ada not.known of thing/1"},
	} {
		if got := (Entry{Actor: c.actor, Kind: c.kind, Subject: c.subject, Body: json.RawMessage(c.body)}).Sentence(c.display); got != c.want {
			t.Errorf("%s says %q; want %q", c.kind, got, c.want)
		}
	}
	for kind := range ofHost {
		if words := (Entry{Kind: kind, Subject: "host/b01", Body: json.RawMessage("{}")}).Words(); !strings.HasPrefix(words, "b01 ") || unicode.IsUpper(rune(words[0])) {
			t.Errorf("%s says %q", kind, words)
		}
	}
}
