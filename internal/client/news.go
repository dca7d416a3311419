package client

import (
	"context"
	"encoding/json"
	"io"

	"github.com/tmaxmax/go-sse"

	"kettletarn/internal/core/model"
)

// News calls each with every event of a project behind last ("" for from now on), as they happen, until ctx ends, the connection breaks or
// each fails. started is called when the stream stands.
func (c *Client) News(ctx context.Context, key, last string, started func(), each func(model.Event) error) error {
	q := request{method: "GET", path: in(key, "/news"), once: true, stream: true, header: map[string]string{"Accept": "text/event-stream"}}
	if last != "" {
		q.header["Last-Event-ID"] = last
	}
	return c.do(ctx, q, func(body io.Reader) error {
		started()
		for e, err := range sse.Read(body, nil) {
			if err != nil {
				return &Unreachable{URL: c.base, Cause: cause(err)}
			}
			var event model.Event
			if err := json.Unmarshal([]byte(e.Data), &event); err != nil {
				return err
			}
			if err := each(event); err != nil {
				return err
			}
		}
		return &Unreachable{URL: c.base, Cause: "the stream of news ended"}
	})
}
