package lab

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wladder/bundled"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/view"
)

// bundledCase is one bundled definition on its real daemon: a good value that comes into
// force, one that is refused and never placed, and a bad one that is put back.
type bundledCase struct {
	name    string
	prepare string // on the host, before; the unit runs then
	good    string // edits
	asked   string // on the host, afterwards: its output holds want
	want    string
	refused string // edits, and what the veto says
	why     string
	bad     string // edits; none where a file alone cannot bring it down
	sample  bool   // it is tried in the short run as well
}

var bundledCases = []bundledCase{
	{name: "nginx", sample: true, prepare: "systemctl start nginx",
		good: "  - {file: main, set: events/worker_connections, to: 1024}", asked: "nginx -T 2>/dev/null | grep worker_connections", want: "1024",
		refused: "  - {file: main, set: http/no_such_directive, to: 1}", why: "unknown directive",
		bad: `  - {put: office, text: "server {\n    listen 22;\n}\n"}`},
	{name: "apache", prepare: "systemctl start apache2",
		good: "  - {file: main, set: Timeout, to: 120}", asked: "grep ^Timeout /etc/apache2/apache2.conf", want: "120",
		refused: "  - {file: main, set: NoSuchDirective, to: 1}", why: "Invalid command",
		bad: "  - {file: ports, insert: 'Listen 22', below: 'Listen[\"80\"]'}"},
	{name: "openssh", sample: true, prepare: "true",
		good: "  - {file: main, set: MaxAuthTries, to: 4}", asked: "sshd -T | grep maxauthtries", want: "maxauthtries 4",
		refused: "  - {file: main, set: PermitRootLogin, to: perhaps}", why: "want one of",
		bad: "  - {file: main, set: ListenAddress, to: 127.0.0.1}"},
	{name: "mariadb", prepare: "systemctl start mariadb",
		good: "  - {file: server, set: mysqld/table_open_cache, to: 1800}\n  - {file: server, set: mysqld/key_buffer_size, to: 24M}", asked: "mariadb -BNe 'select @@table_open_cache, @@key_buffer_size'", want: "1800\t25165824",
		refused: "  - {file: server, set: mysqld/no_such_variable, to: 1}", why: "unknown variable",
		bad: "  - {file: server, set: mysqld/max_connections, to: 90000}"}, // which it lowers without a word
	{name: "postgresql", prepare: "systemctl start postgresql",
		good: "  - {file: main, set: work_mem, to: 8MB}", asked: "runuser -u postgres -- psql -tAc 'show work_mem'", want: "8MB",
		refused: "  - {file: main, set: no_such_parameter, to: 1}", why: "no_such_parameter",
		bad: "  - {file: main, set: shared_buffers, to: 900GB}"},
	{name: "redis", prepare: "systemctl start redis-server",
		good: "  - {set: maxmemory, to: 64mb}\n  - {set: timeout, to: 90}", asked: "redis-cli config get maxmemory; redis-cli config get timeout", want: "67108864\ntimeout\n90",
		refused: "  - {set: maxmemory, to: lots}", why: "wrong type",
		bad: "  - {set: port, to: 22}"},
	{name: "dovecot", prepare: "systemctl start dovecot",
		good: "  - {file: tls, set: ssl_min_protocol, to: TLSv1.3}", asked: "doveconf ssl_min_protocol", want: "TLSv1.3",
		refused: "  - {file: tls, set: no_such_setting, to: 1}", why: "Unknown setting",
		bad: "  - {file: tls, set: ssl_dh, to: </etc/dovecot/private/none.pem}"},
	{name: "postfix", prepare: "postconf -e myhostname=lab.vellmere.example inet_protocols=ipv4; systemctl start postfix",
		good: "  - {file: main, set: message_size_limit, to: 20480000}", asked: "postconf -h message_size_limit", want: "20480000",
		refused: "  - {file: main, set: message_size_limit, to: many}", why: "wrong type",
		bad: "  - {file: main, set: inet_interfaces, to: 192.0.2.99}"},
	{name: "rsyslog", prepare: "systemctl enable -q rsyslog; systemctl start rsyslog; sleep 1",
		good: `  - {put: office, text: "local5.* /var/log/gauge.log\n"}`, asked: "logger -p local5.info water; sleep 1; cat /var/log/gauge.log", want: "water",
		refused: `  - {put: office, text: "local5.* /var/log/gauge.log\n$NoSuchThing on\n"}`, why: "refuses",
		bad: `  - {put: office, text: "if $msg contains 'wladder' then stop\n"}`},
	{name: "logrotate", prepare: "systemctl start logrotate.timer",
		good: "  - {file: main, set: rotate, to: 8}", asked: "logrotate -d /etc/logrotate.conf 2>&1 | grep -c '8 rotations'", want: "",
		refused: `  - {put: office, text: "/var/log/office.log {\n    no-such-directive\n}\n"}`, why: "refuses"},
	// The clock here is the machine's, which it must not set.
	{name: "chrony", prepare: `echo 'DAEMON_OPTS="-F 0 -x"' >/etc/default/chrony; mkdir /etc/systemd/system/chrony.service.d; printf '[Unit]\nConditionCapability=\n' >/etc/systemd/system/chrony.service.d/lab.conf; systemctl daemon-reload; systemctl start chrony`,
		good: "  - {file: main, set: maxupdateskew, to: 50}", asked: "grep ^maxupdateskew /etc/chrony/chrony.conf", want: "maxupdateskew 50",
		refused: `  - {put: office, text: "nosuchdirective 1\n"}`, why: "refuses",
		bad: `  - {put: office, text: "user nobody-at-all\n"}`},
	{name: "unbound", prepare: "rm -f /etc/unbound/unbound.conf.d/root-auto-trust-anchor-file.conf; systemctl start unbound",
		good: "  - {put: office, text: \"server:\\n    cache-max-ttl: 3600\\n\"}", asked: "unbound-checkconf -o cache-max-ttl", want: "3600",
		refused: `  - {put: office, text: "server:\n    no-such-thing: 1\n"}`, why: "refuses",
		bad: `  - {put: office, text: "server:\n    interface: 192.0.2.99\n"}`},
	{name: "bind", prepare: "systemctl start named",
		good: "  - {file: options, set: options/max-cache-size, to: 64M}", asked: "named-checkconf -p | grep max-cache-size", want: "max-cache-size 67108864",
		refused: "  - {file: options, set: options/no-such-option, to: \"yes\"}", why: "unknown option",
		bad: "  - {file: options, insert: 'managed-keys-directory \"/none\";', into: options}"},
	{name: "haproxy", prepare: "systemctl start haproxy",
		good: "  - {set: global/maxconn, to: 500, new-block: true}", asked: "grep -A20 ^global /etc/haproxy/haproxy.cfg", want: "maxconn 500",
		refused: "  - {set: global/no-such-keyword, to: 1}", why: "refuses",
		bad: `  - {insert: "frontend lab\n    bind :22\n    mode http\n", into: ""}`},
	{name: "php-fpm", prepare: "systemctl start php8.2-fpm",
		good: "  - {file: pool, set: www/pm.max_children, to: 8}", asked: "php-fpm8.2 -tt 2>&1 | grep pm.max_children", want: "= 8",
		refused: "  - {file: pool, set: www/pm, to: sometimes}", why: "want one of",
		bad: "  - {file: pool, set: www/listen, to: '127.0.0.1:22'}"},
	{name: "tomcat", prepare: "systemctl start tomcat10; for i in $(seq 100); do ss -Hltn 'sport = :8080' | grep -q . && break; sleep 0.3; done",
		good: "  - {file: server, set: 'Server/Service/Connector[@port=\"8080\"]/@acceptCount', to: 200}", asked: "grep -c 'acceptCount=\"200\"' /etc/tomcat10/server.xml", want: "1",
		refused: "  - {file: server, set: 'Server/Service/Connector[@port=\"8080\"]/@acceptCount', to: many}", why: "wrong type",
		bad: "  - {file: server, set: 'Server/Service/Connector[@port=\"8080\"]/@protocol', to: no.such.Protocol}"},
	// The kernel is the machine's: files stand for a few of its settings here.
	{name: "sysctl", prepare: "mkdir /run/ipv4; for name in tcp_fin_timeout tcp_keepalive_time; do cat /proc/sys/net/ipv4/$name >/run/ipv4/$name; done; mount --bind /run/ipv4 /proc/sys/net/ipv4; mkdir /etc/systemd/system/systemd-sysctl.service.d; printf '[Unit]\\nConditionPathIsReadWrite=\\n[Service]\\nExecStart=\\nExecStart=/bin/true\\n' >/etc/systemd/system/systemd-sysctl.service.d/lab.conf; systemctl daemon-reload; systemctl start systemd-sysctl",
		good: `  - {put: office, text: "net.ipv4.tcp_fin_timeout = 30\n"}`, asked: "sysctl -n net.ipv4.tcp_fin_timeout", want: "30",
		refused: `  - {put: office, text: "net.ipv4.tcp_fin_timeout = 9000\n"}`, why: "out of range",
		bad: `  - {put: office, text: "net.ipv4.no_such_key = 1\n"}`},
	{name: "unit", sample: true, prepare: `printf '[Service]\nExecStart=/bin/sleep infinity\nTimeoutStartSec=5\n[Install]\nWantedBy=multi-user.target\n' >/etc/systemd/system/office.service; systemctl daemon-reload; systemctl start office`,
		good: `  - {file: unit, set: Service/Restart, to: on-failure}`, asked: "systemctl show -p Restart office", want: "Restart=on-failure",
		refused: "  - {file: unit, set: Service/Restart, to: sometimes}", why: "want one of",
		bad: "  - {file: unit, set: Service/Type, to: notify}"},
	{name: "application", prepare: `mkdir -p /etc/office; printf '[office]\nlabel = weir\n' >/etc/office/office.ini; printf '[Service]\nExecStart=/bin/sh -c "grep -q weir /etc/office/office.ini && exec sleep infinity"\n' >/etc/systemd/system/office.service; systemctl daemon-reload; systemctl restart office`,
		good: "  - {set: office/level, to: 3}", asked: "cat /etc/office/office.ini", want: "level = 3",
		refused: "  - {set: office/level/deep, to: 3}", why: "",
		bad: "  - {set: office/label, to: moor}"},
}

// TestInsideBundled takes each bundled definition to its daemon.
func TestInsideBundled(t *testing.T) {
	needInside(t)
	t.Parallel()
	const n = 120
	r := newRig(t, []int{n})
	var tried []string
	for _, c := range bundledCases {
		tried = append(tried, c.name)
		if !c.sample && !*every {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			r := &rig{T: t, store: r.store, engine: r.engine, dialer: r.dialer, numbers: r.numbers, stop: r.stop}
			r.on(n, c.prepare)
			if c.name != "openssh" && c.name != "sysctl" { // ports are free for the next one
				source, _ := bundled.Source(c.name)
				unit := strings.Fields(strings.SplitN(string(source), "\nunit: ", 2)[1])[0]
				t.Cleanup(func() { try(n, "systemctl stop '"+strings.ReplaceAll(unit, "{instance}", "*")+"'") })
			}
			source, _ := bundled.Source(c.name)
			where := strings.SplitN(strings.SplitN(string(source), "\nwhere: ", 2)[1], "\n", 2)[0]
			r.define(strings.Replace(string(source), where, `labels.role == "bulletin"`, 1))
			const soak = "ladder: {soak: 2s}"
			files := func() string {
				return r.on(n, "find /etc -type f -not -name '*.swp' -not -path '/etc/postfix/*.db' -exec sha256sum {} + | sort -k2; find /etc -printf '%p %m %u %g %l\\n' | sort")
			}

			d, id := r.draft(c.name, c.good, soak)
			for _, g := range d.Rehearsal.Groups {
				for _, f := range g.Findings {
					if f.Level != finding.Note {
						t.Logf("good: %s %s: %s", f.Level, f.Code, f.Text)
					}
				}
			}
			d = r.climb(id)
			r.wants(d, n, ladder.Done, "")
			if run := r.run(d, n); run.Proof == ladder.ProofNone {
				t.Errorf("not proven")
			}
			if out := r.on(n, c.asked); !strings.Contains(out, c.want) {
				t.Errorf("asked, the host says %q; want %q", out, c.want)
			}

			before := files()
			d, id = r.draft(c.name, c.refused, soak)
			said := refusal(d)
			if said == "" { // its text is seen once it is approved
				d = r.climb(id)
				r.wants(d, n, ladder.PassedOver, "refuses")
				said = r.run(d, n).Why
			}
			if !strings.Contains(said, c.why) {
				t.Errorf("refused: %s; want %s", said, c.why)
			}
			if now := files(); now != before {
				t.Errorf("what was refused changed something:\n%s", difference(before, now))
			}
			if c.bad == "" {
				return
			}
			d, id = r.draft(c.name, c.bad, soak)
			if said := refusal(d); said != "" {
				t.Fatalf("bad, and refused already: %s", said)
			}
			d = r.climb(id)
			r.wants(d, n, ladder.Restored, "")
			t.Logf("bad: %s", r.run(d, n).Why)
			if now := files(); now != before {
				t.Errorf("not all is as before:\n%s", difference(before, now))
			}
			if out := r.on(n, c.asked); !strings.Contains(out, c.want) {
				t.Errorf("put back, the host says %q; want %q", out, c.want)
			}
		})
	}
	for _, name := range bundled.Names() {
		if !slices.Contains(tried, name) {
			t.Errorf("%s is not tried on its daemon", name)
		}
	}
}

// refusal gives the vetoes of a rehearsal.
func refusal(d *view.ChangeDetail) string {
	var all []string
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			if f.Level == finding.Veto {
				all = append(all, fmt.Sprintf("%s: %s", f.Code, f.Text))
			}
		}
	}
	return strings.Join(all, "; ")
}
