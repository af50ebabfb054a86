package probe

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"wladder/core/expr"
)

// Answer is what came back; each kind of question fills its own part. Failure
// is why nothing did, in words; Distrust is why the certificate is not the one that
// ca or pin ask for.
type Answer struct {
	// Took is how long the answer took, of a question over the network that holds no connection; else 0.
	Took              time.Duration
	Failure, Distrust string
	Connection
	Page
	Certificate
	UnitState
	OnHost
}

// Connection is what tcp, tls and ssh questions bring back.
type Connection struct {
	Connected bool
	Banner    string   // tcp, ssh: what the other side says first; tcp: or its reply
	Held      bool     // the connection was still open at the end of hold
	Methods   []string // ssh: the ways to sign in that are offered to the user
	SignedIn  bool     // ssh: user and secret were taken
}

// Page is the answer to an http question.
type Page struct {
	Status  int
	Headers map[string]string // by lower-case name
	Body    string            // at most 64 KiB, unpacked
	Size    int               // bytes of the body as they came over the wire
}

// Certificate is what the other side of a TLS connection shows.
type Certificate struct {
	Protocol string // such as TLS 1.3
	Names    []string
	DaysLeft int
	Issuer   string
	Chain    int  // certificates sent
	Trusted  bool // by the probe's ca or pin, else by the server's own authorities
}

// UnitState is how a unit of the service manager stands.
type UnitState struct {
	State, Sub string
	Restarts   int    // by the service manager
	Processes  int    // the main process and its children
	Renewed    int    // those of them begun since the last act
	Death      string // why it is not active, in words
}

// OnHost is what the host finds of itself.
type OnHost struct {
	Count                      int      // process: how many; size: files
	Users                      []string // process: who they run as; port: processes that listen
	Age                        int      // process: of the youngest, in seconds
	Listeners                  []string // port: addresses
	Content, Mode, Owner, Kind string   // file: content at most 64 KiB
	Group                      string
	Readable                   bool  // file: by the user named with as=
	Bytes                      int64 // size: taken on disk; file: length
	Exit                       int   // command
	Output                     string
	Shown                      bool // the output may be shown
}

func orNone(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// whole gives all of an answer to a question, in the shapes that it has once it was kept.
func (a Answer) whole(ask Ask) map[string]any {
	vars, all := a.vars(), map[string]any{}
	for _, name := range answersOf(ask) {
		all[name] = vars[name]
	}
	if _, there := all["headers"]; there {
		all["headers"] = a.Headers
	}
	return all
}

// Kept reads an answer that was kept as JSON.
func Kept(data []byte) (map[string]any, error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var all map[string]any
	if err := d.Decode(&all); err != nil {
		return nil, err
	}
	for name, v := range all {
		if n, ok := v.(json.Number); ok {
			whole, err := n.Int64()
			if err != nil {
				return nil, err
			}
			all[name] = whole
		}
	}
	return all, nil
}

func (a Answer) vars() map[string]any {
	return map[string]any{
		"connected": a.Connected, "banner": a.Banner, "held": a.Held, "methods": orNone(a.Methods), "signed_in": a.SignedIn,
		"status": int64(a.Status), "headers": expr.Texts(a.Headers), "body": a.Body, "size": int64(a.Size),
		"protocol": a.Protocol, "names": orNone(a.Names), "days_left": int64(a.DaysLeft), "issuer": a.Issuer, "chain": int64(a.Chain), "trusted": a.Trusted,
		"state": a.State, "sub": a.Sub, "restarts": int64(a.Restarts), "processes": int64(a.Processes), "renewed": int64(a.Renewed),
		"count": int64(a.Count), "users": orNone(a.Users), "age": int64(a.Age), "listeners": orNone(a.Listeners),
		"content": a.Content, "mode": a.Mode, "owner": a.Owner, "group": a.Group, "kind": a.Kind, "readable": a.Readable, "bytes": a.Bytes,
		"exit": int64(a.Exit), "output": a.Output,
	}
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Words says the answer to a question of that kind in a few words: states, counts,
// sizes, names and dates, never what a page, a header or a file says. What a command
// prints is there where its definition lets it be shown.
func (a Answer) Words(kind Kind) string {
	if a.Failure != "" {
		return a.Failure
	}
	switch kind {
	case HTTP:
		return fmt.Sprintf("status %d", a.Status)
	case TLS:
		return fmt.Sprintf("%s for %s, %s left", a.Protocol, strings.Join(a.Names, ", "), counted(a.DaysLeft, "day", "days"))
	case SSH:
		text := "offers " + strings.Join(a.Methods, ", ")
		if len(a.Methods) == 0 {
			text = "connected"
		}
		if a.SignedIn {
			text = "signed in"
		}
		return text
	case TCP:
		if a.Banner != "" {
			return "connected, it says " + counted(len(a.Banner), "byte", "bytes")
		}
		return "connected"
	case Unit:
		if a.Death != "" {
			return a.State + ": " + a.Death
		}
		text := fmt.Sprintf("%s (%s), %s", a.State, a.Sub, counted(a.Processes, "process", "processes"))
		if a.Renewed > 0 {
			text += fmt.Sprintf(", %d begun since the act", a.Renewed)
		}
		if a.Restarts > 0 {
			text += fmt.Sprintf(", restarted %s by systemd", counted(a.Restarts, "time", "times"))
		}
		return text
	case Process:
		if a.Count == 0 {
			return "no process"
		}
		return fmt.Sprintf("%s of %s", counted(a.Count, "process", "processes"), strings.Join(a.Users, ", "))
	case Port:
		if len(a.Listeners) == 0 {
			return "nobody listens"
		}
		return fmt.Sprintf("%s on %s", strings.Join(a.Users, ", "), strings.Join(a.Listeners, ", "))
	case File:
		if a.Kind == "" {
			return "does not exist"
		}
		return fmt.Sprintf("%s, %s:%s, mode %s, %s", a.Kind, a.Owner, a.Group, a.Mode, counted(int(a.Bytes), "byte", "bytes"))
	case Size:
		return fmt.Sprintf("%s, %s", bytesWords(a.Bytes), counted(a.Count, "file", "files"))
	case Served:
		if a.Output == "" {
			return "it is served on no port of the service's"
		}
		return "it is served on " + Clip(a.Output, 100)
	case Property, Variable:
		return "it is " + Clip(a.Output, 100)
	case Command:
		if !a.Shown {
			return fmt.Sprintf("exit %d, it says %s", a.Exit, counted(len(a.Output), "byte", "bytes"))
		}
		return fmt.Sprintf("exit %d: %s", a.Exit, Clip(strings.TrimSpace(a.Output), 200))
	}
	return "no answer"
}

func bytesWords(n int64) string {
	for _, unit := range []string{"bytes", "KiB", "MiB", "GiB"} {
		if n < 1024 || unit == "GiB" {
			return fmt.Sprintf("%d %s", n, unit)
		}
		n /= 1024
	}
	return ""
}

// Clip bounds a text to n bytes; a character that would be cut goes.
func Clip(s string, n int) string {
	if len(s) > n {
		for n > 0 && !utf8.RuneStart(s[n]) {
			n--
		}
		return s[:n] + " …"
	}
	return s
}
