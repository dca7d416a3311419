//go:build linux

package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
)

// hooked lets a test do something before every call that a workspace makes to its folder, and takes abilities away from it.
type hooked struct {
	disk.Disk
	before   func(call, name string)
	linkless bool // no links
	plain    bool // no renames that replace nothing
	refuse   func(call, name string) error
}

func (h *hooked) call(call, name string) error {
	if h.before != nil {
		h.before(call, name)
	}
	if h.refuse != nil {
		return h.refuse(call, name)
	}
	return nil
}

func (h *hooked) Lstat(name string) (fs.FileInfo, error) {
	if err := h.call("lstat", name); err != nil {
		return nil, err
	}
	return h.Disk.Lstat(name)
}

func (h *hooked) Open(name string) (*os.File, error) {
	if err := h.call("open", name); err != nil {
		return nil, err
	}
	return h.Disk.Open(name)
}

func (h *hooked) OpenFile(name string, flag int, perm fs.FileMode) (*os.File, error) {
	if err := h.call("open", name); err != nil {
		return nil, err
	}
	return h.Disk.OpenFile(name, flag, perm)
}

func (h *hooked) Chmod(name string, mode fs.FileMode) error {
	if err := h.call("chmod", name); err != nil {
		return err
	}
	return h.Disk.Chmod(name, mode)
}

func (h *hooked) Rename(from, to string) error {
	if err := h.call("rename", from); err != nil {
		return err
	}
	return h.Disk.Rename(from, to)
}

func (h *hooked) Link(from, to string) error {
	if err := h.call("link", to); err != nil {
		return err
	}
	if h.linkless {
		return &os.LinkError{Op: "link", Old: from, New: to, Err: syscall.EPERM}
	}
	return h.Disk.Link(from, to)
}

func (h *hooked) RenameNew(from, to string) error {
	if err := h.call("rename", to); err != nil {
		return err
	}
	if h.plain {
		return errors.ErrUnsupported
	}
	return h.Disk.RenameNew(from, to)
}

func (h *hooked) Keep() (disk.Disk, func()) {
	kept, end := h.Disk.Keep()
	same := *h
	same.Disk = kept
	return &same, end
}

func (h *hooked) Remove(name string) error {
	if err := h.call("remove", name); err != nil {
		return err
	}
	return h.Disk.Remove(name)
}

// kept reports whether a text is in a file of the workspace, whatever its name, or among the put-away ones.
func kept(t *testing.T, w *Workspace, text string) (found bool) {
	t.Helper()
	for _, folder := range []string{w.Root, w.folder.PutAwayFolder()} {
		_ = filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() && d.Name() == placing.Incoming {
				return fs.SkipDir
			}
			if err == nil && !d.IsDir() {
				got, _ := os.ReadFile(name)
				found = found || string(got) == text
			}
			return nil
		})
	}
	return found
}

// saves are the ways in which programs save: into the file, and by a new file that takes its name.
var saves = map[string]func(t *testing.T, name, text string){
	"into the file": func(t *testing.T, name, text string) {
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	},
	"by a new file": func(t *testing.T, name, text string) {
		if err := os.WriteFile(name+".saving", []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(name+".saving", name); err != nil {
			t.Fatal(err)
		}
	},
}

// TestASaveAtAnyMomentIsKept saves a file before every single call that a command makes to the folder, one after the other.
func TestASaveAtAnyMomentIsKept(t *testing.T) {
	commands := map[string]func(t *testing.T, w *Workspace){
		"update": func(t *testing.T, w *Workspace) { _, _ = w.Update(t.Context(), UpdateOptions{}) },
		"begin": func(t *testing.T, w *Workspace) {
			_, _ = w.Lock(t.Context(), []string{"a"}, LockOptions{Begin: true})
		},
		"scope": func(t *testing.T, w *Workspace) { _, _ = w.RemoveScope(t.Context(), []string{"deep"}) },
		"discard": func(t *testing.T, w *Workspace) {
			_, _ = w.Discard(t.Context(), []string{"a"})
		},
		"move": func(t *testing.T, w *Workspace) { _, _ = w.Move(t.Context(), "a", "b") },
		"settle": func(t *testing.T, w *Workspace) {
			_, _ = w.Settle(t.Context(), "a", UseCopy)
		},
	}
	for _, able := range []struct {
		name            string
		linkless, plain bool
	}{{"a disk", false, false}, {"a network disk", false, true}, {"a memory stick", true, true}} {
		for name, command := range commands {
			if able.plain != able.linkless && name != "update" && name != "move" {
				continue
			}
			t.Run(name+" on "+able.name, func(t *testing.T) {
				p := newPair(t)
				write(t, p.odile, "a", "one")
				write(t, p.odile, "deep/b", "one")
				send(t, p.odile, SendOptions{})
				update(t, p.rurik)
				locked(t, p.odile, "a")
				version := 1
				w, real := p.rurik, p.rurik.folder.Disk
				for at, more := 0, true; more; at++ {
					for way, save := range saves {
						if testbed.Steps(1, 0) > 0 && (at%2 == 0) == (way == "into the file") {
							continue // by turns; in make soak both
						}
						place := "a"
						switch name {
						case "update", "begin":
							version++
							write(t, p.odile, "a", fmt.Sprintf("version %d", version))
							send(t, p.odile, SendOptions{})
							if name == "begin" {
								if err := w.Refresh(t.Context()); err != nil {
									t.Fatal(err)
								}
							}
						case "discard":
							write(t, w, "a", "to be discarded")
						case "settle":
							version++
							write(t, w, "a", "a clash")
							write(t, p.odile, "a", fmt.Sprintf("version %d", version))
							send(t, p.odile, SendOptions{KeepLocks: true})
							if err := w.Refresh(t.Context()); err != nil {
								t.Fatal(err)
							}
						case "scope":
							place = "deep/b"
						}
						if name == "update" || name == "begin" {
							locked(t, p.odile, "a")
						}
						text := fmt.Sprintf("saved before call %d, %s", at, way)
						n := 0
						what := ""
						w.folder.Disk = &hooked{Disk: real, linkless: able.linkless, plain: able.plain, before: func(call, at2 string) {
							if n == at {
								what = call + " " + at2
								_ = os.MkdirAll(filepath.Dir(filepath.Join(w.Root, place)), 0o755)
								save(t, filepath.Join(w.Root, place), text)
							}
							n++
						}}
						command(t, w)
						w.folder.Disk = real
						if more = n > at; !more {
							break
						}
						if !kept(t, w, text) {
							t.Fatalf("%s: what was saved %s before %q is gone", name, way, what)
						}
						// On with a clean slate.
						for _, p := range []string{"a", "b", "deep/b"} {
							_ = os.Remove(filepath.Join(w.Root, p))
						}
						_ = os.RemoveAll(w.folder.PutAwayFolder())
						matches, _ := filepath.Glob(filepath.Join(w.Root, "a-mine*"))
						for _, m := range matches {
							_ = os.Remove(m)
						}
						if name == "begin" {
							_, _ = w.Unlock(t.Context(), []string{""}, false, "")
						}
						if name == "scope" {
							_, _ = w.AddScope(t.Context(), []string{""}) // where the save kept it in, it is in the scope still
						}
						if err := w.update(func(tx index.Tx) error {
							return errors.Join(tx.DropBase("a"), tx.DropBase("deep/b"), tx.ForgetMoves(), tx.ForgetCuts())
						}); err != nil {
							t.Fatal(err)
						}
						update(t, w)
						if got := states(t, w); got != "" {
							t.Fatalf("between two saves states are %q", got)
						}
					}
				}
			})
		}
	}
}

// TestWhatWasNotReadIsNotReplaced: a file that looks as it did (size, time, inode) and holds something else is an unsent change.
func TestWhatWasNotReadIsNotReplaced(t *testing.T) {
	p := newerThere(t, "a")
	w := p.rurik
	name := filepath.Join(w.Root, "a")
	info, err := os.Stat(name)
	if err != nil {
		t.Fatal(err)
	}
	real := w.folder.Disk
	w.folder.Disk = &hooked{Disk: real, before: func(call, at string) {
		if call == "rename" && at == "a" {
			if err := os.WriteFile(name, []byte("ONE"), 0o644); err != nil {
				t.Error(err)
			}
			if err := os.Chtimes(name, info.ModTime(), info.ModTime()); err != nil {
				t.Error(err)
			}
		}
	}}
	u := update(t, w)
	w.folder.Disk = real
	has(t, w, "a", "ONE")
	if len(u.Refusals) != 1 || u.Refusals[0].Reason != "changing" {
		t.Errorf("refusals are %+v", u.Refusals)
	}
}

// TestPathsOfAServiceAreNotTrusted brings assets under names that no client sends.
func TestPathsOfAServiceAreNotTrusted(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	write(t, p.odile, "Levels/b", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	w := p.rurik
	s, err := w.Status(t.Context(), Question{All: true})
	if err != nil {
		t.Fatal(err)
	}
	good := s.theirsOf(s.Assets[1])
	for _, place := range []string{
		".git/hooks/pre-commit", "GIT~1/x", "git~1", ".g\u200cit/config", ".git\u200d", "sub/.GIT/config", "con.png", "deep/nul", "a:b.txt",
		`a\..\..\x.txt`, "a\nb", "ends.", "ends ",
		".gitattributes", "sub/.GitAttributes", "GITATT~1", ".gitmodules", ".tarn-workspace", ".TARN-incoming/x", "TARN-W~1", "A", "levels/c",
		"LEVELS", "Levels/b\u200c", "nul\x00byte", "../out", "/etc/x", "a/b", "",
	} {
		asset := good
		asset.Path, asset.Executable = place, true
		refusals, err := w.bring(t.Context(), []placing.Wanted{{Asset: asset, Place: place}}, nil,
			func(placing.Wanted) { t.Errorf("%q was put in place", place) })
		if err != nil || len(refusals) != 1 {
			t.Errorf("%q: %+v, %v", place, refusals, err)
		}
	}
	var names []string
	if err := filepath.WalkDir(w.Root, func(name string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(w.Root, name)
		names = append(names, filepath.ToSlash(rel))
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(names, " "); got != ". .tarn-workspace Levels Levels/b a" {
		t.Errorf("the folder has %s", got)
	}
	// Two that come together and would be one.
	one, two := good, good
	one.Path, two.Path = "New/x", "new/X"
	refusals, err := w.bring(t.Context(), []placing.Wanted{{Asset: one, Place: one.Path}, {Asset: two, Place: two.Path}}, nil,
		func(placing.Wanted) {})
	if err != nil || len(refusals) != 1 || refusals[0].Reason != "path-collides" {
		t.Errorf("%+v, %v", refusals, err)
	}
}

// TestAHalfCopyIsNoChange: where a file system has no links, a file is copied into its place; killed in that, the half file is no work of
// anybody's.
func TestAHalfCopyIsNoChange(t *testing.T) {
	p := newerThere(t, "a")
	w := p.rurik
	list, _ := planned(t, p)
	if refusal, moved := w.folder.TakeAside(t.Context(), list[0].Wanted); refusal != nil || !moved {
		t.Fatalf("%+v", refusal)
	}
	write(t, w, "a", "tw")
	if err := w.FinishInterrupted(); err != nil {
		t.Fatal(err)
	}
	has(t, w, "a", "two")
	if got := states(t, w); got != "" {
		t.Errorf("states are %q", got)
	}
	if list, _ := w.folder.Kept(); len(list) != 0 {
		t.Errorf("put away: %+v", list)
	}
}

// TestNoLeftoverBlocksACommand: what can't be removed hinders nobody.
func TestNoLeftoverBlocksACommand(t *testing.T) {
	p := newerThere(t, "a", "b")
	w := p.rurik
	planned(t, p)
	real := w.folder.Disk
	w.folder.Disk = &hooked{Disk: real, refuse: func(call, name string) error {
		if call == "remove" && strings.HasPrefix(name, placing.Incoming) {
			return &fs.PathError{Op: "removeat", Path: name, Err: errors.New("Invalid function")}
		}
		return nil
	}}
	for range 3 {
		release, err := w.Work()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Update(t.Context(), UpdateOptions{}); err != nil {
			t.Fatal(err)
		}
		release()
	}
	w.folder.Disk = real
	update(t, w)
	has(t, w, "a", "two")
	if got := states(t, w); got != "" {
		t.Errorf("states are %q", got)
	}
}

// TestAKilledPutAwayIsFinished: a file that was taken aside to be put away, and no more, is put away by the next command.
func TestAKilledPutAwayIsFinished(t *testing.T) {
	p := newPair(t)
	w := p.rurik
	write(t, w, "a", "a day's work")
	kept, err := w.folder.PutAwayPlace(filepath.Join(w.Root, "a"), "a", 0, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.folder.Disk.MkdirAll(placing.Incoming, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := w.folder.Disk.Rename("a", filepath.Join(placing.Incoming, kept.ID+placing.PutAwaySuffix)); err != nil {
		t.Fatal(err)
	}
	release, err := w.Work()
	if err != nil {
		t.Fatal(err)
	}
	release()
	if _, err := w.Restore(t.Context(), []string{"a"}); err != nil {
		t.Fatal(err)
	}
	has(t, w, "a", "a day's work")
}

// TestOneDamagedFileLeavesTheRest: what the service lost of one asset keeps no other from coming.
func TestOneDamagedFileLeavesTheRest(t *testing.T) {
	p := newPair(t)
	for i := range 5 {
		write(t, p.odile, fmt.Sprintf("f%d", i), strings.Repeat(fmt.Sprintf("content %d ", i), 100))
	}
	send(t, p.odile, SendOptions{})
	lose(t, p, chunk.Sum([]byte(strings.Repeat("content 2 ", 100))))
	u := update(t, p.rurik)
	if len(u.Brought) != 4 || len(u.Refusals) != 1 || u.Refusals[0].Path != "f2" || u.Refusals[0].Reason != model.Damaged ||
		!strings.Contains(u.Refusals[0].Remedy, "tarn heal") {
		t.Errorf("%d brought, %+v", len(u.Brought), u.Refusals)
	}
	has(t, p.rurik, "f4", strings.Repeat("content 4 ", 100))
	if got := states(t, p.rurik); got != "f2 behind" {
		t.Errorf("states are %q", got)
	}
}

// lose makes the service lose a chunk.
func lose(t *testing.T, p *pair, digest chunk.Digest) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), p.service.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if tag, err := conn.Exec(t.Context(), `update chunks set damaged = now() where digest = $1`, digest[:]); err != nil ||
		tag.RowsAffected() != 1 {
		t.Fatalf("%v, %v", tag, err)
	}
}
