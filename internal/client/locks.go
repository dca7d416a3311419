package client

import (
	"context"
	"net/url"

	"kettletarn/internal/core/model"
)

// TellHeadsUps tells the service which assets have unsent changes in a workspace.
func (c *Client) TellHeadsUps(ctx context.Context, key, workspace string, q model.UnsentChanges) error {
	return c.json(ctx, request{method: "PUT", path: in(key, "/workspaces/"+url.PathEscape(workspace)+"/unsent"), body: q}, nil)
}

// Unsent lists who has unsent changes in a project.
func (c *Client) Unsent(ctx context.Context, key string) (v model.HeadsUps, err error) {
	return v, c.get(ctx, in(key, "/unsent"), nil, &v)
}

// Locks lists what is held or waited for.
func (c *Client) Locks(ctx context.Context, key string) (v model.Locks, err error) {
	return v, c.get(ctx, in(key, "/locks"), nil, &v)
}

// TakeLocks locks all or none, or what can be, or waits in line.
func (c *Client) TakeLocks(ctx context.Context, key string, q model.LockRequest) (v model.Locks, err error) {
	return v, c.post(ctx, in(key, "/locks"), q, &v)
}

// ReleaseLocks unlocks all or none.
func (c *Client) ReleaseLocks(ctx context.Context, key string, q model.UnlockRequest) (v model.Unlocked, err error) {
	if q.Paths == nil {
		q.Paths = []string{}
	}
	return v, c.post(ctx, in(key, "/locks/release"), q, &v)
}

// LeaveLines leaves the lines for assets.
func (c *Client) LeaveLines(ctx context.Context, key string, paths []string) error {
	return c.post(ctx, in(key, "/locks/leave"), model.LeaveRequest{Paths: paths}, nil)
}

// Ask asks the holder of a lock to let go.
func (c *Client) Ask(ctx context.Context, key string, q model.AskRequest) (v model.Waiting, err error) {
	return v, c.post(ctx, in(key, "/locks/ask"), q, &v)
}

// AnswerAsk answers those who ask for a lock.
func (c *Client) AnswerAsk(ctx context.Context, key string, q model.AskAnswer) error {
	return c.post(ctx, in(key, "/locks/answer"), q, nil)
}

// Record lists who held what. The query is that of the API.
func (c *Client) Record(ctx context.Context, key string, query url.Values) (v model.Record, err error) {
	return v, c.get(ctx, in(key, "/locks/record"), query, &v)
}
