package conf

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"
)

var update = flag.Bool("update", false, "write what is said into testdata; read the difference before you keep it")

// TestForce reads the cases in testdata/force: the files of one host, then what
// is to be said of their settings, or of a request.
func TestForce(t *testing.T) {
	const path = "testdata/force/cases"
	a, err := txtar.ParseFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var files []*Document
	cases := 0
	for i, f := range a.Files {
		kind, arg, _ := strings.Cut(f.Name, " ")
		switch kind {
		case "case":
			files = nil
		case "says", "asked":
			cases++
			set := &Files{Documents: files}
			if !strings.Contains(arg, "alone") {
				set.Known = func(string, bool) bool { return true }
			}
			all := set.Settings()
			if kind == "asked" {
				q := Request{}
				for _, w := range strings.Fields(arg) {
					name, value, _ := strings.Cut(w, "=")
					*map[string]*string{"host": &q.Host, "port": &q.Port, "path": &q.Path, "file": &q.File, "user": &q.User, "group": &q.Group, "address": &q.Address}[name] = value
				}
				if all, err = set.Governing(q); err != nil {
					all = []Setting{{Address: "error", Value: err.Error()}}
				}
			}
			var got strings.Builder
			for _, s := range all {
				if kind == "asked" || s.InForce != Won || s.Why != "" {
					fmt.Fprintf(&got, "%s:%d %s = %s: %s %s\n", s.File, s.Line, s.Address, s.Value, s.InForce, s.Why)
				}
			}
			said := strings.ReplaceAll(got.String(), " \n", "\n")
			a.Files[i].Data = []byte(said)
			if said != string(f.Data) && !*update {
				t.Errorf("%s, %s: got\n%swant\n%s", files[0].Name, f.Name, said, f.Data)
			}
		default:
			d, err := Parse(f.Name, GuessFormat(f.Name), f.Data)
			if err != nil {
				t.Fatal(err)
			}
			files = append(files, d)
		}
	}
	if *update {
		os.WriteFile(path, txtar.Format(a), 0o644)
	}
	if cases < 12 {
		t.Errorf("only %d cases were found", cases)
	}
}

// TestCompanions names what is read beside a file that includes nothing.
func TestCompanions(t *testing.T) {
	for file, want := range map[string]string{
		"/etc/systemd/system/intake.service":             "/etc/systemd/system/intake.service.d/*.conf",
		"/etc/systemd/system/intake.service.d/10-x.conf": "/usr/lib/systemd/system/intake.service",
		"/etc/systemd/journald.conf":                     "/etc/systemd/journald.conf.d/*.conf",
	} {
		if all := Companions(file, Systemd); !slices.Contains(all, want) {
			t.Errorf("%s: %s; want %s among them", file, all, want)
		}
	}
	if all := Companions("/etc/sysctl.d/10.conf", Sysctl); !slices.Contains(all, "/etc/sysctl.conf") {
		t.Errorf("sysctl: %s", all)
	}
	if all := Companions("/etc/nginx/nginx.conf", Nginx); all != nil {
		t.Errorf("nginx: %s", all)
	}
}

// TestUndecided says what a request leaves open, rather than guess.
func TestUndecided(t *testing.T) {
	for _, c := range []struct {
		format     Format
		text, want string
		q          Request
	}{
		{Nginx, "http { server { listen 80; location ~ (?!x)a { b 1; } } }", "x:1: this regular expression cannot be tried here", Request{Path: "/a"}},
		{Nginx, "http { server { listen 80; server_name ~^(?<=a)b$; } }", "cannot be tried here", Request{Host: "b"}},
		{Nginx, "http { server { listen 81; } }", "no server listens on port 80", Request{}},
		{SSHD, "Match User a\nB c\n", "depends on the user; say it", Request{Group: "g"}},
		{SSHD, "Match Exec true\nB c\n", "Exec is not known here", Request{User: "a"}},
		{Apache, "<LocationMatch (?!x)a>\nB c\n</LocationMatch>\n", "cannot be tried here", Request{Path: "/a"}},
		{INI, "a=1\n", "only nginx, apache and sshd", Request{}},
	} {
		_, err := (&Files{Documents: []*Document{must(t, c.format, c.text)}}).Governing(c.q)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %q: %v; want %q", c.format, c.text, err, c.want)
		}
	}
}
