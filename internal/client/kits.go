package client

import (
	"context"
	"net/url"
	"strconv"

	"kettletarn/internal/core/model"
)

// Kits lists those that a project makes, and those that it uses on a branch, "" for the first.
func (c *Client) Kits(ctx context.Context, key, branch string) (v model.Kits, err error) {
	return v, c.get(ctx, in(key, "/kits"), url.Values{"branch": {branch}}, &v)
}

// ReleaseKit releases one under its next number.
func (c *Client) ReleaseKit(ctx context.Context, key string, q model.KitReleaseRequest) (v model.KitRelease, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/kits"), body: q, once: true}, &v)
}

// KitState is a release, the latest with 0, beside another one, the one before it with 0.
func (c *Client) KitState(ctx context.Context, key, kit string, number, since int) (v model.KitState, err error) {
	name := "newest"
	if number > 0 {
		name = strconv.Itoa(number)
	}
	return v, c.get(ctx, in(key, "/kits/"+url.PathEscape(kit)+"/"+name), url.Values{"since": {strconv.Itoa(since)}}, &v)
}

// ChangeKit uses a kit, brings a use to another release, or detaches it, or says what that would do.
func (c *Client) ChangeKit(ctx context.Context, key, sendKey string, q model.KitRequest) (v model.KitAnswer, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/uses"), header: map[string]string{"Idempotency-Key": sendKey}, body: q}, &v)
}

// KitUsers are the uses of a kit in all projects that one may look at.
func (c *Client) KitUsers(ctx context.Context, key, kit string) (v model.KitUsers, err error) {
	return v, c.get(ctx, in(key, "/kits/"+url.PathEscape(kit)), nil, &v)
}

// OfferKit puts what was changed in a use to the project that made the kit.
func (c *Client) OfferKit(ctx context.Context, key, sendKey string, q model.KitOfferRequest) (v model.KitOffer, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/uses/offer"), header: map[string]string{"Idempotency-Key": sendKey},
		body: q}, &v)
}
