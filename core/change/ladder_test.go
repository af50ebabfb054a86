package change

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestLadderAsWritten reads ladders: what each comes to, or what is wrong with it.
func TestLadderAsWritten(t *testing.T) {
	for text, want := range map[string]string{
		`{stages: [{hosts: all}]}`: `{"stages":[{"percent":100}],"at_once":4,"soak":15000000000,"pause_after":1,"budget":3600000000000}`,
		`{stages: [{up-to: 2}, {named: [a, b], at_once: 1}, {up-to: 25%, gate: true, checks: [{look: the page, in: a phone}]}], at_once: 6, pool_at_once: 2, apart: rack, soak: 0s, pause_after: 10%, budget: 0s}`: `{"stages":[{"count":2},{"named":["a","b"],"at_once":1},{"percent":25,"gate":true,"checks":[{"look":"the page","in":"a phone"}]}],"at_once":6,"pool_at_once":2,"apart":"rack","soak":0,"pause_after":0,"pause_share":10}`,
		`{pause_after: 3}`:                                            `"pause_after":3,`,
		`{stages: [{up-to: 2, where: "true"}]}`:                       "want a mapping of one of up-to, where, named or hosts",
		`{stages: [{named: []}]}`:                                     "want a mapping of one of up-to, where, named or hosts",
		`{stages: [up-to 2]}`:                                         `stage "up-to 2": want a mapping`,
		`{pause_after: 0}`:                                            `pause_after: "0" is neither a number of hosts`,
		`{pause_after: 101%}`:                                         "101% is out of range",
		`{at_once: 2, pool_at_once: 3}`:                               "pool_at_once: 3 is out of range; want 1 to at_once, which is 2",
		`{at_once: 2, stages: [{hosts: all, at_once: 3}]}`:            "stage 1: at_once: 3 is out of range",
		`{at_once: 501}`:                                              "at_once: 501 is out of range; want 1 to 500",
		`{budget: 5s}`:                                                "budget: 5s is out of range; want 1m to 24h",
		`{stages: [{hosts: all, checks: [{look: x}]}]}`:               "say gate: true as well",
		`{stages: [{hosts: all, gate: true, checks: [{in: phone}]}]}`: "check 1: look: is empty",
	} {
		spec, err := Parse("c", []byte("title: t\nreason: r\nservice: s\nwhere: 'true'\ncount: 1\nedits: [{set: a, to: 1}]\nladder: "+text+"\n"))
		got := ""
		if err != nil {
			got = err.Error()
		} else if p, err := spec.Policy(); err != nil {
			got = err.Error()
		} else {
			encoded, _ := json.Marshal(p)
			got = string(encoded)
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s: %s; want %s", text, got, want)
		}
	}
}
