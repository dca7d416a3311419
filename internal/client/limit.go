package client

import (
	"context"
	"io"
	"net/http"

	"golang.org/x/time/rate"
)

// burst is how many bytes a limited client sends or takes at once.
const burst = 16 << 10

// limited is a transport that keeps below a rate.
type limited struct {
	below http.RoundTripper
	limit *rate.Limiter
}

func (l *limited) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Body != nil {
		r = r.Clone(r.Context())
		r.Body = &slow{ReadCloser: r.Body, ctx: r.Context(), limit: l.limit}
	}
	answer, err := l.below.RoundTrip(r)
	if err == nil {
		answer.Body = &slow{ReadCloser: answer.Body, ctx: r.Context(), limit: l.limit}
	}
	return answer, err
}

// slow is a body that is read at a rate.
type slow struct {
	io.ReadCloser
	ctx   context.Context
	limit *rate.Limiter
}

func (s *slow) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p[:min(len(p), burst)])
	if waited := s.limit.WaitN(s.ctx, n); err == nil {
		err = waited
	}
	return n, err
}
