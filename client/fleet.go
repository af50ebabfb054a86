package client

import (
	"context"
	"net/url"

	"wladder/core/view"
)

// Drift gives what is not as it was left, as of the last look at each host; of one host, or
// of all where that is empty.
func (c *Client) Drift(ctx context.Context, host string) (view.Drift, error) {
	return call[view.Drift](ctx, c, "GET", "/drift?"+url.Values{"host": {host}}.Encode(), nil)
}

// LookForDrift has hosts looked at now.
func (c *Client) LookForDrift(ctx context.Context, where string) (view.Drift, error) {
	return call[view.Drift](ctx, c, "POST", "/drift", view.Where{Where: where})
}

// Compare compares one setting over hosts, or two hosts.
func (c *Client) Compare(ctx context.Context, in view.Comparing) (view.Compared, error) {
	return call[view.Compared](ctx, c, "POST", "/comparisons", in)
}

// HostFiles gives the files of a service on a host: one by its key, or all.
func (c *Client) HostFiles(ctx context.Context, host, service, file string) (view.HostFiles, error) {
	return call[view.HostFiles](ctx, c, "GET", "/hosts/"+url.PathEscape(host)+"/files?"+url.Values{"service": {service}, "file": {file}}.Encode(), nil)
}

// History gives the past of a setting of a host.
func (c *Client) History(ctx context.Context, host, service, file, address string) ([]view.Told, error) {
	return call[[]view.Told](ctx, c, "GET", "/hosts/"+url.PathEscape(host)+"/history?"+url.Values{"service": {service}, "file": {file}, "address": {address}}.Encode(), nil)
}
