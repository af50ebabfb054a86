package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/view"
)

// jsonCalls calls every command once or more, in an order in which most of them go well: who, a colon,
// the call, and behind < what is typed.
const jsonCalls = `
ines: settings my.cnf
ines: retouch -set mysqld/port=3307 my.cnf
ines: retouch -set mysqld/port=3306 my.cnf
ines: sign-in ines < a long password
oda: sign-in oda < a long password
ada: sign-in ada < a long password
ben: sign-in ben < a long password
tam: sign-in tam < a long password
tam: sign-in -show
tam: sign-ins
tam: token -roles operator board
ines: hosts
ines: hosts -state no-key
ines: host bulletin-00001
ines: host bulletin-99999
tam: host -set-aside -because 'a new disk' -until {day} bulletin-00002
tam: host -back bulletin-00002
ada: hosts-load -check hosts.yaml
ada: hosts-load hosts.yaml
ines: hosts-load hosts.yaml
tam: survey -where 'name == "bulletin-00001"'
tam: ask -where 'name == "bulletin-00001"' 'unit nginx.service'
tam: compare -service pages -where 'name == "bulletin-00001"' events/worker_connections
ines: drift
ada: hosts-newer -where 'name == "bulletin-00001"'
ines: bundled
ines: bundled nginx
ada: services-load -check gauge.yaml
ada: services-load gauge.yaml
ben: services-approve -digest 000000000000 gauge
ben: services-approve -digest {digest} gauge
ines: services
ines: service gauge
ines: service nowhere
ada: services-withdraw -digest 000000000000 -because old gauge
ada: services-load gauge.yaml
ada: secret upload-token < tide-First_11
ines: secrets
ines: draft -service gauge -where true -count 3 -title Interval -reason r -set interval=20
ines: draft change.yaml
ines: draft broken.yaml
ines: form-load form.yaml
ines: forms
ines: changes
ines: changes -state climbing
ines: show 1
ines: show 99
ines: diff 1
ines: findings 1
oda: show 1
ines: findings 99
ines: acknowledge 1 nothing
ines: override -digest 000000000000 -host bulletin-00001 -finding x -because r 1
ines: share 1 max
ada: take-over -because 'ines is away' 2
ines: offer 1
ines: comment 1 'why so many'
ines: rehearse 99
oda: approve -digest 000000000000 1
ines: show 1
oda: approve -digest {digest} 1
oda: withdraw-approval -because r 1
oda: approve -digest {digest} 1
oda: review -because r 1
tam: leave-out -because r 1 bulletin-00001
tam: climb 1
tam: follow 1
tam: pause -because r 1
tam: resume -because r 1
tam: stop -because r 1
tam: roll-back -because r 1
tam: halt -because 'the river rises'
tam: halt -show
tam: halt -lift 1 -because 'the river falls'
tam: answer -check 1 -well 1
tam: again -because r 1 bulletin-00001
tam: give-up -because r 1 bulletin-00001
tam: overwrite -because r 1 bulletin-00001
tam: return -because r 1
ines: prolong -for 6h -because r 1
ines: counter -because r 1
ines: follow-up 1
ines: show 2
ada: withdraw -because r 2
oda: decline -because 'too many' 3
ada: services-withdraw -digest {gauge} -because old gauge
ines: record
ines: record -verify
ines: record -by nobody
ada: account-add -display Kit -roles author kit < tide and river and rain
ada: account -roles reviewer kit
ada: account -directory kit
ada: account-add kit < tide and river and rain
ines: accounts
ben: requests
ada: account -roles author,admin kit
ben: requests
ben: request 1
ben: request -refuse 1
ben: request 7
ines: policy
ada: policy-load policy.yaml
ada: policy-load broken.yaml
ada: receivers
ada: change-key
tam: trouble
tam: trouble restored
tam: trouble nothing
tam: reference soak
tam: version
tam: manual
tam: password < a long password|another long password of mine
tam: sign-out
`

// printedDigest is one in JSON, or in what was said.
var printedDigest = regexp.MustCompile(`digest"?:? "?([0-9a-f]{12,64})`)

// TestJSONOfEveryCommand calls each command with and without -json, beside each other on two servers:
// the exit status is the same, and what stands on the output is JSON.
func TestJSONOfEveryCommand(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"my.cnf": "[mysqld]\nport = 3306\n", "broken.yaml": "tilte: x\n", "policy.yaml": "approvals: [{needs: 1}]\n",
		"hosts.yaml":  "- {name: extra, address: '192.0.2.9:22', login: root, host_key: 'ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl'}\n",
		"gauge.yaml":  "service: gauge\ntitle: Gauge\nwhere: 'true'\nunit: gauge.service\nfiles: {main: {format: pairs, paths: {any: /etc/gauge}}}\nacts: [{name: none}]\n",
		"change.yaml": "title: t\nreason: r\nservice: gauge\nwhere: 'true'\ncount: 3\nedits: [{set: interval, to: 5}]\n",
		"form.yaml":   "form: interval\ntitle: Interval\nblanks: {seconds: {type: integer}}\nchange: {title: t, reason: r, service: gauge, where: 'true', count: 1, edits: [{set: interval, to: '{blank:seconds}'}]}\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Chdir(dir)
	servers := [2]string{}
	for i := range servers {
		url, st := serve(t)
		if err := st.AddAccount(t.Context(), "setup", view.Account{Name: "oda", Display: "Oda Marsh", Roles: []string{"reviewer"}}, "a long password"); err != nil {
			t.Fatal(err)
		}
		if err := st.AddAccount(t.Context(), "setup", view.Account{Name: "max", Display: "Max Weir", Roles: []string{"author"}}, "a long password"); err != nil {
			t.Fatal(err)
		}
		rehearsedOver(t, st, 20, "")
		servers[i] = url
	}
	known := map[string]string{"{day}": time.Now().AddDate(0, 0, 3).Format(time.DateOnly)}
	called, well, n := map[string]bool{}, map[string]bool{}, 0
	for line := range strings.Lines(jsonCalls) {
		who, call, ok := strings.Cut(strings.TrimSpace(line), ": ")
		if !ok {
			continue
		}
		call, input, _ := strings.Cut(call, " < ")
		input = strings.ReplaceAll(input, "|", "\n")
		args := words(call)
		called[args[0]] = true
		var status [2]int
		var out, errs [2]bytes.Buffer
		for i, url := range servers {
			args := slices.Clone(args)
			env := map[string]string{"XDG_CONFIG_HOME": filepath.Join(dir, who, []string{"plain", "json"}[i]), "WLADDER_SERVER": url}
			term := &terminal{out: &out[i], errs: &errs[i], in: strings.NewReader(input + "\n"), width: 80, getenv: func(name string) string { return env[name] }}
			for name, value := range known {
				for k := range args {
					args[k] = strings.ReplaceAll(args[k], name, value)
				}
			}
			status[i] = run(t.Context(), term, append(append([]string{}, args[0]), append([]string{[]string{"-json=false", "-json"}[i]}, args[1:]...)...))
		}
		if m := printedDigest.FindStringSubmatch(out[1].String()); m != nil {
			known["{digest}"] = m[1]
			if strings.Contains(call, "gauge.yaml") {
				known["{gauge}"] = m[1]
			}
		}
		n++
		well[args[0]] = well[args[0]] || status[0] == 0
		if status[0] != status[1] {
			t.Errorf("%s ends with %d, with -json with %d: %s, %s", call, status[0], status[1], errs[0].String(), errs[1].String())
		}
		decoder, values := json.NewDecoder(&out[1]), 0
		var err error
		for err == nil {
			var v any
			if err = decoder.Decode(&v); err == nil {
				values++
			}
		}
		if testing.Verbose() && status[0] != 0 {
			t.Logf("%s: %d %s", call, status[0], errs[0].String())
		}
		if err.Error() != "EOF" {
			t.Errorf("%s -json prints what is no JSON: %v", call, err)
		}
		if status[1] == 0 && values == 0 {
			t.Errorf("%s -json goes well and prints nothing", call)
		}
		if strings.Contains(out[0].String()+errs[0].String(), "\x1b") {
			t.Errorf("%s prints escapes into a pipe", call)
		}
	}
	for _, c := range commands() {
		if !called[c.name] {
			t.Errorf("%s is not called", c.name)
		}
	}
	missing := []string{}
	for name := range called {
		if !well[name] {
			missing = append(missing, name)
		}
	}
	if len(missing) > 22 { // those that want a climb or a real host; other tests call them
		t.Errorf("%d commands are never called well: %v", len(missing), missing)
	}
	t.Logf("%d calls of %d commands; never well: %v", n, len(called), missing)
}
