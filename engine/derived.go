package engine

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/store"
)

// Derive gives the edits that turn a file, as it is on a host now, into a copy of it that
// somebody edited by hand: one with its secrets, or one in which they are covered. A secret
// that was edited is refused: a change names a kept one.
func (e *Engine) Derive(ctx context.Context, name string, in view.EditedCopy) (out view.DerivedEdits, err error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return out, err
	}
	svc, err := e.approvedService(ctx, in.Service)
	if err != nil {
		return out, err
	}
	key, err := fileOf(svc, in.File)
	if err != nil {
		return out, err
	}
	all, err := e.read(ctx, h, svc)
	if err != nil {
		return out, err
	}
	at := slices.IndexFunc(all, func(one onHost) bool { return one.instance == in.Instance })
	if at < 0 {
		return out, &store.NotFound{What: fmt.Sprintf("service %s on %s, by its definition and the last survey, or that instance of it", in.Service, name)}
	}
	f := all[at].files[slices.IndexFunc(all[at].files, func(f onHostFile) bool { return f.Key == key })]
	if f.doc == nil {
		return out, &store.Conflict{What: fmt.Sprintf("%s on %s: %s", f.Path, name, f.Problem)}
	}
	format := f.doc.Format
	edited, err := conf.Parse("the edited copy", format, []byte(in.Text))
	if err != nil {
		return out, &store.Unfit{What: err.Error()}
	}
	if changed := alteredSecret(f, edited); changed != "" {
		return out, &store.Unfit{What: fmt.Sprintf("the copy has another value at %s, which is secret. Keep the new one with wladder secret, and write it in the change as secret: NAME", changed)}
	}
	out.Edits, err = all[at].into(f, edited)
	if err == nil && out.Edits == "" {
		err = &store.Conflict{What: fmt.Sprintf("the copy says what %s on %s says already", f.Path, name)}
	}
	return out, err
}

// into gives the edits that turn a file as it is into another, as a change writes them; empty where
// both say the same.
func (o onHost) into(f onHostFile, other *conf.Document) (string, error) {
	before, err1 := conf.Parse(f.Path, f.doc.Format, secret.Mask(f.judge, f.doc.Bytes(), f.doc))
	after, err2 := conf.Parse(f.Path, f.doc.Format, secret.Mask(f.judge, other.Bytes(), other))
	if err := cmp.Or(err1, err2); err != nil {
		return "", &store.Unfit{What: fmt.Sprintf("with its secrets covered the file cannot be read: %v", err)}
	}
	edits, err := conf.Derive(before, after)
	if err != nil {
		return "", &store.Unfit{What: err.Error()}
	}
	if len(edits) == 0 {
		return "", nil
	}
	written := change.EditsAsWritten(edits)
	if len(o.Files) > 1 {
		for i := range written {
			written[i] = append(yaml.MapSlice{{Key: "file", Value: f.Key}}, written[i]...)
		}
	}
	text, err := yaml.Marshal(written)
	if err == nil && bytes.Contains(text, []byte(secret.Placeholder)) {
		err = &store.Unfit{What: "what was edited touches a secret; write these edits by hand, with secret: NAME"}
	}
	return o.redactor.Clean(string(text)), err
}

// alteredSecret names an address at which an edited copy has another secret than the file;
// empty where it has none. In a copy whose secrets are covered they are as they were.
func alteredSecret(f onHostFile, edited *conf.Document) string {
	was := map[string]string{}
	for _, s := range f.doc.Settings() {
		if !s.CommentedOut {
			was[s.Address] = s.Value
		}
	}
	for _, s := range edited.Settings() {
		if secrets := f.judge(s.Address, s.Value); !s.CommentedOut && len(secrets) > 0 && was[s.Address] != s.Value && !strings.Contains(s.Value, secret.Placeholder) {
			return s.Address
		}
	}
	return ""
}
