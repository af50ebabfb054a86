package lab

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// typed is a command of the page, with who types it and what it is to print.
type typed struct {
	who, command, want string
	line               int
}

// commandsOf reads the blocks of a page: a fence "sh WHO" holds commands, one a line but for what a
// here-document holds, and a fence "text" behind it what the last one prints.
func commandsOf(t *testing.T, page string) (all []typed) {
	var open string // the fence that is open, empty where none
	var text []string
	begun := 0
	for n, line := range strings.Split(page, "\n") {
		fence, isFence := strings.CutPrefix(line, "```")
		switch {
		case !isFence && open != "":
			text = append(text, line)
		case isFence && open == "":
			open, text, begun = fence+" ", nil, n+2
		case isFence:
			who, isCommands := strings.CutPrefix(strings.TrimSpace(open), "sh ")
			for i := 0; isCommands && i < len(text); i++ {
				c := typed{who: who, command: text[i], line: begun + i}
				if _, end, has := strings.Cut(text[i], "<<'"); has {
					for end = strings.TrimSuffix(end, "'"); i+1 < len(text) && text[i] != end; i++ {
						c.command += "\n" + text[i+1]
					}
					c.command += "\n"
				}
				all = append(all, c)
			}
			if strings.TrimSpace(open) == "text" && len(all) > 0 {
				all[len(all)-1].want = strings.Join(text, "\n")
			}
			open = ""
		}
	}
	if open != "" {
		t.Fatalf("the fence of line %d does not end", begun-1)
	}
	return all
}

// shows tells whether what was printed is what the page shows: "…" stands for anything in its line,
// a line of it for any lines.
func shows(printed, want string) bool {
	pattern := "(?m)^"
	for i, line := range strings.Split(strings.TrimRight(want, "\n"), "\n") {
		if i > 0 {
			pattern += "\n"
		}
		if line == "…" {
			pattern += `(?:.*\n)*?.*`
			continue
		}
		parts := strings.Split(line, "…")
		for k := range parts {
			parts[k] = regexp.QuoteMeta(parts[k])
		}
		pattern += strings.Join(parts, ".*") + " *"
	}
	return regexp.MustCompile(pattern).MatchString(printed)
}

// What people type where a command asks for it.
var (
	firstPasswords = map[string]string{"ada": "spring tide at seven", "ben": "the weir is open again", "ines": "first of all change me", "oda": "then change me as well"}
	ownPasswords   = map[string]string{"ines": "a gauge below the bridge", "oda": "nine barges and a raft"}
)

// asked gives what somebody types behind a command that asks.
func asked(c typed) string {
	words := strings.Fields(c.command)
	last := words[len(words)-1]
	switch {
	case strings.Contains(c.command, "wladderd first-admin"), strings.HasPrefix(c.command, "wladder account-add"), strings.HasPrefix(c.command, "wladder sign-in"):
		return firstPasswords[last] + "\n"
	case c.command == "wladder password":
		return firstPasswords[c.who] + "\n" + ownPasswords[c.who] + "\n"
	}
	return ""
}

var digestPrinted = regexp.MustCompile(`digest ([0-9a-f]{12})`)

// TestInsideFirstHour does what docs/first-hour.md says, command by command, from the package to a
// change on three other hosts and back.
func TestInsideFirstHour(t *testing.T) {
	needInside(t)
	t.Parallel()
	const server = 201
	numbers := []int{server, 202, 203, 204}
	boot(t, numbers...)
	// What the page says that one needs: hosts that run nginx, by name, and root's way to them.
	names := ""
	for i, n := range numbers[1:] {
		names += fmt.Sprintf("10.77.0.%d bulletin-%d\n", n+2, i+1)
		on(t, n, "systemctl start nginx")
	}
	copied(t, server, filepath.Join(os.Getenv("WLADDER_LAB"), "id"), "/root/.ssh/id_ed25519", "600")
	copied(t, server, os.Getenv("LAB_PACKAGE"), "/root/"+filepath.Base(os.Getenv("LAB_PACKAGE")), "644")
	on(t, server, "cat >>/etc/hosts <<'END'\n"+names+"END\nprintf 'StrictHostKeyChecking accept-new\n' >/root/.ssh/config")

	page, err := os.ReadFile("../docs/first-hour.md")
	must(t, "the page", err)
	all := commandsOf(t, string(page))
	begun, digest := time.Now(), ""
	edits, people := 0, map[string]bool{}
	for _, c := range all {
		command := strings.ReplaceAll(c.command, "DIGEST", digest)
		if strings.Contains(command, "<<'") {
			edits++
		}
		people[c.who] = true
		on(t, server, "cat >/tmp/typed <<'END OF WHAT IS TYPED'\n"+command+"\nEND OF WHAT IS TYPED\nchmod 755 /tmp/typed")
		run := "cd /root && sh -eu /tmp/typed"
		if c.who != "root" {
			run = "runuser -l " + c.who + " -c 'sh -eu /tmp/typed'"
		}
		out, err := tryWith(server, asked(c), run)
		if err != nil {
			t.Fatalf("docs/first-hour.md:%d: %s: %s: %v\n%s", c.line, c.who, command, err, out)
		}
		t.Logf("%s$ %s\n%s", c.who, command, out)
		if c.want != "" && !shows(out, c.want) {
			t.Errorf("docs/first-hour.md:%d: %s prints\n%s\nthe page says\n%s", c.line, command, out, c.want)
		}
		if found := digestPrinted.FindStringSubmatch(out); found != nil {
			digest = found[1]
		}
	}
	took := time.Since(begun)
	t.Logf("%d commands of %d people, %d of them files to write, %d decisions, in %.0f s", len(all), len(people), edits, strings.Count(string(page), "**Decide:**"), took.Seconds())
	if took > 10*time.Minute {
		t.Errorf("it takes %s; want 10 minutes at most", took)
	}
	for _, n := range numbers[1:] {
		if out := on(t, n, "nginx -T 2>/dev/null | grep worker_connections"); strings.TrimSpace(out) != "worker_connections 768;" {
			t.Errorf("afterwards h%d has %s", n, out)
		}
	}
}

// copied puts a file onto a host.
func copied(t *testing.T, n int, from, to, mode string) {
	t.Helper()
	file, err := os.Open(from)
	must(t, from, err)
	defer file.Close()
	cmd := shell(n, "cat >"+to+" && chmod "+mode+" "+to)
	cmd.Stdin = file
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", to, err, out)
	}
}

// fetched takes a file from a host.
func fetched(t *testing.T, n int, from, to string) {
	t.Helper()
	file, err := os.Create(to)
	must(t, to, err)
	defer file.Close()
	cmd := shell(n, "cat "+from)
	cmd.Stdout = file
	must(t, from, cmd.Run())
}

// tryWith is try with standard input.
func tryWith(n int, stdin, line string) (string, error) {
	cmd := shell(n, line)
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// shell is a shell line on a host, from outside the product.
func shell(n int, line string) *exec.Cmd {
	return exec.Command("ssh", "-i", filepath.Join(os.Getenv("WLADDER_LAB"), "id"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR",
		"-o", "ConnectTimeout=3", "-o", "KexAlgorithms=curve25519-sha256", fmt.Sprintf("root@10.77.0.%d", n+2), line)
}
