package conf

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
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
		{"an added block", Nginx, nil, []Edit{{Do: Set, Address: `http/map["$host $gauge"]/default`, To: Text("none")}}, 3, "default none;"},
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
		{"first wins", SSHD, func(s string) string { return "MaxSessions 4\n" + s + "\nMaxSessions 7\n" }, []Edit{{Do: Set, Address: "MaxSessions[1]", To: Text("5")}}, 1, "maxsessions 5"},
		{"no final line end", SSHD, func(s string) string { return strings.TrimRight(s, "\n") }, []Edit{{Do: Set, Address: "ClientAliveInterval", To: Text("30")}}, 1, "clientaliveinterval 30"},

		{"a commented default", MySQL, nil, []Edit{{Do: Set, Address: "mysqld/max_connections", To: Text("211")}}, 1, "max-connections 211"},
		{"- for _", MySQL, nil, []Edit{{Do: Set, Address: "mysqld/table-open-cache", To: Text("311")}}, 1, "table-open-cache 311"},
		{"a value that needs quoting", MySQL, nil, []Edit{{Do: Set, Address: "mysqld/init_connect", To: Text(`set @a='#x'`)}}, 1, "init-connect set @a='#x'"},
		{"last wins", MySQL, func(s string) string { return s + "\n[mysqld]\nmax_allowed_packet = 16M\n" }, []Edit{{Do: Set, Address: "mysqld[2]/max_allowed_packet", To: Text("32M")}}, 1, "max-allowed-packet 33554432"},
		{"another section leaves it alone", MySQL, nil, []Edit{{Do: Set, Address: "client/max_connections", To: Text("7")}}, 3, "max-connections 151"},
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
