package conf

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// outside has, for each format, a file with one entry and one block, and an entry that
// is to go to the global part.
var outside = map[Format][2]string{
	SSHD:       {"Port 22\nMatch User relay\n    X11Forwarding no\n", "AllowUsers ines"},
	SSH:        {"Port 22\nHost relay\n    ForwardX11 no\n", "User ines"},
	INI:        {"a = 1\n[s]\nb = 2\n", "c = 3"},
	PHP:        {"pid = /run/a\n[www]\nuser = www\n", "error_log = /var/log/a"},
	Samba:      {"workgroup = A\n[charts]\npath = /srv\n", "server role = standalone"},
	TOML:       {"a = 1\n[s]\nb = 2\n", "c = 3"},
	Logrotate:  {"weekly\n/var/log/a {\n    rotate 4\n}\n", "compress"},
	Nginx:      {"user www;\nevents {\n    worker_connections 9;\n}\n", "worker_processes 2;"},
	Apache:     {"ServerSignature Off\n<Directory /srv>\n    Options None\n</Directory>\n", "ServerTokens Prod"},
	Dovecot:    {"ssl = yes\nservice auth {\n  user = a\n}\n", "protocols = imap"},
	Named:      {"include \"/etc/a\";\noptions {\n\trecursion no;\n};\n", "plugin query \"/usr/lib/a.so\";"},
	Rsyslog:    {"$umask 0022\nif $msg contains 'a' then {\n    stop\n}\n", "$FileOwner root"},
	PostgreSQL: {"port = 5432\n", "ssl = on"},
	Pairs:      {"A=1\n", "B=2"},
	Sysctl:     {"vm.swappiness = 1\n", "vm.dirty_ratio = 2"},
	Redis:      {"port 6379\n", "appendonly no"},
	Postfix:    {"myhostname = a\n", "inet_interfaces = all"},
	Chrony:     {"rtcsync\n", "makestep 1 3"},
	Squid:      {"http_port 3128\n", "cache_mem 64 MB"},
	Keywords:   {"a 1\n", "b 2"},
	Blocks:     {"a = 1\ns x {\n    b 2\n}\n", "c = 3"},
	YAML:       {"a: 1\ns:\n  b: 2\n", "c: 3"},
	JSON:       {"{\n  \"a\": 1,\n  \"s\": {\n    \"b\": 2\n  }\n}\n", "\"c\": 3"},
	MySQL:      {"[mysqld]\nuser = a\n", "port = 3306"},
	Systemd:    {"[Service]\nType=simple\n", "Restart=no"},
	HAProxy:    {"global\n    daemon\n", "maxconn 10"},
	Unbound:    {"server:\n    verbosity: 1\n", "port: 53"},
	XML:        {"<a>\n  <b>1</b>\n</a>\n", "<c>3</c>"},
}

// TestGlobalPart walks the page's table: where text goes that is put into the whole
// file, and that a set of an entry goes there, too.
func TestGlobalPart(t *testing.T) {
	page, err := os.ReadFile("../../docs/formats.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(page), "## The global part")
	rows := regexp.MustCompile(`(?m)^\| ([a-z, 0-9]+) \| (before the first|the end of the file|the end of the root|none).*\|$`).FindAllStringSubmatch(table, -1)
	seen := map[Format]bool{}
	for _, row := range rows {
		for name := range strings.SplitSeq(row[1], ", ") {
			format := Format(name)
			seen[format] = true
			text, entry := outside[format][0], outside[format][1]
			doc := must(t, format, text)
			first, rest, _ := strings.Cut(text, "\n")
			want := map[string]string{
				"before the first":    first + "\n" + entry + "\n" + rest,
				"the end of the file": text + entry + "\n",
				"the end of the root": strings.TrimSuffix(text, "\n}\n") + ",\n  " + entry + "\n}\n",
			}[row[2]]
			next, err := doc.Apply(Edit{Do: Insert, Where: Into, Text: entry})
			text = printed(next)
			switch {
			case row[2] == "none":
				if err == nil || !strings.Contains(err.Error(), "outside the sections; here stand ") && format != XML {
					t.Errorf("%s: %v; want a refusal that names the sections", format, err)
				}
				if _, err := doc.Apply(Edit{Do: Set, Address: "nowhere", To: Text("1")}); err == nil {
					t.Errorf("%s: an entry is made outside the sections", format)
				}
			case err != nil || next.src != want:
				t.Errorf("%s: %v, got %q; want %q", format, err, text, want)
			default: // the same as a set
				var set string
				for _, s := range next.Settings() {
					if _, _, there := doc.Get(s.Address); !there && format != Rsyslog { // behind the last of its kind
						set = s.Address
						if d, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(s.Value)}); err != nil || d.src != want {
							t.Errorf("%s: set %s = %s: %v, got %q; want %q", format, s.Address, s.Value, err, printed(d), want)
						} else if made := d.Made(); len(made) != 1 || made[0].Words() != "new entry outside all blocks: "+set {
							t.Errorf("%s: told %+v", format, made)
						}
					}
				}
				if set == "" && format != Rsyslog {
					t.Errorf("%s: nothing new is listed", format)
				}
			}
		}
	}
	for _, f := range Formats {
		if !seen[f] && f != Plain {
			t.Errorf("the page does not say where %s has its global part", f)
		}
	}
}

func printed(d *Document) string {
	if d == nil {
		return ""
	}
	return d.src
}
