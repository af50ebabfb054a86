package host

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// A plan is approved together with the scripts that carry it out. A server carries those of the
// version before beside its own, so that climbs which were approved under that go on after an
// upgrade, by the very scripts that were approved.

//go:embed earlier
var earlierFiles embed.FS

// contract numbers what scripts are given and what they answer: those of an earlier version with
// another number are not carried, since this server would not speak with them as it has to. Raise
// it with every change of that, and of unpack.
const contract = 1

// scriptSet is all scripts of a version.
type scriptSet struct {
	scripts map[string]script
	guard   string // what arm leaves on the host
	earlier bool   // of a version before
}

// present are the scripts of this version.
var present = scriptSet{scripts, guardText, false}

// keptSet is how a set is kept in a file.
type keptSet struct {
	Contract int                   `json:"contract"`
	Guard    string                `json:"guard"`
	Scripts  map[string]keptScript `json:"scripts"`
}

type keptScript struct {
	Text string   `json:"text"`
	Wrap []string `json:"wrap"`
}

// earlier are those of versions before, by their digests.
var earlier = func() map[string]scriptSet {
	all := map[string]scriptSet{}
	files, _ := earlierFiles.ReadDir("earlier")
	for _, f := range files {
		digest, packed := strings.CutSuffix(f.Name(), ".json.gz")
		if !packed || digest == presentDigest { // kept before anything was changed
			continue
		}
		data, err := earlierFiles.ReadFile("earlier/" + f.Name())
		if err == nil {
			var kept keptSet
			if kept, err = unpackSet(data); err == nil && kept.Contract == contract {
				all[digest] = kept.set()
			}
		}
		if err != nil {
			panic(fmt.Sprintf("host scripts %s: %v", f.Name(), err)) // a test holds each
		}
	}
	return all
}()

func unpackSet(data []byte) (kept keptSet, err error) {
	r, err := gzip.NewReader(bytes.NewReader(data))
	if err == nil {
		err = json.NewDecoder(r).Decode(&kept)
	}
	return kept, err
}

func (k keptSet) set() scriptSet {
	s := scriptSet{map[string]script{}, k.Guard, true}
	for name, one := range k.Scripts {
		s.scripts[name] = script{name, one.Text, packed(one.Text), one.Wrap}
	}
	return s
}

// digest is SHA-256 over all scripts of a set, in hex.
func (s scriptSet) digest() string {
	h := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(s.scripts)) {
		h.Write([]byte(name + "\x00" + strings.Join(s.scripts[name].wrap, " ") + "\x00" + s.scripts[name].text + "\x00"))
	}
	h.Write([]byte(unpack + "\x00" + unpackWord + "\x00" + s.guard))
	return hex.EncodeToString(h.Sum(nil))
}

// ScriptsDigest is that of this version's scripts: a plan is approved together with the scripts
// that will carry it out.
func ScriptsDigest() string { return presentDigest }

var presentDigest = present.digest()

// Carried lists the digests of all scripts that this server carries, its own first.
func Carried() []string {
	return append([]string{presentDigest}, slices.Sorted(maps.Keys(earlier))...)
}

// setOf gives the scripts with a digest; those of this version where they are not carried.
func setOf(digest string) scriptSet {
	if s, there := earlier[digest]; there {
		return s
	}
	return present
}

// asking gives ask or watch with what questions of these kinds need; of an earlier version, whose
// parts are not known any more, the whole script.
func (s scriptSet) asking(name string, kinds map[string]bool) script {
	if s.earlier {
		return s.scripts[name]
	}
	return asking(name, kinds)
}
