package chaos

import (
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// link stands between the servers and a host's SSH: it cuts connections at a byte, delays them, or
// lets nothing through.
type link struct {
	to       string
	listener net.Listener

	cutAt atomic.Int64 // bytes that a connection may carry yet before all are cut; 0: no bound
	cuts  atomic.Int64 // how often that took effect
	slow  atomic.Int64 // nanoseconds by which each piece comes later
	dark  atomic.Bool  // nothing goes through

	mu    sync.Mutex
	conns map[net.Conn]bool
}

func newLink(t *testing.T, at, to string) *link {
	t.Helper()
	l := &link{to: to, conns: map[net.Conn]bool{}}
	var err error
	if l.listener, err = net.Listen("tcp", at); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.listener.Close(); l.cut() })
	go func() {
		for {
			conn, err := l.listener.Accept()
			if err != nil {
				return
			}
			go l.carry(conn)
		}
	}()
	return l
}

func (l *link) hold(c net.Conn, yes bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conns[c] = yes; !yes {
		delete(l.conns, c)
	}
}

// cut ends all connections.
func (l *link) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.conns {
		c.Close()
	}
}

func (l *link) darken(yes bool) {
	if l.dark.Store(yes); yes {
		l.cut()
	}
}

func (l *link) carry(near net.Conn) {
	l.hold(near, true)
	defer func() { near.Close(); l.hold(near, false) }()
	if l.dark.Load() {
		return
	}
	far, err := net.DialTimeout("tcp", l.to, time.Second)
	if err != nil {
		return
	}
	l.hold(far, true)
	defer func() { far.Close(); l.hold(far, false) }()
	ended := make(chan struct{}, 2)
	pump := func(to, from net.Conn) {
		defer func() { ended <- struct{}{} }()
		piece := make([]byte, 16<<10)
		for {
			n, err := from.Read(piece)
			if d := l.slow.Load(); d > 0 {
				time.Sleep(time.Duration(d))
			}
			if left := l.cutAt.Load(); left > 0 && n > 0 {
				if int64(n) >= left && l.cutAt.CompareAndSwap(left, 0) {
					to.Write(piece[:left-1])
					l.cuts.Add(1)
					l.cut()
					return
				}
				l.cutAt.CompareAndSwap(left, left-int64(n))
			}
			if _, wrong := to.Write(piece[:n]); wrong != nil || err != nil {
				return
			}
		}
	}
	go pump(far, near)
	go pump(near, far)
	<-ended
}
