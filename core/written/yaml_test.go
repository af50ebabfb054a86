package written

import (
	"runtime"
	"strings"
	"testing"
)

// FuzzDecode holds that no text takes more memory than its length allows, nor
// panics.
func FuzzDecode(f *testing.F) {
	for _, text := range []string{"[", "{", "- ", "? ", "a: [", "- - ", "a:\n ", "{a: ", "\"", "|\n ", "!!", "#", "&a ", "*a", "\t", "a: >\n", "[a,", ": ", "%", "'", "- a\n", "\\", "\xff", "---\n", "a: b: "} {
		f.Add([]byte(strings.Repeat(text, 300)))
	}
	f.Add([]byte("title: t\nedits:\n  - {set: a, to: 1}\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var v map[string]any
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		Decode("x", "change", Names, data, &v)
		runtime.ReadMemStats(&after)
		if used := after.TotalAlloc - before.TotalAlloc; used > 64<<20+uint64(len(data))*2000 {
			t.Errorf("%d bytes took %d MiB", len(data), used>>20)
		}
	})
}

// TestDeepText gives a parser what once took gigabytes: at the greatest length,
// each kind of nesting.
func TestDeepText(t *testing.T) {
	for _, unit := range []string{"[", "{", "- ", "? ", "a: [", "- - ", "{a: ", "[a, ", "\"", "|\n ", "!!a ", "#", "'", "a: b: ", ": ", "- a\n", "a:\n", "[]", "{a: 1}, ", "\t", "x", "- [\n", "]", "%a\n", "@"} {
		data := []byte(strings.Repeat(unit, maxYAML/4/len(unit))) // a whole one takes seconds
		var v map[string]any
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		Decode("x", "change", Names, data, &v)
		runtime.ReadMemStats(&after)
		if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 400 {
			t.Errorf("%.10q repeated to 256 KiB took %d MiB", unit, used)
		}
	}
	for depth, text := range map[int]string{0: "a: 1\nb:\n  - - - c\n", 3: "a: 1\nb: 2\n" + strings.Repeat(" ", maxIndent+1) + "c\n", 1: strings.Repeat("[", maxNested+1)} {
		if line := shallow([]byte(text)); line != depth {
			t.Errorf("%.40q: line %d; want %d", text, line, depth)
		}
	}
}
