package client

import (
	"context"
	"encoding/json"
	"net/url"
	"strconv"

	"github.com/fxamacker/cbor/v2"

	"kettletarn/internal/core/model"
)

// TellPins tells which commits pin which handoffs, and lists those that are known.
func (c *Client) TellPins(ctx context.Context, key string, q model.PinnedCommits) (v model.PinnedCommits, err error) {
	return v, c.post(ctx, in(key, "/pins"), q, &v)
}

// Past is how far a git history was brought in, onto a branch; the first where it is "".
func (c *Client) Past(ctx context.Context, key, branch string) (v model.Past, err error) {
	return v, c.get(ctx, in(key, "/past"), url.Values{"branch": {branch}}, &v)
}

// MostCommits is how many commits are asked for at once.
const MostCommits = 200

// OfCommits is which handoffs stand for commits, by those that have one.
func (c *Client) OfCommits(ctx context.Context, key string, commits []string) (map[string]int, error) {
	var v model.PastReceipt
	err := c.post(ctx, in(key, "/past/known"), model.PastKnown{Commits: commits}, &v)
	known := map[string]int{}
	for _, h := range v.Handoffs {
		known[h.Commit] = h.Handoff
	}
	return known, err
}

// BringPast brings commits in. What was brought in before is passed over, so that it may be repeated.
func (c *Client) BringPast(ctx context.Context, key string, q model.PastRequest) (v model.PastReceipt, err error) {
	return v, c.post(ctx, in(key, "/past"), q, &v)
}

// Changes calls each with the pages of what a query asks for. The first page has what goes with locks; all are as of the same handoff.
func (c *Client) Changes(ctx context.Context, key string, q model.ChangesQuery, each func(model.Assets) error) error {
	query := url.Values{"since": {strconv.Itoa(q.Since)}, "at": {q.At}, "locks": {strconv.FormatBool(q.Locks)}, "scope": q.Scope}
	if q.Branch != "" {
		query.Set("branch", q.Branch)
	}
	for {
		var page model.Assets
		if err := c.get(ctx, in(key, "/assets"), query, &page); err != nil {
			return err
		}
		if err := each(page); err != nil || page.Next == "" {
			return err
		}
		query = url.Values{"since": {strconv.Itoa(q.Since)}, "at": {strconv.Itoa(page.At)}, "after": {page.Next}, "scope": q.Scope}
		if q.Branch != "" {
			query.Set("branch", q.Branch)
		}
	}
}

// Rules are those of a project, with what each covers.
func (c *Client) Rules(ctx context.Context, key string) (v model.Rules, err error) {
	return v, c.get(ctx, in(key, "/rules"), nil, &v)
}

// AskForRule asks the leads that a path be an asset.
func (c *Client) AskForRule(ctx context.Context, key string, q model.RuleRequestNew) (v model.RuleRequest, err error) {
	return v, c.post(ctx, in(key, "/rules/requests"), q, &v)
}

// CheckSend asks what would be refused, and what the project lacks.
func (c *Client) CheckSend(ctx context.Context, key string, q model.SendQuestion) (v model.SendCheck, err error) {
	q.Send.Tasks = append([]string{}, q.Send.Tasks...) // a list, even where it is empty
	return v, c.post(ctx, in(key, "/sends/check"), q, &v)
}

// Send makes a handoff, under a key that was written down before. records, encoded one behind the other, may bring content with it.
func (c *Client) Send(ctx context.Context, key, sendKey string, q model.SendRequest, records ...[]byte) (v model.SendReceipt, err error) {
	q.Tasks = append([]string{}, q.Tasks...)
	r := request{method: "POST", path: in(key, "/handoffs"), header: map[string]string{"Idempotency-Key": sendKey}, body: q}
	if len(records) > 0 {
		text, err := json.Marshal(q)
		if err != nil {
			return v, err
		}
		head, err := cbor.Marshal(string(text))
		if err != nil {
			return v, err
		}
		r.body, r.raw, r.rawType = nil, append([][]byte{head}, records...), model.CBORSequence
	}
	return v, c.json(ctx, r, &v)
}

// CloseSend finds out for good what became of a send.
func (c *Client) CloseSend(ctx context.Context, key, sendKey string) (v model.SendClosed, err error) {
	return v, c.post(ctx, in(key, "/sends/"+url.PathEscape(sendKey)+"/close"), nil, &v)
}

// Rollback brings an old state back, or says what that would do.
func (c *Client) Rollback(ctx context.Context, key, sendKey string, q model.RollbackRequest) (v model.RollbackAnswer, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/rollback"), header: map[string]string{"Idempotency-Key": sendKey}, body: q},
		&v)
}
