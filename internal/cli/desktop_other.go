//go:build !windows

package cli

import "kettletarn/internal/core/text"

// harmless is what of a text goes into a notice: the notifiers of these systems take it as text.
func harmless(words string) string { return text.Line(words) }
