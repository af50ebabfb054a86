package host

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"sort"
	"strings"
)

//go:embed scripts/*.sh
var files embed.FS

// script is one operation on a host.
type script struct {
	name   string
	text   string
	locked bool // holds the host's lock while it runs
}

var scripts = func() map[string]script {
	prelude := mustRead("prelude")
	all := map[string]script{}
	for name, locked := range map[string]bool{
		"survey": false, "collect": false, "trial": false, "unit": false,
		"claim": true, "snapshot": true, "place": true, "act": true, "look": true, "restore": true,
	} {
		all[name] = script{name, prelude + mustRead(name), locked}
	}
	return all
}()

func mustRead(name string) string {
	data, err := files.ReadFile("scripts/" + name + ".sh")
	if err != nil {
		panic(err) // embedded at build time
	}
	return string(data)
}

// ScriptsDigest is SHA-256 over all scripts: a plan is approved together with
// the scripts that will carry it out.
func ScriptsDigest() string {
	names := make([]string, 0, len(scripts))
	for name := range scripts {
		names = append(names, name)
	}
	sort.Strings(names)
	h := sha256.New()
	for _, name := range names {
		h.Write([]byte(name + "\x00" + scripts[name].text + "\x00"))
	}
	h.Write([]byte(lockWrapper))
	return hex.EncodeToString(h.Sum(nil))
}

// lockWrapper runs the rest of its words in a shell while it holds the host's
// lock. flock closes its descriptor (-o), so that nothing started inherits it.
const lockWrapper = `mkdir -p /var/lib/wladder && chmod 700 /var/lib/wladder && exec flock -o -w 30 -E 75 /var/lib/wladder/lock sh -c "$@"`

// command writes the one command line that runs the script with its arguments.
func (s script) command(sudo bool, args []string) string {
	words := []string{"sh", "-c"}
	if s.locked {
		words = append(words, lockWrapper, "wladder")
	}
	words = append(append(words, s.text, "wladder-"+s.name), args...)
	if sudo {
		words = append([]string{"sudo", "-n", "--"}, words...)
	}
	for i, w := range words {
		words[i] = quote(w)
	}
	return strings.Join(words, " ")
}

// quote makes one word of any text for a POSIX shell.
func quote(s string) string {
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
