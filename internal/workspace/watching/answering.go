package watching

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/workspace"
)

// upToDate is the status with everything that happened in the folder before it was asked for.
func (r *watcher) upToDate(ctx context.Context) (*workspace.Status, error) {
	if !r.hearOut() {
		r.mark("", true)
	}
	return r.current(ctx)
}

// hearOut waits until everything that happened in the folder so far was heard of: changes are told in their order, and the last one is
// made here.
func (r *watcher) hearOut() bool {
	if r.watch == nil {
		return false
	}
	name := workspace.EchoPrefix + uuid.NewString()
	heard := make(chan struct{})
	r.mu.Lock()
	r.echoes[name] = heard
	r.mu.Unlock()
	full := filepath.Join(r.w.Root, name)
	defer os.Remove(full)
	if os.WriteFile(full, nil, 0o600) == nil {
		select {
		case <-heard:
			return true
		case <-time.After(echoLimit):
		}
	}
	r.mu.Lock()
	delete(r.echoes, name)
	r.mu.Unlock()
	return false
}
