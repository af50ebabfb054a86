package engine

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/host"
)

// What values name anew, ports and files, is looked at on the host before anything is
// placed: the definition says of which settings, by their type.

// namedHere is a port or a file that a service's value names.
type namedHere struct {
	*carried
	render.Named
	port   int  // 0 where it is a file
	folder bool // it is a directory
	limits expr.Limits
}

// barred tells whether the service may not listen on the port, as its unit starts it.
func (n namedHere) barred() bool {
	l := n.limits
	return l.User != "" && l.User != "root" && l.User != "0" && !l.Binds && int64(n.port) < l.Ports
}

// named gives what the change's values name anew, and what to ask of it.
func (r *reading) named() (all []namedHere, questions []host.Question) {
	for _, c := range r.services {
		for _, n := range c.Ports {
			if port, err := strconv.Atoi(n.Value); err == nil && port > 0 && port < 1<<16 {
				all = append(all, namedHere{c, n, port, false, r.host.Traits.Limits[c.Unit]})
				questions = append(questions, host.Question{Ask: probe.Ask{Kind: probe.Port, Port: port, With: map[string]string{}}})
			}
		}
		for _, n := range c.Paths {
			if !definition.Within(n.Value, c.WritableRoots()) || r.places(n.Value) {
				continue // it is not looked at, or comes with the change
			}
			all = append(all, namedHere{c, n, 0, false, expr.Limits{}})
			questions = append(questions, host.Question{Stat: n.Value, Of: c.Unit})
		}
		for _, n := range c.Folders {
			if at := path.Clean(n.Value); definition.Within(at+"/", c.WritableRoots()) {
				all = append(all, namedHere{c, n, 0, true, expr.Limits{}})
				questions = append(questions, host.Question{Stat: at})
			}
		}
	}
	return all, questions
}

// places tells whether the change itself places a path.
func (r *reading) places(path string) bool {
	return slices.ContainsFunc(r.services, func(c *carried) bool {
		return slices.ContainsFunc(c.Files, func(f render.Rendered) bool { return f.Path == path || f.Found.Path == path })
	})
}

// weighNamed says what speaks against what values name.
func weighNamed(all []namedHere, replies []host.Reply) (findings []finding.Finding) {
	for i, n := range all {
		f := finding.Finding{File: n.File, Line: n.Line}
		reply := replies[i]
		switch {
		case reply.Failure != "":
			continue
		case n.folder && reply.OnHost.Kind != "directory":
			f.Level, f.Code, f.Text = finding.Warn, "no-folder", fmt.Sprintf("the block %s %q: no directory is there on this host", n.Address, n.Value)
		case n.folder:
			continue
		case n.port == 0 && reply.Mode != "" && !reply.Readable:
			f.Level, f.Code, f.Text = finding.Warn, "path-unreadable", fmt.Sprintf("%s: the user as whom %s runs may not read %s (%s:%s, mode %s)", n.Address, n.Unit, n.Value, reply.Owner, reply.Group, reply.Mode)
		case n.port == 0 && reply.Mode == "":
			f.Level, f.Code, f.Text = finding.Veto, "path-missing", fmt.Sprintf("%s: nothing is at %s. Put it there first, or with this change", n.Address, n.Value)
		case n.port == 0:
			continue
		case len(reply.Listeners) > 0 && !itsOwn(n.Unit, reply.Users) && !slices.Contains(reply.Units, n.Unit):
			who := strings.Join(reply.Users, ", ")
			if who == "" {
				who = "another program"
			}
			f.Level, f.Code, f.Text = finding.Veto, "port-taken", fmt.Sprintf("%s: port %d is taken by %s (%s)", n.Address, n.port, who, strings.Join(reply.Listeners, ", "))
		case n.barred():
			f.Level, f.Code, f.Text = finding.Veto, "port-not-permitted", fmt.Sprintf("%s: %s is started as %s, who may not listen on port %d: on this host that wants root below %d, or AmbientCapabilities=CAP_NET_BIND_SERVICE in the unit", n.Address, n.Unit, n.limits.User, n.port, n.limits.Ports)
		case slices.Contains(blocked, n.port):
			f.Level, f.Code, f.Text = finding.Warn, "port-blocked", fmt.Sprintf("%s: browsers refuse port %d, as one of other protocols", n.Address, n.port)
		default:
			continue
		}
		findings = append(findings, f)
	}
	return findings
}

// itsOwn tells whether a port is held by the service itself, as far as names tell: nginx
// of nginx.service, sshd of ssh.service.
func itsOwn(unit string, programs []string) bool {
	base, _, _ := strings.Cut(unit, ".")
	base, _, _ = strings.Cut(base, "@")
	return slices.ContainsFunc(programs, func(p string) bool { return strings.HasPrefix(p, base) || strings.HasPrefix(base, p) })
}

// blocked are the ports to which browsers make no request, as the Fetch standard lists them
// ("bad ports", https://fetch.spec.whatwg.org/#port-blocking), from 1024 on.
var blocked = []int{1719, 1720, 1723, 2049, 3659, 4045, 4190, 5060, 5061, 6000, 6566, 6665, 6666, 6667, 6668, 6669, 6679, 6697, 10080}
