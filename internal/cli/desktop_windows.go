package cli

// harmless is what of a text goes into a notice: see notice.
func harmless(words string) string { return notice(words) }
