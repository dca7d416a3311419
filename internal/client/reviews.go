package client

import (
	"context"
	"fmt"

	"kettletarn/internal/core/model"
)

func inReview(key string, number int, what string) string {
	return in(key, fmt.Sprintf("/reviews/%d%s", number, what))
}

// Reviews lists a project's.
func (c *Client) Reviews(ctx context.Context, key string) (v model.Reviews, err error) {
	return v, c.get(ctx, in(key, "/reviews"), nil, &v)
}

// Review shows one.
func (c *Client) Review(ctx context.Context, key string, number int) (v model.Review, err error) {
	return v, c.get(ctx, inReview(key, number, ""), nil, &v)
}

// RemarkSpots says where the remarks of one are on the versions that it is about.
func (c *Client) RemarkSpots(ctx context.Context, key string, number int) (v model.RemarkSpots, err error) {
	return v, c.get(ctx, inReview(key, number, "/spots"), nil, &v)
}

// OpenReview opens one.
func (c *Client) OpenReview(ctx context.Context, key string, q model.ReviewRequest) (v model.Review, err error) {
	return v, c.post(ctx, in(key, "/reviews"), q, &v)
}

// Say says something in one.
func (c *Client) Say(ctx context.Context, key string, number int, q model.RemarkRequest) (v model.Review, err error) {
	return v, c.post(ctx, inReview(key, number, "/remarks"), q, &v)
}

// SettleRemark settles a remark, or takes that back.
func (c *Client) SettleRemark(ctx context.Context, key string, number int, q model.SettleRequest) (v model.Review, err error) {
	return v, c.post(ctx, inReview(key, number, "/settle"), q, &v)
}

// AnswerReview answers one.
func (c *Client) AnswerReview(ctx context.Context, key string, number int, q model.AnswerRequest) (v model.Review, err error) {
	return v, c.post(ctx, inReview(key, number, "/answer"), q, &v)
}

// CloseReview closes one.
func (c *Client) CloseReview(ctx context.Context, key string, number int) (v model.Review, err error) {
	return v, c.post(ctx, inReview(key, number, "/close"), nil, &v)
}
