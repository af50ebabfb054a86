package host

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"syscall"

	"golang.org/x/crypto/ssh"

	"wladder/core/secret"
)

// NotPermitted tells that the host showed its pinned key, and takes none of ours for the
// login: nothing was run.
type NotPermitted struct {
	Host, User string
	Key        string // the fingerprint of ours
}

func (e *NotPermitted) Error() string {
	return fmt.Sprintf("%s: does not let %s sign in with this server's key (%s)", e.Host, e.User, e.Key)
}

// NoSudo tells that the login is not root's, and sudo does not make it so without a
// password: nothing was run.
type NoSudo struct{ Host, User, Said string }

func (e *NoSudo) Error() string {
	return fmt.Sprintf("%s: sudo does not let %s be root without a password: %s", e.Host, e.User, e.Said)
}

// sudoes asks whether sudo lets the login be root; nil where it does.
func (c *Conn) sudoes(ctx context.Context) error {
	session, err := c.client.NewSession()
	if err != nil {
		return nil // the link is gone: that is another matter
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { session.Close() })
	defer stop()
	said := clipped{most: 500}
	session.Stderr = &said
	var exit *ssh.ExitError
	if err := session.Run("sudo -n true"); errors.As(err, &exit) && exit.Signal() == "" {
		return &NoSudo{c.target.Name, c.target.User, strings.TrimSpace(secret.Legible(string(said.kept)))}
	}
	return nil
}

// Refusal is why a host could not be worked on.
type Refusal string

// The refusals, and None for what is none of them.
const (
	None           Refusal = ""
	OutOfReach     Refusal = "unreachable"
	NobodyListens  Refusal = "connection-refused"
	TimedOut       Refusal = "timeout"
	KeyUnknown     Refusal = "host-key-unknown"
	KeyChanged     Refusal = "host-key-changed"
	NotPermittedTo Refusal = "not-permitted"
	WithoutSudo    Refusal = "no-sudo"
	NoWayThere     Refusal = "no-way-there"
)

// errTimedOut tells that nothing was heard in time.
var errTimedOut = errors.New("no answer in time")

// RefusalOf says which of them an error is.
func RefusalOf(err error) Refusal {
	var key *KeyError
	var permitted *NotPermitted
	var sudo *NoSudo
	var gone *Unreachable
	var noWay *NoWay
	switch {
	case errors.As(err, &noWay):
		return NoWayThere
	case errors.As(err, &key) && key.Want == "":
		return KeyUnknown
	case errors.As(err, &key):
		return KeyChanged
	case errors.As(err, &permitted):
		return NotPermittedTo
	case errors.As(err, &sudo):
		return WithoutSudo
	case errors.Is(err, errTimedOut):
		return TimedOut
	case errors.As(err, &gone) && errors.Is(gone.Err, syscall.ECONNREFUSED): // not the database's
		return NobodyListens
	case gone != nil:
		return OutOfReach
	}
	return None
}

// Advised says an error with what to do about it, where it is a refusal.
func Advised(err error) string {
	if advice := RefusalOf(err).Advice(); advice != "" {
		return err.Error() + ". " + advice
	}
	return err.Error()
}

// Advice says what to do about a refusal; keys say so by themselves.
func (r Refusal) Advice() string {
	switch r {
	case OutOfReach:
		return "Is the machine up, and is there a way to its network from this server?"
	case NobodyListens:
		return "The machine is there, and nothing listens on that port: is sshd running, and is the port the right one?"
	case TimedOut:
		return "Is a firewall in between, or is the machine too busy to answer? Rehearse again to read such hosts anew"
	case NotPermittedTo:
		return "Put the key that wladderd show-key prints into the authorized_keys of that login, and see that sshd lets it sign in"
	case NoWayThere:
		return "The host itself was not asked: it is reached by way of that one"
	case WithoutSudo:
		return "Give the login a rule in sudoers with NOPASSWD, or load the host with the login root"
	}
	return ""
}
