package client

import (
	"context"
	"fmt"
	"net/url"

	"wladder/core/view"
)

// Accounts gives the accounts, by name.
func (c *Client) Accounts(ctx context.Context) ([]view.Person, error) {
	return call[[]view.Person](ctx, c, "GET", "/accounts", nil)
}

// AddAccount makes an account; the request waits for a second admin, if there is one.
func (c *Client) AddAccount(ctx context.Context, p view.NewPerson) (view.Requested, error) {
	return call[view.Requested](ctx, c, "POST", "/accounts", p)
}

// ChangeAccount changes one thing about an account.
func (c *Client) ChangeAccount(ctx context.Context, name string, p view.PersonChange) (view.Requested, error) {
	return call[view.Requested](ctx, c, "PATCH", "/accounts/"+url.PathEscape(name), p)
}

// EndSignIns ends all sign-ins and tokens of an account.
func (c *Client) EndSignIns(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/accounts/"+url.PathEscape(name)+"/sign-ins", nil)
}

// SignInElsewhere begins a sign-in with the team's directory, in a browser on whatever machine.
func (c *Client) SignInElsewhere(ctx context.Context) (view.Elsewhere, error) {
	return call[view.Elsewhere](ctx, c, "POST", "/session/directory/elsewhere", nil)
}

// SignedInElsewhere waits a moment for the person to have typed the code.
func (c *Client) SignedInElsewhere(ctx context.Context, e view.Elsewhere) (view.SignedInElsewhere, error) {
	return call[view.SignedInElsewhere](ctx, c, "POST", "/session/directory/elsewhere/token", view.ElsewhereAsked{Device: e.Device, Every: e.Every})
}

// Requests gives what waits for a second admin.
func (c *Client) Requests(ctx context.Context) ([]view.Request, error) {
	return call[[]view.Request](ctx, c, "GET", "/requests", nil)
}

// Decide agrees to a request, or refuses it.
func (c *Client) Decide(ctx context.Context, id int64, agreed bool) error {
	return c.do(ctx, "POST", fmt.Sprintf("/requests/%d/decision", id), view.Decision{Agreed: agreed})
}

// ChangePassword changes one's own.
func (c *Client) ChangePassword(ctx context.Context, old, password string) error {
	return c.do(ctx, "PUT", "/session/password", view.PasswordChange{Old: old, New: password})
}

// ChangeKey has the server take a fresh key, and seal anew what it has sealed.
func (c *Client) ChangeKey(ctx context.Context) (view.KeyChanged, error) {
	return call[view.KeyChanged](ctx, c, "POST", "/key", nil)
}

// SignIns gives one's own sign-ins and tokens that have not ended.
func (c *Client) SignIns(ctx context.Context) ([]view.SignInRow, error) {
	return call[[]view.SignInRow](ctx, c, "GET", "/session/sign-ins", nil)
}

// EndSignIn ends one of one's own.
func (c *Client) EndSignIn(ctx context.Context, id int64) error {
	return c.do(ctx, "DELETE", fmt.Sprintf("/session/sign-ins/%d", id), nil)
}

// MakeToken makes a token for a program.
func (c *Client) MakeToken(ctx context.Context, t view.NewToken) (view.Token, error) {
	return call[view.Token](ctx, c, "POST", "/tokens", t)
}
