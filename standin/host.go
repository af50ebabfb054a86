// Package standin makes stand-in hosts: real SSH servers on loopback addresses,
// each with a file system in memory, a shell that runs what is sent to it, and
// units that read their configuration, listen on the port named there and
// answer HTTP. Client and product talk to them as to real hosts.
//
// They only pretend some things, and Pretended lists them. The package shares
// no code with the product: it reads configuration with small readers of its
// own, so that one bug cannot hide on both sides.
package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// Pretended says what stand-in hosts only pretend, for whoever reads a demo.
var Pretended = []string{
	"namespaces: unshare works on a copy of the file system in memory, bind mounts replace a name in that copy; that the rest is read-only, without network, devices and capabilities is not pretended",
	"sync and fsync: nothing is on a disk, so there is nothing to flush and no power to lose",
	"kernel, cores and memory: they are what the scenario says; a reboot, by systemctl or by the scenario, takes a moment, and runs of what is started at boot the two halves of a guard and the units alone; timers are real",
	"owners: every command runs as root, so no permission is ever refused",
	"services: small programs that read a few settings of the real ones; their checkers know those settings only",
	"systemd: units start, stop, reload and die; no dependencies, no journal (but for what a unit says that does not start), no unit files",
	"process lists, sockets: those of the units alone",
}

// Config describes a stand-in host.
type Config struct {
	Name     string
	Address  string // loopback ip:port for SSH
	Image    map[string]string
	Cores    int
	MemoryMB int
	Units    []UnitConfig
	Packages map[string]string // their versions, as dpkg has them
	Signer   ssh.Signer        // the host key
	Client   ssh.PublicKey     // who may sign in
	Forwards bool              // connections to other loopback addresses, as a jump host does
}

// Host is a running stand-in host.
type Host struct {
	Config
	Files *Files

	units     map[string]*unit
	programs  map[string]Program
	lock      chan struct{} // the one file lock that flock knows
	booted    atomic.Int64  // when, in nanoseconds
	rebooting sync.Mutex    // held while it boots
	goingDown atomic.Bool   // its service manager says nothing any more
	pids      atomic.Int64
	received  atomic.Int64
	listener  net.Listener
	cancel    context.CancelFunc
	ctx       context.Context
	running   sync.WaitGroup
	scripts   sync.WaitGroup

	mu      sync.Mutex
	up      context.Context // until the next reboot
	endUp   context.CancelFunc
	log     []*Logged
	faults  []*Fault
	deaf    bool
	before  func(words []string)
	stirred chan struct{} // closed when a command has run; nil while nobody waits
	links   map[net.Conn]bool
	ran     []string // names of the scripts that ran, in order
	timers  map[string]*time.Timer
}

// Start brings the host up: its units first, then SSH.
func Start(c Config) (*Host, error) {
	h := &Host{Config: c, units: map[string]*unit{}, lock: make(chan struct{}, 1), links: map[net.Conn]bool{}, timers: map[string]*time.Timer{}}
	h.ctx, h.cancel = context.WithCancel(context.Background())
	h.booted.Store(time.Now().Add(-time.Hour).UnixNano())
	h.boot()
	h.pids.Store(400)
	image := map[string]string{
		"/etc/os-release": "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\nVERSION_ID=\"12\"\n",
		"/etc/hostname":   c.Name + "\n",
		"/proc/meminfo":   fmt.Sprintf("MemTotal:       %d kB\n", c.MemoryMB*1024),

		"/run/systemd/system/.keep": "", "/usr/bin/systemd-run": "", "/etc/systemd/system/.keep": "",
	}
	if c.Packages != nil {
		image["/usr/bin/dpkg-query"] = ""
	}
	for name, text := range c.Image {
		image[name] = text
	}
	h.Files = NewFiles(image)
	h.Files.dynamic, h.Files.numbers = h.proc, h.processes
	h.programs = map[string]Program{}
	for _, u := range c.Units {
		h.units[u.Name] = &unit{UnitConfig: u, host: h, state: "inactive", sub: "dead"}
		h.programs[u.Checker] = u.Read
		if err := h.units[u.Name].start(); err != nil {
			h.Close()
			return nil, fmt.Errorf("%s: %s: %w", c.Name, u.Name, err)
		}
	}
	var err error
	if h.listener, err = net.Listen("tcp", c.Address); err != nil {
		h.Close()
		return nil, err
	}
	h.running.Add(1)
	go h.serve()
	return h, nil
}

// Close takes the host down and waits for all of it.
func (h *Host) Close() {
	h.cancel()
	if h.listener != nil {
		h.listener.Close()
	}
	h.cutLinks()
	h.mu.Lock()
	h.endUp()
	for _, timer := range h.timers {
		if timer.Stop() {
			h.running.Done()
		}
	}
	h.mu.Unlock()
	for _, u := range h.units {
		u.stop()
	}
	h.running.Wait()
}

func (h *Host) ip() string {
	ip, _, _ := net.SplitHostPort(h.Address)
	return ip
}

func (h *Host) cutLinks() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.links {
		c.Close()
	}
}

func (h *Host) serve() {
	defer h.running.Done()
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(h.Client.Marshal()) {
			return nil, errors.New("unknown key")
		}
		return nil, nil
	}}
	config.AddHostKey(h.Signer)
	for {
		raw, err := h.listener.Accept()
		if err != nil {
			return
		}
		raw = &wire{Conn: raw, received: &h.received, muted: make(chan struct{}), closed: make(chan struct{})}
		h.mu.Lock()
		deaf := h.deaf
		h.links[raw] = true
		h.mu.Unlock()
		if deaf {
			raw.Close()
		}
		h.running.Go(func() {
			defer func() {
				raw.Close()
				h.mu.Lock()
				delete(h.links, raw)
				h.mu.Unlock()
			}()
			h.connection(raw, config)
		})
	}
}

func (h *Host) connection(raw net.Conn, config *ssh.ServerConfig) {
	raw.SetDeadline(time.Now().Add(10 * time.Second))
	_, channels, requests, err := ssh.NewServerConn(raw, config)
	if err != nil {
		return
	}
	raw.SetDeadline(time.Time{})
	go ssh.DiscardRequests(requests)
	for c := range channels {
		if c.ChannelType() == "direct-tcpip" && h.Forwards {
			h.running.Go(func() { h.forward(c) })
			continue
		}
		if c.ChannelType() != "session" {
			c.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		h.running.Go(func() { h.session(raw, channel, requests) })
	}
}

// forward passes a connection on to another loopback address (RFC 4254, section 7.2).
func (h *Host) forward(c ssh.NewChannel) {
	var to struct {
		Host   string
		Port   uint32
		Origin string
		From   uint32
	}
	ip := net.IP(nil)
	if err := ssh.Unmarshal(c.ExtraData(), &to); err == nil {
		ip = net.ParseIP(to.Host)
	}
	if !ip.IsLoopback() {
		c.Reject(ssh.Prohibited, "to loopback addresses alone")
		return
	}
	far, err := (&net.Dialer{}).DialContext(h.ctx, "tcp", net.JoinHostPort(to.Host, fmt.Sprint(to.Port)))
	if err != nil {
		c.Reject(ssh.ConnectionFailed, "Connection refused")
		return
	}
	defer far.Close()
	near, requests, err := c.Accept()
	if err != nil {
		return
	}
	defer near.Close()
	go ssh.DiscardRequests(requests)
	over := context.AfterFunc(h.ctx, func() { far.Close() })
	defer over()
	go func() { io.Copy(far, near); far.Close() }()
	io.Copy(near, far)
}

func (h *Host) session(raw net.Conn, channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for r := range requests {
		if r.Type != "exec" {
			r.Reply(false, nil)
			continue
		}
		var exec struct{ Command string }
		if err := ssh.Unmarshal(r.Payload, &exec); err != nil {
			r.Reply(false, nil)
			return
		}
		r.Reply(true, nil)
		status := h.exec(raw, exec.Command, channel)
		channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
		return
	}
}

// exec runs one command line, with the faults that the scenario scripted.
func (h *Host) exec(raw net.Conn, command string, channel ssh.Channel) (status int) {
	name := scriptName(command)
	h.scripts.Add(1)
	defer h.scripts.Done()
	ended := h.began(command)
	defer func() { ended(status) }()
	h.mu.Lock()
	up := h.up
	h.mu.Unlock()
	if f := h.fault(KillScript, name); f != nil {
		killed, kill := context.WithTimeout(up, f.For)
		defer kill()
		up = killed
	}
	if f := h.fault(SlowLink, name); f != nil {
		h.sleep(f.For)
	}
	if f := h.fault(Busy, name); f != nil {
		return 75
	}
	if f := h.fault(CutBefore, name); f != nil {
		f.hold(h.ctx)
		raw.Close()
		return 255
	}
	stdout := io.Writer(channel)
	cut, garbled, silent, flood := h.fault(CutAfter, name), h.fault(Garble, name), h.fault(Silence, name), h.fault(Flood, name)
	if cut != nil || garbled != nil || silent != nil || flood != nil {
		stdout = io.Discard
	}
	status = h.newShell(h.Files).run(up, command, channel, stdout, channel.Stderr())
	switch {
	case up.Err() != nil: // nothing of it is heard any more
		raw.Close()
	case cut != nil:
		cut.hold(h.ctx)
		raw.Close()
	case garbled != nil:
		io.WriteString(channel, "<html>502 Bad Gateway</html>\n")
	case silent != nil:
		raw.(*wire).mute()
	case flood != nil:
		for line := bytes.Repeat([]byte("water "), 5000); ; {
			if _, err := channel.Write(line); err != nil {
				break
			}
		}
	}
	return status
}

// wire is a connection that can fall silent, as when a host or the way there
// freezes: nothing is answered any more, and nothing is closed.
type wire struct {
	net.Conn
	received      *atomic.Int64
	once, end     sync.Once
	muted, closed chan struct{}
}

func (w *wire) mute() { w.once.Do(func() { close(w.muted) }) }

func (w *wire) Close() error {
	w.end.Do(func() { close(w.closed) })
	return w.Conn.Close()
}

func (w *wire) Read(p []byte) (int, error) {
	n, err := w.Conn.Read(p)
	w.received.Add(int64(n))
	return n, err
}

func (w *wire) Write(p []byte) (int, error) {
	select {
	case <-w.muted:
		return len(p), nil // into nothing
	default:
		return w.Conn.Write(p)
	}
}

// Before has f see each command that a script runs, before it runs.
func (h *Host) Before(f func(words []string)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.before = f
}

// stir tells those who await something that a command has run.
func (h *Host) stir() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.stirred != nil {
		close(h.stirred)
		h.stirred = nil
	}
}

// Await waits until a file of the host fits, whoever changes it.
func (h *Host) Await(ctx context.Context, name string, fits func(content []byte) bool) error {
	for {
		h.mu.Lock()
		if h.stirred == nil {
			h.stirred = make(chan struct{})
		}
		stirred := h.stirred
		h.mu.Unlock()
		if data, err := h.Files.Read(name); err == nil && fits(data) {
			return nil
		}
		select {
		case <-stirred:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Pending lists the faults that were scripted and not met yet.
func (h *Host) Pending() (all []Fault) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, f := range h.faults {
		all = append(all, *f)
	}
	return all
}

// Deaf has the host refuse and cut every link, as when the network is gone; what
// runs on it goes on.
func (h *Host) Deaf(deaf bool) {
	h.mu.Lock()
	h.deaf = deaf
	h.mu.Unlock()
	if deaf {
		h.cutLinks()
	}
}

// Received counts the bytes that came in on all links.
func (h *Host) Received() int64 { return h.received.Load() }

// Run runs a line on the host, as somebody signed in there, and gives its output
// and status.
func (h *Host) Run(line string) (output string, status int) {
	var out strings.Builder
	status = h.newShell(h.Files).run(h.ctx, line, strings.NewReader(""), &out, &out)
	return out.String(), status
}

// scriptName finds the word behind the text of a script that names it.
func scriptName(command string) string {
	i := strings.LastIndex(command, "'wladder-")
	if i < 0 {
		return ""
	}
	name, _, _ := strings.Cut(command[i+len("'wladder-"):], "'")
	return name
}

// Ran lists the scripts that were run, in order.
func (h *Host) Ran() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]string(nil), h.ran...)
}

func (h *Host) sleep(d time.Duration) {
	select {
	case <-time.After(d):
	case <-h.ctx.Done():
	}
}
