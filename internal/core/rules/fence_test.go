package rules

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestTheBlockIsRewrittenAndNothingElse(t *testing.T) {
	for _, text := range []string{"", "node_modules/\n", "a\r\nb\r\n", "no end of line", "\n\n"} {
		one, err := Fence([]byte(text), []string{"*.png"})
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.HasSuffix(one, []byte(text)) || !Fenced(one) || Fenced([]byte(text)) {
			t.Errorf("%q becomes %q", text, one)
		}
		moved := append([]byte("mine\n"), one...)
		two, err := Fence(moved, []string{"*.wav", "*.glb"})
		if err != nil || !bytes.HasPrefix(two, []byte("mine\n"+FenceBegin)) || !bytes.HasSuffix(two, []byte(text)) ||
			bytes.Contains(two, []byte("png")) || !bytes.Contains(two, []byte("glb")) {
			t.Errorf("%q becomes %q, %v", moved, two, err)
		}
		if again, err := Fence(two, []string{"*.wav", "*.glb"}); err != nil || !bytes.Equal(again, two) {
			t.Errorf("the same again makes %q of %q, %v", again, two, err)
		}
	}
	block, _ := Fence(nil, []string{"*.png"})
	for _, bad := range []string{FenceBegin + "\n*.png\n", "*.png\n" + FenceEnd + "\n", string(block) + string(block), FenceBegin + "\n" +
		string(block)} {
		if _, err := Fence([]byte(bad), nil); err == nil {
			t.Errorf("a damaged block is written over: %q", bad)
		}
	}
}

func TestWhatTheBlockHidesIsNoReasonToLeaveAssetsOut(t *testing.T) {
	text, _ := Fence([]byte("logs/\n"), []string{"art/", "*.png"})
	g := ParseGitIgnore("", text)
	if _, said, _ := g.Look("art", true); said {
		t.Error("the block hides assets from us")
	}
	if hidden, _, by := g.Look("logs", true); !hidden || by.Line != 6 {
		t.Errorf("logs/ is hidden: %v, by line %d", hidden, by.Line)
	}
}

func FuzzFence(f *testing.F) {
	block, _ := Fence([]byte("x\n"), []string{"*.png"})
	f.Add(string(block), "*.wav")
	f.Add("a\r\n", "b")
	f.Fuzz(func(t *testing.T, text, line string) {
		if strings.ContainsAny(line, "\r\n") || strings.HasPrefix(line, "#") {
			t.Skip()
		}
		begin, end, was, err := fences([]byte(text))
		next, failed := Fence([]byte(text), []string{line})
		if (err == nil) != (failed == nil) {
			t.Fatalf("%v and %v", err, failed)
		}
		if err != nil {
			return
		}
		if was && (!bytes.HasPrefix(next, []byte(text[:begin])) || !bytes.HasSuffix(next, []byte(text[end:]))) || !was &&
			!bytes.HasSuffix(next, []byte(text)) {
			t.Errorf("what stands outside was touched: %q became %q", text, next)
		}
		if again, err := Fence(next, []string{line}); err != nil || !bytes.Equal(again, next) {
			t.Errorf("twice is not once: %q, %q, %v", next, again, err)
		}
	})
}

// The block is held against git itself: what the rules call an asset is hidden, what they leave to the main history is not.
func TestTheBlockAgreesWithTheRules(t *testing.T) {
	dir := t.TempDir()
	if out, err := exec.Command("git", "init", "-q", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	random := rand.New(rand.NewPCG(1, 2))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	// Names of folders have no ending here: see GitIgnore.
	folder := func() string { return pick("art", "Tex", "src", "docs", "art/deep", "src/art", ".github", "cache") }
	name := func() string {
		return pick("a.png", "A.PNG", "b.txt", "main.go", "Make", "art", "c.wav", "note (1).txt", "#odd.png", "{x}.wav", ".gitmodules")
	}
	aPattern := func() string {
		return pick("*.png", "*.txt", "*.wav", folder()+"/", "/"+folder()+"/", folder(), "/"+folder()+"/**", folder()+"/*."+pick("png", "txt"),
			"**/"+folder()+"/*.wav", "["+pick("a-c", "!a", "ab")+"]*", "Make", `\#odd.png`, "{x}.wav", "*(1)*")
	}
	var paths []string
	seen := map[string]bool{}
	for range 300 {
		p := name()
		for range random.IntN(3) {
			p = folder() + "/" + p
		}
		if !seen[p] {
			seen[p], paths = true, append(paths, p)
		}
	}
	cases := []string{""}
	for _, p := range Presets() {
		cases = append(cases, fmt.Sprintf("presets = [%q]\notherwise = \"code\"\n", p.Name))
	}
	for range 60 {
		text := "otherwise = \"" + pick("asset", "code") + "\"\n"
		for range 1 + random.IntN(4) {
			text += fmt.Sprintf("[[rule]]\nmatch = [%q, %q]\nkind = %q\n", aPattern(), aPattern(), pick(Asset, Code, Asset, Code, Ignored))
		}
		cases = append(cases, text)
	}
	for _, text := range cases {
		r, err := Parse([]byte(text))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		block, err := Fence(nil, r.GitIgnore())
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, ".gitignore"), block, 0o644); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("git", "-c", "core.quotePath=false", "-c", "core.ignoreCase=false", "check-ignore", "--no-index", "-z", "--stdin")
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(strings.Join(paths, "\x00")+"\x00")
		out, _ := cmd.Output()
		hidden := map[string]bool{}
		for _, p := range strings.Split(string(out), "\x00") {
			hidden[p] = true
		}
		for _, p := range paths {
			if d := r.Decide(p); d.Kind == Asset && !hidden[p] || d.Kind == Code && hidden[p] {
				t.Errorf("%s is %s by %s, and git hides it: %v, under\n%s\n%s", p, d.Kind, d.KindBy, hidden[p], text, block)
			}
		}
		if t.Failed() {
			return
		}
	}
}
