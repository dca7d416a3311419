package client

import (
	"context"
	"net/url"

	"kettletarn/internal/core/model"
)

// Branches lists a project's.
func (c *Client) Branches(ctx context.Context, key string) (v model.Branches, err error) {
	return v, c.get(ctx, in(key, "/branches"), nil, &v)
}

// Branch shows one.
func (c *Client) Branch(ctx context.Context, key, name string) (v model.Branch, err error) {
	return v, c.get(ctx, in(key, "/branches/"+url.PathEscape(name)), nil, &v)
}

// AddBranch makes one.
func (c *Client) AddBranch(ctx context.Context, key string, q model.BranchRequest) (v model.Branch, err error) {
	return v, c.post(ctx, in(key, "/branches"), q, &v)
}

// SetBranchState says that one is done, live again, or closed: see model.BranchStates.
func (c *Client) SetBranchState(ctx context.Context, key, name, state string) (v model.Branch, err error) {
	return v, c.post(ctx, in(key, "/branches/"+url.PathEscape(name)), model.BranchStateRequest{State: state}, &v)
}

// Merge brings a branch into another one, under a key that was written down before; or, with Preview, says what that would do.
func (c *Client) Merge(ctx context.Context, key, sendKey string, q model.MergeRequest) (v model.MergeAnswer, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/merges"), header: map[string]string{"Idempotency-Key": sendKey}, body: q},
		&v)
}
