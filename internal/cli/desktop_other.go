//go:build !windows && !linux

package cli

import (
	"github.com/gen2brain/beeep"

	"kettletarn/internal/core/text"
)

// harmless is what of a text goes into a notice: the notifiers of these systems take it as text.
func harmless(words string) string { return text.Line(words) }

// showNotice shows a notice. The notifiers that can be reached here lead nowhere.
func showNotice(title, body string, _ lead) {
	beeep.AppName = appName
	_ = beeep.Notify(title, body, "")
}
