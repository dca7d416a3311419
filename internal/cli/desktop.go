package cli

import (
	"context"
	"sync"

	"github.com/gen2brain/beeep"

	"kettletarn/internal/client"
	"kettletarn/internal/core/news"
	"kettletarn/internal/workspace/watching"
)

// desktop shows news through the system's own notifier, as far as the person wants that. Where there is none, nothing is lost: watch prints
// everything.
type desktop struct {
	mu     sync.Mutex
	wanted map[string]bool
}

func newDesktop() *desktop {
	d := &desktop{wanted: map[string]bool{}}
	for _, k := range news.Kinds() {
		d.wanted[k.Name] = k.Desktop
	}
	return d
}

// learn asks the service what the person wants.
func (d *desktop) learn(ctx context.Context, c *client.Client) {
	settings, err := c.NewsSettings(ctx)
	if err != nil {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, k := range settings.Kinds {
		d.wanted[k.Name] = k.Desktop
	}
}

// show shows a notice that is for this person.
func (d *desktop) show(project string, n watching.Notice) {
	d.mu.Lock()
	wanted := d.wanted[n.News] && (n.Yours || n.News == news.Work)
	d.mu.Unlock()
	if wanted {
		beeep.AppName = "Kettle Tarn"
		_ = beeep.Notify(harmless(project), harmless(n.Message), "")
	}
}
