package conf

import "strings"

// arguable tells blocks whose argument an edit can set: those of formats that have
// some, where one stands.
func (d *Document) arguable(n *node) bool {
	switch d.Format {
	case Nginx, Apache, HAProxy, SSHD, SSH, Named, Dovecot:
		return !n.value.empty() && !n.raw
	}
	return false
}

// argumentSet gives a block another argument.
func (d *Document) argumentSet(n *node, e Edit) (*Document, error) {
	old, raw, text := d.text(n.value), "", e.To.Joined()
	if text == d.argument(n) {
		return d, nil
	}
	var err error
	switch {
	case strings.TrimSpace(text) != text || text == "" || d.Format == Apache && strings.ContainsAny(text, "<>"):
		return nil, d.refuseAt(n, e, "%q cannot be the argument of a block", text)
	case e.To.Words != nil && d.one != nil:
		raw, err = d.oneEach(e.To.Words)
	case len(old) > 1 && old[0] == '"' && strings.IndexByte(old[1:], '"') == len(old)-2 && strings.IndexAny(text, "\"\\\n\r") < 0: // it stays quoted
		raw = `"` + text + `"`
	default:
		raw, err = d.blockArgument(Step{Name: d.nameOf(n), ByArg: true, Argument: text})
	}
	if err != nil {
		return nil, d.refuseAt(n, e, "%v", err)
	}
	next, err := d.withText(e, n.value, raw, 0)
	if err != nil {
		return nil, err
	}
	if now := next.at(n.whole.start, n); now == nil || next.argument(now) != text || next.nameOf(now) != d.nameOf(n) {
		return nil, d.refuseAt(n, e, "the format cannot hold this argument: it would not be read back")
	}
	return next, nil
}
