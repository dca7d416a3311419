package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"sort"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
)

// Found is a folder as it is on disk: the files that may be assets, those that can't be, and what the rules leave out.
type Found struct {
	Files    map[string]File
	Odd      []model.Refusal
	Left     int
	RulesErr error
}

// File is one file on disk.
type File struct {
	Stamp      Stamp
	Executable bool
}

func stampOf(info fs.FileInfo) Stamp {
	return Stamp{Size: info.Size(), Time: info.ModTime().UnixNano(), Inode: inode(info), Looked: now().UnixNano()}
}

// Look walks a folder, which need not be a workspace. known are paths that are assets already: the rules do not hide them.
func Look(ctx context.Context, root string, known func(string) bool) (*Found, error) {
	found := &Found{Files: map[string]File{}}
	decide := rules.Default()
	if text, err := readRules(root); err == nil {
		if decide, err = rules.Parse(text); err != nil {
			found.RulesErr = model.NewProblem(model.BadRequest, "mend the file; until then only the built-in rules hold", "tarn.toml: %v", err)
			decide = rules.Default()
		}
	}
	err := filepath.WalkDir(root, func(full string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		rel, relErr := filepath.Rel(root, full)
		if relErr != nil {
			return relErr
		}
		name := filepath.ToSlash(rel)
		if err != nil {
			if name == "." {
				return err
			}
			if !errors.Is(err, fs.ErrNotExist) {
				found.odd(name, "unreadable", "can't be read: "+rootCause(err), "give yourself the right to read it")
			}
			return skip(d)
		}
		if name == "." {
			return nil
		}
		if filepath.Separator != '/' && strings.Contains(name, `\`) {
			return nil
		}
		base := path.Base(name)
		folded := assetpath.Fold(base)
		if folded == ".git" || strings.HasPrefix(folded, assetpath.ReservedPrefix) {
			return skip(d)
		}
		if d.IsDir() {
			if _, err := os.Lstat(filepath.Join(full, assetpath.Marker)); err == nil {
				found.odd(name, "workspace", "is a workspace of its own", "it stays out of this one")
				return fs.SkipDir
			}
			if decide.Ignored(name, true) && !knownBelow(known, name) {
				found.Left++
				return fs.SkipDir
			}
			return nil
		}
		isKnown := known != nil && known(name)
		if !isKnown && decide.Ignored(name, false) {
			found.Left++
			return nil
		}
		if !d.Type().IsRegular() {
			what := "is not a regular file"
			if d.Type()&fs.ModeSymlink != 0 {
				what = "is a link"
			}
			found.odd(name, "not-a-file", what, "links and devices are left out; put the file itself there")
			return nil
		}
		if bad := assetpath.Check(name); bad != nil {
			found.Odd = append(found.Odd, model.Refusal{Path: assetpath.Printable(name), Reason: bad.Reason, Message: assetpath.Printable(name) + ": " + bad.Message, Remedy: bad.Remedy})
			return nil
		}
		info, err := d.Info()
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		found.Files[name] = File{Stamp: stampOf(info), Executable: executable(info)}
		return nil
	})
	if err != nil {
		return nil, err
	}
	found.dropTwins(known)
	sort.Slice(found.Odd, func(i, j int) bool { return found.Odd[i].Path < found.Odd[j].Path })
	return found, nil
}

// knownBelow is conservative: an ignored folder is looked into only where something in it may be an asset.
func knownBelow(known func(string) bool, folder string) bool {
	return known != nil && known(folder+"/")
}

func skip(d fs.DirEntry) error {
	if d != nil && d.IsDir() {
		return fs.SkipDir
	}
	return nil
}

func (f *Found) odd(name, reason, message, remedy string) {
	name = assetpath.Printable(name)
	f.Odd = append(f.Odd, model.Refusal{Path: name, Reason: reason, Message: name + ": it " + message, Remedy: remedy})
}

// dropTwins takes out the files that would be one file with another on some system. The one that is an asset already stays, or else
// the first by name.
func (f *Found) dropTwins(known func(string) bool) {
	names := make([]string, 0, len(f.Files))
	for name := range f.Files {
		names = append(names, name)
	}
	sort.Slice(names, func(i, j int) bool {
		ki, kj := known != nil && known(names[i]), known != nil && known(names[j])
		if ki != kj {
			return ki
		}
		return names[i] < names[j]
	})
	taken := map[string]string{}
	for _, name := range names {
		clash := ""
		for _, place := range append(assetpath.Folders(name), name) {
			folded := assetpath.Fold(place)
			if other, ok := taken[folded]; ok && other != place {
				clash = other
				break
			}
		}
		if clash != "" {
			f.odd(name, "path-collides", "would be the same as "+clash+" on some systems", "rename one of them")
			delete(f.Files, name)
			continue
		}
		for _, place := range append(assetpath.Folders(name), name) {
			taken[assetpath.Fold(place)] = place
		}
	}
}

func readRules(root string) ([]byte, error) {
	f, err := os.Open(filepath.Join(root, rules.File))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, rules.MaxSize+1))
}

func rootCause(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// errMoving says that a file did not hold still while it was read.
var errMoving = errors.New("it changed while it was read")

// read cuts and hashes one file of the workspace, again from the start where it changed meanwhile, at most three times. The chunks of
// its base are tried first. each, where not nil, gets every chunk, again where it starts again; it is what sends them.
func (w *Workspace) read(ctx context.Context, name string, base Refs, each func(chunk.Piece, []byte) error) (Cut, File, error) {
	hints := chunk.NewHints(base.list())
	for try := 0; ; try++ {
		c, file, err := w.readOnce(ctx, name, hints, each)
		if !errors.Is(err, errMoving) || try == 2 {
			return c, file, err
		}
	}
}

func (w *Workspace) readOnce(ctx context.Context, name string, hints *chunk.Hints, each func(chunk.Piece, []byte) error) (Cut, File, error) {
	f, err := w.root.Open(filepath.FromSlash(name))
	if err != nil {
		return Cut{}, File{}, err
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return Cut{}, File{}, err
	}
	if !before.Mode().IsRegular() {
		return Cut{}, File{}, errors.New("it is not a regular file")
	}
	c := Cut{Stamp: stampOf(before), Size: before.Size()}
	var refs []chunk.Ref
	err = chunk.Scan(ctx, f, c.Size, hints, runtime.NumCPU(), func(p chunk.Piece, data []byte) error {
		refs, c.Refs = append(refs, p.Ref), c.Refs.add(p.Ref)
		if each == nil {
			w.Progress.Add(int64(p.Size))
			return nil
		}
		return each(p, data)
	})
	if err == io.ErrUnexpectedEOF {
		err = errMoving
	}
	if err != nil {
		return Cut{}, File{}, err
	}
	c.Content = manifest.Root(refs)
	after, err := w.root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return Cut{}, File{}, err
	}
	if s := stampOf(after); s.Size != c.Stamp.Size || s.Time != c.Stamp.Time || s.Inode != c.Stamp.Inode {
		return Cut{}, File{}, errMoving
	}
	return c, File{Stamp: c.Stamp, Executable: executable(before)}, nil
}

// unreadable is the refusal for a file that can't be read.
func unreadable(name string, err error) model.Refusal {
	switch {
	case errors.Is(err, errMoving):
		return model.Refusal{Path: name, Reason: "changing", Message: name + ": it changed while it was read", Remedy: "let the program finish saving, then run the command again"}
	case errors.Is(err, fs.ErrNotExist):
		return model.Refusal{Path: name, Reason: "vanished", Message: name + ": it vanished while the command ran", Remedy: "run the command again"}
	}
	return model.Refusal{Path: name, Reason: "unreadable", Message: fmt.Sprintf("%s: it can't be read: %s", name, rootCause(err)), Remedy: "see that it is yours to read, and that no program holds it"}
}
