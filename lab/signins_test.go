package lab

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wladder/bundled"
	"wladder/core/ladder"
)

// signedIn tells whether somebody comes in with their key.
func signedIn(n int, user string) bool {
	return exec.Command("ssh", "-i", filepath.Join(os.Getenv("WLADDER_LAB"), "id"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-o", "BatchMode=yes",
		"-o", "ConnectTimeout=3", "-o", "KexAlgorithms=curve25519-sha256", fmt.Sprintf("%s@10.77.0.%d", user, n+2), "true").Run() == nil
}

// TestInsideSignIns has changes keep people out who have signed in, and ourselves.
func TestInsideSignIns(t *testing.T) {
	needInside(t)
	t.Parallel()
	const n = 126
	r := newRig(t, []int{n})
	source, _ := bundled.Source("openssh")
	r.define(strings.Replace(string(source), `labels.login == "openssh"`, `labels.role == "bulletin"`, 1))
	r.on(n, `for user in kim tam pia; do useradd -m -s /bin/sh $user; done
for user in kim tam; do install -d -m 700 -o $user -g $user /home/$user/.ssh && install -m 600 -o $user -g $user /root/.ssh/authorized_keys /home/$user/.ssh/authorized_keys; done
echo pia:drift-Ice | chpasswd
groupadd office && usermod -aG office op && usermod -aG office root && usermod -aG office kim
cat >/srv/sshd <<'END'
#!/usr/bin/perl
use IO::Socket::UNIX;
use Socket;
my $log = IO::Socket::UNIX->new(Type => SOCK_DGRAM, Peer => "/dev/log") or die;
$log->send("<38>sshd: Accepted password for $_ from 192.0.2.9 port 4711 ssh2") for @ARGV;
sleep 5; # until the journal has seen whose lines they are
END
chmod 755 /srv/sshd && /srv/sshd pia gone '$(touch'`)
	for _, user := range []string{"kim", "tam"} {
		if !signedIn(n, user) {
			t.Fatalf("%s cannot sign in at first", user)
		}
	}
	for i, c := range []struct{ edits, locksOut, want, not string }{
		{"{file: main, set: AllowGroups, to: [office]}", "", "sign-in-lost people who have signed in of late could not any more: pia (AllowGroups names no group of theirs); tam (AllowGroups names no group of theirs). Where", "own-way-in"},
		{"{file: main, set: AllowGroups, to: [office]}", "[tam]", "sign-in-lost people who have signed in of late could not any more: pia (AllowGroups names no group of theirs). Where", "tam (Allow"},
		{"{file: main, set: AllowGroups, to: [office]}", "[tam, pia]", "locked-out as the change has it, these can sign in no more: pia, tam", "sign-in-lost"},
		{"{file: main, set: AllowUsers, to: [kim, tam, pia, root]}", "", "own-way-in our own login op could not sign in with its key any more: AllowUsers does not name them", "sign-in-lost"},
		{"{file: main, set: AllowUsers, to: [kim, tam, pia, root]}", "[op]", "own-way-in", "sign-in-lost"},
		{"{file: main, set: PasswordAuthentication, to: 'no'}", "", "pia (no way is left: they came by password)", "kim"},
		{"{file: main, set: PubkeyAuthentication, to: 'no'}", "", "own-way-in", "pia"},
		{"{file: main, set: MaxAuthTries, to: 5}", "", "", "sign-in"},
		{"{file: main, insert: \"Match User tam\\n    PubkeyAuthentication no\\n\", into: ''}", "", "sign-ins-later", "sign-in-lost"},
	} {
		if !*every && i%3 != 0 { // three of them in the short run
			continue
		}
		rest := ""
		if c.locksOut != "" {
			rest = "locks-out: " + c.locksOut
		}
		d, id := r.draft("openssh", "  ["+c.edits+"]", rest)
		said := ""
		for _, g := range d.Rehearsal.Groups {
			for _, f := range g.Findings {
				said += f.Code + " " + f.Text + "\n"
			}
		}
		if !strings.Contains(said, c.want) || strings.Contains(said, c.not) {
			t.Errorf("%s %s:\n%s\nwant %q, and not %q", c.edits, c.locksOut, said, c.want, c.not)
		}
		if strings.Contains(c.want, "later") {
			d = r.climb(id)
			r.wants(d, n, ladder.PassedOver, "tam (no way is left: they came by publickey)")
		}
	}
	_, id := r.draft("openssh", "  [{file: main, set: AllowGroups, to: [office]}]", "locks-out: [tam, pia]")
	r.wants(r.climb(id), n, ladder.Done, "")
	if !signedIn(n, "kim") || signedIn(n, "tam") {
		t.Errorf("kim comes in: %v, tam: %v", signedIn(n, "kim"), signedIn(n, "tam"))
	}
}
