package cli

import (
	"html"
	"slices"
	"sync"

	"github.com/esiqveland/notify"
	"github.com/gen2brain/beeep"
	"github.com/godbus/dbus/v5"

	"kettletarn/internal/core/text"
)

// harmless is what of a text goes into a notice.
func harmless(words string) string { return text.Line(words) }

// bus is the desktop's notifier (freedesktop.org, Desktop Notifications Specification), with what its notices lead to.
type bus struct {
	mu     sync.Mutex
	at     notify.Notifier
	markup bool // it takes what is said for markup
	leads  map[uint32]func()
}

// maxLeads is of how many notices it is remembered where they lead; those before them have gone long since.
const maxLeads = 100

var desktopBus bus

// showNotice shows a notice: over the session's bus, or where there is none by a program.
func showNotice(title, body string, to lead) {
	if desktopBus.show(title, body, to) != nil {
		beeep.AppName = appName
		_ = beeep.Notify(title, body, "")
	}
}

func (b *bus) show(title, body string, to lead) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.at == nil {
		conn, err := dbus.ConnectSessionBus()
		if err != nil {
			return err
		}
		at, err := notify.New(conn, notify.WithOnAction(b.chosen))
		if err != nil {
			_ = conn.Close()
			return err
		}
		can, err := at.GetCapabilities()
		if err != nil {
			_ = conn.Close()
			return err
		}
		b.at, b.markup, b.leads = at, slices.Contains(can, "body-markup"), map[uint32]func(){}
	}
	if b.markup {
		body = html.EscapeString(body)
	}
	n := notify.Notification{AppName: appName, Summary: title, Body: body, ExpireTimeout: notify.ExpireTimeoutSetByNotificationServer}
	if to.open != nil {
		n.Actions = []notify.Action{notify.NewDefaultAction("Open")}
	}
	id, err := b.at.SendNotification(n)
	if err != nil {
		_ = b.at.Close()
		b.at = nil // the next one begins anew
		return err
	}
	if to.open != nil {
		b.leads[id] = to.open
		for old := range b.leads {
			if old+maxLeads < id {
				delete(b.leads, old)
			}
		}
	}
	return nil
}

// chosen opens what a notice leads to.
func (b *bus) chosen(a *notify.ActionInvokedSignal) {
	b.mu.Lock()
	open := b.leads[a.ID]
	delete(b.leads, a.ID)
	b.mu.Unlock()
	if open != nil {
		open()
	}
}
