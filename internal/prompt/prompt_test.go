package prompt

import (
	"bytes"
	"strings"
	"testing"
	"testing/iotest"
)

func TestLine(t *testing.T) {
	for input, want := range map[string]string{"salt\n": "salt", "salt": "salt", "salt\r\nmore\n": "salt", "  two words \n": "  two words ",
		"\n": ""} {
		got, err := Line(iotest.OneByteReader(strings.NewReader(input)))
		if err != nil || got != want {
			t.Errorf("%q is read as %q, %v", input, got, err)
		}
	}
	if _, err := Line(strings.NewReader("")); err == nil {
		t.Error("nothing is read as something")
	}
	if got, _ := Line(strings.NewReader(strings.Repeat("x", 1<<20))); len(got) > 64<<10 {
		t.Errorf("%d bytes are taken", len(got))
	}
}

func TestWithoutATerminalNothingIsAsked(t *testing.T) {
	var asked bytes.Buffer
	if got, err := Passphrase(strings.NewReader("brine and salt\n"), &asked, "Passphrase", true); err != nil || got != "brine and salt" ||
		asked.Len() > 0 {
		t.Errorf("%q, %v, asked %q", got, err, asked.String())
	}
	if Confirm(strings.NewReader("y\n"), &asked, "Sure?") || asked.Len() > 0 {
		t.Error("a pipe says yes")
	}
}
