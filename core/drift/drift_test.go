package drift

import (
	"fmt"
	"testing"
)

func ExampleTell() {
	placed, now := Parse("file:b:640:root:root"), Parse("file:a:640:root:root")
	fmt.Println(Tell(placed, []Copy{Parse("file:a:640:root:root")}, now, nil).Words())
	// Output: holds again what it held before
}

// TestTell walks how a path was left, how it stood before, how it stands, and what a package
// put beside it.
func TestTell(t *testing.T) {
	seen := map[Kind]bool{}
	for _, c := range []struct {
		placed, earlier, now, beside string
		want                         Kind
	}{
		{"file:b:640:root:adm", "file:a:640:root:adm", "file:b:640:root:adm", "", AsPlaced},
		{"file:b:640:root:adm", "file:a:640:root:adm", "file:c:640:root:adm", "", Edited},
		{"file:b:640:root:adm", "file:a:640:root:adm", "file:a:640:root:adm", "", Back},
		{"file:b:640:root:adm", "file:a:640:root:adm", "file:a:644:root:root", "", Back}, // whatever its rights
		{"file:b:640:root:adm", "file:a:640:root:adm", "file:p:644:root:root", "b", Replaced},
		{"file:b:640:root:adm", "file:a:640:root:adm", "file:a:644:root:root", "b", Replaced}, // the package's own is the one before
		{"file:b:640:root:adm", "file:a:640:root:adm", "file:p:644:root:root", "x", Edited},
		{"file:b:640:root:adm", "file:a:640:root:adm", "none", "", Gone},
		{"file:b:640:root:adm", "none", "none", "", Gone},
		{"file:b:640:root:adm", "", "file:b:640:root:root", "", Rights},
		{"file:b:640:root:adm", "", "file:b:644:root:adm", "", Rights},
		{"file:b:640:root:adm", "", "file:b:640:www:adm", "", Rights},
		{"file:b:640:root:adm", "", "link:b", "", Edited},
		{"link:b", "link:a", "link:b", "", AsPlaced},
		{"link:b", "link:a", "link:a", "", Back},
		{"link:b", "link:a", "file:b:640:root:root", "", Edited},
		{"none", "file:a:640:root:adm", "none", "", AsPlaced},
		{"none", "file:a:640:root:adm", "file:a:640:root:adm", "", Appeared},
		{"made:640:root:adm", "", "file:x:640:root:adm", "", AsPlaced}, // what it holds is not known here
		{"made:640:root:adm", "", "file:x:644:root:adm", "", Rights},
		{"made:640:root:adm", "", "none", "", Gone},
		{"made:640:root:adm", "", "link:x", "", Edited},
	} {
		got := Tell(Parse(c.placed), []Copy{Parse(c.earlier)}, Parse(c.now), []string{c.beside})
		if seen[got] = true; got != c.want {
			t.Errorf("left as %s, before %s, now %s, beside %q: %s; want %s", c.placed, c.earlier, c.now, c.beside, got, c.want)
		}
		for _, text := range []string{c.placed, c.now} {
			if again := Parse(text).String(); again != text {
				t.Errorf("%s is written %s", text, again)
			}
		}
	}
	for _, k := range Kinds {
		if !seen[k] || k.Words() == string(k) {
			t.Errorf("%s is in no case, or has no words", k)
		}
	}
}
