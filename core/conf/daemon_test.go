package conf

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"
)

// TestDaemonsAgree edits Debian's stock files and asks the daemons themselves
// what they read.
func TestDaemonsAgree(t *testing.T) {
	hostKey := filepath.Join(t.TempDir(), "host_key")
	ask := map[Format]struct {
		stock string // the file as the package brings it
		dump  func(path string) *exec.Cmd
	}{
		Nginx: {"/etc/nginx/nginx.conf", func(path string) *exec.Cmd {
			return exec.Command("/usr/sbin/nginx", "-T", "-q", "-c", path, "-e", "stderr")
		}},
		SSHD: {"/usr/share/openssh/sshd_config", func(path string) *exec.Cmd {
			return exec.Command("/usr/sbin/sshd", "-T", "-f", path, "-h", hostKey, "-C", "user=relay,host=x,addr=192.0.2.7")
		}},
		MySQL: {"/etc/mysql/mariadb.conf.d/50-server.cnf", func(path string) *exec.Cmd {
			return exec.Command("/usr/sbin/mariadbd", "--defaults-file="+path, "--help", "--verbose")
		}},
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // sshd wants it even to be asked
		t.Logf("SKIPPED for sshd: %v", err)
		delete(ask, SSHD)
	}
	exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", hostKey).Run()
	words := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	for _, c := range []struct {
		name    string
		format  Format
		prepare func(string) string // of the stock text
		edits   []Edit
		lines   int    // that differ
		dump    string // a line of what the daemon then says, blanks folded
	}{
		{"a value", Nginx, nil, []Edit{{Do: Set, Address: "events/worker_connections", To: Text("1024")}}, 1, "worker_connections 1024;"},
		{"a commented default", Nginx, nil, []Edit{{Do: Set, Address: "http/server_tokens", To: Text("off")}}, 1, "server_tokens off;"},
		{"a value that needs quoting", Nginx, nil, []Edit{{Do: Set, Address: `http/add_header["X-Note"]`, To: Value{Words: []string{`a "b"; c #d {`}}}}, 1, `add_header X-Note "a \"b\"; c #d {";`},
		{"an added block", Nginx, nil, []Edit{{Do: Set, NewBlock: true, Address: `http/map["$host $gauge"]/default`, To: Text("none")}}, 3, "default none;"},
		{"the right one of two blocks", Nginx, func(s string) string {
			return strings.Replace(s, "http {", "http {\n\tserver { listen 127.0.0.1:18111; }\n\tserver { listen 127.0.0.1:18112; }", 1)
		}, []Edit{{Do: Set, Address: `http/server[listen="127.0.0.1:18112"]/listen`, To: Text("127.0.0.1:18113")}}, 1, "server { listen 127.0.0.1:18113; }"},
		{"CRLF", Nginx, func(s string) string { return strings.ReplaceAll(s, "\n", "\r\n") }, []Edit{{Do: Set, Address: "http/gzip", To: Text("off")}}, 1, "gzip off;"},

		{"a commented default", SSHD, nil, []Edit{{Do: Set, Address: "MaxAuthTries", To: Text("3")}}, 1, "maxauthtries 3"},
		{"before a Match", SSHD, func(s string) string { return s + "\nMatch User relay\n\tPasswordAuthentication no\n" },
			[]Edit{{Do: Set, Address: "MaxStartups", To: Text("5:30:60")}}, 1, "maxstartups 5:30:60"},
		{"within a Match", SSHD, func(s string) string { return s + "\nMatch User relay\n\tPasswordAuthentication no\n" },
			[]Edit{{Do: Set, Address: `Match["User relay"]/X11Forwarding`, To: Text("no")}}, 1, "x11forwarding no"},
		{"a value that needs quoting", SSHD, nil, []Edit{{Do: Set, Address: "Banner", To: Value{Words: []string{"/etc/two words"}}}}, 1, "banner /etc/two words"},
		{"text for all, in a file that ends in a Match", SSHD, func(s string) string { return s + "\nMatch User flood\n\tPasswordAuthentication no\n" },
			[]Edit{{Do: Insert, Where: Into, Text: "AllowUsers ines relay"}}, 1, "allowusers relay"},
		{"first wins", SSHD, func(s string) string { return "MaxSessions 4\n" + s + "\nMaxSessions 7\n" }, []Edit{{Do: Set, Address: "MaxSessions[1]", To: Text("5")}}, 1, "maxsessions 5"},
		{"no final line end", SSHD, func(s string) string { return strings.TrimRight(s, "\n") }, []Edit{{Do: Set, Address: "ClientAliveInterval", To: Text("30")}}, 1, "clientaliveinterval 30"},

		{"a commented default", MySQL, nil, []Edit{{Do: Set, Address: "mysqld/thread_cache_size", To: Text("11")}}, 1, "thread-cache-size 11"},
		{"- for _", MySQL, nil, []Edit{{Do: Set, Address: "mysqld/table-open-cache", To: Text("311")}}, 1, "table-open-cache 311"},
		{"a value that needs quoting", MySQL, nil, []Edit{{Do: Set, Address: "mysqld/init_connect", To: Text(`set @a='#x'`)}}, 1, "init-connect set @a='#x'"},
		{"last wins", MySQL, func(s string) string { return s + "\n[mysqld]\nmax_allowed_packet = 16M\n" }, []Edit{{Do: Set, Address: "mysqld[2]/max_allowed_packet", To: Text("32M")}}, 1, "max-allowed-packet 33554432"},
		{"a flag set again", MySQL, func(s string) string { return s + "\n[mysqld]\nskip-name-resolve\n" }, []Edit{{Do: Set, Address: "mysqld/skip-name-resolve", To: Text("")}}, 0, "skip-name-resolve TRUE"},
		{"a flag more", MySQL, nil, []Edit{{Do: Set, Address: "mysqld/skip-external-locking", To: Text("")}, {Do: Set, Address: "mysqld/skip-name-resolve", To: Text("")}}, 2, "skip-name-resolve TRUE"},
		{"another section leaves it alone", MySQL, nil, []Edit{{Do: Set, NewBlock: true, Address: "client/table_open_cache", To: Text("7")}}, 3, "table-open-cache 2000"},
	} {
		t.Run(string(c.format)+"/"+c.name, func(t *testing.T) {
			daemon, ok := ask[c.format]
			if !ok {
				t.Skip("SKIPPED: it cannot be asked here")
			}
			stock, err := os.ReadFile(daemon.stock)
			if err != nil {
				t.Skipf("SKIPPED: %v", err)
			}
			text := string(stock)
			if c.prepare != nil {
				text = c.prepare(text)
			}
			before, err := Parse("stock", c.format, []byte(text))
			if err != nil {
				t.Fatal(err)
			}
			after, err := before.Apply(c.edits...)
			if err != nil {
				t.Fatal(err)
			}
			if n := differing(text, string(after.Bytes())); n != c.lines {
				t.Errorf("%d lines differ; want %d:\n%s", n, c.lines, after.Bytes())
			}
			path := filepath.Join(t.TempDir(), "edited.cnf")
			// Asking nginx writes where the file says, and binds what its sites
			// listen on; let that be here, and nowhere.
			asked := strings.NewReplacer("/run/nginx.pid", path+".pid", "/var/log/nginx/", path+".", "include /etc/nginx/sites-enabled/*;", "").Replace(string(after.Bytes()))
			if err := os.WriteFile(path, []byte(asked), 0o644); err != nil {
				t.Fatal(err)
			}
			cmd := daemon.dump(path)
			if _, err := os.Stat(cmd.Path); err != nil {
				t.Skipf("SKIPPED: %v", err)
			}
			out, err := cmd.CombinedOutput()
			if err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			for _, line := range strings.Split(string(out), "\n") {
				if words(line) == words(c.dump) {
					return
				}
			}
			t.Errorf("%s does not say %q; it says\n%.3000s", filepath.Base(cmd.Path), c.dump, out)
		})
	}
}

// asking gives, per format, the command by which its program says what it reads
// in a file, in a directory of its own.
func asking(dir, path string) map[Format]*exec.Cmd {
	php, _ := filepath.Glob("/usr/sbin/php-fpm*")
	if len(php) == 0 {
		php = []string{"php-fpm"}
	}
	postgres, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(postgres) == 0 {
		postgres = []string{"postgres"}
	}
	shell := func(script string, args ...string) *exec.Cmd {
		return exec.Command("/bin/sh", append([]string{"-c", script, "ask", path}, args...)...)
	}
	return map[Format]*exec.Cmd{
		Apache:     exec.Command("/usr/sbin/apache2", "-t", "-f", path, "-D", "DUMP_RUN_CFG", "-D", "DUMP_VHOSTS"),
		PostgreSQL: shell(`mkdir -p "$3/data" && cp "$1" "$3/data/postgresql.conf" && chmod 755 "$3" && chmod 700 "$3/data" && chown -R postgres "$3/data" 2>/dev/null; run=; [ "$(id -u)" = 0 ] && run="setpriv --reuid=postgres --regid=postgres --clear-groups"; for name in max_worker_processes shared_buffers log_line_prefix work_mem shared_preload_libraries; do printf "%s=" $name; $run "$2" -C $name -D "$3/data" 2>/dev/null; done`, postgres[len(postgres)-1], dir),
		Pairs:      shell(`. "$1"; set | grep -e ^GAUGE -e ^MODE; printf '%s|' "$GAUGE_OPTS"`),
		Sysctl:     shell(`PATH=$PATH:/usr/sbin:/sbin sysctl --dry-run -p "$1"`),
		HAProxy:    exec.Command("/usr/sbin/haproxy", "-c", "-f", path),
		Redis: shell(`printf '\nport 0\nunixsocket %s/redis.sock\ndir %s\ndaemonize no\n' "$2" "$2" >>"$1"; redis-server "$1" >"$2/log" & server=$!
			for i in 1 2 3 4 5 6 7 8 9 10; do redis-cli -s "$2/redis.sock" PING >/dev/null 2>&1 && break; sleep 0.2; done
			for name in maxmemory save appendonly requirepass client-output-buffer-limit; do redis-cli -s "$2/redis.sock" -a "$(cat "$2/password" 2>/dev/null)" --no-auth-warning CONFIG GET $name | tr '\n' ' '; done; kill $server; wait $server`, dir),
		XML:       shell(`xmllint --noent --xpath '//@*|//text()' "$1"`),
		PHP:       shell(`if grep -q '^\[PHP\]' "$1"; then "$2" -n -c "$1" -i | grep -a ' => '; else "$2" -tt -y "$1"; fi`, php[0]),
		Samba:     exec.Command("/usr/bin/testparm", "-s", path),
		Dovecot:   exec.Command("/usr/bin/doveconf", "-n", "-c", path),
		Postfix:   shell(`mkdir -p "$2/pf" && cp "$1" "$2/pf/main.cf" && touch "$2/pf/master.cf" && postconf -c "$2/pf" -n; postconf -c "$2/pf" -M`, dir),
		Named:     exec.Command("/usr/bin/named-checkconf", "-p", path),
		Unbound:   shell(`unbound-checkconf "$1"; for name in num-threads identity interface; do printf '%s: ' $name; unbound-checkconf -o $name "$1" | tr '\n' ' '; done`),
		Chrony:    exec.Command("/usr/sbin/chronyd", "-p", "-f", path),
		Squid:     exec.Command("/usr/sbin/squid", "-k", "parse", "-f", path),
		Logrotate: exec.Command("/usr/sbin/logrotate", "-d", "-s", dir+"/state", path),
		Rsyslog:   exec.Command("/usr/sbin/rsyslogd", "-N1", "-f", path),
		Systemd:   shell(`cp "$1" "$2/gauge.service"; systemd-analyze verify "$2/gauge.service"`, dir),
		Blocks:    exec.Command("/usr/bin/apt-config", "-c", path, "dump"),
		Keywords:  exec.Command("/usr/bin/findmnt", "--tab-file", path, "-n", "-l", "-o", "SOURCE,TARGET,FSTYPE,OPTIONS"),
		SSH:       exec.Command("/usr/bin/ssh", "-G", "-F", path, "gauge"),
		INI:       exec.Command("/usr/bin/python3", "-c", "import configparser,sys\nc=configparser.ConfigParser(interpolation=None,allow_no_value=True);c.read(sys.argv[1])\nfor s in c.sections():\n  for k,v in c[s].items(): print(s,k,'=',v)", path),
		JSON:      exec.Command("/usr/bin/python3", "-c", "import json,sys;print(json.load(open(sys.argv[1])))", path),
		TOML:      exec.Command("/usr/bin/python3", "-c", "import tomllib,sys;print(tomllib.load(open(sys.argv[1],'rb')))", path),
		YAML:      exec.Command("/usr/bin/python3", "-c", "import yaml,sys;print(yaml.safe_load(open(sys.argv[1])))", path),
	}
}

// TestProgramsAgree edits small files and asks the programs that they are for.
// Where a program only judges, one value is made wrong on purpose: its complaint
// tells where it read it.
func TestProgramsAgree(t *testing.T) {
	t.Parallel()
	a, err := txtar.ParseFile("testdata/programs/cases")
	if err != nil {
		t.Fatal(err)
	}
	words := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	count := map[Format]int{}
	for i := 0; i+1 < len(a.Files); i += 2 {
		head, edits, _ := strings.Cut(a.Files[i].Name, ": ")
		name, title, _ := strings.Cut(head, " ")
		format := Format(name)
		before, want := string(a.Files[i].Data), a.Files[i+1]
		if strings.Contains(title, "CRLF") {
			before = strings.ReplaceAll(before, "\n", "\r\n")
		}
		if strings.Contains(title, "no final newline") {
			before = strings.TrimRight(before, "\n")
		}
		count[format]++
		t.Run(name+"/"+title, func(t *testing.T) {
			doc, err := Parse("before", format, []byte(before))
			if err == nil {
				doc, err = doc.Apply(parseEdits(t, edits)...)
			}
			if err != nil {
				t.Fatal(err)
			}
			dir, err := os.MkdirTemp("", "ask-") // its parents may be entered by others
			if err != nil {
				t.Fatal(err)
			}
			defer os.RemoveAll(dir)
			path := filepath.Join(dir, map[Format]string{JSON: "x.json", Postfix: "main.cf"}[format])
			if path == dir {
				path = filepath.Join(dir, "edited.conf")
			}
			if err := os.WriteFile(path, doc.Bytes(), 0o644); err != nil {
				t.Fatal(err)
			}
			if password, _, ok := doc.Get("requirepass"); ok && format == Redis {
				if words, clean := doc.split(password); clean {
					password = words[0].text
				}
				os.WriteFile(filepath.Join(dir, "password"), []byte(password), 0o600)
			}
			cmd := asking(dir, path)[format]
			if _, err := os.Stat(cmd.Path); err != nil {
				t.Skipf("SKIPPED: %s is not installed", filepath.Base(cmd.Path))
			}
			cmd.Dir = dir
			out, err := cmd.CombinedOutput()
			if strings.Contains(string(out), "No module named") || strings.Contains(string(out), "not found") && err != nil {
				t.Skipf("SKIPPED: %.200s", out)
			}
			for line := range strings.Lines(string(want.Data)) {
				line = strings.TrimSuffix(line, "\n")
				if _, ok := strings.CutPrefix(line, "not: "); ok == strings.Contains(words(string(out)), words(strings.TrimPrefix(line, "not: "))) {
					t.Errorf("%s: %q is wrong; it says (%v)\n%.4000s\nof\n%s", cmd.Path, line, err, out, doc.Bytes())
				}
			}
		})
	}
	for _, f := range Formats {
		if count[f] < 3 && f != Plain && f != Nginx && f != SSHD && f != MySQL { // those have a test of their own above
			t.Errorf("format %s has %d cases; want at least 3", f, count[f])
		}
	}
}

// differing counts the lines of b that a has not, or those gone from a where
// those are more.
func differing(a, b string) int {
	count := map[string]int{}
	for _, l := range strings.Split(a, "\n") {
		count[l]++
	}
	added, gone := 0, 0
	for _, l := range strings.Split(b, "\n") {
		count[l]--
	}
	for _, n := range count {
		added += max(0, -n)
		gone += max(0, n)
	}
	return max(added, gone)
}
