package probe

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Kind is what is asked.
type Kind string

// The kinds of question. The first four go over the network to the host under
// test, the others are put on the host itself.
const (
	HTTP Kind = "http"
	TCP  Kind = "tcp"
	TLS  Kind = "tls"
	SSH  Kind = "ssh"

	Unit     Kind = "unit"
	Process  Kind = "process"
	Port     Kind = "port"
	File     Kind = "file"
	Size     Kind = "size"
	Command  Kind = "command"
	Property Kind = "property"
	Variable Kind = "variable"
	Served   Kind = "served"
)

// certificate lists what a TLS connection answers.
var certificate = []string{"protocol", "names", "days_left", "issuer", "chain", "trusted"}

// answers lists what each kind answers, by the names that expressions have.
var answers = map[Kind][]string{
	HTTP:     {"connected", "held", "status", "headers", "body", "size"},
	TCP:      {"connected", "held", "banner"},
	TLS:      append([]string{"connected", "held"}, certificate...),
	SSH:      {"connected", "banner", "methods", "signed_in"},
	Unit:     {"state", "sub", "restarts", "processes", "renewed"},
	Process:  {"count", "users", "age"},
	Port:     {"listeners", "users"},
	File:     {"content", "mode", "owner", "group", "kind", "readable", "bytes"},
	Size:     {"bytes", "count"},
	Command:  {"exit", "output"},
	Property: {"output"},
	Variable: {"output"},
	Served:   {"output"},
}

// known tells whether any kind answers to the name; others are an expression's own.
func known(name string) bool {
	for _, all := range answers {
		if slices.Contains(all, name) {
			return true
		}
	}
	return false
}

// answersOf lists what an answer to the question holds.
func answersOf(a Ask) []string {
	if a.Kind == HTTP && a.Secure {
		return append(slices.Clone(answers[HTTP]), certificate...)
	}
	return answers[a.Kind]
}

// Network tells whether the question goes over the network.
func (k Kind) Network() bool { return k == HTTP || k == TCP || k == TLS || k == SSH }

// Ask is a parsed question. The host asked is always the one under test.
type Ask struct {
	Kind   Kind
	Method string   // http
	Secure bool     // http: over TLS
	Port   int      // http, tcp, tls, ssh, port
	Path   string   // http: path and query; file, size: absolute path
	Host   string   // http, tls: the name to ask for, empty for the host's own
	Header []string // http: "Name: value"
	Form   []string // http: name=value, sent as a form (POST)
	Send   string   // tcp: text to send
	Pin    string   // http, tls: SHA-256 of the certificate, in hex
	// PinFile is the key of the definition's file that holds the certificate, in
	// place of Pin: it is read on the host, over SSH with the pinned key.
	PinFile string
	Local   bool              // http, tcp, tls: asked from within the host, of its own loopback
	With    map[string]string // ssh: user, password, key; file: as; size: name; port: protocol
	Name    string            // unit, process, command
	Open    bool              // it holds {value:NAME}, and can be asked once that is filled in; see Probe.With
}

// grammar says, per kind, what may stand behind the operand as name=value.
var grammar = map[Kind]struct {
	form string
	may  string
}{
	HTTP:     {"http or https [METHOD] :PORT/PATH [host=NAME] [header=\"Name: value\"] [pin=SHA256|pin={file:KEY}] [from=host]", " host header form pin from "},
	TCP:      {`tcp :PORT [send="TEXT"] [from=host]`, " send from "},
	TLS:      {"tls :PORT [host=NAME] [pin=SHA256|pin={file:KEY}] [from=host]", " host pin from "},
	SSH:      {"ssh :PORT [user=NAME] [password={secret:NAME}] [key={secret:NAME}]", " user password key "},
	Unit:     {"unit NAME", ""},
	Process:  {"process NAME", ""},
	Port:     {"port NUMBER [protocol=udp|any]", " protocol "},
	File:     {"file PATH [as=USER]", " as "},
	Size:     {"size PATH [name=GLOB]", " name "},
	Command:  {"command NAME, one of the definition's", ""},
	Property: {"property UNIT NAME", ""},
	Variable: {"variable NAME, of MariaDB or MySQL", ""},
	Served:   {"served PATH UNIT", ""},
}

// Properties are those of a unit that may be asked for: none of them holds a secret
// (systemd.exec(5), systemd.service(5)).
var Properties = []string{"Restart", "Type", "User", "Group", "KillMode", "NotifyAccess", "LimitNOFILE", "LimitNPROC", "TasksMax", "Nice", "OOMPolicy", "PrivateTmp", "PrivateDevices", "ProtectSystem", "ProtectHome", "NoNewPrivileges", "RemainAfterExit"}

const kinds = "want http, https, tcp, tls, ssh, unit, property, process, port, file, size, variable, served or command"

var (
	variableName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	plainName    = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9@:_.+-]*$`)
	pinFile      = regexp.MustCompile(`^\{file:([a-z0-9-]+)\}$`)
	pinRule      = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

// ParseAsk reads the one line that states a question; a word with blanks stands
// in double quotes:
//
//	http GET :8080/tiles/ host=maps.vellmere.example header="Accept-Encoding: gzip"
//	https :9443/ pin=5e884898da28047151d0e56f8dc6292773603d0d6aabbd62a11ef721d1542d80
//	tcp :6379 send="PING\r\n"
//	https :9443/load from=host header="X-Token: {secret:load}"
//	tls :443 host=maps.vellmere.example pin={file:certificate}
//	ssh :22 user=kim key={secret:kim-key}
//	unit nginx.service
//	process nginx
//	port 9443
//	file /etc/ssl/private/maps.key as=www-data
//	size /var/log/gauges name=*.log
//	command worker-count
func ParseAsk(line string) (Ask, error) { return parseAsk(line, false) }

// ParseFirst reads a request that goes before an http question, in the same
// sitting: its cookies are kept, and it may be a POST with form=name:value.
func ParseFirst(line string) (Ask, error) { return parseAsk(line, true) }

func parseAsk(line string, first bool) (Ask, error) {
	bad := func(format string, args ...any) (Ask, error) {
		return Ask{}, fmt.Errorf("ask %q: "+format, append([]any{line}, args...)...)
	}
	words, err := split(line)
	if err != nil {
		return bad("%v", err)
	}
	if len(words) == 0 {
		return bad(kinds)
	}
	open := false
	for i, w := range words {
		if len(Values(w)) > 0 { // known on each host; here it is any text that fits
			words[i], open = valueRef.ReplaceAllString(w, "1"), true
		}
	}
	instance := false
	for i, w := range words {
		if SpeaksOfInstance(w) {
			words[i], instance = FillInstance(w, "1"), true
		}
	}
	a := Ask{Kind: Kind(words[0]), With: map[string]string{}}
	if words[0] == "https" {
		a.Kind, a.Secure = HTTP, true
	}
	rule, known := grammar[a.Kind]
	if !known {
		return bad("%q is not known; %s", words[0], kinds)
	}
	words = words[1:]
	if a.Kind == HTTP {
		a.Method = "GET"
		if len(words) > 0 && words[0] != "" && words[0][0] != ':' {
			a.Method, words = words[0], words[1:]
		}
		if a.Method != "GET" && a.Method != "HEAD" && a.Method != "OPTIONS" && !(first && a.Method == "POST") {
			return bad("method %q; want GET, HEAD or OPTIONS, which change nothing", a.Method)
		}
	} else if first {
		return bad("only http requests go first")
	}
	if len(words) == 0 || words[0] == "" {
		return bad("want %s", rule.form)
	}
	if err := a.operand(words[0]); err != nil {
		return bad("%v", err)
	}
	if a.Kind == Served {
		if len(words) != 2 || !plainName.MatchString(words[1]) {
			return bad("want %s", rule.form)
		}
		a.With["unit"], words = words[1], words[:1]
	}
	if a.Kind == Property {
		if len(words) != 2 || !slices.Contains(Properties, words[1]) {
			return bad("want %s, one of %s", rule.form, strings.Join(Properties, ", "))
		}
		a.With["name"], words = words[1], words[:1]
	}
	for _, w := range words[1:] {
		name, value, _ := strings.Cut(w, "=")
		if value == "" || !strings.Contains(rule.may, " "+name+" ") {
			return bad("%q is not known here; want %s", w, rule.form)
		}
		if err := a.option(name, value); err != nil {
			return bad("%v", err)
		}
	}
	if open && (a.Kind == File || a.Kind == Size || a.Kind == Command || a.PinFile != "") {
		return bad("a named value of the change stands in questions over the network, and of units, processes and ports")
	}
	a.Open = open || instance
	if len(a.Form) > 0 && a.Method != "POST" {
		return bad("a form wants the method POST, in a request that goes first")
	}
	return a, nil
}

// operand reads what is asked: a port with its path, a path, a name.
func (a *Ask) operand(w string) error {
	switch a.Kind {
	case HTTP, TCP, TLS, SSH:
		port, rest, _ := strings.Cut(w, "/")
		if a.Kind == HTTP {
			a.Path = "/" + rest
		} else if port != w {
			return fmt.Errorf("%q is not a port; want :1 to :65535", w)
		}
		n, err := strconv.Atoi(strings.TrimPrefix(port, ":"))
		if err != nil || w[0] != ':' || n < 1 || n > 65535 {
			return fmt.Errorf("%q is not a port; want :1 to :65535", w)
		}
		a.Port = n
	case Port:
		n, err := strconv.Atoi(w)
		if err != nil || n < 1 || n > 65535 {
			return fmt.Errorf("%q is not a port; want 1 to 65535", w)
		}
		a.Port = n
	case File, Size, Served:
		if !path.IsAbs(w) || path.Clean(w) != w {
			return fmt.Errorf("%q is not a clean absolute path", w)
		}
		a.Path = w
	case Variable:
		if !variableName.MatchString(w) {
			return fmt.Errorf("%q is not the name of a system variable", w)
		}
		a.Name = w
	default:
		if !plainName.MatchString(w) {
			return fmt.Errorf("%q is not a name; want %s", w, grammar[a.Kind].form)
		}
		a.Name = w
	}
	return nil
}

func (a *Ask) option(name, value string) error {
	switch name {
	case "host":
		a.Host = value
	case "header":
		field, _, ok := strings.Cut(value, ":")
		if !ok || strings.TrimSpace(field) == "" || strings.ContainsAny(value, "\r\n") {
			return fmt.Errorf(`header %q; want one such as "Accept-Encoding: gzip"`, value)
		}
		a.Header = append(a.Header, value)
	case "form":
		if _, _, ok := strings.Cut(value, ":"); !ok {
			return fmt.Errorf("form %q; want form=name:value", value)
		}
		a.Form = append(a.Form, value)
	case "send":
		a.Send = strings.NewReplacer(`\r`, "\r", `\n`, "\n", `\t`, "\t").Replace(value)
	case "from":
		if value != "host" {
			return fmt.Errorf("from=%s; want from=host", value)
		}
		a.Local = true
	case "pin":
		if m := pinFile.FindStringSubmatch(value); m != nil {
			a.PinFile = m[1]
			return nil
		}
		if a.Pin = strings.ToLower(strings.ReplaceAll(value, ":", "")); !pinRule.MatchString(a.Pin) {
			return fmt.Errorf("pin %q is no SHA-256 of 64 hex digits, and no {file:KEY}", value)
		}
	case "as":
		if !plainName.MatchString(value) {
			return fmt.Errorf("%q is not a user's name", value)
		}
		a.With[name] = value
	case "protocol":
		if value != "tcp" && value != "udp" && value != "any" {
			return fmt.Errorf("protocol %q; want tcp or udp, or any", value)
		}
		a.With[name] = value
	case "password", "key":
		if len(Secrets(value)) != 1 {
			return fmt.Errorf("%s wants a secret's name, as in %s={secret:kim}; no secret stands in a probe itself", name, name)
		}
		a.With[name] = value
	default:
		a.With[name] = value
	}
	return nil
}

// split cuts a line into words at blanks outside double quotes. Within them \"
// is a quote; other backslashes stay.
func split(line string) (words []string, err error) {
	var word strings.Builder
	open, begun := false, false
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case open && c == '\\' && i+1 < len(line) && line[i+1] == '"':
			i++
			word.WriteByte('"')
		case c == '"':
			open, begun = !open, true
		case !open && (c == ' ' || c == '\t' || c == '\n'):
			if begun {
				words = append(words, word.String())
				word.Reset()
			}
			begun = false
		default:
			begun = true
			word.WriteByte(c)
		}
	}
	if open {
		return nil, fmt.Errorf("a quote is not closed")
	}
	if begun {
		words = append(words, word.String())
	}
	return words, nil
}

var secretRef = regexp.MustCompile(`\{secret:([a-z][a-z0-9-]{0,62})\}`)

var (
	valueRef  = regexp.MustCompile(`\{value:([a-z][a-z0-9-]{0,62})\}`)
	valuesRef = regexp.MustCompile(`\bvalues(?:\.([a-z][a-z0-9_]*)|\["([^"]*)"\])`)
)

// Values names the named values that a text holds, as in {value:port}.
func Values(text string) (names []string) {
	for _, m := range valueRef.FindAllStringSubmatch(text, -1) {
		names = append(names, m[1])
	}
	return names
}

// FillValues gives a text with its named values in place.
func FillValues(text string, values map[string]string) string {
	return valueRef.ReplaceAllStringFunc(text, func(ref string) string { return values[ref[len("{value:"):len(ref)-1]] })
}

// Secrets names the secrets that a text refers to, as in {secret:kim}.
func Secrets(text string) (names []string) {
	for _, m := range secretRef.FindAllStringSubmatch(text, -1) {
		names = append(names, m[1])
	}
	return names
}

// Fill gives a text with its secrets in place, by name.
func Fill(text string, secrets map[string]string) string {
	return secretRef.ReplaceAllStringFunc(text, func(ref string) string {
		return secrets[ref[len("{secret:"):len(ref)-1]]
	})
}

// Filled gives the question with its secrets in place, by name.
func (a Ask) Filled(secrets map[string]string) Ask {
	fill := func(text string) string { return Fill(text, secrets) }
	all := func(texts []string) []string {
		out := make([]string, len(texts))
		for i, t := range texts {
			out[i] = fill(t)
		}
		return out
	}
	a.Send, a.Header, a.Form = fill(a.Send), all(a.Header), all(a.Form)
	with := map[string]string{}
	for k, v := range a.With {
		with[k] = fill(v)
	}
	a.With = with
	return a
}
