package definition

import (
	"testing"

	"wladder/core/conf"
	"wladder/core/probe"
)

// TestProofs says of values by what they are proven at work where the definition does not.
func TestProofs(t *testing.T) {
	s, err := Parse("d", []byte(`
service: all
title: All
where: "true"
unit: office.service
files:
  web: {format: nginx, paths: {any: /etc/web.conf}}
  kernel: {format: sysctl, paths: {any: /etc/sysctl.d/60.conf}}
  base: {format: mysql, paths: {any: /etc/mysql/office.cnf}}
  unit: {format: systemd, paths: {any: /etc/systemd/system/office.service}}
acts: [{name: restart, command: [systemctl, restart, office.service]}]
settings:
  - {address: http/server/listen, file: web, type: port}
  - {address: http/token, file: web, type: text, secret: true}
  - {address: http/certificate, file: web, type: certificate}
  - {address: own, file: web, type: port, in-force: {ask: unit office.service, expect: restarts == 0}}
`))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ file, address, value, ask string }{
		{"web", "http/server/listen", "8443", "port 8443 protocol=any"},
		{"web", "http/server/listen", "0", ""},
		{"web", "http/server/listen", "unix:/run/x", ""},
		{"web", "http/token", "4711", ""},
		{"web", "http/certificate", "/etc/ssl/new.pem", "served /etc/ssl/new.pem office.service"},
		{"web", "http/certificate", "new.pem", ""},
		{"web", "own", "8443", "unit office.service"},
		{"web", "other", "8443", ""},
		{"kernel", "net.ipv4.tcp_fin_timeout", "30", "file /proc/sys/net/ipv4/tcp_fin_timeout"},
		{"kernel", "net.ipv4.tcp_rmem", "4096 131072 6291456", ""},
		{"kernel", "kernel.core_pattern", "/x", ""},
		{"kernel", "net/ipv4/tcp_fin_timeout", "30", ""},
		{"base", "mysqld/max_connections", "500", "variable max_connections"},
		{"base", "mysqld/max-connections", "500", "variable max_connections"},
		{"base", "mysqld/innodb_buffer_pool_size", "134217728", ""},
		{"base", "mysqld/max_connections", "5k", ""},
		{"base", "client/port", "3306", ""},
		{"unit", "Service/Restart", "on-failure", "property office.service Restart"},
		{"unit", "Service/PrivateTmp", "true", "property office.service PrivateTmp"},
		{"unit", "Service/Environment", "A", ""},
		{"unit", "Service/RestartSec", "5", ""},
		{"unit", "Unit/Restart", "no", ""},
	} {
		a, err := conf.ParseAddress(c.address)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if check, _ := s.Proof(c.file, a, "/etc/ssl/old.pem", c.value); check != nil {
			got = check.Ask
			check.Name = "x"
			if err := check.Check(); err != nil {
				t.Errorf("%s %s: %v", c.address, c.value, err)
			}
		}
		if got != c.ask {
			t.Errorf("%s of %s at %s: %q, want %q", c.address, c.file, c.value, got, c.ask)
		}
	}
	entry, err := Parse("d", []byte(`
service: entry
title: Sign-in
where: "true"
unit: ssh.service
files: {main: {format: sshd, paths: {any: /etc/ssh/sshd_config}}}
trial: {command: [sshd, -t], dump: [/usr/sbin/sshd, -T]}
acts: [{name: restart, command: [systemctl, restart, ssh.service]}]
settings:
  - {address: MaxAuthTries, type: integer}
  - {address: X11Forwarding, type: switch}
  - {address: PermitRootLogin, type: choice, choices: ["no", prohibit-password]}
  - {address: LoginGraceTime, type: seconds, shown: "logingracetime {value}"}
  - {address: Match/MaxAuthTries, type: integer}
`))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range [][3]string{
		{"MaxAuthTries", "4", "maxauthtries 4"}, {"MaxAuthTries", "04", ""}, {"X11Forwarding", "no", "x11forwarding no"}, {"X11Forwarding", "off", ""}, {"PermitRootLogin", "no", "permitrootlogin no"},
		{"PermitRootLogin", "prohibit-password", ""}, {"LoginGraceTime", "60", "logingracetime 60"}, {`Match["User kim"]/MaxAuthTries`, "4", ""}, {"AllowUsers", "no", ""},
	} {
		if got := entry.ShownAs("main", c[0], c[1]); got != c[2] {
			t.Errorf("%s %s is shown as %q, want %q", c[0], c[1], got, c[2])
		}
	}
	a, _ := conf.ParseAddress("Service/PrivateTmp")
	proof, _ := s.Proof("unit", a, "false", "true")
	check := *proof
	check.Name, check.Value = "x", "true"
	for output, well := range map[string]bool{"yes\n": true, "no\n": false, "true": true} {
		if v := check.Judge(probe.Later, probe.Answer{OnHost: probe.OnHost{Output: output}}); v.Well != well {
			t.Errorf("%q: %+v", output, v)
		}
	}
}
