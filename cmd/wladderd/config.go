package main

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"wladder/core/written"
	"wladder/directory"
	"wladder/tell"
)

// config is how the server is told to run.
type config struct {
	door
	data, database          string // database: a URL
	databaseFile            string
	lease, kept, driftEvery time.Duration
	accounts                string
	ownClimbs               bool
	checkpointsTo, tracesTo string // URLs
	credentials             string // a file
	tell                    string // a file
	signIn                  string // a file
	logFormat               string
	receivers               []tell.Receiver
	directory               *directory.Settings

	file string            // the configuration file; empty where none was read
	from map[string]string // where each key's value comes from, if not by default
}

// usualFile is the configuration file that is read where none is named.
const usualFile = "/etc/wladderd/config.yaml"

// key is one thing that the server can be told: by a line of the configuration file, by
// WLADDERD_NAME in the environment, or by a flag. The later of these weighs more.
type key struct {
	name         string
	field        func(*config) any // *string, *bool or *time.Duration, which holds the default
	value, limit string            // what it takes, and within which limits
	about        string
	noFlag       bool // the list of processes would show it
}

// keys lists all of them, as "wladderd config" prints them. A test holds docs/configuration.md to it.
var keys = []key{
	{name: "data", value: "directory", about: "keys, locks and, where no database is named, PostgreSQL's own files; the server's alone, to be kept safe",
		field: func(c *config) any { return &c.data }, limit: "it belongs to the server's account, and others may not write there"},
	{name: "listen", value: "address:port", about: "where people and programs reach the server",
		field: func(c *config) any { return &c.listen }, limit: "elsewhere than on loopback it wants certificate and certificate-key, or proxies"},
	{name: "certificate", value: "file, PEM", about: "the server's certificate and those above it; read again when it changes",
		field: func(c *config) any { return &c.certificate }, limit: "together with certificate-key"},
	{name: "certificate-key", value: "file, PEM", about: "the certificate's private key",
		field: func(c *config) any { return &c.key }, limit: "nobody else may read it"},
	{name: "proxies", value: "addresses or networks, a list", about: "the proxies through which alone the server is reached, and which have TLS",
		field: func(c *config) any { return &c.through }},
	{name: "database", value: "URL", about: "a PostgreSQL database, version 15 or newer; without it and database-file the server runs a PostgreSQL of its own on loopback",
		field: func(c *config) any { return &c.database }, noFlag: true, limit: "with a password in it, nobody else may read the file that holds it"},
	{name: "database-file", value: "file", about: "holds the URL of the database instead",
		field: func(c *config) any { return &c.databaseFile }, limit: "nobody else may read it; not together with database"},
	{name: "lease", value: "duration", about: "after how long another server may take over what this one worked on",
		field: func(c *config) any { return &c.lease }, limit: "500ms to 5m"},
	{name: "keep", value: "duration", about: "how long the files that a change replaced are kept, here and on the hosts, to go back to them, where the policy does not say",
		field: func(c *config) any { return &c.kept }, limit: "24h or more"},
	{name: "drift-every", value: "duration", about: "how often each host is looked at for files that are not as they were left, spread over that time",
		field: func(c *config) any { return &c.driftEvery }, limit: "1m or more; 0 for never"},
	{name: "checkpoints-to", value: "URL", about: "where the record's signed checkpoints are sent as well as to the log, by POST as a CloudEvent",
		field: func(c *config) any { return &c.checkpointsTo }, limit: "https, or http on loopback"},
	{name: "traces-to", value: "URL", about: "where each climb is told as an OpenTelemetry trace, by OTLP over HTTP: docs/metrics.md",
		field: func(c *config) any { return &c.tracesTo }, limit: "https, or http on loopback"},
	{name: "credentials", value: "file, YAML", about: "other keys, or keys of the ssh-agent, with which some hosts are signed in to: docs/files.md",
		field: func(c *config) any { return &c.credentials }},
	{name: "tell", value: "file, YAML", about: "who is told when a review, a gate, a pause or a host asks for a person: docs/climb.md",
		field: func(c *config) any { return &c.tell }},
	{name: "sign-in", value: "file, YAML", about: "the team's own directory, with which people sign in by OpenID Connect: docs/sign-in.md",
		field: func(c *config) any { return &c.signIn }},
	{name: "accounts", value: "file", about: "where there is no account yet, those to make: name, display name, roles by comma and password, between tabs",
		field: func(c *config) any { return &c.accounts }},
	{name: "own-climbs", value: "true or false", about: "whether an author who is an operator may start the climb of their own change",
		field: func(c *config) any { return &c.ownClimbs }},
	{name: "log-format", value: "text or json", about: "how the log is written, a line for each event, to standard error: docs/events.md lists them",
		field: func(c *config) any { return &c.logFormat }},
}

// usual gives the configuration by default.
func usual() config {
	return config{
		door: door{listen: "127.0.0.1:8480"}, data: "/var/lib/wladderd",
		lease: 15 * time.Second, kept: 30 * 24 * time.Hour, driftEvery: 6 * time.Hour, logFormat: "text",
		from: map[string]string{},
	}
}

// variable is a key's name in the environment.
func (k key) variable() string {
	return "WLADDERD_" + strings.ToUpper(strings.ReplaceAll(k.name, "-", "_"))
}

// set reads a value as people write it.
func (k key) set(c *config, text string) (err error) {
	switch field := k.field(c).(type) {
	case *string:
		*field = text
	case *bool:
		if text != "true" && text != "false" {
			return fmt.Errorf("%q is neither true nor false", text)
		}
		*field = text == "true"
	case *time.Duration:
		if *field, err = time.ParseDuration(text); err != nil && text != "0" {
			return fmt.Errorf("%q is not a duration; want one such as 15s, 10m or 720h", text)
		}
	}
	return nil
}

// text writes a value as set reads it, without passwords.
func (k key) text(c *config) string {
	switch field := k.field(c).(type) {
	case *bool:
		return fmt.Sprint(*field)
	case *time.Duration:
		return short(*field)
	case *string:
		if u, err := url.Parse(*field); err == nil && u.User != nil {
			return u.Redacted()
		}
		return *field
	}
	return ""
}

// short is a duration without parts that are nothing: 6h, not 6h0m0s.
func short(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// keyFlags makes a flag of each key, and one for the file; given holds what is given by them.
func keyFlags(flags *flag.FlagSet, c *config, usual string) (given map[string]string, file *string) {
	given = map[string]string{}
	for _, k := range keys {
		if !k.noFlag {
			take := func(text string) error { given[k.name] = text; return nil }
			if _, yes := k.field(c).(*bool); yes {
				flags.BoolFunc(k.name, k.help(), take)
			} else {
				flags.Func(k.name, k.help(), take)
			}
		}
	}
	return given, flags.String("config", usual, "the configuration `file`; wladderd config says what it may hold")
}

// configured reads the configuration of a command: the file, the environment, the flags that were
// given. All that is wrong is told, with where it stands.
func configured(flags *flag.FlagSet, args []string, getenv func(string) string) (c config, operands []string, err error) {
	c = usual()
	given, file := keyFlags(flags, &c, cmp.Or(getenv("WLADDERD_CONFIG"), usualFile))
	for {
		if err := flags.Parse(args); err != nil {
			return c, nil, err
		}
		if flags.NArg() == 0 {
			break
		}
		operands, args = append(operands, flags.Arg(0)), flags.Args()[1:]
	}
	named := getenv("WLADDERD_CONFIG") != ""
	flags.Visit(func(f *flag.Flag) { named = named || f.Name == "config" })
	var all []error
	lines, err := readConfig(*file)
	if err == nil {
		c.file = *file
	} else if errors.Is(err, fs.ErrNotExist) && !named {
		err = nil
	}
	all = append(all, err)
	for _, k := range keys {
		var text string
		at, isSet := lines[k.name]
		flagged, isGiven := given[k.name]
		switch {
		case isGiven:
			text, c.from[k.name] = flagged, "-"+k.name
		case getenv(k.variable()) != "":
			text, c.from[k.name] = getenv(k.variable()), k.variable()
		case isSet:
			text, c.from[k.name] = at.text, fmt.Sprintf("%s:%d", *file, at.line)
		default:
			continue
		}
		if err := k.set(&c, text); err != nil {
			all = append(all, c.wrong(k.name, "%w", err))
		}
	}
	for old, now := range renamed {
		if name := (key{name: old}).variable(); getenv(name) != "" {
			all = append(all, fmt.Errorf("%s is called %s now", name, key{name: now}.variable()))
		}
	}
	if err := errors.Join(all...); err != nil {
		return c, operands, err
	}
	return c, operands, c.validate()
}

// help is what a flag's help says of a key.
func (k key) help() string {
	text := "`" + k.value + "`: " + k.about
	if k.limit != "" {
		text += "; " + k.limit
	}
	return text
}

// wrong says what is wrong with a key's value, and where that comes from.
func (c *config) wrong(name, format string, args ...any) error {
	err := fmt.Errorf(format, args...)
	if from := c.from[name]; from != "" && from != "-"+name {
		return fmt.Errorf("%s: %s: %w", from, name, err)
	}
	return fmt.Errorf("-%s: %w", name, err)
}

// placed is a value of the configuration file, with its line.
type placed struct {
	text string
	line int
}

// readConfig reads a configuration file: a key and a value a line, or a list of values.
func readConfig(path string) (map[string]placed, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %s", path, strings.TrimSpace(err.Error()))
	}
	all := map[string]placed{}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return all, nil
	}
	var wrong []error
	refuse := func(n ast.Node, format string, args ...any) {
		wrong = append(wrong, fmt.Errorf("%s:%d: %s", path, n.GetToken().Position.Line, fmt.Sprintf(format, args...)))
	}
	entries, ok := file.Docs[0].Body.(ast.MapNode)
	if !ok || len(file.Docs) > 1 {
		refuse(file.Docs[0].Body, "want one list of keys, each with its value, such as listen: 127.0.0.1:8480")
		return nil, errors.Join(wrong...)
	}
	for i := entries.MapRange(); i.Next(); {
		name := strings.TrimSpace(i.Key().String())
		at := slices.IndexFunc(keys, func(k key) bool { return k.name == name })
		text, ok := scalars(i.Value())
		line := i.Key().GetToken().Position.Line
		switch {
		case at < 0:
			refuse(i.Key(), "%q is not a key%s; wladderd config lists them", name, meant(name))
		case all[name].line > 0:
			refuse(i.Key(), "%s stands in line %d already", name, all[name].line)
		case !ok:
			refuse(i.Key(), "%s: want %s", name, keys[at].value)
		case name == "database" && strings.Contains(text, "@") && private(path) != nil:
			refuse(i.Key(), "database: it may hold a password, and others may read this file; chmod 600, or use database-file")
		}
		all[name] = placed{text, line}
	}
	return all, errors.Join(wrong...)
}

// scalars gives a value, or a list of them between commas.
func scalars(n ast.Node) (string, bool) {
	switch n := n.(type) {
	case *ast.NullNode:
		return "", false
	case *ast.StringNode:
		return n.Value, true
	case ast.ScalarNode:
		return n.String(), true
	case *ast.SequenceNode:
		var all []string
		for _, v := range n.Values {
			text, ok := scalars(v)
			if !ok {
				return "", false
			}
			all = append(all, text)
		}
		return strings.Join(all, ","), true
	}
	return "", false
}

// renamed are keys that had another name.
var renamed = map[string]string{"behind": "proxies"}

// meant names the key that somebody may have meant.
func meant(name string) string {
	if now := renamed[name]; now != "" {
		return "; it is called " + now + " now"
	}
	var names []string
	for _, k := range keys {
		names = append(names, k.name)
	}
	if near := written.Nearest(name, names); near != "" {
		return fmt.Sprintf("; did you mean %s?", near)
	}
	return ""
}

// printConfig writes the configuration in force as a configuration file: what is by default is
// commented out.
func printConfig(w io.Writer, c *config) {
	fmt.Fprint(w, "# Configuration of wladderd. The environment (WLADDERD_LISTEN for listen) weighs more than\n# this file, and a flag (-listen) more than that. A line that begins with # holds the default.\n")
	for _, k := range keys {
		fmt.Fprintf(w, "\n# %s.\n# Want: %s", strings.ToUpper(k.about[:1])+k.about[1:], k.value)
		if k.limit != "" {
			fmt.Fprintf(w, "; %s", k.limit)
		}
		fmt.Fprintf(w, ". By default: %s.\n", cmp.Or(k.text(new(usual())), "none"))
		if k.noFlag {
			fmt.Fprintf(w, "# There is no flag for it: the list of processes would show it.\n")
		}
		line := fmt.Sprintf("%s: %s", k.name, quoted(k.text(c)))
		if from := c.from[k.name]; from != "" {
			fmt.Fprintf(w, "%s  # from %s\n", line, from)
		} else {
			fmt.Fprintf(w, "#%s\n", strings.TrimRight(line, " "))
		}
	}
}

// quoted writes a text as a YAML scalar.
func quoted(text string) string {
	if text != "" && !strings.ContainsAny(text, "#'\"{}[],&*!|>%@`\n\t") && !strings.Contains(text, ": ") && strings.TrimSpace(text) == text {
		return text
	}
	if text == "" {
		return ""
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}

func (c *config) validate() error {
	var all []error
	wrong := func(name, format string, args ...any) { all = append(all, c.wrong(name, format, args...)) }
	if c.data == "" {
		wrong("data", "is empty; want a directory of the server's own")
	}
	all = append(all, c.validateDoor())
	if c.databaseFile != "" {
		text, err := os.ReadFile(c.databaseFile)
		if err == nil {
			err = private(c.databaseFile)
		}
		switch {
		case err != nil:
			wrong("database-file", "%w", err)
		case c.database != "":
			wrong("database-file", "database is given too, by %s; want one of them", c.from["database"])
		}
		c.database = strings.TrimSpace(string(text))
	}
	if c.lease < 500*time.Millisecond || c.lease > 5*time.Minute {
		wrong("lease", "%s is out of range; want 500ms to 5m", short(c.lease))
	}
	if c.kept < 24*time.Hour {
		wrong("keep", "%s is out of range; want 24h or more", short(c.kept))
	}
	if c.driftEvery != 0 && c.driftEvery < time.Minute {
		wrong("drift-every", "%s is out of range; want 1m or more, or 0 for never", short(c.driftEvery))
	}
	for _, to := range [][2]string{{"checkpoints-to", c.checkpointsTo}, {"traces-to", c.tracesTo}} {
		if to[1] != "" {
			if err := receiver(to[1]); err != nil {
				wrong(to[0], "%w", err)
			}
		}
	}
	if c.logFormat != "text" && c.logFormat != "json" {
		wrong("log-format", "%q is neither text nor json", c.logFormat)
	}
	if c.signIn != "" {
		text, err := os.ReadFile(c.signIn)
		if err == nil {
			c.directory, err = directory.Parse(c.signIn, text)
		}
		if err != nil {
			wrong("sign-in", "%w", err)
		}
	}
	if c.tell != "" {
		text, err := os.ReadFile(c.tell)
		if err == nil {
			c.receivers, err = tell.Parse(c.tell, text)
		}
		if err != nil {
			wrong("tell", "%w", err)
		}
	}
	return errors.Join(all...)
}
