package definition

import (
	"strings"
	"testing"
	"time"
)

const draining = `
service: pages
title: Bulletin pages
where: labels.role == "bulletin"
unit: nginx.service
files: {main: {format: nginx, paths: {any: /etc/nginx/nginx.conf}}}
acts:
  - {name: reload, command: [systemctl, reload, nginx.service], serves: true}
  - {name: restart, command: [systemctl, restart, nginx.service]}
  - {name: boot, reboots: true}
drain:
  command: [pages-out]
  until: {ask: port 8080, expect: size(listeners) == 0}
  readmit: [pages-in]
`

// TestDrainIsChecked reads how a service gets out of the way, and what of it makes no sense.
func TestDrainIsChecked(t *testing.T) {
	s, err := Parse("pages.yaml", []byte(draining))
	if err != nil {
		t.Fatal(err)
	}
	if d := s.Drain; time.Duration(d.Within) != time.Minute || d.Until.Name == "" || !s.Acts[0].Serves || s.Acts[s.Heaviest()].Name != "restart" || time.Duration(s.Acts[2].Timeout) != 10*time.Minute {
		t.Errorf("read as %+v, %+v", d, s.Acts)
	}
	for _, c := range []struct{ was, is, want string }{
		{"  readmit: [pages-in]\n", "", "want readmit beside command"},
		{"  command: [pages-out]\n", "", "want readmit beside command"},
		{"command: [pages-out]\n  until: {ask: port 8080, expect: size(listeners) == 0}\n  readmit: [pages-in]", "within: 5s", "wants a command that takes the service out of the way, or something to wait for"},
		{"command: [pages-out]", `command: [""]`, "a command is empty"},
		{"  readmit:", "  within: 2h\n  readmit:", "within: 2h0m0s; want a time from 1s to 1h"},
		{"expect: size", "before: size(listeners) > 0, after: size", "nothing of how it was earlier"},
		{"port 8080, expect: size(listeners) == 0", "command open, expect: exit == 0", `command "open" is not one of commands`},
		{"reboots: true", "reboots: true, command: [reboot]", "needs no command"},
		{"reboots: true", "reboots: true, serves: true", "nothing serves meanwhile"},
		{"  - {name: reload", "  - {name: soon, reboots: true}\n  - {name: reload", "put it behind them"},
	} {
		if !strings.Contains(draining, c.was) {
			t.Fatalf("%q does not exist", c.was)
		}
		if _, err := Parse("pages.yaml", []byte(strings.Replace(draining, c.was, c.is, 1))); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("with %q: %v; want %q", c.is, err, c.want)
		}
	}
}
