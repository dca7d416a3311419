package telling

import (
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
)

func TestAHookHearsOfWhatComesAfterIt(t *testing.T) {
	made := time.Date(2026, 11, 3, 16, 30, 0, 0, time.UTC)
	hook := model.Hook{Kinds: []string{news.Work, news.Asked}, Made: made}
	for _, c := range []struct {
		kind  string
		at    time.Time
		hears bool
	}{
		{news.Work, made.Add(time.Second), true},
		{news.Asked, made, true},
		{news.Work, made.Add(-time.Microsecond), false},
		{news.Turn, made.Add(time.Second), false},
	} {
		if got := hears(hook, c.kind, c.at); got != c.hears {
			t.Errorf("%s at %s: %v", c.kind, c.at, got)
		}
	}
}
