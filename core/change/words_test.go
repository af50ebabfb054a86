package change

import (
	"slices"
	"strings"
	"testing"
)

// TestWords has edits as written, and what reviewers read.
func TestWords(t *testing.T) {
	for _, c := range []struct{ edit, want string }{
		{"{set: events/worker_connections, to: 2048}", "set events/worker_connections to 2048"},
		{"{set: a, to: 'two words'}", `set a to "two words"`},
		{"{set: a, to: [x, y]}", `set a to "x y"`},
		{"{set: a, compute: 'cores * 2', every: 0..1}", "set a to what cores * 2 comes to, in 0 to 1 places"},
		{"{set: a, secret: relay}", "set a to the secret relay"},
		{"{set: a, by: labels.site, table: {coast: 1, delta: ''}, otherwise: 3}", `set a to a value by labels.site (coast: 1, delta: "", otherwise 3)`},
		{"{set: a, by: name, secrets: {b1: one}, new-block: true}", "set a to a value by name (b1: the secret one), with the blocks that are missing"},
		{"{add: duty, to: AllowGroups, above: op}", "add duty to the list AllowGroups, above op"},
		{"{take: duty, from: AllowGroups, file: office}", "take duty from the list AllowGroups, in file office"},
		{"{remove: 'a b', through: c, lines: true}", `remove a b through c, by these lines of text`},
		{"{comment-out: a/b, every: 3}", "comment out a/b, in exactly 3 places"},
		{"{uncomment: a, every: 1}", "uncomment a, in exactly 1 place"},
		{"{insert: \"location /x {\\n  deny all;\\n}\\n\", into: server}", `insert "location /x {" and 2 more lines into server`},
		{"{insert: x, below: a, each: [one, two]}", "insert x below a, for each of one, two"},
		{"{insert: x, into: ''}", "insert x into the file"},
		{"{insert: x, instead-of: a, through: b}", "insert x instead of a through b"},
		{"{replace: '', with: b}", ""},
		{"{replace: a b, with: '', every: 2}", `replace "a b" with "", in exactly 2 places`},
		{"{move: a, below: b}", "move a below b"},
		{"{move: main, onto: office}", "move the file main onto office"},
		{"{put: office, text: x, mode: \"640\", group: adm}", "put the whole file office: x, mode 640, group adm"},
		{"{delete: office}", "delete the file office"},
		{"{link: office, leads-to: ../a}", "make office a link to ../a"},
		{"{make: keystore}", "make the file keystore on the host"},
		{"{file: main, mode: \"640\", owner: root}", "give the file main mode 640, owner root"},
	} {
		spec, err := Parse("t", []byte("title: t\nreason: r\nservice: s\nwhere: 'true'\ncount: 1\nedits:\n  - "+c.edit+"\n"))
		if c.want == "" {
			if err == nil {
				t.Errorf("%s is taken", c.edit)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.edit, err)
		} else if got := spec.Edits[0].Words(); got != c.want {
			t.Errorf("%s: %s; want %s", c.edit, got, c.want)
		} else if strings.Contains(got, "%!") {
			t.Errorf("%s: %s", c.edit, got)
		}
	}
}

// TestKeys holds the keys that people are offered against what a change may say.
func TestKeys(t *testing.T) {
	all := Keys()
	for at, some := range map[string]string{"": "title reason where edits ladder probes may-fail bring-into-force", "edits": "set to compute table by otherwise new-block leads-to", "ladder": "stages at_once soak", "ladder/stages": "up-to where named gate checks", "ladder/stages/checks": "look in", "probes": "ask expect before after hold", "values": "to compute table"} {
		for name := range strings.FieldsSeq(some) {
			if !slices.Contains(all[at], name) {
				t.Errorf("%q has no key %s: %v", at, name, all[at])
			}
		}
		for _, name := range all[at] {
			if name == "" || name == "-" || strings.Contains(name, ",") {
				t.Errorf("%q has the key %q", at, name)
			}
		}
	}
	if len(all) != 8 {
		t.Errorf("keys of %d mappings: %v", len(all), all)
	}
}
