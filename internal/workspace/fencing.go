package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/scan"
)

const gitIgnoreFile = ".gitignore"

// FenceMarker keeps what makes a folder a workspace out of git, and, where the rules are here, the assets too. Where they are not here
// yet, the first update adds the rest.
func FenceMarker(ctx context.Context, root string) error {
	_, err := os.Lstat(filepath.Join(root, rules.File))
	if err == nil {
		_, err = KeepFence(ctx, root, true)
		return err
	}
	_, err = writeFence(root, true, func() ([]string, error) { return rules.MarkerIgnore(), nil })
	return err
}

// KeepFence makes the block in the folder's git ignore file say what the rules in the folder say, and reports whether that changed it.
// Without make, a file that has no block is left alone.
func KeepFence(ctx context.Context, root string, make bool) (changed bool, err error) {
	return writeFence(root, make, func() ([]string, error) {
		s, broken := scan.New(root)
		return s.Rules.GitIgnore(), broken
	})
}

func writeFence(root string, make bool, lines func() ([]string, error)) (changed bool, err error) {
	name := filepath.Join(root, gitIgnoreFile)
	info, err := os.Lstat(name)
	mode := fs.FileMode(0o644)
	var text []byte
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return false, err
	case !info.Mode().IsRegular():
		return false, model.NewProblem(model.BadRequest, "put a file there", "%s is not a file, and the block of assets can't be kept in it",
			name)
	default:
		mode = info.Mode().Perm()
		if text, err = disk.ReadSmall(name, rules.MaxSize); err != nil {
			return false, err
		}
		if len(text) > rules.MaxSize {
			return false, model.NewProblem(model.TooLarge, "shorten it", "%s has more than %d bytes", name, rules.MaxSize)
		}
	}
	if !make && !rules.Fenced(text) {
		return false, nil
	}
	list, err := lines()
	if err != nil {
		return false, err
	}
	next, err := rules.Fence(text, list)
	if err != nil {
		return false, model.NewProblem(model.BadRequest, "mend the file, then run the command again", ".gitignore: %v", err)
	}
	if string(next) == string(text) {
		return false, nil
	}
	part := filepath.Join(root, assetpath.ReservedPrefix+"ignore-new")
	if err := os.WriteFile(part, next, mode); err != nil {
		return false, fmt.Errorf("the block of assets can't be written: %w", err)
	}
	return true, os.Rename(part, name)
}
