// Package tell has people hear of what asks for them, by signed webhooks and by mail.
//
//	receivers, err := tell.Parse("receivers.yaml", text)
//	go tell.Run(ctx, log, store, receivers)
//
// What is told is read from the record, so that nothing is told that did not happen and nothing
// that happened is forgotten: each receiver has its place in it.
package tell

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"net/smtp"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"wladder/core/written"
	"wladder/store"
)

// kinds are the entries behind each word that a receiver may ask for.
var kinds = map[string][]string{
	"review":   {"change.offered", "change.emergency"},
	"gate":     {"climb.waiting"},
	"pause":    {"climb.paused"},
	"stranded": {"host.stranded"},
	"guard":    {store.GuardFired},
	"halt":     {"halt.given", "halt.lifted"},
	"end":      {"climb.completed", "climb.stopped"},
}

// usual is what a receiver hears that does not say.
var usual = []string{"review", "gate", "pause", "stranded", "guard"}

// Receiver is who is told.
type Receiver struct {
	Name    string   `yaml:"name"`
	On      []string `yaml:"on"` // of what
	Webhook string   `yaml:"webhook"`
	Key     string   `yaml:"key"`  // a file with the key that signs webhooks, 24 bytes or more
	Mail    string   `yaml:"mail"` // an address
	From    string   `yaml:"from"`
	By      string   `yaml:"by"` // the mail server, HOST:PORT

	key []byte
}

// Parse reads receivers, and says all that is wrong with them.
func Parse(name string, data []byte) ([]Receiver, error) {
	var all []Receiver
	if err := written.Decode(name, "receivers", written.Names, data, &all); err != nil {
		return nil, err
	}
	p := &written.Problems{File: name}
	seen := map[string]bool{}
	for i := range all {
		r := &all[i]
		bad := func(format string, args ...any) {
			p.Add("receiver %s: "+format, append([]any{cmp.Or(r.Name, strconv.Itoa(i+1))}, args...)...)
		}
		if r.Name == "" || seen[r.Name] {
			bad("name: want one of its own")
		}
		seen[r.Name] = true
		for _, word := range r.On {
			if kinds[word] == nil {
				bad("on: %q; want some of review, gate, pause, stranded, guard, halt, end", word)
			}
		}
		if r.On == nil {
			r.On = usual
		}
		switch {
		case (r.Webhook == "") == (r.Mail == ""):
			bad("want either webhook or mail")
		case r.Webhook != "":
			r.checkWebhook(bad)
		default:
			for key, text := range map[string]string{"mail": r.Mail, "from": r.From} {
				if _, err := mail.ParseAddress(text); err != nil {
					bad("%s: %q is not a mail address", key, text)
				}
			}
			if _, _, err := net.SplitHostPort(r.By); err != nil {
				bad("by: %q; want the mail server, HOST:PORT", r.By)
			}
		}
	}
	return all, p.Err()
}

func (r *Receiver) checkWebhook(bad func(string, ...any)) {
	if err := written.PrivateURL(r.Webhook); err != nil {
		bad("webhook: %v", err)
		return
	}
	info, err := os.Stat(r.Key)
	if err != nil {
		bad("key: %v; want a file with 24 bytes or more, which the receiver has too", err)
		return
	}
	if info.Mode().Perm()&0o077 != 0 {
		bad("key: %s may be read by others; chmod 600", r.Key)
	}
	text, err := os.ReadFile(r.Key)
	if r.key = bytes.TrimSpace(text); err != nil || len(r.key) < 24 {
		bad("key: %s holds %d bytes; want 24 or more", r.Key, len(r.key))
	}
}

// shown says where the receiver is told, without what may be secret in a URL.
func (r Receiver) shown() string {
	if u, err := url.Parse(r.Webhook); r.Webhook != "" && err == nil {
		return u.Scheme + "://" + u.Host
	}
	return r.Mail
}

func (r Receiver) kinds() (all []string) {
	for _, word := range r.On {
		all = append(all, kinds[word]...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// every is how often it is looked for what is to be told.
const every = time.Second

// Run tells receivers what happens until the context ends.
func Run(ctx context.Context, log *slog.Logger, st *store.Store, receivers []Receiver) {
	known := map[string]bool{}
	for tick := time.NewTicker(every); ; {
		for _, r := range receivers {
			if !known[r.Name] {
				if err := st.AddReceiver(ctx, r.Name, r.shown(), r.kinds()); err != nil {
					continue // the database comes back
				}
				known[r.Name] = true
			}
			for tell(ctx, log, st, r) {
			}
		}
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
	}
}

// tell delivers one notice, and says whether it did.
func tell(ctx context.Context, log *slog.Logger, st *store.Store, r Receiver) bool {
	n, err := st.NextNotice(ctx, r.Name)
	if err != nil || n == nil {
		return false
	}
	send := r.post
	if r.Mail != "" {
		send = r.mail
	}
	bounded, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	why := ""
	if err := send(bounded, n); err != nil {
		why = err.Error()
		log.Warn("a receiver was not told; it is tried again", "receiver", r.Name, "seq", n.Seq, "kind", n.Kind, "error", err)
	}
	if err := st.Noticed(ctx, r.Name, n.Seq, why); err != nil {
		return false // it is told again: better twice than never
	}
	return why == ""
}

// words say what happened, in a sentence.
func words(n *store.Notice) string {
	var body struct {
		Why     string `json:"why"`
		Because string `json:"because"`
	}
	json.Unmarshal(n.Body, &body)
	what := fmt.Sprintf("change %d (%s)", n.Change, n.Title)
	host := strings.TrimPrefix(n.Subject, "host/")
	text := map[string]string{
		"change.offered":   what + " waits for a review",
		"change.emergency": what + " was approved alone, in an emergency, and waits for a review",
		"climb.waiting":    what + " waits at a gate",
		"climb.paused":     what + " is paused",
		"climb.completed":  what + " is completed",
		"climb.stopped":    what + " is stopped",
		"host.stranded":    host + " is stranded in " + what + ": a person has to look",
		"host.restored":    "the guard of " + host + " fired in " + what + ": the host put its old files back by itself",
		"halt.given":       n.Actor + " has climbs halted",
		"halt.lifted":      n.Actor + " has lifted a halt",
	}[n.Kind]
	if why := cmp.Or(body.Why, body.Because); why != "" {
		text += ": " + why
	}
	return text
}

// post sends a notice, signed with HMAC-SHA256 over id, time and body, in the headers of the
// Standard Webhooks specification.
func (r Receiver) post(ctx context.Context, n *store.Notice) error {
	e := Event{ID: fmt.Sprintf("%d-%.12s", n.Seq, n.Hash), Type: "wladder." + n.Kind, Subject: n.Subject, Time: n.At,
		Data: map[string]any{"change": n.Change, "title": n.Title, "actor": n.Actor, "words": words(n), "entry": n.Body}}
	return Post(ctx, r.Webhook, e, func(body []byte) http.Header {
		at := strconv.FormatInt(time.Now().Unix(), 10)
		sum := hmac.New(sha256.New, r.key)
		fmt.Fprintf(sum, "%s.%s.%s", e.ID, at, body)
		return http.Header{"Webhook-Id": {e.ID}, "Webhook-Timestamp": {at}, "Webhook-Signature": {"v1," + base64.StdEncoding.EncodeToString(sum.Sum(nil))}}
	})
}

// mail sends a message (RFC 5322) by the mail server, under TLS where that offers it.
func (r Receiver) mail(ctx context.Context, n *store.Notice) error {
	from, _ := mail.ParseAddress(r.From)
	to, _ := mail.ParseAddress(r.Mail)
	text := words(n)
	subject, _, _ := strings.Cut(text, "\n")
	if len([]rune(subject)) > 120 {
		subject = string([]rune(subject)[:119]) + "…"
	}
	var m bytes.Buffer
	for _, h := range [][2]string{
		{"From", from.String()}, {"To", to.String()}, {"Subject", mime.QEncoding.Encode("utf-8", "Wide Ladder: "+subject)}, {"Date", n.At.Format(time.RFC1123Z)},
		{"Message-ID", fmt.Sprintf("<%d.%.16s@wladderd.invalid>", n.Seq, n.Hash)}, {"MIME-Version", "1.0"}, {"Content-Type", "text/plain; charset=utf-8"}, {"Content-Transfer-Encoding", "quoted-printable"},
	} {
		fmt.Fprintf(&m, "%s: %s\r\n", h[0], strings.NewReplacer("\r", " ", "\n", " ").Replace(h[1]))
	}
	m.WriteString("\r\n")
	body := quotedprintable.NewWriter(&m)
	fmt.Fprintf(body, "%s\n\nBy %s, %s; entry %d of the record.\n", text, n.Actor, n.At.Format("2006-01-02 15:04:05 UTC"), n.Seq)
	body.Close()
	sent := make(chan error, 1)
	go func() { sent <- smtp.SendMail(r.By, nil, from.Address, []string{to.Address}, m.Bytes()) }()
	select {
	case err := <-sent:
		return err
	case <-ctx.Done():
		return fmt.Errorf("%s does not answer", r.By)
	}
}
