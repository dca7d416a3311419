package ground

import (
	"context"
	"testing"
	"testing/synctest"
	"time"
)

func TestPause(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, c := range []struct {
			after, least, most, want time.Duration
		}{
			{0, 0, time.Minute, 0}, {0, 2 * time.Second, time.Minute, 2 * time.Second},
			{5 * time.Second, 2 * time.Second, time.Minute, 5 * time.Second},
			{time.Hour, 2 * time.Second, time.Minute, time.Minute}, {time.Hour, 2 * time.Second, 0, 2 * time.Second},
		} {
			happened := make(chan struct{})
			time.AfterFunc(c.after, func() { close(happened) })
			if c.after == 0 {
				synctest.Wait()
			}
			start := time.Now()
			Pause(t.Context(), happened, c.least, c.most)
			if took := time.Since(start); took != c.want {
				t.Errorf("%+v took %s", c, took)
			}
			<-happened
		}
		ctx, stop := context.WithCancel(t.Context())
		time.AfterFunc(time.Second, stop)
		start := time.Now()
		Pause(ctx, make(chan struct{}), 2*time.Second, time.Hour)
		if took := time.Since(start); took != time.Second {
			t.Errorf("it went on for %s", took)
		}
	})
}
