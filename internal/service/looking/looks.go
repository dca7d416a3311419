// Package looking shows what is in contents: pictures, facts and comparisons, made by a process apart and kept in a folder that may be
// emptied at any time.
package looking

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"kettletarn/internal/apart"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
)

// Room shows what is in contents.
type Room struct {
	*contents.Room
	looks looks
	// unread has something in it where the words of an asset are to be gathered anew.
	unread chan struct{}
}

// New makes the room.
func New(contents *contents.Room, folder string) *Room {
	return &Room{contents, newLooks(folder), make(chan struct{}, 1)}
}

// looks keeps what was found out about contents, and what was drawn of them, in a folder that may be emptied at any time: one folder for
// each content, or pair of contents, of a project, named by their digests and by what their names say that they are. Two processes at most
// make them: what is made in advance takes one of them, so that somebody who looks at a page need not wait for it.
type looks struct {
	folder string
	turn   chan struct{}
	ahead  chan preview
	missed atomic.Bool // something may have been left out of it

	mu     sync.Mutex
	wanted int                      // how many wait who look at a page; what is made in advance lets them go first
	most   int64                    // bytes that are kept
	room   int64                    // how many of them can come before it is looked at how many there are
	busy   map[string]chan struct{} // folders that are being made, closed when that has ended
}

// preview is a content to be looked at before anybody asks.
type preview struct {
	project int64
	name    string
	content string
	size    int64
}

// edition is that of the readers: what an earlier one found out is not used.
const edition = "4"

// Limits of what is kept: bytes, and bytes of the disk that pictures leave free.
const (
	maxKept  = 8 << 30
	leftFree = 256 << 20
	maxAhead = 20_000
)

func newLooks(folder string) looks {
	return looks{folder: folder, turn: make(chan struct{}, 2), ahead: make(chan preview, maxAhead), busy: map[string]chan struct{}{},
		most: maxKept}
}

// ThumbnailEdges are the sizes that thumbnails come in, in pixels.
var ThumbnailEdges = apart.ThumbEdges

// drawnFile is what a file that was drawn may be called.
func drawnFile(name string) bool {
	return name != "" && len(name) < 60 && path.Base(name) == name && !strings.HasPrefix(name, ".") &&
		slices.Contains([]string{".png", ".bin", ".wav"}, path.Ext(name))
}

// Thumbnail returns a PNG of one version of an asset (0 for the newest) that fits into edge x edge pixels. It is encoded here, so that no
// byte of a user's file reaches a page.
func (s *Room) Thumbnail(ctx context.Context, actor ground.Actor, key, path string, number, edge int) ([]byte, error) {
	return s.Drawing(ctx, actor, key, path, number, fmt.Sprintf("thumb-%d.png", edge))
}

// Drawing returns a file that was drawn of a version: its report names them.
func (s *Room) Drawing(ctx context.Context, actor ground.Actor, key, path string, number int, name string) ([]byte, error) {
	p, v, err := s.VersionOf(ctx, actor, key, path, number)
	if err != nil {
		return nil, err
	}
	dir, err := s.alone(ctx, p, v, false)
	if err != nil {
		return nil, err
	}
	data, err := drawing(dir, name, v.Path)
	if err == nil {
		return data, nil
	}
	var r media.Report
	if err := readReport(dir, &r); err != nil {
		return nil, err
	}
	of := name
	for _, edge := range ThumbnailEdges {
		if name == fmt.Sprintf("thumb-%d.png", edge) {
			of = "whole.png"
		}
	}
	if !slices.Contains(r.Files, of) {
		return nil, err
	}
	if dir, err = s.alone(ctx, p, v, true); err != nil {
		return nil, err
	}
	return drawing(dir, name, v.Path)
}

func drawing(dir, name, of string) ([]byte, error) {
	none := model.NewProblem(model.NotFound, "", "there is no picture of %s", ground.Printable(of))
	if !drawnFile(name) {
		return nil, none
	}
	data, err := os.ReadFile(filepath.Join(dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, none
	}
	return data, err
}

// Look says what a version of an asset is (0 for the newest).
func (s *Room) Look(ctx context.Context, actor ground.Actor, key, path string, number int) (r media.Report, err error) {
	p, v, err := s.VersionOf(ctx, actor, key, path, number)
	if err != nil {
		return r, err
	}
	if r, err = s.Report(ctx, p, v); err != nil {
		return r, err
	}
	// What somebody looks at before it was looked at in advance is found from then on, too. Looking works where nothing can be kept.
	if err := s.say(ctx, p.ID, v.Content, &r); err != nil {
		s.Log.Debug("what was read could not be kept", "path", v.Path, "error", err)
	}
	if r.Kind == media.Other {
		r.Facts = append(r.Facts, media.Fact{Name: "digest", Value: shortDigest(v)})
	}
	return r, nil
}

// Report is Look of a version that was found already.
func (s *Room) Report(ctx context.Context, p records.Project, v model.Version) (r media.Report, err error) {
	dir, err := s.alone(ctx, p, v, false)
	if err != nil {
		return r, err
	}
	return r, readReport(dir, &r)
}

// shortDigest is enough of a version's digest to tell it from others by eye.
func shortDigest(v model.Version) string {
	if v.Digest == "" {
		return "not worked out yet"
	}
	return v.Digest[:min(len(v.Digest), 16)] + " …"
}

// Sides are two versions to be compared: of one asset, or of two.
type Sides struct {
	Path, With    string
	Before, After int
	before, after model.Version
}

// Compared is what is different between two versions.
type Compared struct {
	Before  model.Version    `json:"before"`
	After   model.Version    `json:"after"`
	Compare media.Comparison `json:"comparison"`
}

// Compare says what is different between two versions.
func (s *Room) Compare(ctx context.Context, actor ground.Actor, key string, sides Sides) (out Compared, err error) {
	p, dir, err := s.compared(ctx, actor, key, &sides)
	if err != nil {
		return out, err
	}
	out.Before, out.After = sides.before, sides.after
	if err := readReport(dir, &out.Compare); err != nil {
		return out, err
	}
	if out.Compare.Kind == media.Other {
		out.Compare.Facts = append(out.Compare.Facts, media.Pair{Name: "digest", Before: shortDigest(sides.before),
			After: shortDigest(sides.after), Changed: sides.before.Content != sides.after.Content})
	}
	out.Compare.Strip, err = s.strip(ctx, p, sides.before, sides.after)
	return out, err
}

// ComparedDrawing returns a file that was drawn of two versions.
func (s *Room) ComparedDrawing(ctx context.Context, actor ground.Actor, key string, sides Sides, name string) ([]byte, error) {
	_, dir, err := s.compared(ctx, actor, key, &sides)
	if err != nil {
		return nil, err
	}
	return drawing(dir, name, sides.after.Path)
}

func (s *Room) compared(ctx context.Context, actor ground.Actor, key string, sides *Sides) (p records.Project, dir string, err error) {
	if sides.With == "" {
		sides.With = sides.Path
	}
	if p, sides.before, err = s.VersionOf(ctx, actor, key, sides.Path, sides.Before); err != nil {
		return p, "", err
	}
	if p, sides.after, err = s.VersionOf(ctx, actor, key, sides.With, sides.After); err != nil {
		return p, "", err
	}
	a, b := sides.before, sides.after
	dir = s.looks.dir(p.ID, a.Content, kindName(a.Path), b.Content, kindName(b.Path))
	err = s.looks.make(ctx, s, dir, func(ctx context.Context, into string) error {
		before, err := s.fileOf(ctx, p, a, into, "before")
		if err != nil {
			return err
		}
		after, err := s.fileOf(ctx, p, b, into, "after")
		if err != nil {
			return err
		}
		// Each is drawn by itself already, or will be.
		return apart.Compare(ctx, before, after, false, func(name string, r io.Reader) error { return keepFile(into, name, r) })
	}, func(why string) any {
		return media.UnreadPair(a.Path, a.Size, b.Path, b.Size, why)
	}, a, b)
	return p, dir, err
}

// kindName is what of a name decides how a content is read.
func kindName(name string) string { return strings.ToLower(path.Ext(name)) }

// alone is looked with a process of its own.
func (s *Room) alone(ctx context.Context, p records.Project, v model.Version, all bool) (string, error) {
	var reader apart.Reader
	defer reader.Close()
	return s.looked(ctx, p, v, all, &reader)
}

// looked is the folder with what was found out about a version, by reader where it has to be found out: with what lists show of it, or with
// all that can be drawn, which is much more, and made when somebody looks at the version itself.
func (s *Room) looked(ctx context.Context, p records.Project, v model.Version, all bool, reader *apart.Reader) (dir string, err error) {
	words := []string{v.Content, kindName(v.Path)}
	if all {
		words = append(words, "all")
	}
	dir = s.looks.dir(p.ID, words...)
	return dir, s.looks.make(ctx, s, dir, func(ctx context.Context, into string) error {
		c, err := s.fileOf(ctx, p, v, into, "content")
		if err != nil {
			return err
		}
		fresh := reader.Fresh()
		keep := func(name string, r io.Reader) error { return keepFile(into, name, r) }
		if err = reader.Look(ctx, c, all, keep); fresh || !errors.Is(err, apart.ErrFailed) {
			return err
		}
		if err := emptied(into, "content"); err != nil {
			return err
		}
		return reader.Look(ctx, c, all, keep)
	}, func(why string) any { return media.Unread(v.Path, v.Size, why) }, v)
}

// emptied takes out of a folder what is there besides one file.
func emptied(folder, besides string) error {
	list, err := os.ReadDir(folder)
	for _, e := range list {
		if e.Name() != besides && err == nil {
			err = os.Remove(filepath.Join(folder, e.Name()))
		}
	}
	return err
}

// dir is the folder for what words tell apart in a project. Projects share nothing: what one holds can't be told from how fast another is
// answered.
func (l *looks) dir(project int64, words ...string) string {
	name := chunk.Sum([]byte(strings.Join(append([]string{edition}, words...), "\x00"))).String()
	return filepath.Join(l.folder, fmt.Sprint(project), name[:2], name)
}

// Forget takes away what is kept of a project.
func (s *Room) Forget(project int64) error { return s.looks.forget(project) }

func (l *looks) forget(project int64) error {
	return os.RemoveAll(filepath.Join(l.folder, fmt.Sprint(project)))
}

// sweep takes away what was left behind half made.
func (l *looks) sweep() {
	list, _ := filepath.Glob(filepath.Join(l.folder, "new-*"))
	for _, dir := range list {
		if info, err := os.Stat(dir); err == nil && time.Since(info.ModTime()) > time.Hour {
			_ = os.RemoveAll(dir)
		}
	}
}

// make sees to it that a folder is there. do fills a fresh one; where reading the content failed, what failed says stands in it.
func (l *looks) make(ctx context.Context, s *Room, dir string, do func(context.Context, string) error, failed func(string) any,
	of ...model.Version) error {
	l.want(1)
	defer l.want(-1)
	for {
		if _, err := os.Stat(filepath.Join(dir, apart.Report)); err == nil {
			return nil
		}
		done, mine := l.begin(dir)
		if mine {
			defer l.end(dir)
			break
		}
		select {
		case <-done:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	select {
	case l.turn <- struct{}{}:
		defer func() { <-l.turn }()
	case <-ctx.Done():
		return ctx.Err()
	}
	need := int64(0) // the contents themselves lie there while they are read
	for _, v := range of {
		need += v.Size
	}
	if err := s.roomForPictures(ctx, need); err != nil {
		return err
	}
	if err := l.fill(ctx, s, dir, do, failed, of...); errors.Is(err, syscall.ENOSPC) {
		return noRoomForPictures
	} else if err != nil {
		return err
	}
	l.kept(dir)
	return nil
}

var noRoomForPictures = model.NewProblem(model.DiskFull, "ask whoever runs it to make room; the file itself can be had",
	"the service's disk has no room for pictures")

// roomForPictures sees to it that pictures never take the last room, which is for what people send: where it gets short, the older half of
// them goes.
func (s *Room) roomForPictures(ctx context.Context, need int64) error {
	for range 2 {
		free, err := s.Store.Free(ctx)
		if err != nil || free < 0 || free >= leftFree+need {
			return err
		}
		s.looks.trim(half)
	}
	return noRoomForPictures
}

// fill makes a folder beside its place, and moves it there.
func (l *looks) fill(ctx context.Context, s *Room, dir string, do func(context.Context, string) error, failed func(string) any,
	of ...model.Version) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return err
	}
	into, err := os.MkdirTemp(l.folder, "new-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(into)
	why := ""
	for _, v := range of {
		if limit := media.Limit(v.Path); v.Size > limit {
			why = fmt.Sprintf("it is larger than what is looked into (%d MiB)", limit>>20)
		}
	}
	if why == "" {
		err = do(ctx, into)
		if errors.Is(err, apart.ErrFailed) {
			s.Log.Warn("an asset could not be looked at", "path", of[0].Path, "version", of[0].Version, "error", err)
			why = "looking at it took too much memory or time, or broke"
		} else if err != nil {
			return err
		}
	}
	if why != "" {
		text, err := json.Marshal(failed(why))
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(into, apart.Report), text, 0o600); err != nil {
			return err
		}
	}
	for _, name := range []string{"content", "before", "after"} {
		_ = os.Remove(filepath.Join(into, name))
	}
	if err := os.Rename(into, dir); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

// begin says that a folder is made by whoever asks, or else when whoever makes it has ended.
func (l *looks) begin(dir string) (done chan struct{}, mine bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if done, busy := l.busy[dir]; busy {
		return done, false
	}
	l.busy[dir] = make(chan struct{})
	return nil, true
}

func (l *looks) end(dir string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	close(l.busy[dir])
	delete(l.busy, dir)
}

// kept notes that a folder was made, and takes away what was made longest ago where there may be too much by now. All that there is is gone
// through only then: there may be a hundred thousand.
func (l *looks) kept(dir string) {
	size := int64(0)
	list, _ := os.ReadDir(dir)
	for _, e := range list {
		if info, err := e.Info(); err == nil {
			size += info.Size()
		}
	}
	l.mu.Lock()
	l.room -= size
	full := l.room < 0
	l.mu.Unlock()
	if full {
		l.trim(l.few)
	}
}

func (l *looks) want(n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.wanted += n
}

func (l *looks) waitedFor() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.wanted > 0
}

// few is what is left of what may be kept, where there is more than that: a sixteenth less, so that it is not gone through again at once.
func (l *looks) few(total int64) int64 {
	if total <= l.most {
		return total
	}
	return l.most - l.most/16
}

func half(total int64) int64 { return total / 2 }

// trim takes away what was made longest ago, until there are no more bytes than left says of what there are.
func (l *looks) trim(left func(total int64) int64) {
	type kept struct {
		dir  string
		size int64
		at   time.Time
	}
	byDir := map[string]*kept{}
	total := int64(0)
	_ = filepath.WalkDir(l.folder, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && strings.HasPrefix(d.Name(), "new-") {
			return fs.SkipDir // it is being made
		}
		if err != nil || d.IsDir() {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		dir := filepath.Dir(name)
		if byDir[dir] == nil {
			byDir[dir] = &kept{dir: dir}
		}
		byDir[dir].size += info.Size()
		if info.ModTime().After(byDir[dir].at) {
			byDir[dir].at = info.ModTime()
		}
		total += info.Size()
		return nil
	})
	list := make([]*kept, 0, len(byDir))
	for _, k := range byDir {
		list = append(list, k)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].at.Before(list[j].at) })
	most := left(total)
	for _, k := range list {
		if total > most && os.RemoveAll(k.dir) == nil {
			total -= k.size
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.room = max(l.most-total, l.most/16)
}

// fileOf writes a version to a file for a process to read.
func (s *Room) fileOf(ctx context.Context, p records.Project, v model.Version, dir, name string) (apart.Content, error) {
	c := apart.Content{Name: path.Base(v.Path), File: filepath.Join(dir, name)}
	content, err := s.OpenDigest(ctx, p, v.Content)
	if err != nil {
		return c, err
	}
	defer content.Close()
	return c, keepFile(dir, name, content)
}

func keepFile(dir, name string, r io.Reader) error {
	f, err := os.OpenFile(filepath.Join(dir, path.Base(name)), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}

func readReport(dir string, into any) error {
	text, err := os.ReadFile(filepath.Join(dir, apart.Report))
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// maxStrip is how many chunks two contents are compared by.
const maxStrip = 400_000

// strip says which bytes of a content are different from another one's, by their chunks; nil where they are too many.
func (s *Room) strip(ctx context.Context, p records.Project, before, after model.Version) (*media.Strip, error) {
	var sides [2][]media.Piece[chunk.Digest]
	for i, v := range []model.Version{before, after} {
		digest, err := chunk.ParseDigest(v.Content)
		if err != nil {
			return nil, err
		}
		r := s.Reader(p.ID)
		err = manifest.Walk(ctx, r.Load, digest, 0, nil, func(_ int64, ref chunk.Ref) error {
			if len(sides[i]) == maxStrip {
				return contents.ErrPageFull
			}
			sides[i] = append(sides[i], media.Piece[chunk.Digest]{ID: ref.Digest, Size: int64(ref.Size)})
			return nil
		})
		r.Close()
		if errors.Is(err, contents.ErrPageFull) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
	}
	return media.StripOf(sides[0], sides[1]), nil
}
