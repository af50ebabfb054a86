package conf

import (
	"bufio"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"hash/fnv"
	"html"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

var every = flag.Bool("every", false, "search all files of this machine, the laboratory's hosts and more packages, not a sample")

// morePackages have configuration that a checker of their own judges.
const morePackages = "dnsmasq keepalived proftpd-core lighttpd isc-dhcp-server ntpsec fail2ban collectd-core mosquitto varnish stunnel4 libstrongswan freeradius-config exim4-config opendkim cups-daemon syslog-ng-core nftables snmpd krb5-config sssd-common lvm2 corosync icinga2-common nagios4-common tinyproxy privoxy tor coturn knot nsd pdns-server bird2 frr kea-dhcp4-server avahi-daemon sudo auditd libvirt-daemon-system rspamd"

// machine says for each reader, once a line names a file, what it reads there: pairs of a
// path and a value, as JSON.
const machine = `
import sys, json, tomllib, yaml, configparser, xml.etree.ElementTree as tree
def leaves(x, at=''):
    if isinstance(x, dict):
        for k, v in x.items(): yield from leaves(v, at + '/' + str(k))
    elif isinstance(x, (list, tuple)):
        for i, v in enumerate(x): yield from leaves(v, at + '/%d' % i)
    else: yield at, str(x)
def element(e, at=''):
    at += '/' + e.tag
    for k, v in e.attrib.items(): yield at + '/@' + k, v
    if (e.text or '').strip(): yield at, e.text.strip()
    for c in e: yield from element(c, at)
def ini(path):
    c = configparser.RawConfigParser(default_section='none of them', strict=False, allow_no_value=True, delimiters=('=', ':'), comment_prefixes=('#', ';'), empty_lines_in_values=False)
    c.optionxform = str
    with open(path) as f: c.read_string('[/]\n' + f.read())
    for s in c.sections():
        for k, v in c.items(s): yield s + '/' + k, 'nothing' if v is None else v
readers = {
    'json': lambda p: leaves(json.load(open(p))), 'toml': lambda p: leaves(tomllib.load(open(p, 'rb'))),
    'yaml': lambda p: leaves(list(yaml.safe_load_all(open(p)))), 'ini': ini, 'xml': lambda p: element(tree.parse(p).getroot()),
}
for line in sys.stdin:
    kind, path = line.rstrip('\n').split('\t')
    try: print(json.dumps({'read': [list(x) for x in readers[kind](path)]}))
    except Exception as e: print(json.dumps({'error': str(e)}))
    sys.stdout.flush()
`

// phpMachine is the same for php.
const phpMachine = `while (($line = fgets(STDIN)) !== false) {
	$read = @parse_ini_string("[/]\n" . file_get_contents(rtrim($line, "\n")), true, INI_SCANNER_NORMAL);
	if ($read === false) { echo json_encode(["error" => "does not parse"]), "\n"; continue; }
	$all = [];
	foreach ($read as $s => $in) foreach ((array)$in as $k => $v) foreach ((array)$v as $i => $x) $all[] = [bin2hex("$s/$k/$i"), bin2hex((string)$x)];
	echo json_encode(["read" => $all]), "\n";
}`

// reader is an independent one of a format, which gives what it reads as a list of
// texts, each of which ends in a value.
type reader func(path string, s Setting) ([]string, error)

// kept is a reader that goes on running.
func kept(t *testing.T, line func(path string) string, name string, args ...string) reader {
	if _, err := exec.LookPath(name); err != nil {
		return nil
	}
	cmd := exec.Command(name, args...)
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close(); cmd.Wait() })
	lines := bufio.NewReaderSize(out, 1<<20)
	return func(path string, _ Setting) ([]string, error) {
		fmt.Fprintln(in, line(path))
		text, err := lines.ReadString('\n')
		if err != nil {
			return nil, err
		}
		var said struct {
			Read  [][2]string
			Error string
		}
		if err := json.Unmarshal([]byte(text), &said); err != nil {
			return nil, fmt.Errorf("%v: %.200s", err, text)
		}
		if said.Error != "" {
			return nil, fmt.Errorf("%s", said.Error)
		}
		all := make([]string, len(said.Read))
		for i, one := range said.Read {
			if name == "php" {
				for k := range one {
					fmt.Sscanf(one[k], "%x", &one[k])
				}
			}
			all[i] = one[0] + " = " + one[1]
		}
		return all, nil
	}
}

// asked is a reader that is run anew, and says lines; pick gives those that count.
func asked(pick *regexp.Regexp, command func(path string, s Setting) *exec.Cmd) reader {
	return func(path string, s Setting) ([]string, error) {
		cmd := command(path, s)
		cmd.WaitDelay = time.Second
		ends := time.AfterFunc(20*time.Second, func() { cmd.Process.Kill() })
		defer ends.Stop()
		if _, err := exec.LookPath(cmd.Path); err != nil {
			return nil, err
		}
		out, err := cmd.CombinedOutput()
		if err != nil {
			return nil, fmt.Errorf("%v: %.200s", err, out)
		}
		var all []string
		for line := range strings.Lines(string(out)) {
			if line = strings.TrimSpace(line); pick == nil || pick.MatchString(line) {
				all = append(all, line)
			}
		}
		return all, nil
	}
}

func readersOf(t *testing.T, dir string) map[Format]reader {
	all := map[Format]reader{}
	for _, f := range []Format{JSON, TOML, YAML, INI, XML} {
		all[f] = kept(t, func(path string) string { return string(f) + "\t" + path }, "/usr/bin/python3", "-c", machine)
	}
	all[PHP] = kept(t, func(path string) string { return path }, "php", "-n", "-r", phpMachine)
	all[Pairs] = asked(nil, func(path string, s Setting) *exec.Cmd {
		cmd := exec.Command("/bin/sh", "-c", `. "$1"; for name in $(sed -n 's/^\(export \)\{0,1\}\([A-Za-z_][A-Za-z0-9_]*\)=.*/\2/p' "$1" | sort -u); do eval "printf '%s = %s\n' $name \"\$$name\""; done`, "ask", path)
		cmd.Env = []string{"PATH=/usr/bin:/bin"}
		return cmd
	})
	all[MySQL] = asked(nil, func(path string, s Setting) *exec.Cmd {
		a, _ := ParseAddress(s.Address)
		return exec.Command("my_print_defaults", "--defaults-file="+path, a[0].Name)
	})
	all[Sysctl] = asked(regexp.MustCompile(` = `), func(path string, s Setting) *exec.Cmd {
		return exec.Command("/sbin/sysctl", "--dry-run", "-e", "-p", path)
	})
	all[SSHD] = asked(nil, func(path string, s Setting) *exec.Cmd {
		return exec.Command("/usr/sbin/sshd", "-T", "-f", path, "-h", filepath.Join(dir, "host_key"))
	})
	all[SSH] = asked(nil, func(path string, s Setting) *exec.Cmd { return exec.Command("/usr/bin/ssh", "-G", "-F", path, "gauge") })
	all[Samba] = asked(regexp.MustCompile(` = `), func(path string, s Setting) *exec.Cmd { return exec.Command("/usr/bin/testparm", "-s", path) })
	all[Named] = asked(nil, func(path string, s Setting) *exec.Cmd { return exec.Command("/usr/bin/named-checkconf", "-p", path) })
	all[Squid] = asked(regexp.MustCompile(`Processing: `), func(path string, s Setting) *exec.Cmd {
		return exec.Command("/bin/sh", "-c", `/usr/sbin/squid -k parse -f "$1" 2>&1 | sed 's/^[^|]*| //'`, "ask", path)
	})
	all[Postfix] = asked(nil, func(path string, s Setting) *exec.Cmd {
		return exec.Command("/bin/sh", "-c", `mkdir -p "$2/pf" && cp "$1" "$2/pf/main.cf" && touch "$2/pf/master.cf" && /usr/sbin/postconf -c "$2/pf" -n`, "ask", path, dir)
	})
	all[Blocks] = asked(nil, func(path string, s Setting) *exec.Cmd { return exec.Command("/usr/bin/apt-config", "-c", path, "dump") })
	return all
}

// another is a value of the same kind, not the same.
func another(value string, seed uint32) (text string, ok bool) {
	opposite := map[string]string{"yes": "no", "no": "yes", "on": "off", "off": "on", "true": "false", "false": "true", "1": "0", "0": "1"}
	if o, ok := opposite[value]; ok {
		return o, true
	}
	if k := len(value) - 1; k > 1 && value[0] == '"' && value[k] == '"' && !strings.ContainsAny(value[1:k], "\"\\$`%&|~\n") {
		return value[:k] + strconv.Itoa(int(seed%90)+10) + `"`, true
	}
	number := regexp.MustCompile(`[0-9]+`).FindStringIndex(value)
	if word := regexp.MustCompile(`^[0-9]{1,9}[a-zA-Z]?$`); word.MatchString(value) {
		n, _ := strconv.Atoi(value[:number[1]])
		return strconv.Itoa(n+1+int(seed%7)) + value[number[1]:], true
	}
	if regexp.MustCompile(`[A-Za-z]$`).MatchString(value) && !strings.ContainsAny(value, "\n\\$`&|~") {
		return value + strconv.Itoa(int(seed%90)+10), true
	}
	return "", false
}

// scripts would be run by their reader.
func plainAssignments(d *Document) bool {
	for i := range d.nodes {
		if d.nodes[i].kind == opaque || strings.ContainsAny(d.text(d.nodes[i].value), "`$") && i > 0 {
			return false
		}
	}
	return d.variant
}

// TestSurprises searches real files for what nobody expects: each setting that is
// listed, set to itself, changes nothing; set to another value of its kind, it is read
// so by a reader of somebody else's, which sees no other difference; what is refused
// leaves the bytes; and a guessed format is the one that testdata/guesses names for the
// file.
func TestSurprises(t *testing.T) {
	t.Parallel()
	roots := []string{stockFiles(t, stockPackages)}
	if *every {
		roots = append(roots, stockFiles(t, morePackages), "/")
		if cache, err := os.UserCacheDir(); err == nil {
			hosts, _ := filepath.Glob(filepath.Join(cache, "wladder-lab", "root-*"))
			roots = append(roots, hosts...)
		}
	}
	dir, err := os.MkdirTemp("", "surprises-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o755)
	exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "host_key")).Run()
	readers := readersOf(t, dir)
	judges := guessesOf(t)
	type count struct{ files, listed, itself, set, read, unread, judged int }
	counts := map[Format]*count{}
	unguessed, wrong := 0, 0
	var unread []string
	var refused []string
	seen := map[string]bool{}
	for _, root := range roots {
		filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
			name := "/" + strings.TrimPrefix(strings.TrimPrefix(path, root), "/")
			switch {
			case err != nil:
				return nil
			case entry.IsDir() && skipped.MatchString(name+"/"):
				return fs.SkipDir
			case !entry.Type().IsRegular() || !within.MatchString(name):
				return nil
			}
			data, err := os.ReadFile(path)
			if err != nil || seen[name+string(data)] || len(data) > 1<<20 || bytes.IndexByte(data, 0) >= 0 {
				return nil
			}
			seen[name+string(data)] = true
			f, err := Guess(name, data)
			if want, ok := judges(name); ok && f != want && f != "" {
				wrong++
				t.Errorf("%s is guessed to be %s; it is %q", name, f, want)
			} else if ok && f == want {
				if c := counts[f]; c != nil {
					c.judged++
				}
			}
			if err != nil {
				unguessed++
				return nil
			}
			doc, err := Parse(name, f, data)
			if err != nil {
				return nil
			}
			c := counts[f]
			if c == nil {
				c = &count{}
				counts[f] = c
			}
			c.files++
			read := readers[f]
			if len(data) > 64<<10 && f != Squid && f != PHP || f == Pairs && !plainAssignments(doc) || f == Blocks && !strings.Contains(name, "apt.conf") {
				read = nil
			}
			tried, brought := 0, 0
			tell := func(edited *Document, s Setting, value string) {
				if verdict := differs(t, dir, read, doc, edited, s, value); verdict == "" {
					c.read++
				} else {
					c.unread++
					unread = append(unread, fmt.Sprintf("%s:%d: %s %s: %q to %q: %s", name, s.Line, f, s.Address, s.Value, value, verdict))
				}
			}
			for i, s := range doc.Settings() {
				hash := fnv.New32()
				hash.Write([]byte(name + s.Address))
				seed := hash.Sum32()
				if s.CommentedOut { // brought to life
					value, ok := another(s.Value, seed)
					if edited, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(value)}); ok && err == nil && read != nil && f != Postfix && (brought < 3 || *every && brought < 25) {
						brought++
						tell(edited, s, value)
					}
					continue
				}
				if i > 200 {
					continue
				}
				c.listed++
				if same, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(s.Value)}); err != nil && strings.Contains(err.Error(), "not well-formed XML") {
					refused = append(refused, err.Error())
					break
				} else if err != nil || same.src != doc.src {
					t.Errorf("%s:%d: %s = %q, set to itself: %v", name, s.Line, s.Address, s.Value, err)
				}
				c.itself++
				value, ok := another(s.Value, seed)
				if !ok {
					continue
				}
				edited, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(value)})
				if string(doc.data) != string(data) {
					t.Fatalf("%s: the bytes changed", name)
				}
				if err != nil {
					continue
				}
				if got, _, ok := edited.Get(s.Address); ok && got != value {
					t.Errorf("%s:%d: %s = %q reads %q", name, s.Line, s.Address, value, got)
				}
				c.set++
				if read == nil || !*every && tried >= 10 || tried >= 30 || (tried >= 8 || !*every && tried >= 2) && (f == Postfix || f == Squid) { // which look for the machine's name, for seconds
					continue
				}
				tried++
				tell(edited, s, value)
			}
			return nil
		})
	}
	total := count{}
	for _, f := range Formats {
		if c := counts[f]; c != nil {
			t.Logf("%-11s %4d files, %3d of them guessed as was written down; %5d settings set to themselves, %5d to another value; %4d read so by another reader, %3d not asked or not told", f, c.files, c.judged, c.itself, c.set, c.read, c.unread)
			total.files, total.set, total.read, total.itself = total.files+c.files, total.set+c.set, total.read+c.read, total.itself+c.itself
		}
	}
	t.Logf("%d files listed, %d not guessed, %d guessed wrongly; %d settings set to themselves, %d to another value, %d of them read so by another reader", total.files, unguessed, wrong, total.itself, total.set, total.read)
	t.Logf("refused as a whole:\n%s", strings.Join(refused, "\n"))
	slices.Sort(unread)
	t.Logf("not told by the other reader:\n%s", strings.Join(unread, "\n"))
	if total.read < 100 {
		t.Errorf("only %d settings were read by another reader", total.read)
	}
}

var (
	within  = regexp.MustCompile(`^/(etc|usr/lib/systemd|usr/lib/(sysctl|tmpfiles|modprobe)\.d|usr/share/(nginx|mysql|postgresql|samba|dovecot|postfix|tomcat10|openssh|squid|php|chrony|unbound)|lib/systemd)/`)
	skipped = regexp.MustCompile(`^/(proc|sys|dev|run|tmp|var|root|home|work|boot|usr/(bin|sbin|src|include|local|games|share/(doc|man|locale|perl|python3|icons|fonts|zoneinfo|i18n|mime|X11|info|gtk-doc|javascript|nodejs|chromium|help)))/|/(node_modules|ssl|alternatives|rc[0-9S].d|terminfo|xml-core|init\.d)/`)
)

// untouched is what readers say of files as they are.
var untouched = map[*Document]struct {
	lines  []string
	unread string
}{}

// differs holds what the reader says before an edit and after it against each other:
// "" where one text more has the new value, and one less the old, and else nothing.
func differs(t *testing.T, dir string, read reader, before, after *Document, s Setting, value string) string {
	path := filepath.Join(dir, "asked"+filepath.Ext(s.File))
	ask := func(d *Document) ([]string, error) {
		if err := os.WriteFile(path, d.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		return read(path, s)
	}
	was, ok := untouched[before]
	if !ok {
		var err error
		if was.lines, err = ask(before); err != nil {
			was.unread = "the stock file is not read: " + err.Error()
		}
		untouched[before] = was
	}
	if was.unread != "" {
		return was.unread
	}
	is, err := ask(after)
	if err != nil {
		return "the value is not taken: " + err.Error()
	}
	gone, come := missing(was.lines, is), missing(is, was.lines)
	value = strings.ToLower(value)
	plain := strings.Trim(html.UnescapeString(value), `"'`)
	if s.doc.Format == PHP { // which tells switches as 1 and nothing
		plain = map[string]string{"on": "1", "yes": "1", "true": "1", "off": "", "no": "", "false": ""}[plain] + strings.Trim(plain, "onyestrufa")
	}
	if own := oneWord(string(s.doc.Format), "sshd ssh samba yaml"); own { // which tell values in their own way
		a := mustAddress(t, s.Address)
		name := strings.ToLower(a[len(a)-1].Name)
		for _, line := range come {
			if line = strings.ToLower(line); strings.Contains(line, name) && !strings.Contains(line, plain) {
				return fmt.Sprintf("told otherwise: %q", line)
			}
		}
	}
	for _, line := range come {
		if line == "serveraliveinterval 300" && strings.HasSuffix(s.Address, "BatchMode") {
			continue // Debian's ssh_config(5): that goes with it
		}
		if !strings.Contains(strings.ToLower(line), plain) {
			t.Errorf("%s:%d: %s = %q: the other reader reads %q anew, and no more %q", s.File, s.Line, s.Address, value, come, gone)
			return "another difference"
		}
	}
	if len(come) > 1 || len(gone) > 1 {
		return fmt.Sprintf("more differs: %q, no more %q", come, gone)
	}
	if len(come) == 0 && len(gone) == 0 {
		return "no difference: another setting of that name counts, or the reader does not tell"
	}
	return ""
}

// missing gives the lines of a that b has not, each as often as it is missing.
func missing(a, b []string) (rest []string) {
	have := map[string]int{}
	for _, line := range b {
		have[line]++
	}
	for _, line := range a {
		if have[line]--; have[line] < 0 {
			rest = append(rest, line)
		}
	}
	return rest
}

// guessesOf reads what was written down of the formats of real files: a pattern of
// paths and a format, "-" for none, and the first that fits counts.
func guessesOf(t *testing.T) func(path string) (Format, bool) {
	text, err := os.ReadFile("testdata/guesses")
	if err != nil {
		t.Fatal(err)
	}
	type rule struct {
		pattern *regexp.Regexp
		format  Format
	}
	var rules []rule
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) != 2 || fields[0][0] == '#' {
			continue
		}
		f := Format(strings.TrimPrefix(fields[1], "-"))
		if f != "" && !f.Known() {
			t.Fatalf("testdata/guesses names %q", f)
		}
		rules = append(rules, rule{regexp.MustCompile("^" + fields[0] + "$"), f})
	}
	return func(path string) (Format, bool) {
		for _, r := range rules {
			if r.pattern.MatchString(path) {
				return r.format, true
			}
		}
		return "", false
	}
}
