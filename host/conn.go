// Package host reaches hosts over SSH and runs the product's scripts on them:
// one script is one operation and one round trip. Nothing is installed there.
//
//	conn, err := dialer.Connect(ctx, host.Target{Address: "192.0.2.7:22", User: "root", HostKey: pinned})
//	traits, err := conn.Survey(ctx)
package host

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/trouble"

	"golang.org/x/crypto/ssh"
)

// Target is a host to connect to.
type Target struct {
	Name    string
	Address string // host:port
	User    string
	HostKey string // the pinned key, as in authorized_keys; empty is refused
	Sudo    bool   // reach root by sudo -n
	Labels  map[string]string
	Scripts string // the digest of those that it is worked on with; this version's where it is empty
	// Via are the hosts by way of which it is reached, the first from here at the front: an
	// sshd there has to allow forwarding (AllowTcpForwarding).
	Via []Target
}

// Dialer makes connections.
type Dialer struct {
	Signer ssh.Signer
	// Credentials are other keys, for the hosts that they fit.
	Credentials []Credential
	Timeout     time.Duration // of connecting; 10s where unset
	Alive       time.Duration // how often a connection is asked whether its host is still there, which may take twice as long to answer; 10s where unset

	arriving atomic.Int64 // bytes of answers that are held now, of all hosts together

	mu    sync.Mutex
	jumps map[string]*jump // open now, by the way there
}

// KeyError tells that a host showed another key than the pinned one, or that
// none is pinned.
type KeyError struct {
	Host, Want, Got string // fingerprints; Want is empty where none is pinned
}

func (e *KeyError) Error() string {
	if e.Want == "" {
		return fmt.Sprintf("%s: no host key is pinned; it shows %s. Compare that on the host's console, then load the host with it", e.Host, e.Got)
	}
	return fmt.Sprintf("%s: shows the host key %s, but %s is pinned. Either the host was set up anew or this is another machine: find out which before you pin the new key; %s", e.Host, e.Got, e.Want, trouble.HostAnew.Help())
}

// Unreachable tells that no connection came about; nothing was run.
type Unreachable struct {
	Host string
	Err  error
}

func (e *Unreachable) Error() string { return fmt.Sprintf("%s: cannot be reached: %v", e.Host, e.Err) }
func (e *Unreachable) Unwrap() error { return e.Err }

// Lost tells that the link dropped, or we gave up, after a script had begun:
// nobody knows how far it came.
type Lost struct {
	Host, Script string
	Err          error
}

func (e *Lost) Error() string {
	return fmt.Sprintf("%s: lost sight of %s: %v", e.Host, e.Script, e.Err)
}
func (e *Lost) Unwrap() error { return e.Err }

// Busy tells that the host's lock was held by somebody else all the time that we
// waited for it: nothing was run.
type Busy struct{ Host, Script string }

func (e *Busy) Error() string {
	return fmt.Sprintf("%s: %s: another operation holds the host's lock", e.Host, e.Script)
}

// Fenced tells that the host has seen a higher fence than ours: another server
// has taken it over, or our database was restored from an older copy.
type Fenced struct {
	Host string
	Seen int64
}

func (e *Fenced) Error() string {
	return fmt.Sprintf("%s: has been worked on under fence %d, which is higher than ours: another server has it, or the database is an older copy. In that case an admin raises the host's fence: wladder host -raise-fence %s; %s", e.Host, e.Seen, e.Host, trouble.FenceRefused.Help())
}

// ScriptError tells that a script ended with an error of its own.
type ScriptError struct {
	Host, Script string
	Status       int
	Stderr       string
}

func (e *ScriptError) Error() string {
	if e.Status == 0 || e.Status == 74 { // 74 is EX_IOERR of sysexits.h
		return fmt.Sprintf("%s: %s: %s", e.Host, e.Script, strings.TrimSpace(e.Stderr))
	}
	return fmt.Sprintf("%s: %s ended with status %d: %s", e.Host, e.Script, e.Status, strings.TrimSpace(e.Stderr))
}

// Conn is a connection to one host.
type Conn struct {
	target   Target
	client   *ssh.Client
	way      way           // there
	arriving *atomic.Int64 // the dialer's
}

// current is what we speak: algorithms that nobody advises against, the hybrid key
// exchange that stays secret from who keeps it for a quantum computer first. Its
// elder, sntrup761, would cost hosts 200 ms instead of 15.
var current = ssh.Config{
	KeyExchanges: []string{ssh.KeyExchangeMLKEM768X25519, ssh.KeyExchangeCurve25519, ssh.KeyExchangeECDHP256},
	Ciphers:      []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM, ssh.CipherChaCha20Poly1305, ssh.CipherAES128CTR, ssh.CipherAES256CTR},
	MACs:         []string{ssh.HMACSHA256ETM, ssh.HMACSHA512ETM, ssh.HMACSHA256},
}

// Connect dials the target, by the way that it names, and checks its key against the
// pinned one.
func (d *Dialer) Connect(ctx context.Context, t Target) (*Conn, error) {
	client, by, err := d.client(ctx, t)
	if err != nil {
		return nil, err
	}
	c := &Conn{target: t, client: client, way: by, arriving: &d.arriving}
	if len(t.Via) > 0 {
		go func() { client.Wait(); by.leave() }()
	}
	go c.keepAlive(cmp.Or(d.Alive, 10*time.Second))
	return c, nil
}

// handshakes bounds how many go on at once in this process: hundreds that begin together would
// have everything else wait for a core, and each other come to its end late. While one waits for
// its host, others have the core.
var handshakes = make(chan struct{}, max(16, 8*runtime.GOMAXPROCS(0)))

// patience is how long connecting may take: as long again for each hop.
func (d *Dialer) patience(t Target) time.Duration {
	return cmp.Or(d.Timeout, 10*time.Second) * time.Duration(1+len(t.Via))
}

// client signs in at a target.
func (d *Dialer) client(ctx context.Context, t Target) (client *ssh.Client, by way, err error) {
	var keyError *KeyError
	signer := d.signer(t)
	showed := false // our key, to a host that had shown its own
	config := &ssh.ClientConfig{
		User:   t.User,
		Auth:   []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { showed = true; return []ssh.Signer{signer}, nil })},
		Config: current,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			keyError = checkKey(t, key)
			if keyError != nil {
				return keyError
			}
			return nil
		},
	}
	if pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(t.HostKey)); err == nil {
		config.HostKeyAlgorithms = algorithms(pinned.Type())
	}
	reaching, reached := context.WithTimeout(ctx, d.patience(t))
	defer reached()
	raw, by, err := d.reach(reaching, t)
	if err != nil {
		return nil, by, err
	}
	select {
	case handshakes <- struct{}{}:
		defer func() { <-handshakes }()
	case <-ctx.Done():
		raw.Close()
		by.leave()
		return nil, way{}, unreachable(ctx, t, ctx.Err())
	}
	ctx, cancel := context.WithTimeout(ctx, d.patience(t)) // waiting for the others is not the host's fault
	defer cancel()
	conn, channels, requests, err := handshake(ctx, raw, t.Address, config)
	if err == nil {
		return ssh.NewClient(conn, channels, requests), by, nil
	}
	by.leave()
	switch {
	case keyError != nil:
		return nil, by, keyError
	case showed && ctx.Err() == nil && !errors.Is(err, io.EOF) && !errors.As(err, new(net.Error)):
		return nil, by, &NotPermitted{t.Name, t.User, ssh.FingerprintSHA256(signer.PublicKey())}
	}
	return nil, by, unreachable(ctx, t, err)
}

// handshake has SSH begin on a connection that was made, within the context's time.
func handshake(ctx context.Context, raw net.Conn, address string, config *ssh.ClientConfig) (ssh.Conn, <-chan ssh.NewChannel, <-chan *ssh.Request, error) {
	deadline, _ := ctx.Deadline()
	raw.SetDeadline(deadline)
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	conn, channels, requests, err := ssh.NewClientConn(raw, address, config)
	if err != nil {
		raw.Close()
		return nil, nil, nil, err
	}
	raw.SetDeadline(time.Time{})
	return conn, channels, requests, nil
}

// unreachable says why no connection came about.
func unreachable(ctx context.Context, t Target, err error) error {
	switch {
	case ctx.Err() != nil: // "use of closed network connection" says less
		err = gaveUp(ctx)
	case errors.Is(err, os.ErrDeadlineExceeded):
		err = errTimedOut
	}
	return &Unreachable{t.Name, err}
}

// keepAlive closes a connection whose other side has gone silent, so that what
// waits on it ends. It ends with the connection.
func (c *Conn) keepAlive(every time.Duration) {
	ended := make(chan struct{})
	go func() { c.client.Wait(); close(ended) }()
	for {
		select {
		case <-ended:
			return
		case <-time.After(every):
		}
		silent := time.AfterFunc(2*every, func() { c.client.Close() })
		c.client.SendRequest("keepalive@openssh.com", true, nil) // any answer will do
		silent.Stop()
	}
}

func algorithms(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}

func checkKey(t Target, key ssh.PublicKey) *KeyError {
	got := ssh.FingerprintSHA256(key)
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(t.HostKey))
	if err != nil {
		return &KeyError{Host: t.Name, Got: got}
	}
	if !bytes.Equal(pinned.Marshal(), key.Marshal()) {
		return &KeyError{Host: t.Name, Want: ssh.FingerprintSHA256(pinned), Got: got}
	}
	return nil
}

// Close ends the connection.
func (c *Conn) Close() error { return c.client.Close() }

// answer is one JSON line of a script; texts are as decode reads them.
type answer map[string]any

// text gives words for people, as they can be shown anywhere.
func (a answer) text(key string) string { return secret.Legible(a.data(key)) }

// short gives a few words for people.
func (a answer) short(key string) string { return probe.Clip(a.text(key), 500) }

// data gives bytes as the host sent them: what files hold, and where they are.
func (a answer) data(key string) string {
	return decode(a.word(key))
}

// word gives a word of our own, as it is.
func (a answer) word(key string) string {
	s, _ := a[key].(string)
	return s
}

// decode reads a text as scripts write it: as it is behind a dot, or in base64.
func decode(s string) string {
	if plain, ok := strings.CutPrefix(s, "."); ok {
		return plain
	}
	data, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		return ""
	}
	return string(data)
}

// pairs reads a list of pairs of texts.
func (a answer) pairs(key string) (all [][2]string) {
	list, _ := a[key].([]any)
	for _, one := range list {
		pair, _ := one.([]any)
		if len(pair) == 2 {
			first, _ := pair[0].(string)
			second, _ := pair[1].(string)
			all = append(all, [2]string{first, second})
		}
	}
	return all
}

func (a answer) number(key string) int {
	n, _ := a[key].(float64)
	return int(n)
}

func (a answer) has(key string) bool { _, ok := a[key]; return ok }

// Bounds on what a host may send back, and on how long a script may take that
// does not bound itself by its arguments. The scripts keep to less (files of 4 MiB,
// 8 MiB in all, in base64), so that only a host that lies meets these.
const (
	maxAnswer  = 16 << 20
	maxAnswers = 256 << 20 // of all hosts at once
	maxLines   = 20_000    // of one answer
	maxValues  = 100_000   // of one answer
	maxStderr  = 64 << 10
	scriptTime = 2 * time.Minute
)

// clipped keeps the first so many bytes written to it, and takes the rest. It is
// a writer and no more: into a buffer, io.Copy would read without asking.
type clipped struct {
	kept []byte
	most int
}

func (c *clipped) Write(p []byte) (int, error) {
	c.kept = append(c.kept, p[:min(len(p), c.most-len(c.kept))]...)
	return len(p), nil
}

// errTooMuch tells that all hosts together answer more than we hold at once.
var errTooMuch = fmt.Errorf("all hosts together sent more than %d bytes at once", maxAnswers)

// metered counts what it reads among all that arrives.
type metered struct {
	io.Reader
	arriving *atomic.Int64
	read     int64
}

func (m *metered) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	m.read += int64(n)
	if m.arriving.Add(int64(n)) > maxAnswers {
		return n, errTooMuch
	}
	return n, err
}

// errSenseless tells that an answer made no sense: what the script did is not
// known.
var errSenseless = errors.New("its answer makes no sense")

// run sends a script with its arguments and contents, and gives its
// answer. The error is an *Unreachable or a *Busy (nothing was run), a *Fenced, a
// *ScriptError (it ended with an error of its own), or a *Lost.
func (c *Conn) run(ctx context.Context, name string, contents []byte, args ...string) ([]answer, error) {
	return c.send(ctx, setOf(c.target.Scripts).scripts[name], contents, args...)
}

func (c *Conn) send(ctx context.Context, s script, contents []byte, args ...string) ([]answer, error) {
	name := s.name
	if _, bounded := ctx.Deadline(); !bounded {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, scriptTime)
		defer cancel()
	}
	session, err := c.client.NewSession()
	if err != nil {
		return nil, &Unreachable{c.target.Name, err}
	}
	defer session.Close()
	stdout, err := session.StdoutPipe()
	if err != nil {
		return nil, &Unreachable{c.target.Name, err}
	}
	stderr := clipped{most: maxStderr}
	line, stdin := s.command(c.target.Sudo, contents, args)
	session.Stdin, session.Stderr = bytes.NewReader(stdin), &stderr
	if err := session.Start(line); err != nil {
		return nil, &Lost{c.target.Name, name, err}
	}
	stop := context.AfterFunc(ctx, func() { c.client.Close() })
	defer stop()
	meter := &metered{Reader: stdout, arriving: c.arriving}
	defer func() { c.arriving.Add(-meter.read) }()
	all, last, readErr := answers(meter)
	if readErr != nil {
		c.client.Close()
		return nil, &Lost{c.target.Name, name, readErr}
	}
	err = session.Wait()
	var exit *ssh.ExitError
	switch {
	case errors.As(err, &exit) && exit.Signal() == "" && exit.ExitStatus() < 128: // above: it was killed, somewhere in the middle
		switch exit.ExitStatus() {
		case 75: // EX_TEMPFAIL of sysexits.h: flock's word
			return nil, &Busy{c.target.Name, name}
		case 76:
			return nil, &Fenced{c.target.Name, int64(last.number("fenced"))}
		case 1:
			if c.target.Sudo && len(all) == 0 { // sudo itself ends so
				if err := c.sudoes(ctx); err != nil {
					return nil, err
				}
			}
		}
		return nil, &ScriptError{c.target.Name, name, exit.ExitStatus(), secret.Legible(string(stderr.kept))}
	case ctx.Err() != nil:
		return nil, &Lost{c.target.Name, name, gaveUp(ctx)}
	case err != nil:
		return nil, &Lost{c.target.Name, name, err}
	}
	if len(all) == 0 {
		return nil, &Lost{c.target.Name, name, fmt.Errorf("%w: it is empty", errSenseless)}
	}
	return all, nil
}

// answers reads an answer line by line as it comes, and ends at the first byte too
// many; last is its last line. A line that is no JSON ends it, too: what a script did
// that speaks so is not known.
func answers(from io.Reader) (all []answer, last answer, err error) {
	limited := &io.LimitedReader{R: from, N: maxAnswer}
	lines := bufio.NewScanner(limited)
	lines.Buffer(make([]byte, 0, 4096), maxAnswer)
	values := 0
	for lines.Scan() {
		line := lines.Bytes()
		if len(line) == 0 {
			continue
		}
		// What is read into memory is many times as long as what came, the more
		// the more values there are.
		values += bytes.Count(line, []byte(",")) + bytes.Count(line, []byte("[")) + bytes.Count(line, []byte("{"))
		if len(all) == maxLines || values > maxValues {
			return nil, nil, fmt.Errorf("%w: it has more than %d lines or %d values", errSenseless, maxLines, maxValues)
		}
		var a answer
		if err := json.Unmarshal(line, &a); err != nil {
			return nil, nil, fmt.Errorf("%w: %.80q", errSenseless, line)
		}
		all, last = append(all, a), a
	}
	if limited.N == 0 {
		return nil, nil, fmt.Errorf("it sent more than %d bytes", maxAnswer)
	}
	if err := lines.Err(); err != nil {
		return nil, nil, err
	}
	return all, last, nil
}

// gaveUp says why a context ended, in words.
func gaveUp(ctx context.Context) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return errTimedOut
	}
	return context.Cause(ctx)
}
