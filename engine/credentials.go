package engine

import (
	"crypto/x509"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/render"
	"wladder/host"
)

// Certificates and keys that a change has a block name are compared on the host: digests of
// public keys, names and dates leave it, no more. Where they lie outside the service's
// directories, or come with the change, they are not looked at.

// credentialed is a certificate or key that is asked of.
type credentialed struct {
	*carried
	of  *render.Credentials
	key bool
	render.Named
}

// soon is how long before a certificate's end it is said.
const soon = 21 * 24 * time.Hour

// credentials gives the certificates and keys to look at, and what to ask.
func (r *reading) credentials() (all []credentialed, questions []host.Question, findings []finding.Finding) {
	for _, c := range r.services {
		for i := range c.Credentials {
			of := &c.Credentials[i]
			add := func(named []render.Named, key bool) {
				for _, n := range named {
					switch {
					case r.places(n.Value):
					case !definition.Within(n.Value, c.WritableRoots()):
						findings = append(findings, finding.Finding{Level: finding.Note, Code: "not-looked-at", File: n.File, Line: n.Line,
							Text: fmt.Sprintf("%s: %s lies outside the directories of this service, and was not looked at", n.Address, n.Value)})
					case key:
						all, questions = append(all, credentialed{c, of, true, n}), append(questions, host.Question{PrivateKey: n.Value, Of: c.Unit})
					default:
						all, questions = append(all, credentialed{c, of, false, n}), append(questions, host.Question{Certificate: n.Value, Of: c.Unit})
					}
				}
			}
			add(of.Certificates, false)
			add(of.Keys, true)
		}
	}
	return all, questions, findings
}

// weighCredentials says what speaks against certificates and keys.
func weighCredentials(all []credentialed, replies []host.Reply, now time.Time) (findings []finding.Finding) {
	find := func(n render.Named, level finding.Level, code, format string, args ...any) {
		findings = append(findings, finding.Finding{Level: level, Code: code, File: n.File, Line: n.Line, Text: n.Address + ": " + fmt.Sprintf(format, args...)})
	}
	seen := map[*render.Credentials][]int{}
	var order []*render.Credentials
	for i, one := range all {
		if seen[one.of] == nil {
			order = append(order, one.of)
		}
		seen[one.of] = append(seen[one.of], i)
		h := replies[i].Held
		switch what := map[bool]string{true: "private key", false: "certificate"}[one.key]; {
		case replies[i].Failure != "":
			find(one.Named, finding.Note, "not-looked-at", "the %s in %s was not looked at: %s", what, one.Value, replies[i].Failure)
			continue
		case h.Missing:
			find(one.Named, finding.Veto, "path-missing", "no file is at %s. Put it there first, or with this change", one.Value)
			continue
		case h.None:
			find(one.Named, finding.Veto, "no-"+strings.ReplaceAll(what, " ", "-"), "%s holds no %s", one.Value, what)
			continue
		case h.Closed && h.Public == "":
			find(one.Named, finding.Warn, "key-with-pass-phrase", "the key in %s has a pass phrase: whether it fits its certificate cannot be told, and somebody has to type it at each start", one.Value)
		}
		if !h.Readable {
			find(one.Named, finding.Veto, "path-unreadable", "the user as whom %s runs may not read %s (mode %s)", one.Unit, one.Value, h.Mode)
		}
		if m := h.Mode; one.key && m != "" && m[len(m)-1] >= '4' {
			find(one.Named, finding.Warn, "key-readable", "everybody on the host may read the private key in %s (mode %s)", one.Value, m)
		}
		if one.key {
			continue
		}
		switch left := h.NotAfter.Sub(now); {
		case h.NotAfter.IsZero():
		case left < 0:
			find(one.Named, finding.Veto, "expired", "the certificate in %s ended on %s", one.Value, h.NotAfter.UTC().Format(time.DateOnly))
		case now.Before(h.NotBefore):
			find(one.Named, finding.Veto, "not-valid-yet", "the certificate in %s holds from %s on", one.Value, h.NotBefore.UTC().Format("2006-01-02 15:04 UTC"))
		case left < soon:
			find(one.Named, finding.Warn, "expires-soon", "the certificate in %s ends on %s", one.Value, h.NotAfter.UTC().Format(time.DateOnly))
		}
	}
	for _, of := range order {
		var certificates, keys, closed []int
		for _, i := range seen[of] {
			switch h := replies[i].Held; {
			case replies[i].Failure != "" || h.Public == "":
				if all[i].key {
					closed = append(closed, i) // there may be one that fits
				}
			case all[i].key:
				keys = append(keys, i)
			default:
				certificates = append(certificates, i)
			}
		}
		var names []string
		for _, i := range certificates {
			h := replies[i].Held
			names = append(names, h.Names...)
			if len(closed) == 0 && len(keys) > 0 && len(of.Keys) == len(keys) && !slices.ContainsFunc(keys, func(k int) bool { return replies[k].Held.Public == h.Public }) {
				find(all[i].Named, finding.Veto, "key-does-not-fit", "the certificate in %s is of another key than the one in %s", all[i].Value, all[keys[0]].Value)
			}
		}
		if len(certificates) == 0 || len(certificates) < len(of.Certificates) {
			continue
		}
		var bare []string
		for _, n := range of.Names {
			if !covered(n.Value, names) && !slices.Contains(bare, n.Value) {
				bare = append(bare, n.Value)
			}
		}
		if bare != nil {
			find(of.Names[0], finding.Warn, "name-not-covered", "no certificate of this block is for %s; those are for %s", strings.Join(bare, ", "), strings.Join(names, ", "))
		}
	}
	return findings
}

// covered tells whether a certificate's names cover one that a block serves (RFC 9525). What
// is not the name of a host, such as a pattern, is nobody's to cover.
func covered(name string, names []string) bool {
	plain := strings.TrimPrefix(name, "*.")
	if !strings.Contains(plain, ".") || strings.ContainsAny(plain, "*~^$()[]{}/:_\\ ") {
		return true
	}
	if name != plain { // of all names below another
		return slices.Contains(names, name)
	}
	c := x509.Certificate{}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, n)
		}
	}
	return c.VerifyHostname(name) == nil
}
