package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
)

// inside is run by the host as the user that we sign in as: it connects to the
// host's own loopback and passes bytes on, after a first one that says that it is
// connected. bash connects by itself; what goes over it is on stdin and stdout alone. The
// first side to end ends both, so that no process is left behind.
const inside = `exec 3<>"/dev/tcp/127.0.0.1/$1" || exit 71
printf +
cat <&3 &
cat <&0 >&3 &
wait -n
kill %1 %2 2>/dev/null
wait`

// insideSeconds is the longest that such a connection lasts.
const insideSeconds = 1000

// Inside connects to a port of the host's own loopback, over the SSH connection and
// from within the host, so that no forwarding has to be allowed there.
func (c *Conn) Inside(ctx context.Context, port int) (net.Conn, error) {
	session, err := c.client.NewSession()
	if err != nil {
		return nil, &Unreachable{c.target.Name, err}
	}
	complaint := clipped{most: 1000}
	session.Stderr = &complaint
	in, err1 := session.StdinPipe()
	out, err2 := session.StdoutPipe()
	words := []string{"timeout", "-k", "2", strconv.Itoa(insideSeconds), "bash", "-c", inside, "wladder", strconv.Itoa(port)}
	for i, w := range words {
		words[i] = quote(w)
	}
	if err := errors.Join(err1, err2, session.Start(strings.Join(words, " "))); err != nil {
		session.Close()
		return nil, &Unreachable{c.target.Name, err}
	}
	stop := context.AfterFunc(ctx, func() { session.Close() })
	if _, err := io.ReadFull(out, make([]byte, 1)); err != nil {
		err := session.Wait()
		stop()
		session.Close()
		var exit *ssh.ExitError
		switch {
		case errors.As(err, &exit) && exit.ExitStatus() == 71:
			return nil, fmt.Errorf("from within the host: port %d: connection refused", port)
		case errors.As(err, &exit) && exit.ExitStatus() == 127:
			return nil, errors.New("a question from within the host needs bash there")
		case ctx.Err() != nil:
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("from within the host: %s", strings.TrimSpace(string(complaint.kept)))
	}
	stop()
	return timed(in, out, func() { session.Close() }), nil
}
