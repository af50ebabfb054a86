package host

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"flag"
	"os"
	"strings"
	"testing"
)

var keep = flag.Bool("keep", false, "keep this version's scripts, for servers of the next one")

// TestEarlier holds the scripts of versions before: each set is whole, as its digest says, and
// under this version's contract has each script that is asked for.
func TestEarlier(t *testing.T) {
	if *keep {
		k := keptSet{contract, present.guard, map[string]keptScript{}}
		for name, s := range present.scripts {
			k.Scripts[name] = keptScript{s.text, s.wrap}
		}
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		if err := json.NewEncoder(w).Encode(k); err != nil {
			t.Fatal(err)
		}
		w.Close()
		if err := os.WriteFile("earlier/"+presentDigest+".json.gz", b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	entries, err := earlierFiles.ReadDir("earlier")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		digest, packed := strings.CutSuffix(e.Name(), ".json.gz")
		if !packed {
			continue
		}
		data, _ := earlierFiles.ReadFile("earlier/" + e.Name())
		k, err := unpackSet(data)
		if err != nil {
			t.Errorf("%s: %v", e.Name(), err)
			continue
		}
		if k.Contract != contract {
			continue // kept for nobody: it may go
		}
		if got := k.set().digest(); got != digest {
			t.Errorf("%s holds scripts with the digest %s", e.Name(), got)
		}
		for name := range present.scripts {
			if _, there := k.Scripts[name]; !there {
				t.Errorf("%s has no %s, which this version sends: raise the contract", e.Name(), name)
			}
		}
	}
	if all := Carried(); all[0] != ScriptsDigest() || len(all) != 1+len(earlier) {
		t.Errorf("carried: %v", all)
	}
}

// TestEarlierAreSent has a host worked on with the scripts by which its plan was approved, as far
// as they are carried.
func TestEarlierAreSent(t *testing.T) {
	_, _, target := startHost(t, "127.20.249.1:2222")
	before := scriptSet{map[string]script{}, "echo the guard of then\n", true}
	for name, s := range present.scripts {
		before.scripts[name] = s
	}
	said := "echo as it was done then >&2; exit 7\n"
	before.scripts["claim"] = script{"claim", said, packed(said), wrapping("claim")}
	earlier[before.digest()] = before
	t.Cleanup(func() { delete(earlier, before.digest()) })
	for scripts, want := range map[string]string{before.digest(): "as it was done then", "": "", ScriptsDigest(): "", "not carried": ""} {
		target.Scripts = scripts
		conn, err := (&Dialer{Signer: newSigner(2)}).Connect(t.Context(), target)
		if err != nil {
			t.Fatal(err)
		}
		if err := conn.TakeOver(t.Context(), Claim{7, "run-1"}); (err != nil) != (want != "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("with the scripts %q: %v; want %q", scripts, err, want)
		}
		conn.Close()
	}
}
