package client

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

func TestItTriesAgainWhereThatMayHelp(t *testing.T) {
	for _, status := range []int{http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout, http.StatusTooManyRequests} {
		var calls atomic.Int64
		var bodies [][]byte
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			bodies = append(bodies, body)
			if calls.Add(1) < 3 {
				if status == http.StatusTooManyRequests {
					w.Header().Set("Content-Type", "application/problem+json")
					w.WriteHeader(status)
					_, _ = io.WriteString(w, `{"type":"urn:kettletarn:too-many-requests","detail":"too many attempts"}`)
					return
				}
				w.WriteHeader(status)
				return
			}
			_, _ = io.WriteString(w, `{"chunks":1}`)
		}))
		c := New(server.URL, "", nil)
		start := time.Now()
		if err := c.StoreRecords(t.Context(), "p", []byte("one "), []byte("two")); err != nil || calls.Load() != 3 {
			t.Errorf("%d: after %d calls: %v", status, calls.Load(), err)
		}
		if time.Since(start) < 200*time.Millisecond {
			t.Errorf("%d: it tries again without a pause", status)
		}
		for _, body := range bodies {
			if string(body) != "one two" {
				t.Errorf("%d: a body arrives as %q", status, body)
			}
		}
		server.Close()
	}
}

func TestItDoesNotTryAgainWhatWasRefused(t *testing.T) {
	var calls atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusUnprocessableEntity)
		_, _ = io.WriteString(w, `{"type":"urn:kettletarn:chunks-missing","detail":"not there","missing":["ab"]}`)
	}))
	defer server.Close()
	var problem *model.Problem
	if err := New(server.URL, "", nil).StoreRecords(t.Context(), "p", []byte("x")); !errors.As(err, &problem) ||
		problem.Type != model.ChunksMissing || len(problem.Missing) != 1 || calls.Load() != 1 {
		t.Errorf("after %d calls: %v", calls.Load(), err)
	}
}

func TestAFetchThatIsCutOffGoesOn(t *testing.T) {
	var body []byte
	var digests []chunk.Digest
	for i := range 5 {
		data := bytes.Repeat([]byte{byte(i)}, 1000+i)
		digests = append(digests, chunk.Sum(data))
		body = pack.AppendEncoded(body, pack.Chunk, digests[i], data)
	}
	var calls atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n := calls.Add(1); n < 4 {
			_, _ = w.Write(body[:len(body)*int(n)/5])
			panic(http.ErrAbortHandler)
		}
		_, _ = w.Write(body)
	}))
	defer server.Close()
	next := 0
	if err := New(server.URL, "", nil).FetchChunks(t.Context(), "p", digests, func(i int, data []byte) error {
		if i != next || len(data) != 1000+i {
			t.Errorf("chunk %d comes in place of %d", i, next)
		}
		next++
		return nil
	}); err != nil || next != 5 || calls.Load() != 4 {
		t.Errorf("%d chunks after %d calls: %v", next, calls.Load(), err)
	}
}

// What arrives damaged is not taken: the service is told, and says whether it is so there, or only came so.
func TestWhatArrivesDamagedIsNotTaken(t *testing.T) {
	data := []byte("brine")
	d := chunk.Sum(data)
	good := pack.AppendEncoded(nil, pack.Chunk, d, data)
	bad := bytes.Clone(good)
	bad[len(bad)-1] ^= 1
	for _, there := range []bool{true, false} {
		var fetches, told atomic.Int64
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case strings.HasSuffix(r.URL.Path, "/chunks/suspect"):
				told.Add(1)
				if there {
					_, _ = fmt.Fprintf(w, `{"digests":[%q]}`, d)
				} else {
					_, _ = io.WriteString(w, `{"digests":[]}`)
				}
			case fetches.Add(1) == 1 || there:
				_, _ = w.Write(bad)
			default:
				_, _ = w.Write(good)
			}
		}))
		got := ""
		err := New(server.URL, "", nil).FetchChunks(t.Context(), "p", []chunk.Digest{d}, func(_ int, data []byte) error {
			got = string(data)
			return nil
		})
		server.Close()
		var problem *model.Problem
		if there && (!errors.As(err, &problem) || problem.Type != model.Damaged || got != "" || told.Load() != 1) {
			t.Errorf("damaged there: %q, %v, told %d times", got, err, told.Load())
		}
		if !there && (err != nil || got != "brine" || fetches.Load() != 2 || told.Load() != 1) {
			t.Errorf("damaged on its way: %q, %v, %d fetches, told %d times", got, err, fetches.Load(), told.Load())
		}
	}
}

func TestALimitIsKept(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		_, _ = io.WriteString(w, `{}`)
	}))
	defer server.Close()
	c := New(server.URL, "", nil)
	c.Limit(200_000)
	start := time.Now()
	if err := c.StoreRecords(t.Context(), "p", make([]byte, 150_000)); err != nil {
		t.Fatal(err)
	}
	if took := time.Since(start); took < 500*time.Millisecond {
		t.Errorf("150 kB at 200 kB/s take %s", took)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := c.StoreRecords(ctx, "p", make([]byte, 150_000)); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a limited request that is called off: %v", err)
	}
}
