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
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"wladder/core/conf"
	"wladder/core/probe"
)

// cover stands wherever a secret would.
const cover = "‹secret›"

// Min is the least length, in bytes, of a secret that is given to us:
// shorter ones could not be told from other text when they are masked.
const Min = 8

// minFound is the same for secrets found in files; shorter ones are masked
// where they stand, not in free text.
const minFound = 4

// likely are parts of which each name like a password's has one.
var likely = []string{"passw", "secret", "token", "private", "passphrase"}

var (
	passwordLike = regexp.MustCompile(`(?i)(passw|secret|token|private.?key|passphrase)`)
	// assigned finds name=value in free text where the name is like a password's.
	assigned = regexp.MustCompile(`(?i)([\w.-]*(?:passw|secret|passphrase|private.?key)[\w.-]*"?[ \t]*[=:][ \t]*)("[^"\n]*"|'[^'\n]*'|[^\s,;<>"']+)`)
	// pem finds private keys, whole or begun.
	pem = regexp.MustCompile(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(-----END [A-Z ]*PRIVATE KEY-----|$)`)
)

// Like tells whether a setting's name is like a password's.
func Like(name string) bool {
	name = strings.ToLower(name)
	if !slices.ContainsFunc(likely, func(part string) bool { return strings.Contains(name, part) }) {
		return false
	}
	return passwordLike.MatchString(name) && !strings.Contains(name, "authentication") && !strings.Contains(name, "tokens") && !noSecret.MatchString(name+"=")
}

// Redactor covers secrets in text that leaves us. The zero value knows no
// values; it covers private keys and what is assigned to a password's name.
type Redactor struct{ values []string }

// everyday are values that tell nothing: masked where they stand, not wherever
// the word occurs.
var everyday = regexp.MustCompile(`(?i)^(true|false|none|null|auto|default|prompt|required|optional|enabled?|disabled?|files?|well|not|yes|no|on|off|[/$%{<*].*)$`)

// noSecret fits names like a password's whose value is none: where a secret is
// kept, or how one signs in.
var noSecret = regexp.MustCompile(`(?i)(files?|paths?|dir|directory|url|authentication|tokens)"?[ \t]*[=:][ \t]*$`)

// Add has the redactor cover a value, and its form in base64, from now on.
func (r *Redactor) Add(value string) {
	if len(value) < minFound || slices.Contains(r.values, value) {
		return
	}
	r.values = append(r.values, value, base64.StdEncoding.EncodeToString([]byte(value)))
	slices.SortFunc(r.values, func(a, b string) int { return len(b) - len(a) })
}

// AddFile has the redactor cover the secrets that a file holds; doc is its
// content as a document, nil where it is none.
//
// secret tells the addresses that hold one.
func (r *Redactor) AddFile(secret func(address string) bool, content []byte, doc *conf.Document) {
	for line := range bytes.Lines(content) {
		if !mayAssign(line) {
			continue
		}
		for _, m := range assigned.FindAllSubmatch(line, -1) {
			if !noSecret.Match(m[1]) {
				r.found(string(m[2]))
			}
		}
	}
	if doc == nil {
		return
	}
	for _, s := range doc.Settings() {
		if secret(s.Address) {
			r.found(s.Value)
		}
	}
}

func (r *Redactor) found(value string) {
	if value = strings.Trim(value, `"'`); !everyday.MatchString(value) {
		r.Add(value)
	}
}

// Clean covers all secrets in a text, and makes it legible.
func (r *Redactor) Clean(text string) string {
	for _, v := range r.values {
		text = strings.ReplaceAll(text, v, cover)
	}
	if strings.Contains(text, "PRIVATE KEY-----") {
		text = pem.ReplaceAllString(text, cover)
	}
	var b strings.Builder
	for line := range strings.Lines(text) {
		if mayAssign([]byte(line)) {
			line = assigned.ReplaceAllStringFunc(line, func(found string) string {
				m := assigned.FindStringSubmatch(found)
				if bare := strings.Trim(m[2], `"'`); bare == "" || bare == cover || everyday.MatchString(bare) || noSecret.MatchString(m[1]) {
					return found
				}
				return m[1] + cover
			})
		}
		b.WriteString(line)
	}
	return Legible(b.String())
}

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

// mayAssign tells, quickly, lines that assigned cannot fit.
func mayAssign(line []byte) bool {
	if bytes.IndexByte(line, '=') < 0 && bytes.IndexByte(line, ':') < 0 {
		return false
	}
	for i, c := range line {
		if c |= 0x20; c != 'p' && c != 's' {
			continue
		}
		for _, word := range []string{"passw", "secret", "passphrase", "private"} {
			if rest := line[i:]; len(rest) >= len(word) && strings.EqualFold(string(rest[:len(word)]), word) {
				return true
			}
		}
	}
	return false
}

// Covered gives what is shown of a secret value; an empty one stays empty.
func Covered(value string) string {
	if value == "" {
		return ""
	}
	return cover
}

// Mask gives a copy's text with the secrets covered that stand at addresses of
// their own, in comments too, and private keys; Clean covers the rest line by
// line, in what is shown of it.
func Mask(secret func(address string) bool, content []byte, doc *conf.Document) []byte {
	if doc != nil {
		content = doc.Masked(func(s conf.Setting) bool { return secret(s.Address) }, cover)
	}
	if bytes.Contains(content, []byte("PRIVATE KEY-----")) {
		content = pem.ReplaceAll(content, []byte(cover))
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
