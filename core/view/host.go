package view

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

// A host's name is as long as one of DNS may be (RFC 1035, 2.3.4); a login is what sshd and PAM take
// for one, a domain's user among them, and nothing that a program could read as a flag.
const maxHostName = 253

var (
	login    = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@\\-]{0,63}\$?$`)
	hostPart = regexp.MustCompile(`^[A-Za-z0-9_]([A-Za-z0-9_.-]*[A-Za-z0-9_.])?$`)
)

// Fault says what is wrong with how a host is named and reached; empty where nothing is.
func (h Host) Fault() string {
	switch {
	case h.Name == "":
		return "name: is empty"
	case len(h.Name) > maxHostName:
		return fmt.Sprintf("name: is %d bytes long; want %d at most", len(h.Name), maxHostName)
	case !login.MatchString(h.Login):
		return fmt.Sprintf("login: %q is not the name of an account; want one such as root", h.Login)
	}
	if why := addressFault(h.Address); why != "" {
		return "address: " + why
	}
	return ""
}

func addressFault(address string) string {
	const want = "want HOST:PORT, such as 192.0.2.11:22, gauge-1.vellmere.example:22 or [2001:db8::1]:22"
	at := strings.LastIndexByte(address, ':')
	if at < 0 {
		return fmt.Sprintf("%q has no port; %s", address, want)
	}
	host, port := address[:at], address[at+1:]
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 || strconv.Itoa(n) != port {
		return fmt.Sprintf("%q: port %q is out of range; want 1 to 65535", address, port)
	}
	if inside, ok := strings.CutPrefix(host, "["); ok {
		if inside, ok = strings.CutSuffix(inside, "]"); ok {
			if ip, err := netip.ParseAddr(inside); err == nil && ip.Is6() {
				return ""
			}
		}
	} else if hostPart.MatchString(host) && len(host) <= maxHostName {
		return ""
	}
	return fmt.Sprintf("%q is not an address; %s", address, want)
}
