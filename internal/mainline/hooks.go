package mainline

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
)

// Ours are the hooks that can be put into a repository, and what each runs in the folder of the workspace. The last three do something
// beside what git did, and never make it look failed.
var ours = map[string]string{
	"pre-commit":    "tarn pin staged",
	"post-checkout": `tarn pin moved "$1" "$2"`,
	"post-merge":    "tarn pin moved ORIG_HEAD HEAD",
	"post-rewrite":  `[ "$1" != rebase ] || tarn pin moved ORIG_HEAD HEAD`,
	"post-commit":   "tarn pin tell --if-moved",
}

const (
	signature = "# Written by \"tarn pin --hook\"; \"tarn pin --no-hook\" takes it out again."
	earlier   = ".before-tarn"
)

func (r *Repo) script(hook string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "#!/bin/sh\n%s\n# A hook that stood here before is %s%s, and runs first.\n", signature, hook, earlier)
	fmt.Fprintf(&b, "before=\"$(dirname \"$0\")/%s%s\"\nif [ -x \"$before\" ]; then \"$before\" \"$@\" || exit $?; fi\n", hook, earlier)
	fmt.Fprintf(&b, "command -v tarn >/dev/null 2>&1 || exit 0\ncd %s || exit 0\n", quoted("./"+r.Prefix))
	if hook == "pre-commit" {
		fmt.Fprintf(&b, "exec %s\n", ours[hook])
	} else {
		fmt.Fprintf(&b, "%s\nexit 0\n", ours[hook])
	}
	return []byte(b.String())
}

// quoted is a word for a shell.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// hookFolder is where the repository's hooks lie. One that is part of the work tree is refused: what is in it belongs to the team's
// history.
func (r *Repo) hookFolder(ctx context.Context) (string, error) {
	folder, err := r.path(ctx, "hooks")
	if err != nil {
		return "", err
	}
	within := func(root string) bool {
		rel, err := filepath.Rel(root, folder)
		return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
	}
	if within(r.Top) && !within(r.Home) && !within(filepath.Join(r.Top, ".git")) {
		lines := make([]string, 0, len(ours))
		for _, hook := range hookNames() {
			lines = append(lines, hook+": "+ours[hook])
		}
		return "", fmt.Errorf("the hooks of this repository lie in %s, which is part of its history (core.hooksPath); add these lines to them "+
			"by hand: %s", folder, strings.Join(lines, "; "))
	}
	return folder, nil
}

func hookNames() (names []string) {
	for name := range ours {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// AddHooks puts our hooks into the repository, and returns the names of hooks that were there before: they are kept, and called first.
// Again, it brings them up to date.
func (r *Repo) AddHooks(ctx context.Context) (kept []string, err error) {
	folder, err := r.hookFolder(ctx)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	for _, hook := range hookNames() {
		name := filepath.Join(folder, hook)
		text, err := os.ReadFile(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return kept, err
		case !bytes.Contains(text, []byte(signature)):
			if _, err := os.Lstat(name + earlier); err == nil {
				return kept, fmt.Errorf("both %s and %s%s are there already, and neither is to be lost; put what they do into one of them, and take "+
					"the other away", name, hook, earlier)
			}
			if err := os.Rename(name, name+earlier); err != nil {
				return kept, err
			}
		}
		if err := os.WriteFile(name, r.script(hook), 0o755); err != nil {
			return kept, err
		}
		if err := os.Chmod(name, 0o755); err != nil {
			return kept, err
		}
		if _, err := os.Lstat(name + earlier); err == nil {
			kept = append(kept, hook)
		}
	}
	return kept, nil
}

// RemoveHooks takes our hooks out again, and puts back those that were there before.
func (r *Repo) RemoveHooks(ctx context.Context) (removed []string, err error) {
	folder, err := r.hookFolder(ctx)
	if err != nil {
		return nil, err
	}
	for _, hook := range hookNames() {
		name := filepath.Join(folder, hook)
		text, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && !bytes.Contains(text, []byte(signature)) {
			continue
		}
		if err == nil {
			err = os.Remove(name)
		}
		if err != nil {
			return removed, err
		}
		if err := os.Rename(name+earlier, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return removed, err
		}
		removed = append(removed, hook)
	}
	return removed, nil
}
