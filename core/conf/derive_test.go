package conf

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// said writes edits on a line each.
func said(edits []Edit) string {
	var all []string
	for _, e := range edits {
		text := string(e.Do) + " " + e.Address
		switch e.Do {
		case Set:
			text += "=" + e.To.Text
		case Insert:
			text = fmt.Sprintf("%s %s %q", e.Where, e.Address, e.Text)
		}
		all = append(all, text)
	}
	return strings.Join(all, "; ")
}

// TestDerive finds the edits behind a copy that a person edited by hand, and the
// words for what changed.
func TestDerive(t *testing.T) {
	for _, c := range []struct {
		format               Format
		before, after        string
		edits, words, refuse string
	}{
		{SSHD, "Port 22\n#UsePAM yes\nMaxAuthTries 6\n", "Port 2222\nUsePAM yes\n#MaxAuthTries 6\n",
			"set Port=2222; uncomment UsePAM; comment-out MaxAuthTries", "Port: 22 → 2222; UsePAM: no longer commented out, yes; MaxAuthTries: commented out, was 6", ""},
		{MySQL, "[mysqld]\nport = 1\nuser = a\n", "[mysqld]\nport = 1\n", "remove mysqld/user", "mysqld/user: removed, was a", ""},
		{Nginx, "http {\n    gzip on;\n}\n", "http {\n    gzip on;\n    # for the gauges\n    expires 1h;\n}\n",
			`below http/gzip "# for the gauges\nexpires 1h;"`, "http/expires: added, 1h", ""},
		{Nginx, "a 1;\nb 2;\n", "a 1;\n\n# new\nb 2;\n", `before b "\n# new"`, "only comments or spacing", "cannot be put as edits"},
		{Nginx, "http {\n  server {\n    listen 80;\n  }\n}\n", "http {\n  server {\n    listen 80;\n  }\n  server {\n    listen 81;\n  }\n}\n",
			`below http/server "server {\n  listen 81;\n}"`, "http/server[2]/listen: added, 81", ""},
		{INI, "[a]\nx = 1\ny = 2\nz = 3\n", "[a]\ny = 2\nz = 3\nx = 1\n", "", "a/x: moved within its block", ""},
		{XML, "<a>\n  <b c=\"1\"/>\n</a>\n", "<a>\n  <b c=\"2\" d=\"3\"/>\n</a>\n", "set a/b/@c=2; set a/b/@d=3", "a/b/@c: 1 → 2; a/b/@d: added, 3", ""},
		{YAML, "a:\n  b: 1\nc: 2\n", "a:\n  b: 1\n  d: x\nc: 3\n", "set a/d=x; set c=3", "a/d: added, x; c: 2 → 3", ""},
		{HAProxy, "backend a\n  server t1 x\nbackend b\n  server t1 x\n", "backend a\n  server t1 x\n  server t2 y\nbackend b\n  server t1 x\n",
			`set backend["a"]/server["t2"]=y`, `backend["a"]/server["t2"]: added, y`, ""},
	} {
		a, err := Parse("a", c.format, []byte(c.before))
		if err != nil {
			t.Fatal(err)
		}
		b, err := Parse("b", c.format, []byte(c.after))
		if err != nil {
			t.Fatal(err)
		}
		var words []string
		for _, x := range Compare(a, b) {
			words = append(words, x.Words())
		}
		if got := strings.Join(words, "; "); got != c.words {
			t.Errorf("%s: %q; want %q", c.format, got, c.words)
		}
		edits, err := Derive(a, b)
		if c.refuse != "" {
			if err == nil || !strings.Contains(err.Error(), c.refuse) {
				t.Errorf("%s: %s, %v; want %q", c.format, said(edits), err, c.refuse)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.format, err)
			continue
		}
		if got, err := a.Apply(edits...); err != nil || got.src != c.after {
			t.Errorf("%s: %s gives %q, %v", c.format, said(edits), got.src, err)
		}
		if c.edits != "" && said(edits) != c.edits {
			t.Errorf("%s: %s; want %s", c.format, said(edits), c.edits)
		}
	}
	if edits, err := Derive(must(t, Nginx, "a 1;"), must(t, Nginx, "a 1;")); err != nil || edits != nil {
		t.Errorf("no change: %v, %v", edits, err)
	}
	if _, err := Derive(must(t, Nginx, "a 1;"), must(t, SSHD, "a 1")); err == nil {
		t.Error("two formats are no copies of one file")
	}
}

func must(t *testing.T, format Format, text string) *Document {
	d, err := Parse("x", format, []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// TestDeriveFromCases takes every case of an edit as a copy edited by hand.
func TestDeriveFromCases(t *testing.T) {
	cases, _ := readCases(t)
	all, found := 0, 0
	for _, c := range cases {
		if c.kind != "after" {
			continue
		}
		all++
		a, b := must(t, Format(c.format), c.before), must(t, Format(c.format), c.want)
		edits, err := Derive(a, b)
		if err != nil {
			continue
		}
		found++
		if got, err := a.Apply(edits...); err != nil || got.src != b.src {
			t.Errorf("%s: %s: %s gives something else (%v)", c.format, c.title, said(edits), err)
		}
	}
	t.Logf("%d of %d edited copies were put as edits", found, all)
	if found*100 < all*90 {
		t.Errorf("only %d of %d", found, all)
	}
}

// TestEach repeats edits over a list; what an item holds stays data.
func TestEach(t *testing.T) {
	for _, c := range []struct {
		format       Format
		before, want string
		e            Edit
	}{
		{Dovecot, "a = 1\n", "a = 1\nnamespace levels {\n    prefix = levels/\n}\nnamespace rain {\n    prefix = rain/\n}\n",
			Edit{Do: Set, NewBlock: true, Address: `namespace["{each}"]/prefix`, To: Text("{each}/"), Each: []string{"levels", "rain"}}},
		{Nginx, "http {\n}\n", "http {\n    server {\n        server_name a.example;\n    }\n    server {\n        server_name \"b; evil on\";\n    }\n}\n",
			Edit{Do: Insert, Where: Into, Address: "http", Text: "server {\n    server_name {each};\n}", Each: []string{"a.example", "b; evil on"}}},
		{SSHD, "Port 22\n", "Port 22\n\"a b\" x\n", Edit{Do: Insert, Where: Into, Text: "{each} x", Each: []string{"a b"}}},
		{Apache, "A 1\n", "A 1\nAlias /a /srv/a\nAlias /b /srv/b\n", Edit{Do: Insert, Where: Into, Text: "Alias /{each} /srv/{each}", Each: []string{"a", "b"}}},
	} {
		got, err := must(t, c.format, c.before).Apply(c.e)
		if c.format == SSHD { // a quoted keyword is none
			if err == nil {
				t.Errorf("%s took %q", c.format, got.src)
			}
			continue
		}
		if err != nil || got.src != c.want {
			t.Errorf("%s: got %q, %v; want %q", c.format, got.src, err, c.want)
		}
	}
}

// TestGuess names formats by paths and contents.
func TestGuess(t *testing.T) {
	for path, want := range map[string]Format{
		"/etc/nginx/sites-enabled/tiles": Nginx, "site-nginx.conf": Nginx, "/etc/ssh/sshd_config.d/50.conf": SSHD, "x/my.cnf": MySQL, "/etc/systemd/system/a.service.d/x.conf": Systemd,
		"/etc/systemd/journald.conf": Systemd, "/etc/apache2/ports.conf": Apache, "/srv/.htaccess": Apache, "/etc/postgresql/15/main/postgresql.conf": PostgreSQL, "/etc/default/intake": Pairs,
		"conf/catalina.properties": Pairs, "/etc/sysctl.d/10.conf": Sysctl, "/etc/haproxy/haproxy.cfg": HAProxy, "/etc/redis/redis.conf": Redis, "server.xml": XML, "/etc/php/8.2/fpm/pool.d/www.conf": PHP,
		"/etc/php/8.2/cli/php.ini": PHP, "/etc/samba/smb.conf": Samba, "/etc/dovecot/conf.d/10-ssl.conf": Dovecot, "/etc/postfix/main.cf": Postfix, "/etc/bind/named.conf.options": Named,
		"/etc/unbound/unbound.conf.d/a.conf": Unbound, "/etc/chrony/chrony.conf": Chrony, "/etc/squid/squid.conf": Squid, "/etc/logrotate.d/nginx": Logrotate, "/etc/rsyslog.d/50.conf": Rsyslog,
		"/etc/ssh/ssh_config": SSH, "/home/ines/.ssh/config": SSH, "/etc/ssh/ssh_config.d/50.conf": SSH, "a.yml": YAML, "a.json": JSON, "a.toml": TOML, "setup.cfg": "", "/etc/cloud/cloud.cfg.d/05_logging.cfg": YAML, "/etc/nsswitch.conf": Blocks, "/etc/profile.d/x.sh": Pairs, "/etc/fail2ban/filter.d/nginx-x.conf": INI, "/etc/nginx/nginx.conf.gz": "", "notes.txt": "", "/etc/tmpfiles.d/named.conf": Keywords,
	} {
		if got := GuessFormat(path); got != want {
			t.Errorf("%s: %q; want %q", path, got, want)
		}
	}
	for text, want := range map[string]Format{"{\"a\": 1}": JSON, "<?xml version='1.0'?><a/>": XML, "[a]\nb=1\n": INI, "A=1\nB=2\n": Pairs, "some words\nof prose\n": "", "#!/bin/sh\nA=1\n": Pairs, "#!/usr/bin/perl\nA=1\n": "", "A=1\n\x00": ""} {
		if got, err := Guess("x", []byte(text)); got != want || (err == nil) != (want != "") {
			t.Errorf("%q: %q, %v; want %q", text, got, err, want)
		}
	}
	for _, c := range []struct{ path, text, want string }{ // a format, or what the refusal says
		{"/etc/nginx/nginx.conf", "# nothing yet\n", "nginx"},
		{"site-nginx.conf", "[a]\nb = 1\n", "the path speaks for nginx, the content against it: its lines do not end in ; or braces; the content looks like ini"},
		{"redis-levels.conf", "[levels]\nport = 1\n", "the path speaks for redis, the content against it: it has sections and pairs"},
		{"redis.conf", "{\"port\": 1}", "the content looks like json"},
		{"/etc/redis/users.conf", "server {\n  listen 1;\n}\n", "its lines end in ; or braces"},
		{"server.xml", "{\"a\": 1}", "the path speaks for xml, the content against it: it does not read so: line 1"},
		{"site-nginx.conf", "http {\n", "nginx"}, // malformed, and nothing else
		{"/etc/mysql/x.cnf", "port = 1\n", "it has no section"},
		{"/usr/share/dbus-1/system.conf", "<busconfig><a/></busconfig>", "the path speaks for systemd, the content against it: it begins as XML does; the content looks like xml"},
		{"/etc/apache2/conf-enabled/a.conf", "<Directory /srv>\n  Options None\n</Directory>\n", "apache"},
		{"x", "[a]\nb = \"1\"\n", "sections and pairs speak for ini, and quoted values for toml"},
		{"x", "a = 1\n", "lines with = speak for pairs or blocks"},
		{"x.conf", "a = 1\n", "blocks"},
		{"x", "a = 1\nb = 2\n", "blocks"},
		{"x", "a=1\nb=2\n", "blocks"}, // in capitals it would be a shell's
		{"relay.conf", "peer delta {\n  address 192.0.2.7\n  if = eth0\n}\n", "blocks"},
		{"relay.conf", "/* of the coast */\ninclude \"a.conf\"\n", "blocks"},
		{"sites-available/relay", "server {\n  listen 80;\n}\n", "nginx"},
		{"sites-available/relay", "server {\n  listen = 80\n  type auth\n}\n", "blocks"},
		{"hosts.cfg", "host {\n  name delta\n}\n", "blocks"},
		{"setup.cfg", "[a]\nb = 1\n", "ini"},
		{"relay.conf", "depth 3\nquiet\n", "keywords"},
		{"relay.conf", "depth 3\nquiet\n#name=x\n", "neither path nor content suggests a format: 2 lines of a name and words for keywords"},
		{"relay.conf", "#Depth 3\n#Peer delta\n#Name x\n", "keywords"},
		{"relay.conf", "#depth = 3\n# name = x\n#peer = y\n", "blocks"},
		{"relay.conf", "host: files\nname: x\n", "blocks"},
		{"relay.conf", "host: files\n  name: x\n", "lines with : speak for yaml or blocks"},
		{"relay.conf", "host:\n  name: x\n  banks:\n    - north\n", "yaml"},
		{"relay.conf", "Section \"weir\"\nDepth 3\nEndSection\n", "neither path nor content"},
		{"relay.conf", "interface weir\n    depth 3\n", "neither path nor content"},
		{"notes", "The depth is 3.\nThe name is x.\n", "neither path nor content"},
		{"relay.conf", "<Plugin x>\n  Depth 3\n</Plugin>\n<Plugin y>\n</Plugin>\n", "apache"},
		{"relay", "$depth = 3;\nsub x {\n  1;\n}\n", "neither path nor content"},
		{"etc/apparmor.d/relay", "profile relay {\n  /usr/bin/relay mr,\n}\n", "neither path nor content"},
		{"rules", "{ +block }\n.example\n", "neither path nor content"},
		{"user-data", "#cloud-config\npackages: [nginx]\n", "yaml"},
		{"a.pem", "-----BEGIN CERTIFICATE-----\nMIIB=\n-----END CERTIFICATE-----\n", "neither path nor content"},
		{"99.rules", "ACTION==\"add\", RUN=\"x\"\n", "neither path nor content"},
		{"levels.d/a", "<?xml version='1.0'?><a/>", "xml"},
		{"x.dtd", "<!-- none -->", "neither path nor content"},
		{"x.conf", "\x7fELF\x00", "is not text"},
	} {
		got, err := Guess(c.path, []byte(c.text))
		if said := fmt.Sprint(err); got != Format(c.want) && !(got == "" && strings.Contains(said, c.want)) {
			t.Errorf("%s, %q: %q, %v; want %s", c.path, c.text, got, err, c.want)
		}
	}
	root, _ := filepath.Glob("/etc/*.conf")
	for _, path := range root { // whatever is guessed of real files, it does not fail badly
		if data, err := os.ReadFile(path); err == nil {
			if f, _ := Guess(path, data); f != "" {
				if d, err := Parse(path, f, data); err == nil && d.src != string(data) {
					t.Errorf("%s is not printed as it is", path)
				}
			}
		}
	}
}

// TestCompareCountsAnew compares files in which blocks came, went and changed among others of their
// name: what nobody touched is not told of.
func TestCompareCountsAnew(t *testing.T) {
	connector := func(port int, more string) string { return fmt.Sprintf("    <Connector port=\"%d\"%s/>\n", port, more) }
	server := func(lines ...string) string {
		return "<Server>\n  <Service>\n" + strings.Join(lines, "") + "  </Service>\n</Server>\n"
	}
	one, two, three := connector(8080, ` protocol="HTTP/1.1"`), connector(8009, ` protocol="AJP/1.3"`), connector(8443, ` secure="true"`)
	at := "Server/Service/Connector"
	for _, c := range []struct{ before, after, words string }{
		{server(one, two), server(three, one, two), at + "[1]/@port: added, 8443; " + at + "[1]/@secure: added, true"},
		{server(one, two), server(one, three, two), at + "[2]/@port: added, 8443; " + at + "[2]/@secure: added, true"},
		{server(one), server(one, three), at + "[2]/@port: added, 8443; " + at + "[2]/@secure: added, true"},
		{server(one, two, three), server(two, three), at + "[1]/@port: removed, was 8080; " + at + "[1]/@protocol: removed, was HTTP/1.1"},
		{server(one, three), server(three), at + "[1]/@port: removed, was 8080; " + at + "[1]/@protocol: removed, was HTTP/1.1"},
		{server(one, two), server(three, one, connector(8010, ` protocol="AJP/1.3"`)), at + "[1]/@port: added, 8443; " + at + "[1]/@secure: added, true; " + at + "[3]/@port: 8009 → 8010"},
		{server(one, two), server(two, one), at + "[2]/@port: moved, was " + at + "[1]/@port; " + at + "[2]/@protocol: moved, was " + at + "[1]/@protocol"},
	} {
		a, err := Parse("a", XML, []byte(c.before))
		b, err2 := Parse("b", XML, []byte(c.after))
		if err != nil || err2 != nil {
			t.Fatal(err, err2)
		}
		var words []string
		for _, x := range Compare(a, b) {
			words = append(words, x.Words())
		}
		if got := strings.Join(words, "; "); got != c.words {
			t.Errorf("from\n%sto\n%s%s\nwant\n%s", c.before, c.after, got, c.words)
		}
	}
}

// TestCommentLost names what may have been a comment behind a value.
func TestCommentLost(t *testing.T) {
	for _, c := range []struct {
		format         Format
		old, new, want string
	}{
		{INI, "1 ; why", "2", "; why"}, {INI, "1 ; why", "2 ; why", ""}, {INI, "1\t# why", "2", "# why"}, {INI, "a#b", "c", ""}, {INI, "; x", "c", ""}, {PHP, "1 ; why", "2", ""},
	} {
		if got := (Alteration{Address: "a/x", Old: c.old, New: c.new, Kind: "changed"}).CommentLost(c.format); got != c.want {
			t.Errorf("%s: %q to %q loses %q; want %q", c.format, c.old, c.new, got, c.want)
		}
	}
}
