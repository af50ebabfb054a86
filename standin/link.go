package standin

import (
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Link stands between two sides that speak TCP: it cuts connections at a byte, delays them, lets
// nothing through, or has them hang. What it pretends of a network is that alone.
type Link struct {
	to       string
	listener net.Listener

	cutAt atomic.Int64                  // bytes that a connection may carry yet before all are cut; 0: no bound
	cuts  atomic.Int64                  // how often that took effect
	slow  atomic.Int64                  // nanoseconds by which each piece comes later
	dark  atomic.Bool                   // nothing goes through, and who connects is turned away
	hang  atomic.Pointer[chan struct{}] // closed once what hangs goes on; nil where nothing does

	mu    sync.Mutex
	conns map[net.Conn]bool
}

// NewLink listens at one loopback address, ip:port, and carries what comes to another.
func NewLink(at, to string) (*Link, error) {
	listener, err := net.Listen("tcp", at)
	if err != nil {
		return nil, err
	}
	l := &Link{to: to, listener: listener, conns: map[net.Conn]bool{}}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go l.carry(conn)
		}
	}()
	return l, nil
}

// Close ends it, and all that it carries.
func (l *Link) Close() {
	l.listener.Close()
	l.Hang(false)
	l.cut()
}

// CutAt has all connections be cut once one of them has carried so many bytes from now on, once;
// 0: none is.
func (l *Link) CutAt(bytes int64) { l.cutAt.Store(bytes) }

// Cuts says how often a cut took effect since it was asked.
func (l *Link) Cuts() int64 { return l.cuts.Swap(0) }

// Slow has each piece come later by so much.
func (l *Link) Slow(by time.Duration) { l.slow.Store(int64(by)) }

// Darken cuts all connections and lets none come about; or lets them again.
func (l *Link) Darken(yes bool) {
	if l.dark.Store(yes); yes {
		l.cut()
	}
}

// Hang has connections stay and carry nothing, as where packets are lost; or carry what came
// meanwhile, and go on.
func (l *Link) Hang(yes bool) {
	var next *chan struct{}
	if yes {
		c := make(chan struct{})
		next = &c
	}
	if before := l.hang.Swap(next); before != nil {
		close(*before)
	}
}

func (l *Link) hold(c net.Conn, yes bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conns[c] = yes; !yes {
		delete(l.conns, c)
	}
}

func (l *Link) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.conns {
		c.Close()
	}
}

func (l *Link) carry(near net.Conn) {
	l.hold(near, true)
	defer func() { near.Close(); l.hold(near, false) }()
	if l.dark.Load() {
		return
	}
	l.wait()
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
			l.wait()
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

// wait returns once nothing hangs.
func (l *Link) wait() {
	for c := l.hang.Load(); c != nil; c = l.hang.Load() {
		<-*c
	}
}
