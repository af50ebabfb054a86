package client

import (
	"context"
	"fmt"

	"wladder/core/view"
)

// Policy gives the policy that holds.
func (c *Client) Policy(ctx context.Context) (view.PolicyVersion, error) {
	return call[view.PolicyVersion](ctx, c, "GET", "/policy", nil)
}

// LoadPolicy asks for another policy, from YAML.
func (c *Client) LoadPolicy(ctx context.Context, text []byte) (view.Requested, error) {
	return call[view.Requested](ctx, c, "PUT", "/policy", text)
}

// Emergency approves the plan under its digest alone.
func (c *Client) Emergency(ctx context.Context, id int64, digest, because string) error {
	return c.do(ctx, "POST", at(id, "/emergency"), view.Judgement{Digest: digest, Because: because})
}

// Review says afterwards what somebody else thinks of what was approved in an emergency.
func (c *Client) Review(ctx context.Context, id int64, because string) error {
	return c.do(ctx, "POST", at(id, "/review"), view.Judgement{Because: because})
}

// WithdrawApproval takes one's own approval back.
func (c *Client) WithdrawApproval(ctx context.Context, id int64, because string) error {
	return c.do(ctx, "POST", at(id, "/approval-withdrawal"), view.Judgement{Because: because})
}

// Withdraw withdraws a change; because is wanted of an admin who is not its author.
func (c *Client) Withdraw(ctx context.Context, id int64, because string) error {
	return c.do(ctx, "POST", at(id, "/withdrawal"), view.Judgement{Because: because})
}

// ReturnNow has the hosts of a temporary change go back before their time.
func (c *Client) ReturnNow(ctx context.Context, id int64, because string) error {
	return c.do(ctx, "POST", at(id, "/return"), view.Judgement{Because: because})
}

// TakeOver makes an admin the author of a change.
func (c *Client) TakeOver(ctx context.Context, id int64, because string) error {
	return c.do(ctx, "POST", at(id, "/author"), view.Judgement{Because: because})
}

// Share lets somebody revise a change beside its author.
func (c *Client) Share(ctx context.Context, id int64, with string) error {
	return c.do(ctx, "POST", at(id, "/people"), view.Sharing{With: with})
}

// Acknowledge says that one knows of a warning.
func (c *Client) Acknowledge(ctx context.Context, id int64, a view.Acknowledgement) error {
	return c.do(ctx, "POST", at(id, "/acknowledgements"), a)
}

// Override overrides a veto on one host.
func (c *Client) Override(ctx context.Context, id int64, o view.Overriding) error {
	return c.do(ctx, "POST", at(id, "/overrides"), o)
}

// Comment comments on a change, and gives the comment's number.
func (c *Client) Comment(ctx context.Context, id int64, n view.NewComment) (int64, error) {
	made, err := call[view.Created](ctx, c, "POST", at(id, "/comments"), n)
	return made.ID, err
}

// Settle settles a thread of comments.
func (c *Client) Settle(ctx context.Context, id, comment int64) error {
	return c.do(ctx, "POST", at(id, fmt.Sprintf("/comments/%d/settlement", comment)), nil)
}
