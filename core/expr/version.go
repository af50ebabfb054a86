package expr

import (
	"cmp"
	"regexp"
	"strconv"
	"strings"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// Upstream gives the software's own version of a package's: without Debian's epoch and
// revision (deb-version(7)), or RPM's release: 1:1.22.1-9+deb12u1 is 1.22.1.
func Upstream(version string) string {
	if epoch, rest, ok := strings.Cut(version, ":"); ok && epoch != "" && strings.Trim(epoch, "0123456789") == "" {
		version = rest
	}
	if i := strings.LastIndexByte(version, '-'); i > 0 {
		version = version[:i]
	}
	return version
}

var versionPart = regexp.MustCompile(`[0-9]+|[a-z]+`)

// Compare tells which of two versions is older, as cmp.Compare does: numbers as numbers,
// part by part; 1.9 is older than 1.10, 2.0rc1 than 2.0, and 9.2 than 9.2p1.
func Compare(a, b string) int {
	one, two := versionPart.FindAllString(strings.ToLower(a), -1), versionPart.FindAllString(strings.ToLower(b), -1)
	for i := range max(len(one), len(two)) {
		x, y := part(one, i), part(two, i)
		if c := cmp.Or(cmp.Compare(x.rank, y.rank), cmp.Compare(x.number, y.number), cmp.Compare(x.word, y.word)); c != 0 {
			return c
		}
	}
	return 0
}

// versionedPart is a part of a version: what goes before a release (alpha, beta, pre, rc)
// ranks below its end, other words and numbers above it.
type versionedPart struct {
	rank   int
	number int64
	word   string
}

func part(all []string, i int) versionedPart {
	if i >= len(all) {
		return versionedPart{}
	}
	text := all[i]
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		if n == 0 && i > 0 { // 2.0 is 2
			return versionedPart{}
		}
		return versionedPart{rank: 2, number: n}
	}
	switch text {
	case "alpha", "beta", "pre", "rc", "dev":
		return versionedPart{rank: -1, word: text}
	}
	return versionedPart{rank: 1, word: text}
}

// atLeast is Compare for expressions: false where the first version is not known.
func atLeast(a, b ref.Val) ref.Val {
	x, _ := a.Value().(string)
	y, _ := b.Value().(string)
	return types.Bool(x != "" && Compare(Upstream(x), y) >= 0)
}
