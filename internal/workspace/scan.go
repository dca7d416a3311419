package workspace

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"sync"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/workspace/index"
)

// File is one file on disk.
type File struct {
	Stamp      index.Stamp
	Executable bool
}

func stampOf(info fs.FileInfo) index.Stamp {
	return index.Stamp{Size: info.Size(), Time: info.ModTime().UnixNano(), Inode: inode(info), Looked: now().UnixNano()}
}

// LeftOut is a file, or a whole folder (its path ends in a slash), that the rules leave out, and what decided so.
type LeftOut struct {
	Path  string       `json:"path"`
	State string       `json:"state"`
	Size  int64        `json:"size,omitempty"`
	By    rules.Origin `json:"by"`
}

// tracked is what the index knows of a path, and the file that stands there.
type tracked struct {
	path   string
	base   index.Base
	theirs index.Theirs
	file   File
	had    bool // the workspace has a version of it
	known  bool // the service said something of it
	here   bool // the file is there
}

// scan is one look at a folder. Those below are filled by several goroutines: an entry of tracked by the one that finds its file, the rest
// behind the mutex.
type scan struct {
	root    string
	rules   *rules.Rules
	scope   scope.Scope
	tracked []tracked
	index   map[string]int32
	folders map[string]bool // that have something tracked in them; only where a folder is left out
	within  []string        // only these, where not empty
	listing bool            // what is left out is wanted in full
	deep    bool            // also folders that a git ignore file hides are looked into, for what is large

	mu      sync.Mutex
	fresh   []tracked // files that the index does not know
	outside []tracked // the same, outside the scope
	odd     []model.Refusal
	left    []LeftOut
	leftN   int
	code    int
	large   []tracked // files that no rule covers, that are large, and that the main history would take
	hidden  []LeftOut // large files that a git ignore file hides

	work sync.WaitGroup
	gate chan struct{}
	err  error
}

// folderTask is a folder to look into. ignores are the git ignore files that hold in it, the outermost first; by is why everything in it
// that no rule names by its place is left out.
type folderTask struct {
	rel     string
	ignores []*rules.GitIgnore
	by      *rules.Origin
}

// newScan looks for the rules in the folder. A broken rules file comes back as rulesErr; the built-in rules hold then.
func newScan(root string) (s *scan, rulesErr error) {
	s = &scan{root: root, rules: rules.Default(), gate: make(chan struct{}, 2*runtime.NumCPU())}
	text, err := readSmall(filepath.Join(root, rules.File), rules.MaxSize)
	if err != nil {
		return s, nil
	}
	parsed, err := rules.Parse(text)
	if err != nil {
		return s, model.NewProblem(model.BadRequest, "mend the file; until then only the built-in rules hold here", "tarn.toml: %v", err)
	}
	s.rules = parsed
	return s, nil
}

// readSmall reads a file, at most one byte more than most.
func readSmall(name string, most int64) ([]byte, error) {
	// Opening a pipe would wait until somebody writes into it.
	if info, err := os.Stat(name); err != nil {
		return nil, err
	} else if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: errors.New("it is not a regular file")}
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most+1))
}

// knownBelow reports whether the index has something in a folder.
func (s *scan) knownBelow(folder string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.folders == nil {
		s.folders = map[string]bool{}
		for i := range s.tracked {
			if s.tracked[i].had {
				for _, f := range assetpath.Folders(s.tracked[i].path) {
					s.folders[f] = true
				}
			}
		}
	}
	return s.folders[folder]
}

// run looks at the whole folder, or at what lies at or below within.
func (s *scan) run(ctx context.Context) error {
	start := folderTask{}
	s.work.Add(1)
	go s.folder(ctx, start)
	s.work.Wait()
	if s.err != nil {
		return s.err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	s.dropTwins()
	sort.Slice(s.odd, func(i, j int) bool { return s.odd[i].Path < s.odd[j].Path })
	sort.Slice(s.left, func(i, j int) bool { return s.left[i].Path < s.left[j].Path })
	for _, list := range [][]tracked{s.fresh, s.outside, s.large} {
		sort.Slice(list, func(i, j int) bool { return list[i].path < list[j].path })
	}
	return nil
}

func (s *scan) fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
}

// wantsFolder and wantsFile tell whether something is at, below or above one of the paths that were asked for.
func (s *scan) wantsFolder(rel string) bool {
	if len(s.within) == 0 {
		return true
	}
	for _, p := range s.within {
		if below(rel, p) || below(p, rel) {
			return true
		}
	}
	return false
}

func (s *scan) wantsFile(rel string) bool {
	if len(s.within) == 0 {
		return true
	}
	for _, p := range s.within {
		if below(rel, p) {
			return true
		}
	}
	return false
}

// folder looks at the entries of one folder.
func (s *scan) folder(ctx context.Context, t folderTask) {
	defer s.work.Done()
	s.gate <- struct{}{}
	defer func() { <-s.gate }()
	if ctx.Err() != nil {
		return
	}
	looked := now().UnixNano()
	dir, err := os.Open(filepath.Join(s.root, filepath.FromSlash(t.rel)))
	var entries []fs.DirEntry
	if err == nil {
		defer dir.Close()
		entries, err = dir.ReadDir(-1)
	}
	if err != nil {
		switch {
		case t.rel == "":
			s.fail(err)
		case !errors.Is(err, fs.ErrNotExist):
			s.note(t.rel, "unreadable", "can't be read: "+rootCause(err), "give yourself the right to read it")
		}
		return
	}
	var gitIgnore bool
	for _, e := range entries {
		switch e.Name() {
		case assetpath.Marker:
			if t.rel != "" {
				s.note(t.rel, "workspace", "is a workspace of its own", "it stays out of this one")
				return
			}
		case ".gitignore":
			gitIgnore = true
		}
	}
	if gitIgnore {
		if text, err := readSmall(filepath.Join(s.root, filepath.FromSlash(t.rel), ".gitignore"), rules.MaxSize); err == nil &&
			len(text) <= rules.MaxSize {
			t.ignores = append(t.ignores[:len(t.ignores):len(t.ignores)], rules.ParseGitIgnore(t.rel, text))
		}
	}
	prefix := ""
	if t.rel != "" {
		prefix = t.rel + "/"
	}
	for _, e := range entries {
		s.entry(ctx, t, dir, prefix, e, looked)
	}
}

func (s *scan) entry(ctx context.Context, t folderTask, dir *os.File, prefix string, e fs.DirEntry, looked int64) {
	base := e.Name()
	if base[0] == '.' || base[0] >= 0x80 || filepath.Separator != '/' {
		if folded := assetpath.Fold(base); folded == ".git" || strings.HasPrefix(folded, assetpath.ReservedPrefix) {
			return
		}
	}
	name := prefix + base
	if e.IsDir() {
		if s.wantsFolder(name) {
			s.enter(ctx, t, name)
		}
		return
	}
	at, known := s.index[name]
	if !known && !s.wantsFile(name) {
		return
	}
	var entry *tracked
	if known {
		entry = &s.tracked[at]
	}
	if entry == nil || !entry.had {
		if entry == nil && !s.track(t, dir, name, e) {
			return
		}
		if entry == nil {
			entry = &tracked{path: name}
		}
	}
	file, regular, err := glance(dir, e)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	if err != nil {
		s.note(name, "unreadable", "can't be read: "+rootCause(err), "give yourself the right to read it")
		return
	}
	if !regular {
		what := "is not a regular file"
		if e.Type()&fs.ModeSymlink != 0 {
			what = "is a link"
		}
		s.note(name, "not-a-file", what, "links and devices are left out; put the file itself there")
		return
	}
	file.Stamp.Looked = looked
	entry.file, entry.here = file, true
	if known {
		return
	}
	if bad := assetpath.Check(name); bad != nil {
		s.mu.Lock()
		s.odd = append(s.odd, model.Refusal{Path: assetpath.Printable(name), Reason: bad.Reason, Message: assetpath.Printable(name) + ": " +
			bad.Message, Remedy: bad.Remedy})
		s.mu.Unlock()
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.scope.Has(name) {
		s.fresh = append(s.fresh, *entry)
	} else {
		s.outside = append(s.outside, *entry)
	}
}

// enter looks into a folder, unless everything in it is left out.
func (s *scan) enter(ctx context.Context, t folderTask, name string) {
	next := folderTask{rel: name, ignores: t.ignores, by: t.by}
	d, shut := s.rules.Shut(name)
	if shut && !s.knownBelow(name) {
		s.leave(LeftOut{Path: name + "/", State: model.Ignored, By: d.KindBy})
		return
	}
	if next.by == nil {
		if by, hidden := hiddenByGit(t.ignores, name, true); hidden {
			next.by = &by
		}
	}
	if next.by != nil && !s.rules.Opens(name) && !s.knownBelow(name) && len(s.within) == 0 && !s.deep {
		s.leave(LeftOut{Path: name + "/", State: model.Ignored, By: *next.by})
		return
	}
	s.work.Add(1)
	go s.folder(ctx, next)
}

// hiddenByGit asks the git ignore files, the innermost first.
func hiddenByGit(ignores []*rules.GitIgnore, name string, folder bool) (rules.Origin, bool) {
	for i := len(ignores) - 1; i >= 0; i-- {
		if hidden, said, by := ignores[i].Look(name, folder); said {
			return by, hidden
		}
	}
	return rules.Origin{}, false
}

// track decides whether a file that the index does not know may be an asset. What is not is counted.
func (s *scan) track(t folderTask, dir *os.File, name string, e fs.DirEntry) bool {
	d := s.rules.Decide(name)
	if d.Kind != rules.Ignored {
		by, hidden := rules.Origin{}, false
		switch {
		case t.by != nil:
			by, hidden = *t.by, d.Kind != rules.Asset || !d.Placed
		case d.Kind == rules.Code || !d.Covered:
			by, hidden = hiddenByGit(t.ignores, name, false)
		}
		if hidden {
			s.hide(name, dir, e, by)
			return false
		}
	}
	switch d.Kind {
	case rules.Ignored:
		s.leave(LeftOut{Path: name, State: model.Ignored, By: d.KindBy})
	case rules.Code:
		var file File
		if !d.Covered {
			file, _, _ = glance(dir, e)
		}
		s.mu.Lock()
		s.code++
		if !d.Covered && file.Stamp.Size >= s.rules.PointOut {
			s.large = append(s.large, tracked{path: name, file: file, here: true})
		}
		if s.listing {
			s.left = append(s.left, LeftOut{Path: name, State: model.Code, Size: file.Stamp.Size, By: d.KindBy})
		}
		s.mu.Unlock()
	default:
		return true
	}
	return false
}

func (s *scan) leave(l LeftOut) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.leftN++
	if s.listing {
		s.left = append(s.left, l)
	}
}

// hide leaves out what a git ignore file hides, and notes what is large.
func (s *scan) hide(name string, dir *os.File, e fs.DirEntry, by rules.Origin) {
	l := LeftOut{Path: name, State: model.Ignored, By: by}
	if s.listing || s.deep {
		if file, regular, err := glance(dir, e); err == nil && regular {
			l.Size = file.Stamp.Size
		}
	}
	s.leave(l)
	if l.Size >= s.rules.PointOut {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.hidden = append(s.hidden, l)
	}
}

func (s *scan) note(name, reason, message, remedy string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name = assetpath.Printable(name)
	s.odd = append(s.odd, model.Refusal{Path: name, Reason: reason, Message: name + ": it " + message, Remedy: remedy})
}

// dropTwins takes out the new files that would be one file with another on some system. An asset stays, or else the first by name.
func (s *scan) dropTwins() {
	if len(s.fresh) == 0 {
		return
	}
	sort.Slice(s.fresh, func(i, j int) bool { return s.fresh[i].path < s.fresh[j].path })
	// The folded places of new files, and how tracked ones spell them: only those can collide.
	spelled := map[string]string{}
	for i := range s.fresh {
		for _, place := range places(s.fresh[i].path) {
			spelled[assetpath.Fold(place)] = ""
		}
	}
	last := ""
	for i := range s.tracked {
		t := &s.tracked[i]
		if !t.had || !t.here {
			continue
		}
		if f := assetpath.Fold(t.path); spells(spelled, f) {
			spelled[f] = t.path
		}
		folder := t.path[:max(strings.LastIndexByte(t.path, '/'), 0)]
		if folder == last {
			continue
		}
		last = folder
		for _, place := range assetpath.Folders(t.path) {
			if f := assetpath.Fold(place); spells(spelled, f) {
				spelled[f] = place
			}
		}
	}
	kept := s.fresh[:0]
	for _, t := range s.fresh {
		clash := ""
		for _, place := range places(t.path) {
			if other := spelled[assetpath.Fold(place)]; other != "" && other != place {
				clash = other
				break
			}
		}
		if clash != "" {
			s.note(t.path, "path-collides", "would be the same as "+clash+" on some systems", "rename one of them")
			continue
		}
		for _, place := range places(t.path) {
			spelled[assetpath.Fold(place)] = place
		}
		kept = append(kept, t)
	}
	s.fresh = kept
}

// places are a path and the folders above it.
func places(path string) []string { return append(assetpath.Folders(path), path) }

func spells(m map[string]string, key string) bool {
	_, ok := m[key]
	return ok
}
