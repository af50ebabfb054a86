package render

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/plan"
)

// Counter gives the edits, as they are written, that turn a path back from what a change
// placed to what stood there before. It errs where no edit of a change can.
func Counter(f plan.LeafFile, base, candidate plan.Copy) (edits []yaml.MapSlice, err error) {
	one := func(pairs ...yaml.MapItem) { edits = append(edits, yaml.MapSlice(pairs)) }
	item := func(key string, value any) yaml.MapItem { return yaml.MapItem{Key: key, Value: value} }
	attributes := func() []yaml.MapItem {
		return []yaml.MapItem{item("mode", base.Mode), item("owner", base.Owner), item("group", base.Group)}
	}
	switch {
	case base.Same(candidate):
	case base.Kind == plan.Absent:
		one(item("delete", f.Key))
	case base.Kind == plan.Symlink:
		if candidate.Kind != plan.Absent {
			one(item("delete", f.Key))
		}
		one(item("link", f.Key), item("leads-to", base.Target))
	case base.Sum != "" || candidate.Sum != "" || candidate.Kind == plan.Made:
		return nil, errors.New("its content never left the host; put it back there, from the snapshot")
	case candidate.Kind != plan.Regular && !legible(base.Content):
		return nil, errWhole
	case candidate.Kind == plan.Absent:
		one(append([]yaml.MapItem{item("put", f.Key), item("text", string(base.Content))}, attributes()...)...)
	case candidate.Kind == plan.Symlink:
		one(item("delete", f.Key))
		one(append([]yaml.MapItem{item("put", f.Key), item("text", string(base.Content))}, attributes()...)...)
	default:
		before, err1 := conf.Parse(f.Path, f.Format, base.Content)
		after, err2 := conf.Parse(f.Path, f.Format, candidate.Content)
		var back []conf.Edit
		err := errors.Join(err1, err2)
		if err == nil {
			back, err = conf.Derive(after, before)
		}
		if err == nil {
			for _, m := range change.EditsAsWritten(back) {
				edits = append(edits, append(yaml.MapSlice{item("file", f.Key)}, m...))
			}
		} else if !legible(base.Content) {
			return nil, errWhole
		} else {
			one(append([]yaml.MapItem{item("put", f.Key), item("text", string(base.Content))}, attributes()...)...)
			return edits, nil
		}
		if base.Mode != candidate.Mode || base.Owner != candidate.Owner || base.Group != candidate.Group {
			one(append([]yaml.MapItem{item("file", f.Key)}, attributes()...)...)
		}
	}
	return edits, nil
}

var errWhole = errors.New("would have to be written out whole, and is too long for that, no text, or holds a key; put it back from the snapshot")

// maxWhole is how much text is written out in a change, in bytes.
const maxWhole = 64 << 10

// legible tells whether a file may stand in a change, which is kept and read in clear.
func legible(content []byte) bool {
	return len(content) <= maxWhole && utf8.Valid(content) && !bytes.Contains(content, []byte("PRIVATE KEY-----"))
}

// CounterText writes the opposite of a change as a change: edits by service and, where
// they are not the same on all hosts, by the hosts that they concern.
func CounterText(spec *change.Spec, number int64, because string, hosts []string, groups []CounterGroup) ([]byte, error) {
	m := yaml.MapSlice{{Key: "title", Value: "Back: " + spec.Title}, {Key: "reason", Value: fmt.Sprintf("Takes back change %d: %s", number, because)}}
	put := func(key string, value any) { m = append(m, yaml.MapItem{Key: key, Value: value}) }
	if spec.Ticket != "" {
		put("ticket", spec.Ticket)
	}
	put("takes-back", number)
	several := len(spec.Services) > 1
	if several {
		put("services", spec.Services)
	} else {
		put("service", spec.Services[0])
	}
	put("where", oneOf(hosts))
	put("count", fmt.Sprint(len(hosts)))
	var edits []yaml.MapSlice
	for _, g := range groups {
		for _, e := range g.Edits {
			if several {
				e = append(yaml.MapSlice{{Key: "service", Value: g.Service}}, e...)
			}
			var only []string
			if g.Instance != "" {
				only = append(only, fmt.Sprintf("instance == %q", g.Instance))
			}
			if len(g.Hosts) < len(hosts) {
				only = append(only, oneOf(g.Hosts))
			}
			if only != nil {
				e = append(e, yaml.MapItem{Key: "where", Value: strings.Join(only, " && ")})
			}
			edits = append(edits, e)
		}
	}
	put("edits", edits)
	var probes []yaml.MapSlice
	for _, p := range spec.Probes {
		if p.Before == "" || p.After == "" || len(p.ValueNames()) > 0 || p.Compares() {
			continue // what held before and after the change itself
		}
		back := yaml.MapSlice{{Key: "name", Value: p.Name}, {Key: "ask", Value: p.Ask}, {Key: "before", Value: p.After}, {Key: "after", Value: p.Before}}
		if p.Service != "" {
			back = append(back, yaml.MapItem{Key: "service", Value: p.Service})
		}
		probes = append(probes, back)
	}
	if probes != nil {
		put("probes", probes)
	}
	var ladder yaml.MapSlice
	l := spec.Ladder
	for _, said := range []struct {
		key string
		is  bool
		v   any
	}{
		{"at_once", l.AtOnce > 0, l.AtOnce}, {"pool_at_once", l.PoolAtOnce > 0, l.PoolAtOnce}, {"apart", l.Apart != "", l.Apart},
		{"soak", l.Soak != nil, l.Soak}, {"pause_after", l.PauseAfter != "", l.PauseAfter}, {"budget", l.Budget != nil, l.Budget},
	} {
		if said.is {
			ladder = append(ladder, yaml.MapItem{Key: said.key, Value: said.v})
		}
	}
	if ladder != nil {
		put("ladder", ladder)
	}
	return yaml.Marshal(m)
}

// CounterGroup is the edits that put one service of some hosts back.
type CounterGroup struct {
	Service, Instance string
	Edits             []yaml.MapSlice
	Hosts             []string
}

// oneOf fits hosts by their names.
func oneOf(hosts []string) string {
	text := "name in ["
	for i, h := range hosts {
		if i > 0 {
			text += ", "
		}
		text += fmt.Sprintf("%q", h)
	}
	return text + "]"
}
