package conf

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
)

// benchUnits is a stretch of each format that is repeated to any size.
var benchUnits = []struct {
	format     Format
	head, unit string
	address    string // of a setting in it
}{
	{Nginx, "", "server {\n    listen 8080;\n    server_name n%d.vellmere.example;\n    location /tiles/ { # map\n        expires 1h;\n        add_header X-Build \"7\";\n    }\n}\n", `server[7]/location["/tiles/"]/expires`},
	{Named, "", "zone \"n%d.vellmere.example\" {\n\ttype primary;\n\tfile \"/etc/bind/db.gauges\";\n};\n", "zone[\"n7.vellmere.example\"]/file"},
	{SSHD, "", "#Port %d\nMaxAuthTries 6\nMatch User relay%d\n\tPasswordAuthentication no\n", `Match["User relay7"]/PasswordAuthentication`},
	{Systemd, "", "[Unit%d]\nDescription=Gauge intake\nExecStart=/usr/bin/intake --port 8470\n# why\nRestart=no\n", "Unit7/Restart"},
	{MySQL, "", "[mysqld%d]\nkey_buffer_size = 16M # small\n#table_open_cache = 100\nskip-name-resolve\n", "mysqld7/key_buffer_size"},
	{Apache, "", "<Directory \"/srv/charts/%d\">\n    Options Indexes FollowSymLinks\n    # open to all\n    Require all granted\n</Directory>\n", `Directory["/srv/charts/7"]/Options`},
	{PostgreSQL, "", "#work_mem%d = 4MB\t\t# min 64kB\nwork_mem_%d = 4MB # of each\nlog_line_prefix_%d = '%%m [%%p] '\n", "work_mem_7"},
	{Pairs, "", "# of the intake\nGAUGE_%d=\"--port 8470 --quiet\"\nexport MODE_%d=live\n", "GAUGE_7"},
	{HAProxy, "", "backend tiles%d\n    balance roundrobin\n    server t1 192.0.2.7:8080 check inter 2s\n    timeout server 30s # slow\n", `backend["tiles7"]/balance`},
	{Redis, "", "# maxmemory <bytes>\nmaxmemory-%d 512mb\nsave 900 1\n", "maxmemory-7"},
	{XML, "<Server>", "<Connector n=\"%d\" port=\"8080\"\n           protocol=\"HTTP/1.1\" maxThreads='150'/>\n<!-- <Valve a=\"1\"/> -->\n", "Server/Connector[7]/@maxThreads"},
	{Blocks, "", "peer delta%d {\n    address 192.0.2.7   # at the weir\n    name = \"north\"\n    #limit = 3\n}\n", `peer["delta7"]/name`},
	{Dovecot, "", "service login%d {\n  inet_listener imap {\n    port = 143\n  }\n  #process_min_avail = 0\n}\n", `service["login7"]`},
}

func benchText(head, unit string, size int) []byte {
	var b strings.Builder
	b.WriteString(head)
	for i := 1; b.Len() < size && unit != ""; i++ {
		b.WriteString(strings.ReplaceAll(strings.ReplaceAll(unit, "%d", fmt.Sprint(i)), "%%", "%"))
	}
	if name, ok := strings.CutPrefix(head, "<"); ok {
		b.WriteString("</" + name)
	}
	return []byte(b.String())
}

// BenchmarkParse reads and prints 1 MB of each format.
func BenchmarkParse(b *testing.B) {
	for _, c := range benchUnits {
		data := benchText(c.head, c.unit, 1<<20)
		b.Run(string(c.format), func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			b.ReportAllocs()
			for b.Loop() {
				d, err := Parse("x", c.format, data)
				if err != nil || len(d.Bytes()) != len(data) {
					b.Fatal(err)
				}
			}
		})
	}
}

// BenchmarkData reads the formats that packages have a part in.
func BenchmarkData(b *testing.B) {
	for _, c := range []struct {
		format     Format
		head, unit string
	}{
		{YAML, "gauges:\n", "  - name: g%d\n    limit: 3.5 # metres\n    tags: [river, low]\n"},
		{JSON, "", ""},
		{TOML, "", "[gauge%d]\nlimit = 3.5 # metres\ntags = [\"river\", \"low\"]\n"},
		{Rsyslog, "", "if $msg == '%d' then {\n\taction(type=\"omfile\" file=\"/var/log/x\")\n}\n"},
	} {
		data := benchText(c.head, c.unit, 100<<10)
		if c.format == JSON {
			data = []byte("[" + strings.Repeat("{\"name\": \"g\", \"limit\": 3.5, \"tags\": [\"river\", \"low\"]},\n", 1600) + "{}]")
		}
		b.Run(string(c.format), func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				if _, err := Parse("x", c.format, data); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// BenchmarkGrowth shows that time grows with the size, and how much memory the
// document takes for each byte of the file, the file included.
func BenchmarkGrowth(b *testing.B) {
	for _, c := range benchUnits[:3] {
		for _, size := range []int{10 << 10, 100 << 10, 1 << 20, 10 << 20} {
			data := benchText(c.head, c.unit, size)
			b.Run(fmt.Sprintf("%s/%dkB", c.format, size>>10), func(b *testing.B) {
				b.SetBytes(int64(len(data)))
				var before, after runtime.MemStats
				runtime.GC()
				runtime.ReadMemStats(&before)
				d, err := Parse("x", c.format, data)
				runtime.GC()
				runtime.ReadMemStats(&after)
				for b.Loop() {
					if d, err = Parse("x", c.format, data); err != nil {
						b.Fatal(err)
					}
				}
				b.ReportMetric(1+float64(after.HeapAlloc-before.HeapAlloc)/float64(len(data)), "times-the-file")
				runtime.KeepAlive(d)
			})
		}
	}
}

// BenchmarkSet makes one edit in a file of 5,000 lines.
func BenchmarkSet(b *testing.B) {
	for _, c := range benchUnits {
		if c.format == Dovecot {
			continue
		}
		lines := strings.Count(c.unit, "\n")
		data := benchText(c.head, c.unit, len(c.unit)*5000/lines)
		b.Run(fmt.Sprintf("%s/%dkB", c.format, len(data)>>10), func(b *testing.B) {
			d, err := Parse("x", c.format, data)
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				if _, err := d.Apply(Edit{Do: Set, Address: c.address, To: Text("on")}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
