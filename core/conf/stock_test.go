package conf

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// stockPackages are the Debian packages whose configuration files are read.
const stockPackages = "nginx-common apache2 openssh-server mariadb-server mariadb-common mysql-common php8.2-fpm php8.2-common php8.2-cli dovecot-core postfix redis-server unbound chrony haproxy bind9 rsyslog logrotate samba-common tomcat10 tomcat10-common postgresql-15 postgresql-common systemd squid squid-common procps"

// stockFiles unpacks the packages beneath a directory that is kept for the next
// run; nothing of them is installed.
func stockFiles(t *testing.T, packages string) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	root := filepath.Join(cache, fmt.Sprintf("wladder-stock-%.4x", sha256.Sum256([]byte(packages))))
	if _, err := os.Stat(root); err == nil {
		return root
	}
	if _, err := exec.LookPath("apt-get"); err != nil {
		t.Skip("SKIPPED: no apt-get here to get Debian's stock files with")
	}
	if err := os.MkdirAll(filepath.Dir(root), 0o755); err != nil {
		t.Skipf("SKIPPED: %v", err)
	}
	work, err := os.MkdirTemp(filepath.Dir(root), "wladder-stock-new-")
	if err != nil {
		t.Skipf("SKIPPED: %v", err)
	}
	defer os.RemoveAll(work)
	fetch := func(packages ...string) error {
		get := exec.Command("apt-get", append([]string{"download", "-q"}, packages...)...)
		get.Dir = work
		out, err := get.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%v: %.300s", err, out)
		}
		return nil
	}
	if err := fetch(strings.Fields(packages)...); err != nil {
		for _, one := range strings.Fields(packages) { // another release has some of them
			if err := fetch(one); err != nil {
				t.Logf("SKIPPED: %s: %v", one, err)
			}
		}
	}
	archives, _ := filepath.Glob(filepath.Join(work, "*.deb"))
	if len(archives) == 0 {
		t.Skip("SKIPPED: Debian's packages cannot be got here")
	}
	tree := filepath.Join(work, "tree")
	if err := os.Mkdir(tree, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, deb := range archives {
		if out, err := exec.Command("dpkg-deb", "-x", deb, tree).CombinedOutput(); err != nil {
			t.Skipf("SKIPPED: %v: %s", err, out)
		}
	}
	if err := os.Rename(tree, root); err != nil {
		t.Skipf("SKIPPED: %v", err)
	}
	return root
}

// TestStockFiles holds every configuration file of Debian's packages to what
// operators rely on: printed byte for byte; one value set changes its line and
// no other, and is listed at the same address; set back, the file is as before; set to
// what is there, nothing changes.
func TestStockFiles(t *testing.T) {
	root := stockFiles(t, stockPackages)
	type count struct{ files, settings, out, kept int }
	counts := map[Format]*count{}
	var refused []string
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		name := strings.TrimPrefix(path, root)
		if err != nil || !entry.Type().IsRegular() || strings.HasPrefix(name, "/usr/share/doc/") || strings.HasPrefix(name, "/etc/init.d/") {
			return err
		}
		format := GuessFormat(name)
		if format == "" {
			return nil
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return nil // not for us to read
		}
		doc, err := Parse(name, format, data)
		if err != nil {
			refused = append(refused, fmt.Sprintf("%s as %s: %v", name, format, err))
			return nil
		}
		if !bytes.Equal(doc.Bytes(), data) {
			t.Errorf("%s: is not printed byte for byte", name)
		}
		c := counts[format]
		if c == nil {
			c = &count{}
			counts[format] = c
		}
		c.files++
		c.kept += len(doc.Passed())
		n := 0
		for _, s := range doc.Settings() {
			if s.CommentedOut {
				c.out++
				continue
			}
			if same, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(s.Value)}); err != nil || same.src != doc.src {
				t.Errorf("%s:%d: %s = %q, set to itself: %v", name, s.Line, s.Address, s.Value, err)
			}
			if n++; n <= 50 && !thereAndBack(t, doc, s) {
				n = 1 << 20
			} else if n <= 50 {
				c.settings++
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	total := count{}
	for _, f := range Formats {
		if c := counts[f]; c != nil {
			t.Logf("%-11s %3d files, %4d settings changed and set back, %4d commented out, %2d stretches kept as they are", f, c.files, c.settings, c.out, c.kept)
			total.files += c.files
			total.settings += c.settings
		}
	}
	t.Logf("%d files printed byte for byte, %d settings changed and set back, %d files refused:\n%s", total.files, total.settings, len(refused), strings.Join(refused, "\n"))
	if total.files < 150 || len(refused) > 2 {
		t.Errorf("%d files were read and %d refused", total.files, len(refused))
	}
}

// emptied are stock settings that are empty behind their "=". Of them MySQL's
// come back as flags, without it.
var emptied = []string{"/usr/share/mysql/wsrep.cnf: mysqld/wsrep_notify_cmd"}

func thereAndBack(t *testing.T, doc *Document, s Setting) bool {
	fail := func(format string, args ...any) bool {
		t.Errorf("%s:%d: %s: %s", s.File, s.Line, s.Address, fmt.Sprintf(format, args...))
		return false
	}
	changed, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text("4711")})
	if err != nil {
		return fail("%v", err)
	}
	if v, line, ok := changed.Get(s.Address); strings.Trim(v, `"`) != "4711" || v != "4711" && doc.Format != Named && doc.Format != Unbound || line != s.Line || !ok {
		return fail("reads %q on line %d after set", v, line)
	}
	if !slices.ContainsFunc(changed.Settings(), func(x Setting) bool {
		return x.Address == s.Address && strings.Trim(x.Value, `"`) == "4711" && x.Line == s.Line && !x.CommentedOut
	}) {
		return fail("is not listed at the same address after set")
	}
	if a, b := strings.Split(doc.src, "\n"), strings.Split(changed.src, "\n"); !strings.Contains(doc.text(s.node.whole), "\n") {
		for i := range a {
			if i != s.Line-1 && (i >= len(b) || a[i] != b[i]) {
				return fail("set changed line %d", i+1)
			}
		}
	}
	back, err := changed.Apply(Edit{Do: Set, Address: s.Address, To: Text(s.Value)})
	if err != nil {
		return fail("set back to %q: %v", s.Value, err)
	}
	if v, _, _ := back.Get(s.Address); v == s.Value && doc.Format == Pairs && strings.ContainsAny(doc.text(s.node.value), "\\$") {
		return true // quotes around a part of a word, or lines that were joined, do not come back
	}
	if back.src != doc.src && !slices.Contains(emptied, s.File+": "+s.Address) {
		return fail("set back to %q does not give the file back", s.Value)
	}
	return true
}
