package cli

import (
	"context"
	"sync"

	"kettletarn/internal/client"
	"kettletarn/internal/core/news"
	"kettletarn/internal/workspace/watching"
)

// desktop shows news through the system's own notifier, as far as the person wants that. Where there is none, nothing is lost: watch prints
// everything.
type desktop struct {
	shows  func(title, body string, to lead)
	mu     sync.Mutex
	wanted map[string]bool
}

// lead is where a notice leads whoever chooses it: a page of the desk, and what opens that. The zero value leads nowhere.
type lead struct {
	page string
	open func()
}

// appName is under which notices appear.
const appName = "Kettle Tarn"

func newDesktop() *desktop {
	d := &desktop{wanted: map[string]bool{}, shows: showNotice}
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
func (d *desktop) show(project string, n watching.Notice, to lead) {
	d.mu.Lock()
	wanted := d.wanted[n.News] && (n.Yours || n.News == news.Work)
	d.mu.Unlock()
	if wanted {
		d.shows(harmless(project), harmless(n.Message), to)
	}
}
