// Package scan looks at the folder of a workspace: which files stand there and how they look, which of them the rules leave out, and what
// the index knows of each. How one file is read is in read.go. It judges nothing.
package scan

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"sync"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
)

// File is one file on disk.
type File struct {
	Stamp index.Stamp
	// Executable is never set where KeepsExecutable is not.
	Executable bool
}

// StampOf is how a file looks now.
func StampOf(info fs.FileInfo) index.Stamp {
	return index.Stamp{Size: info.Size(), Time: info.ModTime().UnixNano(), Inode: inode(info), Looked: time.Now().UnixNano()}
}

// LeftOut is a file, or a whole folder (its path ends in a slash), that the rules leave out, and what decided so.
type LeftOut struct {
	Path  string       `json:"path"`
	State string       `json:"state"`
	Size  int64        `json:"size,omitempty"`
	By    rules.Origin `json:"by"`
}

// Entry is what the index knows of a path, and the file that stands there.
type Entry struct {
	index.Entry
	File File
	Here bool // the file is there
}

// Scan is one look at a folder. New makes it, Load fills in what the index knows, the caller sets what it wants, and Run looks.
type Scan struct {
	// Root is the folder, a path of the system.
	Root string
	// Rules are those that are in it, or those that are built in.
	Rules *rules.Rules
	// Scope says what comes down; what is outside is listed apart.
	Scope scope.Scope
	// Within limits the look to what lies at or below these paths, where there are any. Folders that the rules leave out are opened then,
	// too, but with Closed.
	Within []string
	Closed bool
	// Listing says that what is left out is wanted in full.
	Listing bool
	// Deep says that also folders that a git ignore file hides are looked into, for what is large.
	Deep bool

	// Tracked is what the index knows, in the order of paths.
	Tracked []Entry
	folders map[string]bool // that have something tracked in them; only where a folder is left out

	// What follows is filled by Run, over several goroutines: an entry of Tracked by the one that finds its file, the rest behind the mutex.
	mu sync.Mutex
	// Fresh are files that the index does not know, and Outside those of them that are outside the scope.
	Fresh, Outside []Entry
	// Odd is what can't be an asset, and why.
	Odd []model.Refusal
	// LeftOut is what the rules leave out, where Listing asks for it, and LeftCount how many files and folders that are.
	LeftOut   []LeftOut
	LeftCount int
	// Code is how many files are left to the main history.
	Code int
	// Large are files that no rule covers, that are large, and that the main history would take; Hidden those that a git ignore file hides.
	Large  []Entry
	Hidden []LeftOut

	work sync.WaitGroup
	gate chan struct{}

	placesOnce sync.Once
	wanted     *places
	err        error
}

// folderTask is a folder to look into. ignores are the git ignore files that hold in it, the outermost first; by is why everything in it
// that no rule names by its place is left out.
type folderTask struct {
	rel     string
	ignores []*rules.GitIgnore
	by      *rules.Origin
}

// openFolder is a folder that is being looked into.
type openFolder struct {
	folderTask
	dir     *os.File
	prefix  string  // of the paths in it: its own with a slash behind it, or empty
	tracked []Entry // what of [Scan.Tracked] lies below it
	looked  int64   // when
}

// New looks for the rules in the folder. A broken rules file comes back as rulesErr; the built-in rules hold then.
func New(root string) (s *Scan, rulesErr error) {
	s = &Scan{Root: root, Rules: rules.Default(), gate: make(chan struct{}, 2*runtime.NumCPU())}
	text, err := disk.ReadSmall(filepath.Join(root, rules.File), rules.MaxSize)
	if err != nil {
		return s, nil
	}
	parsed, err := rules.Parse(text)
	if err != nil {
		return s, model.NewProblem(model.BadRequest, "mend the file; until then only the built-in rules hold here", "tarn.toml: %v", err)
	}
	s.Rules = parsed
	return s, nil
}

// knownBelow reports whether the index has something in a folder.
func (s *Scan) knownBelow(folder string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.folders == nil {
		s.folders = map[string]bool{}
		for i := range s.Tracked {
			if s.Tracked[i].Had {
				for _, f := range assetpath.Folders(s.Tracked[i].Path) {
					s.folders[f] = true
				}
			}
		}
	}
	return s.folders[folder]
}

// Run looks at the whole folder, or at what lies at or below within.
func (s *Scan) Run(ctx context.Context) error {
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
	sort.Slice(s.Odd, func(i, j int) bool { return s.Odd[i].Path < s.Odd[j].Path })
	sort.Slice(s.LeftOut, func(i, j int) bool { return s.LeftOut[i].Path < s.LeftOut[j].Path })
	for _, list := range [][]Entry{s.Fresh, s.Outside, s.Large} {
		sort.Slice(list, func(i, j int) bool { return list[i].Path < list[j].Path })
	}
	return nil
}

func (s *Scan) fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
}

// wantsFolder and wantsFile tell whether something is at, below or above one of the paths that were asked for.
func (s *Scan) wantsFolder(rel string) bool {
	return s.WantsFile(rel) || s.places().above[rel]
}

// WantsFile reports whether a path is among those that were asked for.
func (s *Scan) WantsFile(rel string) bool {
	if len(s.Within) == 0 {
		return true
	}
	for at := s.places().at; ; rel = rel[:strings.LastIndexByte(rel, '/')] {
		if at[rel] {
			return true
		}
		if strings.IndexByte(rel, '/') < 0 {
			return at[""]
		}
	}
}

// places are the paths of Within, and the folders above them.
type places struct{ at, above map[string]bool }

func (s *Scan) places() *places {
	s.placesOnce.Do(func() {
		s.wanted = &places{map[string]bool{}, map[string]bool{}}
		for _, p := range s.Within {
			s.wanted.at[p] = true
			for i := strings.LastIndexByte(p, '/'); i > 0; i = strings.LastIndexByte(p[:i], '/') {
				s.wanted.above[p[:i]] = true
			}
			s.wanted.above[""] = true
		}
	})
	return s.wanted
}

// folder looks at the entries of one folder.
func (s *Scan) folder(ctx context.Context, t folderTask) {
	defer s.work.Done()
	s.gate <- struct{}{}
	defer func() { <-s.gate }()
	if ctx.Err() != nil {
		return
	}
	looked := time.Now().UnixNano()
	dir, err := os.Open(filepath.Join(s.Root, filepath.FromSlash(t.rel)))
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
			s.note(t.rel, "unreadable", "can't be read: "+disk.Cause(err), "give yourself the right to read it")
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
		if text, err := disk.ReadSmall(filepath.Join(s.Root, filepath.FromSlash(t.rel), ".gitignore"), rules.MaxSize); err == nil &&
			len(text) <= rules.MaxSize {
			t.ignores = append(t.ignores[:len(t.ignores):len(t.ignores)], rules.ParseGitIgnore(t.rel, text))
		}
	}
	prefix := ""
	if t.rel != "" {
		prefix = t.rel + "/"
	}
	o := openFolder{t, dir, prefix, s.below(prefix), looked}
	for _, e := range entries {
		s.entry(ctx, o, e)
	}
}

func (s *Scan) entry(ctx context.Context, o openFolder, e fs.DirEntry) {
	base := e.Name()
	if base[0] == '.' || base[0] >= 0x80 || filepath.Separator != '/' {
		if folded := assetpath.Fold(base); folded == ".git" || strings.HasPrefix(folded, assetpath.ReservedPrefix) {
			return
		}
	}
	if e.IsDir() {
		if name := o.prefix + base; s.wantsFolder(name) {
			s.enter(ctx, o.folderTask, name)
		}
		return
	}
	entry := find(o.tracked, len(o.prefix), base)
	known := entry != nil
	if !known {
		name := o.prefix + base
		if !s.WantsFile(name) || !s.track(o, name, e) {
			return
		}
		entry = &Entry{Entry: index.Entry{Path: name}}
	}
	name := entry.Path
	file, regular, err := glance(o.dir, e)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	if err != nil {
		s.note(name, "unreadable", "can't be read: "+disk.Cause(err), "give yourself the right to read it")
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
	file.Stamp.Looked = o.looked
	entry.File, entry.Here = file, true
	if known {
		return
	}
	if bad := assetpath.Check(name); bad != nil {
		s.mu.Lock()
		s.Odd = append(s.Odd, model.Refusal{Path: assetpath.Printable(name), Reason: bad.Reason, Message: assetpath.Printable(name) + ": " +
			bad.Message, Remedy: bad.Remedy})
		s.mu.Unlock()
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Scope.Has(name) {
		s.Fresh = append(s.Fresh, *entry)
	} else {
		s.Outside = append(s.Outside, *entry)
	}
}

// enter looks into a folder, unless everything in it is left out.
func (s *Scan) enter(ctx context.Context, t folderTask, name string) {
	next := folderTask{rel: name, ignores: t.ignores, by: t.by}
	d, shut := s.Rules.Shut(name)
	if shut && !s.knownBelow(name) {
		s.leave(LeftOut{Path: name + "/", State: model.Ignored, By: d.KindBy})
		return
	}
	if next.by == nil {
		if by, hidden := HiddenByGit(t.ignores, name, true); hidden {
			next.by = &by
		}
	}
	if next.by != nil && !s.Rules.Opens(name) && !s.knownBelow(name) && (len(s.Within) == 0 || s.Closed) && !s.Deep {
		s.leave(LeftOut{Path: name + "/", State: model.Ignored, By: *next.by})
		return
	}
	s.work.Add(1)
	go s.folder(ctx, next)
}

// HiddenByGit asks the git ignore files, the innermost first.
func HiddenByGit(ignores []*rules.GitIgnore, name string, folder bool) (rules.Origin, bool) {
	for i := len(ignores) - 1; i >= 0; i-- {
		if hidden, said, by := ignores[i].Look(name, folder); said {
			return by, hidden
		}
	}
	return rules.Origin{}, false
}

// track decides whether a file that the index does not know may be an asset. What is not is counted.
func (s *Scan) track(o openFolder, name string, e fs.DirEntry) bool {
	d := s.Rules.Decide(name)
	if d.Kind != rules.Ignored {
		by, hidden := rules.Origin{}, false
		switch {
		case o.by != nil:
			by, hidden = *o.by, d.Kind != rules.Asset || !d.Placed
		case d.Kind == rules.Code || !d.Covered:
			by, hidden = HiddenByGit(o.ignores, name, false)
		}
		if hidden {
			s.hide(name, o.dir, e, by)
			return false
		}
	}
	switch d.Kind {
	case rules.Ignored:
		s.leave(LeftOut{Path: name, State: model.Ignored, By: d.KindBy})
	case rules.Code:
		var file File
		if !d.Covered {
			file, _, _ = glance(o.dir, e)
		}
		s.mu.Lock()
		s.Code++
		if !d.Covered && file.Stamp.Size >= s.Rules.PointOut {
			s.Large = append(s.Large, Entry{Entry: index.Entry{Path: name}, File: file, Here: true})
		}
		if s.Listing {
			s.LeftOut = append(s.LeftOut, LeftOut{Path: name, State: model.Code, Size: file.Stamp.Size, By: d.KindBy})
		}
		s.mu.Unlock()
	default:
		return true
	}
	return false
}

func (s *Scan) leave(l LeftOut) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.LeftCount++
	if s.Listing {
		s.LeftOut = append(s.LeftOut, l)
	}
}

// hide leaves out what a git ignore file hides, and notes what is large.
func (s *Scan) hide(name string, dir *os.File, e fs.DirEntry, by rules.Origin) {
	l := LeftOut{Path: name, State: model.Ignored, By: by}
	if s.Listing || s.Deep {
		if file, regular, err := glance(dir, e); err == nil && regular {
			l.Size = file.Stamp.Size
		}
	}
	s.leave(l)
	if l.Size >= s.Rules.PointOut {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.Hidden = append(s.Hidden, l)
	}
}

func (s *Scan) note(name, reason, message, remedy string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name = assetpath.Printable(name)
	s.Odd = append(s.Odd, model.Refusal{Path: name, Reason: reason, Message: name + ": it " + message, Remedy: remedy})
}

// dropTwins takes out the new files that would be one file with another on some system. An asset stays, or else the first by name.
func (s *Scan) dropTwins() {
	if len(s.Fresh) == 0 {
		return
	}
	sort.Slice(s.Fresh, func(i, j int) bool { return s.Fresh[i].Path < s.Fresh[j].Path })
	// The folded places of new files, and how tracked ones spell them: only those can collide.
	spelled := map[string]string{}
	for i := range s.Fresh {
		for _, place := range Places(s.Fresh[i].Path) {
			spelled[assetpath.Fold(place)] = ""
		}
	}
	last := ""
	for i := range s.Tracked {
		t := &s.Tracked[i]
		if !t.Had || !t.Here {
			continue
		}
		if f := assetpath.Fold(t.Path); spells(spelled, f) {
			spelled[f] = t.Path
		}
		folder := t.Path[:max(strings.LastIndexByte(t.Path, '/'), 0)]
		if folder == last {
			continue
		}
		last = folder
		for _, place := range assetpath.Folders(t.Path) {
			if f := assetpath.Fold(place); spells(spelled, f) {
				spelled[f] = place
			}
		}
	}
	kept := s.Fresh[:0]
	for _, t := range s.Fresh {
		clash := ""
		for _, place := range Places(t.Path) {
			if other := spelled[assetpath.Fold(place)]; other != "" && other != place {
				clash = other
				break
			}
		}
		if clash != "" {
			s.note(t.Path, "path-collides", "would be the same as "+clash+" on some systems", "rename one of them")
			continue
		}
		for _, place := range Places(t.Path) {
			spelled[assetpath.Fold(place)] = place
		}
		kept = append(kept, t)
	}
	s.Fresh = kept
}

// Places are a path and the folders above it.
func Places(path string) []string { return append(assetpath.Folders(path), path) }

func spells(m map[string]string, key string) bool {
	_, ok := m[key]
	return ok
}

// Load reads the index: what it knows of each path at or below what was asked for, in the order of paths.
func (s *Scan) Load(t index.Tx) error {
	s.Tracked = make([]Entry, 0, t.Len())
	if err := t.Each(s.WantsFile, func(e *index.Entry) {
		s.Tracked = append(s.Tracked, Entry{Entry: *e})
	}); err != nil {
		return err
	}
	return nil
}

// Find is what the index knows of a path; nil where it knows nothing.
func (s *Scan) Find(path string) *Entry { return find(s.Tracked, 0, path) }

// find looks for a path that ends in rest in a part of Tracked; all of that begin with the same first bytes as the path.
func find(part []Entry, first int, rest string) *Entry {
	i := sort.Search(len(part), func(i int) bool { return part[i].Path[first:] >= rest })
	if i == len(part) || part[i].Path[first:] != rest {
		return nil
	}
	return &part[i]
}

// below is the part of Tracked that lies below a folder; prefix is the folder's path with a slash behind it, or empty.
func (s *Scan) below(prefix string) []Entry {
	from := sort.Search(len(s.Tracked), func(i int) bool { return s.Tracked[i].Path >= prefix })
	rest := s.Tracked[from:]
	return rest[:sort.Search(len(rest), func(i int) bool { return !strings.HasPrefix(rest[i].Path, prefix) })]
}

// Same reports whether nothing is to be said of a path: by far the most frequent case.
func (t *Entry) Same() bool {
	return t.Had && t.Here && t.Known && !t.Theirs.Gone && t.Theirs.Newest == t.Base.Version && t.Base.Stamp.Fits(t.File.Stamp) &&
		(t.File.Executable == t.Base.Executable || !KeepsExecutable)
}
