package main

import (
	"bytes"
	"crypto/ed25519"
	"encoding/pem"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/view"
)

var (
	addresses = flag.Int("addresses", 4, "hosts of TestRealAddresses; docs/performance.md has what it printed for 200")
	alone     = flag.Bool("alone", false, "TestRealAddresses runs in a network of its own already")
)

const nginxService = `
service: pages
title: Pages
where: labels.role == "bulletin"
files: {main: {format: nginx, paths: {any: /etc/nginx/nginx.conf}}}
unit: nginx.service
trial: {command: [nginx, -t, -q], covers: [/run, /var/log/nginx, /var/lib/nginx]}
acts: [{name: reload, command: [systemctl, reload, nginx.service]}]
settings: [{address: events/worker_connections, type: integer, range: 64..65536}]
probes: [{name: unit, ask: unit nginx.service, expect: state != ""}]
`

// TestRealAddresses rehearses a change of stock nginx.conf on many addresses of
// one real OpenSSH server, nginx -t included, and then has OpenSSH's own client
// read the file and run nginx -t on each: what both cost on either side. It runs
// in a network of its own, where that server can listen on all addresses. Nothing
// is written: it rehearses only.
func TestRealAddresses(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("SKIPPED: it wants root, for a network of its own")
	}
	for _, path := range []string{"/usr/sbin/sshd", "/usr/bin/ssh", "/usr/sbin/nginx"} {
		if _, err := os.Stat(path); err != nil {
			t.Skipf("SKIPPED: %s does not exist", path)
		}
	}
	if !*alone {
		self, err := os.Executable()
		if err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("unshare", "--net", "sh", "-c", `ip link set lo up && mkdir -p /run/sshd && exec "$@"`, "sh",
			self, "-test.run", "^TestRealAddresses$", "-test.v", "-alone", "-addresses", fmt.Sprint(*addresses)).CombinedOutput()
		t.Logf("%s", out)
		if err != nil {
			t.Error(err)
		}
		return
	}
	if out, err := exec.Command("/usr/sbin/nginx", "-t").CombinedOutput(); err != nil { // where it runs, it has made its directories; a trial must not
		t.Fatalf("%v: %s", err, out)
	}
	w := newWorld(t, 101, 0)
	sshd, known, identity := w.openSSH()
	w.count = *addresses
	var load []view.Host
	for n := range *addresses {
		load = append(load, view.Host{Name: fmt.Sprintf("b%03d", n), Address: fmt.Sprintf("127.19.101.%d:2222", n+1), Login: "root", HostKey: known, Labels: map[string]string{"role": "bulletin"}})
	}
	ada, ines := w.as("ada"), w.as("ines")
	svc, err := ada.LoadService(t.Context(), []byte(strings.Replace(nginxService, "service: pages", "service: stock", 1)))
	if err == nil {
		_, err = ada.LoadHosts(t.Context(), load)
	}
	if err == nil {
		err = w.as("ben").ApproveService(t.Context(), "stock", svc.Digest)
	}
	var id int64
	if err == nil {
		id, err = ines.Draft(t.Context(), 0, fmt.Appendf(nil, "title: t\nreason: r\nservice: stock\nwhere: labels.role == \"bulletin\"\ncount: %d\nedits: [{set: events/worker_connections, to: 1024}]\n", *addresses))
	}
	if err != nil {
		t.Fatal(err)
	}
	rehearse := func() (server, hosts time.Duration) {
		s, h := usedBy(w.server.Process.Pid), usedBy(sshd)
		if err := ines.Rehearse(t.Context(), id); err != nil {
			t.Fatal(err)
		}
		d := w.untilEvery(time.Second, id, func(d view.ChangeDetail) bool { return d.Rehearsal != nil && d.Rehearsal.EndedAt != nil })
		if d.Rehearsal.Digest == "" || len(d.Rehearsal.Groups) != 1 || d.Rehearsal.Groups[0].Count != *addresses {
			t.Fatalf("no plan, or hosts differ: %+v %+v", d.Rehearsal.Findings, d.Rehearsal.Groups)
		}
		w.quiet(sshd)
		return usedBy(w.server.Process.Pid).cpu - s.cpu, usedBy(sshd).cpu - h.cpu
	}
	rehearse() // the first one surveys hosts that nobody knows
	server, hosts := rehearse()
	each := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 / float64(*addresses) }
	t.Logf("%d hosts, CPU of each: server %.1f ms, hosts' side %.1f ms", *addresses, each(server), each(hosts))
	for _, of := range []struct {
		what    string
		options []string
	}{
		{"by default", nil},
		{"with curve25519", []string{"-o", "KexAlgorithms=curve25519-sha256"}},
	} {
		before := usedBy(sshd)
		loop := w.loop(identity, known, of.options...)
		w.quiet(sshd)
		loopHosts := usedBy(sshd).cpu - before.cpu
		t.Logf("OpenSSH's loop %s: its client %.1f ms, hosts' side %.1f ms; we use %.2f and %.2f times that", of.what,
			each(loop), each(loopHosts), each(server)/each(loop), each(hosts)/each(loopHosts))
	}
}

// openSSH starts a server on all addresses of this network, and gives its process,
// its host key and a client's key that it takes beside the product's.
func (w *world) openSSH() (pid int, hostKey, identity string) {
	dir := w.TempDir()
	write := func(name string, data []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, data, 0o600); err != nil {
			w.Fatal(err)
		}
		return path
	}
	pair := func(name string) (path, public string) {
		key := ed25519.NewKeyFromSeed(bytes.Repeat([]byte(name[:1]), 32))
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			w.Fatal(err)
		}
		signer, err := ssh.NewSignerFromKey(key)
		if err != nil {
			w.Fatal(err)
		}
		return write(name, pem.EncodeToMemory(block)), string(ssh.MarshalAuthorizedKey(signer.PublicKey()))
	}
	hostPath, hostKey := pair("host")
	identity, client := pair("client")
	ours, err := exec.Command(w.bin, "show-key", "-data", w.data).Output()
	if err != nil {
		w.Fatal(err)
	}
	authorized := write("authorized_keys", append(ours, client...))
	config := write("sshd_config", fmt.Appendf(nil, "Port 2222\nListenAddress 0.0.0.0\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\nUsePAM no\nPermitRootLogin prohibit-password\nPidFile none\nMaxStartups 500\nMaxSessions 50\nLogLevel ERROR\nSetEnv HOME=%s\n", hostPath, authorized, dir)) // a home without what this machine has its shells read
	cmd := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", config)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		w.Fatal(err)
	}
	w.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if conn, err := net.Dial("tcp", "127.19.101.1:2222"); err == nil {
			conn.Close()
			break
		} else if time.Now().After(deadline) {
			w.Fatal(err)
		}
	}
	return cmd.Process.Pid, hostKey, identity
}

// quiet waits until a server has no children any more: what they used counts as
// its own then.
func (w *world) quiet(pid int) {
	for deadline := time.Now().Add(60 * time.Second); len(childrenOf(pid)) > 0; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			w.Fatal("connections stay open")
		}
	}
}

// loop has xargs run OpenSSH's client, 16 at a time, to read the file and run the checker on
// each host, and gives the CPU that they used. The options are of OpenSSH's client.
func (w *world) loop(identity, hostKey string, options ...string) time.Duration {
	known := filepath.Join(w.TempDir(), "known_hosts")
	if err := os.WriteFile(known, []byte("[127.19.101.*]:2222 "+hostKey), 0o600); err != nil {
		w.Fatal(err)
	}
	addresses := ""
	for n := range w.count {
		addresses += fmt.Sprintf("root@127.19.101.%d\n", n+1)
	}
	words := slices.Concat([]string{"-P", "16", "-I", "{}", "ssh", "-F", "none", "-n"}, options, []string{"-p", "2222", "-i", identity, "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "UserKnownHostsFile=" + known,
		"-o", "GlobalKnownHostsFile=none", "{}", "cat /etc/nginx/nginx.conf && /usr/sbin/nginx -t -q"})
	cmd := exec.Command("xargs", words...)
	cmd.Stdin = strings.NewReader(addresses)
	out, err := cmd.CombinedOutput()
	if read := bytes.Count(out, []byte("worker_connections")); err != nil || read != w.count {
		w.Fatalf("%d of %d hosts read: %v: %s", read, w.count, err, out[max(0, len(out)-1000):])
	}
	return cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime() // its children's as well
}
