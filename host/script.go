package host

import (
	"bytes"
	"compress/gzip"
	"embed"
	"encoding/base64"
	"maps"
	"regexp"
	"slices"
	"strings"

	"wladder/core/cache"
)

//go:embed scripts/*.sh
var files embed.FS

// script is one operation on a host: what it contracts to do stands in
// docs/host-scripts.md and at the top of its file.
type script struct {
	name   string
	text   string
	packed []byte   // the text as it is sent: gzip
	wrap   []string // words that run the shell, such as flock
}

// unpack runs a packed text: it goes over the wire at each operation, and nothing
// of it stays on the host. It comes on stdin; where that is wanted for contents,
// as the first argument, in base64.
const (
	unpack     = `text=$(gzip -dc) && [ -n "$text" ] || { echo "the script could not be unpacked; is gzip there?" >&2; exit 70; }; eval "$text"`
	unpackWord = `text=$(printf %s "$1" | base64 -d | gzip -dc) && [ -n "$text" ] || { echo "the script could not be unpacked; are base64 and gzip there?" >&2; exit 70; }; shift; eval "$text"`
)

// asking gives ask or watch with just what questions of these kinds need: a soak
// asks again and again.
func asking(name string, kinds map[string]bool) script {
	key := name + " " + strings.Join(slices.Sorted(maps.Keys(kinds)), " ")
	if s, ok := askings.Get(key); ok {
		return s
	}
	from := ""
	for _, part := range strings.Fields(parts[name]) {
		if part == "units" && !kinds["unit"] || (part == "surroundings" || part == "beneath") && !kinds["surroundings"] || part == "guarding" && name == "ask" && !kinds["guard"] {
			continue
		}
		from += " " + part
	}
	var b strings.Builder
	wanted := true
	for line := range strings.Lines(source(from)) {
		if kind, marked := strings.CutPrefix(strings.TrimSpace(line), "#:"); marked {
			of := strings.Fields(kind)
			wanted = len(of) == 0 || slices.ContainsFunc(of, func(kind string) bool { return kinds[kind] })
		}
		if wanted {
			b.WriteString(line)
		}
	}
	s := scripts[name]
	s.text = lean(used(b.String()))
	s.packed = packed(s.text)
	askings.Put(key, s)
	return s
}

// askings keeps what asking made: a few sets of kinds come again and again.
var askings = cache.New[string, script](64)

func packed(text string) []byte {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
	w.Write([]byte(text))
	w.Close()
	return b.Bytes()
}

// parts are the files of which each script is made, in order.
var parts = map[string]string{
	"survey": "survey", "collect": "beneath collect", "examine": "survey beneath collect", "ask": "guarding units beneath surroundings ask", "watch": "guarding units beneath surroundings watch ask",
	"claim": "guarding claim", "snapshot": "beneath snapshot", "make": "making make", "arm": "guarding arm",
	"place": "beneath stages guarding putback place", "act": "running act", "drain": "guarding running drain", "reboot": "running reboot", "look": "guarding units look",
	"restore": "beneath stages putback restore", "disarm": "stages guarding disarm", "confirm": "stages guarding confirm", "sweep": "sweep",
	"trial": "making trial", "trial-network": "making trial",
}

// guardText is what arm leaves on the host.
var guardText = assemble("beneath stages guarding putback running guard")

var scripts = func() map[string]script {
	all := map[string]script{}
	for name, from := range parts {
		text := assemble(from)
		all[name] = script{name, text, packed(text), wrapping(name)}
	}
	return all
}()

// walled runs a trial in namespaces of its own. At its time, or where this ends
// before, the kernel ends all that runs in there.
var walled = []string{"timeout", "-s", "KILL", "110", "unshare", "--mount", "--pid", "--ipc", "--uts", "--fork", "--kill-child", "--propagation", "private"}

// wrapping gives the words before sh: reading needs none, a trial has a mount
// namespace of its own, all others hold the host's lock.
func wrapping(name string) []string {
	switch name {
	case "survey", "collect", "examine", "ask":
		return nil
	case "trial":
		return slices.Concat(walled, []string{"--net"})
	case "trial-network":
		return walled
	}
	return []string{"sh", "-c", lockWrapper, "wladder"}
}

func assemble(from string) string { return lean(used(source(from))) }

// function finds the first line of a function, as all are written here.
var function = regexp.MustCompile(`^([a-z_0-9]+)\(\) \{`)

// names finds what may be the name of a function, or the first part of one that
// is put together.
var names = regexp.MustCompile(`[a-z_0-9]*_\$|[a-z_0-9]+`)

// used gives a text without the functions that nothing in it calls. One whose
// name is put together, as in ask_$kind, is called.
func used(text string) string {
	type piece struct{ name, text string } // a function; without a name a line outside of any
	var pieces []piece
	bodies := map[string]string{} // by name; under none what stands outside
	within := false
	for line := range strings.Lines(text) {
		found := function.FindStringSubmatch(line)
		switch {
		case within:
			pieces[len(pieces)-1].text += line
			within = line != "}\n"
		case found != nil:
			pieces = append(pieces, piece{found[1], line})
			within = !strings.HasSuffix(line, "}\n")
		default:
			pieces = append(pieces, piece{"", line})
		}
	}
	for _, p := range pieces {
		bodies[p.name] += p.text
	}
	called := map[string]bool{}
	var call func(name string)
	call = func(name string) {
		if called[name] {
			return
		}
		called[name] = true
		for _, word := range names.FindAllString(lean(bodies[name]), -1) { // comments name functions, and call none
			if family, ok := strings.CutSuffix(word, "$"); ok {
				for other := range bodies {
					if family != "" && strings.HasPrefix(other, family) {
						call(other)
					}
				}
			} else if bodies[word] != "" {
				call(word)
			}
		}
	}
	call("")
	var b strings.Builder
	for _, p := range pieces {
		if called[p.name] {
			b.WriteString(p.text)
		}
	}
	return b.String()
}

// source gives the parts as they are written, comments and all.
func source(from string) string {
	var b strings.Builder
	for _, part := range append([]string{"prelude"}, strings.Fields(from)...) {
		data, err := files.ReadFile("scripts/" + part + ".sh")
		if err != nil {
			panic(err) // embedded at build time
		}
		b.Write(data)
	}
	return b.String()
}

// hereDocument finds the word that ends a here-document.
var hereDocument = regexp.MustCompile(`<<-?'?([A-Z]+)'?$`)

// lean gives a script without its comments and indentation, which every host run
// would send some twenty times; here-documents stay as they are.
func lean(text string) string {
	var b strings.Builder
	end := ""
	for line := range strings.Lines(text) {
		bare := strings.TrimSpace(line)
		switch {
		case end != "":
			b.WriteString(line)
			if bare == end {
				end = ""
			}
			continue
		case bare == "" || strings.HasPrefix(bare, "#"):
			continue
		}
		b.WriteString(bare + "\n")
		if found := hereDocument.FindStringSubmatch(bare); found != nil {
			end = found[1]
		}
	}
	return b.String()
}

// lockWrapper runs the rest of its words while it holds the host's lock. The
// shell inherits the descriptor (3): were flock ended alone, the lock would stay
// with the script. What a script starts closes it.
// Nothing holds it for more than half an hour, whatever it waits for.
const lockWrapper = `{ [ -d /var/lib/wladder ] || { mkdir -p /var/lib/wladder && chmod 700 /var/lib/wladder; }; } && exec flock -w 20 -E 75 /var/lib/wladder/lock timeout -k 5 1800 "$@"`

// command writes the one command line that runs the script with its arguments,
// and gives what it wants on stdin: its text, or contents where there are some.
func (s script) command(sudo bool, contents []byte, args []string) (line string, stdin []byte) {
	words := append([]string{}, s.wrap...)
	if stdin = s.packed; contents == nil {
		words = append(words, "sh", "-c", unpack, "wladder-"+s.name)
	} else {
		stdin = contents
		words = append(words, "sh", "-c", unpackWord, "wladder-"+s.name, base64.StdEncoding.EncodeToString(s.packed))
	}
	words = append(words, args...)
	if sudo {
		words = append([]string{"sudo", "-n", "--"}, words...)
	}
	for i, w := range words {
		words[i] = quote(w)
	}
	return strings.Join(words, " "), stdin
}

// quote makes one word of any text for a POSIX shell.
func quote(s string) string {
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// harmless fits words in which nothing could be read as anything else; scripts
// take lines of them apart without looking for files.
var harmless = regexp.MustCompile(`^[A-Za-z0-9._/:@+,=%*?-]*$`)

// line writes words as scripts read them from one line: as they are behind a dot,
// or in base64.
func line(words []string) string {
	all := make([]string, len(words))
	for i, w := range words {
		if harmless.MatchString(w) {
			all[i] = "." + w
			continue
		}
		all[i] = base64.StdEncoding.EncodeToString([]byte(w))
	}
	return strings.Join(all, " ")
}

// lines writes commands, one a line.
func lines(commands [][]string) string {
	var b strings.Builder
	for _, c := range commands {
		b.WriteString(line(c) + "\n")
	}
	return b.String()
}
