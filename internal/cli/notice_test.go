package cli

import (
	"strings"
	"testing"
)

// TestANoticeCarriesNothingThatRuns: whatever a teammate writes.
func TestANoticeCarriesNothingThatRuns(t *testing.T) {
	words := "rurik asks: ]]></text><x>$(calc.exe)`calc`\"'; Start-Process calc; & | % @ # \r\n\x1b[2J \u202e {0} \\ ^ ! ~ é 水"
	got := notice(words)
	if strings.ContainsAny(got, "]<>$()`\"';&|%@#\r\n\x1b\u202e{}\\^!~=+*?") {
		t.Errorf("%q", got)
	}
	if !strings.Contains(got, "rurik asks:") || !strings.Contains(got, "é 水") {
		t.Errorf("what can be read is gone: %q", got)
	}
}
