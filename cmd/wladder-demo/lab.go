package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"wladder/core/view"
	"wladder/demo"
)

// labScript boots real hosts; the demo is started from the repository's root.
const labScript = "lab/lab.sh"

// labHosts are the real hosts of the demo, by their number in the laboratory.
var labHosts = []string{"bulletin-upland-01", "bulletin-upland-02", "bulletin-delta-01", "bulletin-delta-02", "bulletin-coast-01", "bulletin-coast-02"}

// labChanges are the changes that go up on them, once labFit has made them fit.
var (
	labChanges = []demo.PastChange{{File: "1-version", UpTo: "climbed"}, {File: "5-connections", UpTo: "offered"}}
	labFit     = strings.NewReplacer("count: 24", "count: 6", "count: 20..26", "count: 6", `"webserver"`, `"nginx"`)
)

// outside runs the demo again where hosts can be booted, which has a network of
// its own, and lets people in to its server by a socket file.
func outside(ctx context.Context, dir, listen string) error {
	if _, err := os.Stat(labScript); err != nil {
		return fmt.Errorf("%s is not here; start this from the repository's root, as make demo HOSTS=lab does", labScript)
	}
	if err := fresh(dir, listen); err != nil {
		return err
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	door, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	defer door.Close()
	go forward(door, func() (net.Conn, error) { return net.Dial("unix", filepath.Join(dir, "door")) })
	cmd := exec.CommandContext(ctx, labScript, "enter", self, "-inside", "-dir", dir, "-listen", listen)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 20 * time.Second
	return cmd.Run()
}

// forward passes connections on, until the listener is closed.
func forward(from net.Listener, to func() (net.Conn, error)) {
	for {
		near, err := from.Accept()
		if err != nil {
			return
		}
		go func() {
			defer near.Close()
			far, err := to()
			if err != nil {
				return
			}
			defer far.Close()
			go func() { io.Copy(far, near); far.Close() }()
			io.Copy(near, far)
		}()
	}
}

// inside runs the demo on real hosts.
func inside(ctx context.Context, dir, listen string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	fmt.Printf("Booting %d real hosts …\n", len(labHosts))
	o := &office{dir: dir, bin: filepath.Dir(self), lab: true}
	if err := o.start(ctx, listen, 0); err != nil {
		return err
	}
	defer o.close()
	door, err := net.Listen("unix", filepath.Join(dir, "door"))
	if err != nil {
		return err
	}
	defer door.Close()
	go forward(door, func() (net.Conn, error) { return net.Dial("tcp", listen) })
	return o.keepOpen(ctx)
}

// bootLab boots the hosts and makes them bulletin servers that let in who has the
// key of client, a line of authorized_keys.
func bootLab(client []byte) (*demo.Office, error) {
	args := []string{"boot"}
	for i := range labHosts {
		args = append(args, fmt.Sprint(i+1))
	}
	boot := exec.Command(labScript, args...)
	boot.Stderr = os.Stderr
	if err := boot.Run(); err != nil {
		return nil, fmt.Errorf("booting hosts: %w", err)
	}
	at := os.Getenv("WLADDER_LAB")
	office := &demo.Office{}
	for i, name := range labHosts {
		key, err := os.ReadFile(fmt.Sprintf("%s/run/h%d/upper/etc/ssh/ssh_host_ed25519_key.pub", at, i+1))
		if err != nil {
			return nil, err
		}
		address := fmt.Sprintf("10.77.0.%d", i+3)
		// Contents go in on standard input: nothing is spliced into the line.
		setup := exec.Command("ssh", "-i", filepath.Join(at, "id"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "root@"+address,
			"set -e; read -r key; printf '%s\\n' \"$key\" >>/root/.ssh/authorized_keys; cat >/etc/nginx/nginx.conf; mkdir -p /srv/bulletins/bulletins; echo 'Vellmere bulletin: water levels normal' >/srv/bulletins/bulletins/latest; systemctl restart nginx")
		setup.Stdin = io.MultiReader(bytes.NewReader(client), bytes.NewReader(demo.File("images/nginx.conf")))
		if out, err := setup.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s: %w: %s", name, err, out)
		}
		office.Load = append(office.Load, view.Host{Name: name, Address: address + ":22", Login: "root", HostKey: strings.TrimSpace(string(key)),
			Labels: map[string]string{"role": "bulletin", "site": strings.Split(name, "-")[1]}})
	}
	return office, nil
}
