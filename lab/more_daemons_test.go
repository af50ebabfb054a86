package lab

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/ladder"
)

// daemonCase is one change of one more daemon, and what must become of it.
type daemonCase struct {
	name, definition, edits string
	state                   ladder.RunState
	why                     string // where it is done, what the host must say
	asked                   string // on the host, afterwards
}

var daemonCases = []daemonCase{
	// Its checker takes a port that is taken already; reload answers 0, then all of the server dies.
	{"apache2", `
unit: apache2.service
files: {ports: {paths: {any: /etc/apache2/ports.conf}}}
trial: {command: [apache2ctl, -t], covers: [/run, /var/log/apache2]}
acts: [{name: reload, command: [systemctl, reload, apache2.service]}]
in-force: {ask: unit apache2.service, expect: state == "active"}
probes: [{name: page, ask: "http :80/", expect: status < 500}]
`, `  - {file: ports, replace: "Listen 80\n", with: "Listen 80\nListen 22\n"}`, ladder.Restored, "", ""},
	{"apache2", `
unit: apache2.service
files: {ports: {paths: {any: /etc/apache2/ports.conf}}}
trial: {command: [apache2ctl, -t], covers: [/run, /var/log/apache2]}
acts: [{name: reload, command: [systemctl, reload, apache2.service]}]
in-force: {ask: port 8081, expect: '"apache2" in users'}
`, `  - {file: ports, replace: "Listen 80\n", with: "Listen 80\nListen 8081\n"}`, ladder.Done, "", ""},
	// Restart answers 0 for a syntax error, and all logs fall silent: its checker sees it.
	{"rsyslog", `
unit: rsyslog.service
files: {extra: {paths: {any: /etc/rsyslog.d/50-lab.conf}}}
trial: {command: [rsyslogd, -N1], covers: [/run]}
acts: [{name: restart, command: [systemctl, restart, rsyslog.service]}]
`, `  - {put: extra, text: "if $programname == 'gauge' then {\n"}`, ladder.PassedOver, "refuses the candidate", ""},
	{"rsyslog", `
unit: rsyslog.service
files: {extra: {paths: {any: /etc/rsyslog.d/50-lab.conf}}}
trial: {command: [rsyslogd, -N1], covers: [/run]}
acts: [{name: restart, command: [systemctl, restart, rsyslog.service]}]
`, `  - {put: extra, text: "local5.* /var/log/gauge.log\n"}`, ladder.Done, "water", "logger -p local5.info water; sleep 1; cat /var/log/gauge.log"},
	// Dump and reload answer 0 for a certificate that does not exist; the journal tells.
	{"dovecot", `
unit: dovecot.service
files: {tls: {paths: {any: /etc/dovecot/conf.d/10-ssl.conf}}}
trial: {command: [doveconf, -n]}
acts: [{name: reload, command: [systemctl, reload, dovecot.service]}]
in-force: {ask: unit dovecot.service, expect: state == "active"}
logs: {severity: err, refuse: ['(?i)(fatal|error).*(ssl_cert|cert)']}
`, `  - {file: tls, replace: "ssl_cert = </etc/dovecot/private/dovecot.pem", with: "ssl_cert = </etc/dovecot/private/none.pem"}`, ladder.Restored, "", ""},
	{"redis", `
unit: redis-server.service
files: {main: {paths: {any: /etc/redis/redis.conf}}}
commands: {limit: {command: [redis-cli, config, get, maxmemory]}}
acts: [{name: restart, command: [systemctl, restart, redis-server.service]}]
in-force: {ask: command limit, expect: 'output.contains("67108864")'}
probes: [{name: answers, ask: command limit, expect: exit == 0}]
`, `  - {file: main, replace: "# maxmemory <bytes>", with: "maxmemory 64mb"}`, ladder.Done, "67108864", "redis-cli config get maxmemory"},
	{"unbound", `
unit: unbound.service
files: {extra: {paths: {any: /etc/unbound/unbound.conf.d/lab.conf}}}
trial: {command: [unbound-checkconf]}
acts: [{name: restart, command: [systemctl, restart, unbound.service]}]
in-force: {ask: port 5353 protocol=udp, expect: '"unbound" in users'}
`, `  - {put: extra, text: "server:\n    port: 5353\n"}`, ladder.Done, "", ""},
	{"haproxy", `
unit: haproxy.service
files: {main: {paths: {any: /etc/haproxy/haproxy.cfg}}}
trial: {command: [haproxy, -c, -q, -f, /etc/haproxy/haproxy.cfg], covers: [/run, /var/lib/haproxy]}
acts: [{name: reload, command: [systemctl, reload, haproxy.service]}, {name: restart, command: [systemctl, restart, haproxy.service]}]
in-force: {ask: port 8404, expect: '"haproxy" in users'}
`, `  - {file: main, replace: "defaults\n", with: "frontend lab\n\tbind :8404\n\tmode http\n\thttp-request return status 200\n\ndefaults\n"}`, ladder.Done, "", ""},
	{"postgresql", `
unit: postgresql@15-main.service
files: {extra: {paths: {any: /etc/postgresql/15/main/conf.d/lab.conf}, owner: postgres, group: postgres}}
commands: {memory: {command: [runuser, -u, postgres, --, psql, -tAc, "show work_mem"]}}
acts: [{name: reload, command: [systemctl, reload, postgresql@15-main.service]}, {name: restart, command: [systemctl, restart, postgresql@15-main.service]}]
in-force: {ask: command memory, expect: 'output.contains("8MB")'}
`, `  - {put: extra, text: "work_mem = 8MB\n"}`, ladder.Done, "8MB", "runuser -u postgres -- psql -tAc 'show work_mem'"},
}

// TestInsideMoreDaemons changes daemons that are known to fool who looks at exit
// statuses alone.
func TestInsideMoreDaemons(t *testing.T) {
	needInside(t)
	if !*every {
		t.Skip("in the long run")
	}
	t.Parallel()
	const n = 81
	r := newRig(t, []int{n})
	// The trust anchor would be fetched; rsyslog's socket wants it enabled.
	r.on(n, "rm -f /etc/unbound/unbound.conf.d/root-auto-trust-anchor-file.conf; systemctl enable -q rsyslog; systemctl start apache2 rsyslog dovecot redis-server haproxy postgresql unbound; for unit in apache2 rsyslog dovecot redis-server haproxy postgresql@15-main unbound; do systemctl is-active -q $unit || exit 1; done")
	for i, c := range daemonCases {
		service := fmt.Sprintf("%s-%d", c.name, i)
		r.define(fmt.Sprintf("service: %s\ntitle: %s\nwhere: labels.role == \"bulletin\"\nsettle: 4s\n%s", service, c.name, c.definition))
		unit := strings.Fields(strings.SplitAfter(c.definition, "unit: ")[1])[0]
		before := r.on(n, "systemctl is-active "+unit)
		_, id := r.draft(service, c.edits, "ladder: {soak: 2500ms}")
		d := r.climb(id)
		run := r.run(d, n)
		t.Logf("%-11s %-11s %s", c.name, run.State, run.Why)
		if c.state == ladder.Done {
			r.wants(d, n, c.state, "")
		} else {
			r.wants(d, n, c.state, c.why)
		}
		if after := r.on(n, "systemctl is-active "+unit); after != before {
			t.Errorf("%s was %sand is %s", unit, before, after)
		}
		if c.asked != "" {
			if out := r.on(n, c.asked); c.state == ladder.Done && !strings.Contains(out, c.why) {
				t.Errorf("%s says %q", c.name, out)
			}
		}
	}
}
