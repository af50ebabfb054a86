// Package faulty stands between a server and its PostgreSQL, on loopback, and
// fails statements as a test tells it: really, on the wire, so that both sides
// see what they would see of a database in trouble.
//
//	p := faulty.Start(t, url)
//	s, err := store.Open(ctx, p.URL(), key)
//	p.Fail(7, faulty.Swallow, 0) // the seventh statement from now on
package faulty

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"
)

// Kind is how a statement fails.
type Kind string

// The ways.
const (
	Error   Kind = "error"   // the database answers it with an error
	Cut     Kind = "cut"     // the connection breaks before it gets there
	Swallow Kind = "swallow" // it takes effect; its answer is lost with the connection, or with all of them for a while
	Gone    Kind = "gone"    // as Cut, with all other connections, and nobody answers for a while
)

// Proxy is one that runs.
type Proxy struct {
	url      url.URL
	server   string
	listener net.Listener
	running  sync.WaitGroup

	mu       sync.Mutex
	links    map[*link]bool
	seen     []string
	at       int // the statement to fail; 0: none
	kind     Kind
	away     time.Duration
	until    time.Time // when somebody answers again
	injected []string
	met      chan struct{}
}

// Start makes a proxy before the server that the URL of a database names.
func Start(t testing.TB, database string) *Proxy {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	p := &Proxy{url: *u, server: u.Host, links: map[*link]bool{}}
	if p.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	p.url.Host = p.listener.Addr().String()
	p.running.Go(p.serve)
	t.Cleanup(func() {
		p.listener.Close()
		p.cutAll()
		p.running.Wait()
	})
	return p
}

// URL names the same database behind the proxy.
func (p *Proxy) URL() string { return p.url.String() }

// Fail has the nth statement from now on fail, once.
func (p *Proxy) Fail(n int, k Kind, away time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.seen, p.at, p.kind, p.away = nil, n, k, away
	p.met = make(chan struct{})
}

// Met is closed once the statement that Fail chose has failed.
func (p *Proxy) Met() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.met
}

// Settle has nothing fail any more, and waits for the end of an outage.
func (p *Proxy) Settle() {
	p.mu.Lock()
	p.at = 0
	left := time.Until(p.until)
	p.mu.Unlock()
	time.Sleep(left)
}

// Seen lists the statements since Fail, and Injected what has failed so far.
func (p *Proxy) Seen() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.seen...)
}

// Injected lists all that was made to fail.
func (p *Proxy) Injected() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.injected...)
}

func (p *Proxy) serve() {
	for {
		client, err := p.listener.Accept()
		if err != nil {
			return
		}
		p.mu.Lock()
		away := time.Now().Before(p.until)
		p.mu.Unlock()
		if away {
			client.Close()
			continue
		}
		server, err := net.Dial("tcp", p.server)
		if err != nil {
			client.Close()
			continue
		}
		l := &link{Proxy: p, client: client, server: server, prepared: map[string]string{}}
		p.mu.Lock()
		p.links[l] = true
		p.mu.Unlock()
		p.running.Go(l.up)
		p.running.Go(l.down)
	}
}

func (p *Proxy) cutAll() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for l := range p.links {
		l.cut()
	}
}

// link is one connection through the proxy.
type link struct {
	*Proxy
	client, server net.Conn
	prepared       map[string]string // statements by name

	state     sync.Mutex
	swallowed bool // answers are thrown away, and the end of one ends the link, or all
}

func (l *link) cut() {
	l.client.Close()
	l.server.Close()
}

// up carries what the client says. A statement is all up to a Sync or a simple
// Query (PostgreSQL's protocol, version 3, chapter "Message Flow").
func (l *link) up() {
	defer func() {
		l.cut()
		l.mu.Lock()
		delete(l.links, l)
		l.mu.Unlock()
	}()
	r := bufio.NewReader(l.client)
	head := make([]byte, 4) // the start-up message has a length and no type
	if _, err := io.ReadFull(r, head); err != nil {
		return
	}
	body := make([]byte, binary.BigEndian.Uint32(head)-4)
	if _, err := io.ReadFull(r, body); err != nil {
		return
	}
	l.server.Write(append(head, body...))
	var group []byte
	var text string
	for {
		kind, message, err := next(r)
		if err != nil {
			return
		}
		group = append(group, message...)
		switch kind {
		case 'P':
			name, rest, _ := strings.Cut(string(message[5:]), "\x00")
			query, _, _ := strings.Cut(rest, "\x00")
			l.prepared[name], text = query, query
		case 'B':
			_, rest, _ := strings.Cut(string(message[5:]), "\x00")
			name, _, _ := strings.Cut(rest, "\x00")
			text = l.prepared[name]
		case 'Q':
			text = strings.TrimRight(string(message[5:]), "\x00")
		}
		if kind == 'P' || kind == 'B' || kind == 'D' || kind == 'E' || kind == 'C' {
			continue // more of this statement follows
		}
		if text != "" && (kind == 'S' || kind == 'Q') && !l.pass(text, &group) {
			return
		}
		if _, err := l.server.Write(group); err != nil {
			return
		}
		group, text = nil, ""
	}
}

// pass counts a statement, and fails it where it is its turn; false ends the
// link.
func (l *link) pass(text string, group *[]byte) bool {
	l.mu.Lock()
	l.seen = append(l.seen, strings.Join(strings.Fields(text), " "))
	mine := l.at > 0 && len(l.seen) == l.at
	kind := l.kind
	if mine {
		l.at = 0
		l.injected = append(l.injected, fmt.Sprintf("%s: %.60s", kind, l.seen[len(l.seen)-1]))
		if kind == Gone {
			l.until = time.Now().Add(l.away)
		}
		close(l.met)
	}
	l.mu.Unlock()
	switch {
	case !mine:
	case kind == Error:
		failing := "do $$ begin raise exception 'made to fail' using errcode = 'XX000'; end $$\x00"
		*group = binary.BigEndian.AppendUint32([]byte{'Q'}, uint32(len(failing)+4))
		*group = append(*group, failing...)
	case kind == Cut:
		return false
	case kind == Gone:
		l.cutAll()
		return false
	case kind == Swallow:
		l.state.Lock()
		l.swallowed = true
		l.state.Unlock()
	}
	return true
}

// down carries what the server answers.
func (l *link) down() {
	defer l.cut()
	r := bufio.NewReader(l.server)
	for {
		kind, message, err := next(r)
		if err != nil {
			return
		}
		l.state.Lock()
		swallowed := l.swallowed
		l.state.Unlock()
		if swallowed {
			if kind == 'Z' { // ReadyForQuery: it has taken effect
				if l.away > 0 {
					l.mu.Lock()
					l.until = time.Now().Add(l.away)
					l.mu.Unlock()
					l.cutAll()
				}
				return
			}
			continue
		}
		if _, err := l.client.Write(message); err != nil {
			return
		}
	}
}

// next reads one message: a type, a length that counts itself, a body.
func next(r *bufio.Reader) (kind byte, message []byte, err error) {
	head := make([]byte, 5)
	if _, err := io.ReadFull(r, head); err != nil {
		return 0, nil, err
	}
	message = make([]byte, 1+binary.BigEndian.Uint32(head[1:]))
	copy(message, head)
	_, err = io.ReadFull(r, message[5:])
	return head[0], message, err
}
