package ground

import (
	"context"
	"time"
)

// Pause waits until happened is closed, but not less than least and not more than most; no longer than ctx goes on. So what is looked for
// in the background costs next to nothing where nothing happens, and not more where much does.
func Pause(ctx context.Context, happened <-chan struct{}, least, most time.Duration) {
	most = max(least, most)
	start := time.Now()
	select {
	case <-ctx.Done():
		return
	case <-time.After(most):
		return
	case <-happened:
	}
	select {
	case <-ctx.Done():
	case <-time.After(least - time.Since(start)):
	}
}
