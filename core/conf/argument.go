package conf

import (
	"slices"
	"strings"
)

// arguable tells blocks whose argument an edit can set: those of formats that have
// some, where one stands.
func (d *Document) arguable(n *node) bool {
	switch d.Format {
	case Nginx, Apache, HAProxy, SSHD, Named, Dovecot:
		return !n.value.empty() && !n.raw
	}
	return false
}

// argumentSet gives a block another argument.
func (d *Document) argumentSet(n *node, e Edit) (*Document, error) {
	old, raw := d.text(n.value), ""
	words := slices.Clone(e.To.Words)
	text := strings.Join(words, " ")
	if words == nil {
		text = e.To.Text
	}
	if text == d.argument(n) {
		return d, nil
	}
	var err error
	switch {
	case strings.TrimSpace(text) != text || text == "" || d.Format == Apache && strings.ContainsAny(text, "<>"):
		return nil, d.refuseAt(n, e, "%q is no argument of a block", text)
	case words != nil && d.one != nil:
		for i, w := range words {
			if words[i], err = d.one(w); err != nil {
				return nil, d.refuseAt(n, e, "%v", err)
			}
		}
		raw = strings.Join(words, " ")
	case len(old) > 1 && old[0] == '"' && strings.IndexByte(old[1:], '"') == len(old)-2 && strings.IndexAny(text, "\"\\\n\r") < 0: // it stays quoted
		raw = `"` + text + `"`
	default:
		if raw, err = d.blockArgument(Step{Name: d.nameOf(n), ByArg: true, Argument: text}); err != nil {
			return nil, d.refuseAt(n, e, "%v", err)
		}
	}
	next, err := Parse(d.Name, d.Format, []byte(d.src[:n.value.start]+raw+d.src[n.value.end:]))
	if err != nil {
		return nil, d.refuseAt(n, e, "the edit would break the file: %v", err)
	}
	if now := next.at(n.whole.start, n); now == nil || next.argument(now) != text || next.nameOf(now) != d.nameOf(n) || next.live != d.live {
		return nil, d.refuseAt(n, e, "the format cannot hold this argument: it would not be read back, or other entries would change with it")
	}
	return next, nil
}
