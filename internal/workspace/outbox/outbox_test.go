package outbox

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
)

func TestJobs(t *testing.T) {
	root, state := t.TempDir(), t.TempDir()
	opened, err := disk.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	folder, box := &placing.Folder{Root: root, Disk: opened, State: state}, In(state)
	if list, err := box.Jobs(); len(list) != 0 || err != nil {
		t.Fatal(list, err)
	}
	full := filepath.Join(root, "lamps", "brass.png")
	_ = os.Mkdir(filepath.Dir(full), 0o755)
	if err := os.WriteFile(full, []byte("brass"), 0o644); err != nil {
		t.Fatal(err)
	}
	info, _ := os.Lstat(full)
	looks := scan.StampOf(info)
	if err := box.Begin("one"); err != nil {
		t.Fatal(err)
	}
	if err := box.Freeze(folder, "one", "lamps/brass.png", looks); err != nil {
		t.Fatal(err)
	}
	if list, _ := box.Jobs(); len(list) != 0 {
		t.Error("a job is there before it is whole")
	}
	j := &Job{ID: "one", About: model.About{Note: "brighter"}, Since: time.Now(),
		Files: []File{{Asset: model.Asset{Path: "lamps/brass.png"}, Base: index.Base{Version: 3}, Stamp: looks}}}
	if err := box.Keep(j); err != nil {
		t.Fatal(err)
	}
	box.NotePercent("one", 62)
	box.NoteTrouble("one", errors.New("the disk is full"))
	list, err := box.Jobs()
	if err != nil || len(list) != 1 || list[0].Percent != 62 || list[0].Trouble != "the disk is full" || list[0].Note != "brighter" ||
		list[0].Files[0].Base.Version != 3 || list[0].Files[0].Stamp != looks {
		t.Fatalf("%+v, %v", list, err)
	}
	// What was frozen stays as it was, whatever becomes of the file.
	if err := os.WriteFile(full, []byte("edited since"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := box.Begin("late"); err != nil {
		t.Fatal(err)
	}
	if err := box.Freeze(folder, "late", "lamps/brass.png", looks); !errors.Is(err, scan.ErrMoving) {
		t.Error("a file that looks otherwise by now was frozen:", err)
	}
	if err := box.Begin("two"); err != nil {
		t.Fatal(err)
	}
	second := &Job{ID: "two", Since: time.Now().Add(-time.Hour), Refusals: []model.Refusal{{Reason: "held"}}}
	if err := box.Keep(second); err != nil {
		t.Fatal(err)
	}
	if list, _ = box.Jobs(); len(list) != 2 || list[0].ID != "two" {
		t.Errorf("the oldest is not first: %+v", list)
	}
	if err := box.ForgetRefused(); err != nil {
		t.Fatal(err)
	}
	if list, _ = box.Jobs(); len(list) != 1 || list[0].ID != "one" {
		t.Errorf("left are %+v", list)
	}
}

func TestWhatWasFrozenIsPutAway(t *testing.T) {
	folder := &placing.Folder{Root: t.TempDir(), State: t.TempDir()}
	box := In(folder.State)
	j := &Job{ID: "one", Files: []File{{Asset: model.Asset{Path: "a.png"}, Base: index.Base{Version: 2}}, {Asset: model.Asset{Path: "b.png"}},
		{Asset: model.Asset{Path: "gone.png"}, Gone: true}}}
	if err := box.Begin(j.ID); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"a.png", "b.png"} {
		if err := os.WriteFile(filepath.Join(box.Files(j.ID), name), []byte(name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := box.PutAway(folder, j, func(f File) bool { return f.Asset.Path != "b.png" }); err != nil {
		t.Fatal(err)
	}
	kept, err := folder.Kept()
	if err != nil || len(kept) != 1 || kept[0].Path != "a.png" || kept[0].Version != 2 {
		t.Fatalf("%+v, %v", kept, err)
	}
	if text, _ := os.ReadFile(filepath.Join(folder.PutAwayFolder(), kept[0].ID, "file")); string(text) != "a.png" {
		t.Errorf("%q", text)
	}
}
