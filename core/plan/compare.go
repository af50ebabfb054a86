package plan

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Difference is what differs in the same way between two plans: of the head, where it names
// no hosts, or of the leaves of some.
type Difference struct {
	// Kind is head, altered, added or gone.
	Kind  string   `json:"kind"`
	Hosts []string `json:"hosts"` // by name
	What  []string `json:"what"`  // a sentence each; empty for hosts that are added or gone
}

// Frame is a plan as it was stored: the bytes of its head, and of its leaves by host.
type Frame struct {
	Head   []byte
	Leaves map[string][]byte
}

// Compare says what differs between two plans: the head first, then the leaves, those that
// differ in the same way together, the odd ones first. It holds the stored bytes against
// each other: nothing that a digest covers is left out.
func Compare(old, new Frame) ([]Difference, error) {
	all := []Difference{}
	head, err := apart(old.Head, new.Head)
	if err != nil {
		return nil, err
	}
	if len(head) > 0 {
		all = append(all, Difference{"head", []string{}, head})
	}
	alike := map[string]*Difference{}
	put := func(kind, host string, what []string) {
		key := kind + "\x00" + strings.Join(what, "\x00")
		if alike[key] == nil {
			alike[key] = &Difference{kind, nil, what}
		}
		alike[key].Hosts = append(alike[key].Hosts, host)
	}
	for _, host := range slices.Sorted(maps.Keys(new.Leaves)) {
		before, there := old.Leaves[host]
		if !there {
			put("added", host, []string{})
			continue
		}
		what, err := apart(before, new.Leaves[host])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", host, err)
		}
		if len(what) > 0 {
			put("altered", host, what)
		}
	}
	for _, host := range slices.Sorted(maps.Keys(old.Leaves)) {
		if _, there := new.Leaves[host]; !there {
			put("gone", host, []string{})
		}
	}
	leaves := slices.SortedFunc(maps.Values(alike), func(a, b *Difference) int {
		return cmp.Or(cmp.Compare(len(a.Hosts), len(b.Hosts)), cmp.Compare(a.Hosts[0], b.Hosts[0]))
	})
	for _, d := range leaves {
		all = append(all, *d)
	}
	return all, nil
}

// apart lists in sentences what differs between two stored heads, or two leaves.
func apart(old, new []byte) (all []string, err error) {
	if string(old) == string(new) {
		return nil, nil
	}
	var a, b any
	if err := json.Unmarshal(old, &a); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(new, &b); err != nil {
		return nil, err
	}
	walk("", a, b, func(at string, a, b any) { all = append(all, sentence(at, a, b)) })
	if len(all) == 0 { // as JSON they say the same
		all = append(all, "it is written otherwise")
	}
	return all, nil
}

// walk tells each place at which two JSON values differ, by its way from the top. What is
// of a kind stands side by side: lists member by member, named by what they are about.
func walk(at string, a, b any, tell func(at string, a, b any)) {
	switch x := a.(type) {
	case map[string]any:
		if y, ok := b.(map[string]any); ok {
			keys := slices.Sorted(maps.Keys(x))
			for _, key := range slices.Sorted(maps.Keys(y)) {
				if _, both := x[key]; !both {
					keys = append(keys, key)
				}
			}
			for _, key := range keys {
				walk(way(at, strings.ReplaceAll(key, "_", " ")), x[key], y[key], tell)
			}
			return
		}
	case []any:
		if y, ok := b.([]any); ok {
			for i := range max(len(x), len(y)) {
				walk(way(at, member(i, x, y)), of(x, i), of(y, i), tell)
			}
			return
		}
	case nil:
		if b == nil {
			return
		}
	default:
		if a == b {
			return
		}
	}
	tell(at, a, b)
}

func of(list []any, i int) any {
	if i < len(list) {
		return list[i]
	}
	return nil
}

func way(at, step string) string {
	if at == "" {
		return step
	}
	return at + ", " + step
}

// member names one of a list: by what it is about, or else by its number.
func member(i int, lists ...[]any) string {
	for _, list := range lists {
		if one, ok := of(list, i).(map[string]any); ok {
			for _, key := range []string{"path", "service", "name", "key", "host"} {
				if text, ok := one[key].(string); ok && text != "" {
					return text
				}
			}
		}
	}
	return fmt.Sprintf("number %d", i+1)
}

// ids are ids of contents and digests, which tell people nothing.
var ids = regexp.MustCompile(`^[0-9a-f]{64}$`)

func sentence(at string, a, b any) string {
	text := func(v any) string {
		switch v := v.(type) {
		case string:
			if ids.MatchString(v) {
				return v[:12]
			}
			return fmt.Sprintf("%q", v)
		case nil:
			return "nothing"
		}
		data, _ := json.Marshal(v)
		const most = 200
		if r := []rune(string(data)); len(r) > most {
			return string(r[:most]) + "…"
		}
		return string(data)
	}
	x, isText := a.(string)
	y, both := b.(string)
	if isText && both && ids.MatchString(x) && ids.MatchString(y) && strings.HasSuffix(at, ", content") {
		return strings.TrimSuffix(at, ", content") + ": another content"
	}
	return fmt.Sprintf("%s: %s → %s", at, text(a), text(b))
}
