package client

import (
	"context"
	"fmt"

	"kettletarn/internal/core/model"
)

// Showings lists the links by which people outside look at something of a project.
func (c *Client) Showings(ctx context.Context, key string) (v model.Showings, err error) {
	return v, c.get(ctx, in(key, "/showings"), nil, &v)
}

// AddShowing makes one. Its address, from the root of the service, is told this once.
func (c *Client) AddShowing(ctx context.Context, key string, q model.ShowingRequest) (v model.Showing, err error) {
	return v, c.post(ctx, in(key, "/showings"), q, &v)
}

// SwitchShowings switches all that a project shows outside off, or on again.
func (c *Client) SwitchShowings(ctx context.Context, key string, off bool) (v model.Showings, err error) {
	return v, c.json(ctx, request{method: "PUT", path: in(key, "/showings"), body: model.ShowingsOff{Off: off}}, &v)
}

// EndShowing ends one.
func (c *Client) EndShowing(ctx context.Context, key string, number int) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, fmt.Sprintf("/showings/%d", number))}, nil)
}
