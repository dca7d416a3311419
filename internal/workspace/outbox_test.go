//go:build linux

package workspace

import (
	"net/http"
	"testing"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// TestASendInTheBackgroundIsNeverMadeTwice loses the answer to the handoff of a job, which is then taken up again.
func TestASendInTheBackgroundIsNeverMadeTwice(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	locked(t, p.odile, "a")
	write(t, p.odile, "a", "two")
	if _, err := p.odile.SendLater(t.Context(), SendOptions{About: model.About{Note: "in the background"}}); err != nil {
		t.Fatal(err)
	}
	line := &deaf{RoundTripper: http.DefaultTransport, lost: true}
	w, err := openAnyhow(p.odile.Root, testbed.ClientThrough(t, p.url, p.tokens["odile"], line), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	jobs, err := w.Jobs()
	if err != nil || len(jobs) != 1 {
		t.Fatalf("%+v, %v", jobs, err)
	}
	if h, err := w.SendJob(t.Context(), &jobs[0]); err == nil {
		t.Fatalf("the answer was not lost: %+v", h)
	}
	// As after a restart: what is known is what lies on the disk.
	if jobs, err = p.odile.Jobs(); err != nil || len(jobs) != 1 || jobs[0].Pending == nil {
		t.Fatalf("%+v, %v", jobs, err)
	}
	if h, err := p.odile.SendJob(t.Context(), &jobs[0]); err != nil || h.Number != 2 {
		t.Fatalf("%+v, %v", h, err)
	}
	if got := states(t, p.odile); got != "" {
		t.Errorf("states are %q", got)
	}
	all, err := p.odile.Client.Handoffs(t.Context(), key, client.HandoffQuery{})
	if err != nil || len(all.Handoffs) != 2 {
		t.Errorf("%d handoffs, %v", len(all.Handoffs), err)
	}
}
