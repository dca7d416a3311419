//go:build linux

package startmenu

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/adrg/xdg"
)

// TestTheEntries: they name the program whatever is in its name, and Remove leaves nothing of them.
func TestTheEntries(t *testing.T) {
	home := t.TempDir()
	for _, name := range []string{"XDG_DATA_HOME", "XDG_CONFIG_HOME"} {
		t.Setenv(name, filepath.Join(home, name))
	}
	t.Setenv("PATH", "") // the machine's own desktop is left alone
	xdg.Reload()
	program := `/opt/ta"rn $HOME/50% \new/tarn`
	placed, err := Install(program)
	if err != nil || len(placed) != 2 {
		t.Fatal(placed, err)
	}
	entry, err := os.ReadFile(entryFile())
	if err != nil {
		t.Fatal(err)
	}
	var exec string
	for line := range strings.Lines(string(entry)) {
		if rest, ok := strings.CutPrefix(line, "Exec="); ok {
			exec = strings.TrimSuffix(rest, "\n")
		}
	}
	if got := unquoted(t, exec); got != program+"|desk|%u" {
		t.Errorf("%s would run %s", exec, got)
	}
	if !strings.Contains(string(entry), "MimeType=x-scheme-handler/tarn;\n") {
		t.Error("links are not for it")
	}
	removed, err := Remove()
	if err != nil || len(removed) != 3 {
		t.Error(removed, err)
	}
	if again, err := Remove(); err != nil || len(again) != 0 {
		t.Error(again, err)
	}
	left := 0
	_ = filepath.WalkDir(home, func(_ string, d os.DirEntry, _ error) error {
		if !d.IsDir() {
			left++
		}
		return nil
	})
	if left > 0 {
		t.Errorf("%d files are left", left)
	}
}

// unquoted reads a value of Exec as the specification says: first the escapes of every string, then the quotes of arguments.
func unquoted(t *testing.T, value string) string {
	t.Helper()
	var plain strings.Builder
	for i := 0; i < len(value); i++ {
		if value[i] == '\\' && i+1 < len(value) {
			i++
		}
		plain.WriteByte(value[i])
	}
	var args []string
	var arg strings.Builder
	in := false
	text := plain.String()
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			in = !in
		case in && c == '\\' && i+1 < len(text):
			i++
			arg.WriteByte(text[i])
		case !in && c == ' ':
			args = append(args, arg.String())
			arg.Reset()
		case in && c == '%' && i+1 < len(text) && text[i+1] == '%':
			i++
			arg.WriteByte('%')
		default:
			arg.WriteByte(c)
		}
	}
	return strings.Join(append(args, arg.String()), "|")
}
