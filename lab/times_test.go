package lab

import (
	"fmt"
	"io"
	"net"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/store/postmaster"
)

// delayed forwards connections to an address, each byte so much later.
func delayed(t *testing.T, to string, by time.Duration) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, "listen", err)
	t.Cleanup(func() { listener.Close() })
	type piece struct {
		data []byte
		due  time.Time
	}
	pass := func(from, to net.Conn) {
		pieces := make(chan piece, 4096)
		go func() {
			defer close(pieces)
			for {
				buffer := make([]byte, 32<<10)
				n, err := from.Read(buffer)
				if n > 0 {
					pieces <- piece{buffer[:n], time.Now().Add(by)}
				}
				if err != nil {
					return
				}
			}
		}()
		for p := range pieces {
			time.Sleep(time.Until(p.due))
			if _, err := to.Write(p.data); err != nil {
				break
			}
		}
		to.Close()
		io.Copy(io.Discard, from)
	}
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			go pass(near, far)
			go pass(far, near)
		}
	}()
	return listener.Addr().String()
}

const timesService = `
service: times
title: What a host run costs
where: labels.role == "bulletin"
unit: nginx.service
files: {header: {format: text, paths: {any: /etc/nginx/conf.d/lab.conf}}}
trial: {command: [nginx, -t, -q], covers: [/run, /var/log/nginx, /var/lib/nginx]}
acts: [{name: restart, command: [systemctl, restart, nginx.service]}]
probes: [{name: unit, ask: unit nginx.service, expect: state == "active"}]
settle: 3s
`

// TestInsideRoundTrips counts what is sent to a host and how long it takes,
// near and 50 ms away.
func TestInsideRoundTrips(t *testing.T) {
	needInside(t)
	const n = 71
	r := newRig(t, []int{n}, timesService)
	r.all(tracer)
	own := r.on(n, "systemctl start nginx; t=$(date +%s%N); systemctl restart nginx; echo $(( ($(date +%s%N)-t)/1000000 ))")
	h := hostView(t, n)
	for _, away := range []time.Duration{0, 50 * time.Millisecond} {
		if away > 0 {
			h.Address = delayed(t, h.Address, away/2)
			out, err := r.store.LoadHosts(t.Context(), "ada", []view.Host{h})
			must(t, "host", err)
			must(t, "a second admin", r.store.Decide(t.Context(), "ben", out.Request, true))
		}
		prepared(t, n)
		r.on(n, "rm -f /run/ran")
		began := time.Now()
		_, id := r.draft("times", "  - {file: header, replace: X-Lab old, with: X-Lab new}", "ladder: {soak: 600ms}")
		rehearsed := time.Since(began)
		forRehearsal := r.on(n, "cat /run/ran; rm -f /run/ran")
		began = time.Now()
		d := r.climb(id)
		took := time.Since(began)
		r.wants(d, n, ladder.Done, "")
		count := map[string]int{}
		for _, name := range strings.Fields(r.on(n, "cat /run/ran")) {
			count[name]++
		}
		var list []string
		all := 2 // connections
		for name, k := range count {
			list = append(list, fmt.Sprintf("%s %d", name, k))
			all += k
		}
		sort.Strings(list)
		t.Logf("%s away: rehearsed in %.2f s with 1 connection and %d scripts; host run %.2f s, of it 0.6 s of soak, with 2 connections and %d scripts (%s), %d round trips; the service's own restart takes %s ms",
			away, rehearsed.Seconds(), len(strings.Fields(forRehearsal)), took.Seconds(), all-2, strings.Join(list, ", "), all, strings.TrimSpace(own))
		t.Logf("\n%s", r.steps(d, n))
		if all > 24 {
			t.Errorf("%d round trips in a host run", all)
		}
	}
}

// TestInsideDatabaseGone loses the database right after an act that does not
// count, for longer than the guard waits. The server still has the host in sight
// and can write nothing down: it lets the guard put it back, and says so once
// the database is there again.
func TestInsideDatabaseGone(t *testing.T) {
	needInside(t)
	t.Parallel()
	const n = 73
	proxy := newGate(t)
	r := newRigOn(t, proxy.url(postmaster.Fresh(t)), []int{n}, strings.Replace(timesService, "settle: 3s", "settle: 30s\nguard: 5s", 1)+"in-force: {ask: unit nginx.service, expect: state == \"never\"}\n")
	prepared(t, n)
	_, id := r.draft("times", "  - {file: header, replace: X-Lab old, with: X-Lab new}", "")
	r.begin(id)
	for range 400 {
		if r.run(r.show(id), n).Step == ladder.InForce {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	proxy.shut()
	if now := state(n); !strings.Contains(now, "X-Lab new") {
		t.Errorf("the change does not exist: %s", now)
	}
	took := becomesOld(t, n, 60*time.Second)
	t.Logf("the database is gone: files and process old %.1f s later", took.Seconds())
	time.Sleep(2 * time.Second)
	proxy.open()
	d := r.ended(id)
	r.wants(d, n, ladder.Restored, "in-force: ")
	if steps := r.steps(d, n); strings.Contains(steps, "act-again") || !strings.Contains(steps, "the host's guard had done so by itself") {
		t.Errorf("a host that undid it by itself was acted on again:\n%s", steps)
	}
}

// gate is a way to the database that can be shut.
type gate struct {
	listener net.Listener
	to       string
	mu       sync.Mutex
	closed   bool
	conns    []net.Conn
}

func newGate(t *testing.T) *gate {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, "listen", err)
	g := &gate{listener: listener}
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			g.mu.Lock()
			far, err := net.Dial("tcp", g.to)
			if err != nil || g.closed {
				near.Close()
			} else {
				g.conns = append(g.conns, near, far)
				go func() { io.Copy(near, far); near.Close() }()
				go func() { io.Copy(far, near); far.Close() }()
			}
			g.mu.Unlock()
		}
	}()
	return g
}

// url gives the database's URL by way of the gate.
func (g *gate) url(real string) string {
	_, rest, _ := strings.Cut(real, "@")
	if rest == "" {
		_, rest, _ = strings.Cut(real, "//")
	}
	address, _, _ := strings.Cut(rest, "/")
	g.to = address
	return strings.Replace(real, address, g.listener.Addr().String(), 1)
}

func (g *gate) shut() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.closed = true
	for _, c := range g.conns {
		c.Close()
	}
}

func (g *gate) open() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.closed = false
}
