package client

import (
	"context"
	"net/url"

	"wladder/core/view"
)

// Forms lists the forms, by name.
func (c *Client) Forms(ctx context.Context) ([]view.Form, error) {
	return call[[]view.Form](ctx, c, "GET", "/forms", nil)
}

// Form gives one form, with its blanks.
func (c *Client) Form(ctx context.Context, name string) (view.Form, error) {
	return call[view.Form](ctx, c, "GET", "/forms/"+url.PathEscape(name), nil)
}

// KeepForm keeps a form, from YAML.
func (c *Client) KeepForm(ctx context.Context, text []byte) (view.Form, error) {
	return call[view.Form](ctx, c, "POST", "/forms", text)
}

// DraftForm drafts a change from a form.
func (c *Client) DraftForm(ctx context.Context, name string, blanks map[string]string) (int64, error) {
	made, err := call[view.Created](ctx, c, "POST", "/forms/"+url.PathEscape(name)+"/draft", view.Filling{Blanks: blanks})
	return made.ID, err
}

// Derive gives the edits that turn a file of a host into an edited copy of it.
func (c *Client) Derive(ctx context.Context, host string, in view.EditedCopy) (view.DerivedEdits, error) {
	return call[view.DerivedEdits](ctx, c, "POST", "/hosts/"+url.PathEscape(host)+"/edited", in)
}
