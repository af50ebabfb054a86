package host

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// jump is a connection to a host by way of which others are reached: one for all of them,
// closed with the last. Nothing is run there.
type jump struct {
	ready  chan struct{} // closed once client or err is set
	client *ssh.Client
	err    error
	used   int
}

// NoWay tells that a host on the way to another did not let us through.
type NoWay struct {
	Host, Hop string
	Err       error
}

func (e *NoWay) Error() string {
	return fmt.Sprintf("%s: by way of %s: %s", e.Host, e.Hop, strings.TrimPrefix(e.Err.Error(), e.Hop+": "))
}
func (e *NoWay) Unwrap() error { return e.Err }

// way is how a target was reached: from here, or from the last host on the way.
type way struct {
	last  *ssh.Client // nil: from here
	leave func()      // lets go of it
}

// dial makes a connection to an address as the target was reached.
func (w way) dial(ctx context.Context, address string) (net.Conn, error) {
	if w.last == nil {
		return (&net.Dialer{}).DialContext(ctx, "tcp", address)
	}
	return w.last.DialContext(ctx, "tcp", address)
}

// Outside connects to a port at the host's address, as the host itself is reached: from
// here, or from the last host on the way to it.
func (c *Conn) Outside(ctx context.Context, port int) (net.Conn, error) {
	ip, _, err := net.SplitHostPort(c.target.Address)
	if err != nil {
		ip = c.target.Address
	}
	raw, err := c.way.dial(ctx, net.JoinHostPort(ip, strconv.Itoa(port)))
	var refused *ssh.OpenChannelError
	switch {
	case errors.As(err, &refused):
		return nil, fmt.Errorf("from %s, by way of which it is reached: %s", c.target.Via[len(c.target.Via)-1].Name, cmp.Or(strings.TrimSpace(refused.Message), "connection refused"))
	case err != nil || c.way.last == nil:
		return raw, err
	}
	return timed(raw, raw, func() { raw.Close() }), nil
}

// timed makes a connection that knows deadlines of two streams that do not.
func timed(in io.WriteCloser, out io.Reader, end func()) net.Conn {
	near, far := net.Pipe()
	go func() { io.Copy(in, far); in.Close(); end() }()
	go func() { io.Copy(far, out); far.Close() }()
	return near
}

// reach makes a connection to the target's address.
func (d *Dialer) reach(ctx context.Context, t Target) (raw net.Conn, by way, err error) {
	if len(t.Via) == 0 {
		if raw, err = by.dial(ctx, t.Address); err != nil {
			return nil, by, unreachable(ctx, t, err)
		}
		return raw, way{leave: func() {}}, nil
	}
	last := len(t.Via) - 1
	hop := t.Via[last]
	hop.Via = t.Via[:last]
	if by.last, by.leave, err = d.hop(ctx, hop); err == nil {
		if raw, err = by.dial(ctx, t.Address); err == nil {
			return raw, by, nil
		}
		by.leave()
		var refused *ssh.OpenChannelError
		switch {
		case errors.As(err, &refused) && refused.Reason == ssh.Prohibited:
			err = &Unreachable{hop.Name, errors.New("its sshd forwards no connection there (AllowTcpForwarding, PermitOpen)")}
		case errors.As(err, &refused):
			err = &Unreachable{hop.Name, fmt.Errorf("no connection to %s from there: %s", t.Address, strings.TrimSpace(refused.Message))}
		default:
			err = unreachable(ctx, hop, err)
		}
	}
	return nil, by, &NoWay{t.Name, hop.Name, err}
}

// hop gives the connection to a host on the way, which all that go by it share.
func (d *Dialer) hop(ctx context.Context, t Target) (client *ssh.Client, leave func(), err error) {
	var way strings.Builder
	for _, h := range append(t.Via[:len(t.Via):len(t.Via)], t) {
		fmt.Fprintf(&way, "%q %q %q %q\n", h.Address, h.User, h.HostKey, Fingerprint(PublicKey(d.signer(h))))
	}
	key := way.String()
	d.mu.Lock()
	j, open := d.jumps[key]
	if !open {
		if d.jumps == nil {
			d.jumps = map[string]*jump{}
		}
		j = &jump{ready: make(chan struct{})}
		d.jumps[key] = j
	}
	j.used++
	d.mu.Unlock()
	forget := func() { // so that the next one connects anew
		if d.jumps[key] == j {
			delete(d.jumps, key)
		}
	}
	leave = sync.OnceFunc(func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if j.used--; j.used > 0 {
			return
		}
		forget()
		if j.client != nil {
			j.client.Close()
		}
	})
	if !open {
		go func() { // it outlives who asked first
			bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), d.patience(t))
			defer cancel()
			client, by, err := d.client(bounded, t)
			d.mu.Lock()
			j.client, j.err = client, err
			unused := j.used == 0
			if err != nil {
				forget()
			}
			d.mu.Unlock()
			close(j.ready)
			if err != nil {
				return
			}
			if unused {
				client.Close()
			}
			go (&Conn{target: t, client: client}).keepAlive(max(d.Alive, 10*time.Second))
			client.Wait()
			d.mu.Lock()
			forget()
			d.mu.Unlock()
			by.leave()
		}()
	}
	select {
	case <-j.ready:
		if j.err != nil {
			leave()
			return nil, nil, j.err
		}
		return j.client, leave, nil
	case <-ctx.Done():
		leave()
		return nil, nil, unreachable(ctx, t, ctx.Err())
	}
}

// HostKey gives the key that a host shows, as in authorized_keys, and its fingerprint. It
// signs in nowhere but on the way there.
func (d *Dialer) HostKey(ctx context.Context, t Target) (key, print string, err error) {
	ctx, cancel := context.WithTimeout(ctx, d.patience(t))
	defer cancel()
	raw, by, err := d.reach(ctx, t)
	if err != nil {
		return "", "", err
	}
	defer by.leave()
	seen := errors.New("it was seen")
	config := &ssh.ClientConfig{User: t.User, Config: current, HostKeyAlgorithms: []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
		HostKeyCallback: func(_ string, _ net.Addr, shown ssh.PublicKey) error {
			key, print = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(shown))), ssh.FingerprintSHA256(shown)
			return seen
		}}
	if conn, _, _, err := handshake(ctx, raw, t.Address, config); err == nil {
		conn.Close()
	} else if key == "" {
		return "", "", unreachable(ctx, t, err)
	}
	return key, print, nil
}

// Fingerprint is that of a key as in authorized_keys; empty where it is none.
func Fingerprint(key string) string {
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(pinned)
}
