// Package secret covers secrets wherever they would leave us: those that are
// given by name, those at addresses that a definition marks, and what looks
// like one.
//
//	r := &secret.Redactor{}
//	r.Add(value)
//	text = r.Clean(text)
package secret

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"wladder/core/conf"
	"wladder/core/probe"
)

// Placeholder stands wherever a secret would.
const Placeholder = "‹secret›"

// Min is the least length, in bytes, of a secret that is given to us:
// shorter ones could not be told from other text when they are masked.
const Min = 8

// minFound is the same for secrets found in files; shorter ones are masked
// where they stand, not in free text.
const minFound = 4

// pem finds private keys, whole or begun.
var pem = regexp.MustCompile(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(-----END [A-Z ]*PRIVATE KEY-----|$)`)

// Redactor covers secrets in text that leaves us. The zero value knows no
// values; it covers private keys and what is assigned to a password's name.
type Redactor struct {
	values []string
	words  map[string][]string // values that are ordinary words, by the names they stand at
}

// ordinary are values that free text is full of: they are covered where they stand,
// and in lines that name their setting.
var ordinary = regexp.MustCompile(`^([a-z]{1,10}|[A-Z][a-z]{0,9}|[A-Z]{1,8}|\d{1,6})$`)

// Add has the redactor cover a value, and its form in base64, from now on.
func (r *Redactor) Add(value string) {
	if len(value) < minFound || slices.Contains(r.values, value) {
		return
	}
	r.values = append(r.values, value, base64.StdEncoding.EncodeToString([]byte(value)))
	slices.SortFunc(r.values, func(a, b string) int { return len(b) - len(a) })
}

// AddFile has the redactor cover the secrets that a file holds, as judge tells
// them; doc is its content as a document, nil where it is none.
func (r *Redactor) AddFile(judge Judge, content []byte, doc *conf.Document) {
	for line := range bytes.Lines(content) {
		text := string(line)
		for _, at := range stretches(text) {
			r.found("", text[at[0]:at[1]])
		}
	}
	if doc == nil {
		return
	}
	for _, s := range doc.Settings() {
		for _, part := range judge(s.Address, s.Value) {
			name := s.Address[strings.LastIndexByte(s.Address, '/')+1:]
			r.found(strings.Trim(name, `@"`), part)
		}
	}
}

// found takes a secret that stands at a name, "" where none is known.
func (r *Redactor) found(name, value string) {
	value = strings.Trim(value, `"'`)
	switch {
	case none(value):
	case !ordinary.MatchString(value):
		r.Add(value)
	case name != "" && !slices.Contains(r.words[name], value):
		if r.words == nil {
			r.words = map[string][]string{}
		}
		r.words[name] = append(r.words[name], value)
	}
}

// Covers tells whether the redactor knows any secret.
func (r *Redactor) Covers() bool { return len(r.values)+len(r.words) > 0 }

// Standing gives a redactor for those secrets alone that stand in a text. What people
// wrote themselves is cleaned with the one of what else they are shown: were a guess
// covered where it is right, the cover would tell them so.
func (r *Redactor) Standing(text string) *Redactor {
	some := &Redactor{words: map[string][]string{}}
	for _, v := range r.values {
		if strings.Contains(text, v) {
			some.values = append(some.values, v)
		}
	}
	for name, values := range r.words {
		for line := range strings.Lines(text) {
			if !strings.Contains(line, name) {
				continue
			}
			for _, v := range values {
				if word(v).MatchString(line) && !slices.Contains(some.words[name], v) {
					some.words[name] = append(some.words[name], v)
				}
			}
		}
	}
	return some
}

// Seen gives a text of the same length in which secrets that tell by themselves are
// NUL: whoever asks where a text stands learns nothing of them.
func Seen(text string) string {
	out := []byte(text)
	for _, at := range pem.FindAllStringIndex(text, -1) {
		clear(out[at[0]:at[1]])
	}
	from := 0
	for line := range strings.Lines(text) {
		for _, at := range stretches(line) {
			clear(out[from+at[0] : from+at[1]])
		}
		from += len(line)
	}
	return string(out)
}

// StandIn is a text for a secret's place where people are to see what becomes of a
// file, and may guess at what is in it. Nothing in it depends on the secret.
func StandIn(name string) string {
	sum := sha256.Sum256([]byte("what stands for the secret " + name))
	return "standin" + hex.EncodeToString(sum[:16])
}

// Clean covers all secrets in a text, and makes it legible.
func (r *Redactor) Clean(text string) string {
	for _, v := range r.values {
		text = strings.ReplaceAll(text, v, Placeholder)
	}
	if strings.Contains(text, "PRIVATE KEY-----") {
		text = pem.ReplaceAllString(text, Placeholder)
	}
	var b strings.Builder
	for line := range strings.Lines(text) {
		from := 0
		for _, at := range stretches(line) {
			b.WriteString(line[from:at[0]])
			b.WriteString(Placeholder)
			from = at[1]
		}
		b.WriteString(r.named(line[from:]))
	}
	return Legible(b.String())
}

// named covers ordinary words in a line that names the setting where they stand.
func (r *Redactor) named(line string) string {
	for name, values := range r.words {
		if !strings.Contains(line, name) {
			continue
		}
		for _, v := range values {
			line = word(v).ReplaceAllString(line, Placeholder)
		}
	}
	return line
}

// word fits an ordinary word that stands by itself.
func word(v string) *regexp.Regexp { return regexp.MustCompile(`\b` + v + `\b`) }

// Legible writes what would not be read as it stands as \xHH or \uHHHH: NUL and
// other control characters but line ends and tabs (a terminal obeys them), characters
// that turn the direction of what follows (Unicode UAX #9), and bytes that are no
// UTF-8, as in a file in Latin-1.
func Legible(text string) string {
	if legible(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, n := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case r == '\r' && i+1 < len(text) && text[i+1] == '\n', !unreadable(r):
			b.WriteString(text[i : i+n])
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += n
	}
	return b.String()
}

func legible(text string) bool {
	for i := 0; i < len(text); i++ {
		if c := text[i]; c < 0x20 && c != '\n' && c != '\t' || c == 0x7f || c >= 0x80 {
			return utf8.ValidString(text) && strings.IndexFunc(text, unreadable) < 0
		}
	}
	return true
}

// unreadable tells characters that act on what shows them, instead of being shown.
func unreadable(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r < 0xa0:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return false
}

// Covered gives what is shown of a secret value; an empty one stays empty.
func Covered(value string) string {
	if value == "" {
		return ""
	}
	return Placeholder
}

// Cover covers the secret parts of a value, longer ones first: one may hold another.
func Cover(value string, parts []string) string {
	if slices.Contains(parts, value) {
		return Covered(value)
	}
	longestFirst := slices.SortedFunc(slices.Values(parts), func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	for _, part := range longestFirst {
		if part != "" { // an entry that is new had none
			value = strings.ReplaceAll(value, part, Placeholder)
		}
	}
	return value
}

// Mask gives a copy's text with the secrets covered that stand at addresses of
// their own, in comments too, and private keys; Clean covers the rest line by
// line, in what is shown of it.
func Mask(judge Judge, content []byte, doc *conf.Document) []byte {
	if doc != nil {
		content = doc.Masked(func(s conf.Setting) []string { return judge(s.Address, s.Value) }, Placeholder)
	}
	if bytes.Contains(content, []byte("PRIVATE KEY-----")) {
		content = pem.ReplaceAll(content, []byte(Placeholder))
	}
	return content
}

// plainSecret is what a secret may hold where a format does not quote it.
var plainSecret = regexp.MustCompile(`^[A-Za-z0-9._~+/=@%:,!*()^-]+$`)

var errSecretNotPlain = errors.New("the secret holds characters that this file's format could read as its own; want letters, digits and ._~+/=@%:,!*()^- only, or a format that quotes")

// Fill puts secrets into text of a format that does not quote them.
func Fill(text string, secrets map[string]string) (string, error) {
	for _, name := range probe.Secrets(text) {
		if !plainSecret.MatchString(secrets[name]) {
			return "", errSecretNotPlain
		}
	}
	return probe.Fill(text, secrets), nil
}
