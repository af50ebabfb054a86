package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A kept secret is made on each host at its first use, and never leaves it. A change writes
// {kept:NAME}; what is kept, shown and compared here holds a word in its place, which the
// host alone fills in, and which it puts back before anything of the file leaves it.

var (
	keptRef  = regexp.MustCompile(`\{kept:([a-z0-9-]+)\}`)
	keptWord = regexp.MustCompile(`wladder\.kept\.[a-z0-9-]+\.([a-z0-9-]+)\.kept`)
)

// FillKept gives a text with the words of kept secrets in place of {kept:NAME}.
func (s *Service) FillKept(text string) (string, error) {
	var unknown error
	text = keptRef.ReplaceAllStringFunc(text, func(ref string) string {
		name := ref[len("{kept:") : len(ref)-1]
		if slices.Contains(s.Kept, name) {
			return "wladder.kept." + s.Name + "." + name + ".kept"
		}
		unknown = fmt.Errorf("the definition of %s keeps no secret %q; it keeps %s", s.Name, name, strings.Join(append(s.Kept[:len(s.Kept):len(s.Kept)], "no other"), ", "))
		return ref
	})
	return text, unknown
}

// KeptPaths gives a command's words with {kept:NAME}, which stands for the path of a file that
// holds the secret, as the host knows it.
func (s *Service) KeptPaths(words []string) ([]string, error) {
	all := slices.Clone(words)
	for i, w := range words {
		if _, err := s.FillKept(w); err != nil {
			return nil, err
		}
		all[i] = keptRef.ReplaceAllString(w, "{kept:"+s.Name+".$1}")
	}
	return all, nil
}

// HoldsKept tells whether a text holds the word of a kept secret.
func HoldsKept(text []byte) bool { return keptWord.Match(text) }

// OnlyKept tells whether a text is the word of a kept secret, or {kept:NAME}, and nothing else.
func OnlyKept(text string) bool {
	left := keptRef.ReplaceAllString(keptWord.ReplaceAllString(text, ""), "")
	return left != text && strings.Trim(left, "\"' ") == ""
}

// KeptNames lists the kept secrets whose words a text holds, as the host names them.
func KeptNames(text []byte) (names []string) {
	for _, word := range keptWord.FindAll(text, -1) {
		names = append(names, strings.TrimSuffix(strings.TrimPrefix(string(word), "wladder.kept."), ".kept"))
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// ShowKept gives a text as people read it.
func ShowKept(text string) string {
	return keptWord.ReplaceAllString(text, "[kept on the host: $1]")
}
