package placing

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"kettletarn/internal/workspace/disk"
)

// KeepDays is how long what was put away is kept.
const KeepDays = 14

// PutAway is a file that discard put away.
type PutAway struct {
	ID      string    `json:"id"`
	Path    string    `json:"path"`
	Size    int64     `json:"size"`
	At      time.Time `json:"at"`
	Version int       `json:"version"`
	Exec    bool      `json:"executable,omitempty"`
}

func (d *Folder) PutAwayFolder() string { return filepath.Join(d.State, "put-away") }

// PutAway takes the file at a path away, by its name first: a program that saves meanwhile makes a new one.
func (d *Folder) PutAway(path string, version int, exec bool) (PutAway, error) {
	return d.takeAway(filepath.FromSlash(path), path, version, exec)
}

// takeAway puts a file below the root away as that of path. What is killed in between, finishPutAways ends.
func (d *Folder) takeAway(from, path string, version int, exec bool) (PutAway, error) {
	p, err := d.PutAwayPlace(d.Full(from), path, version, exec)
	if err != nil {
		return p, err
	}
	folder, aside := filepath.Join(d.PutAwayFolder(), p.ID), filepath.Join(Incoming, p.ID+PutAwaySuffix)
	if err := d.Disk.MkdirAll(Incoming, 0o755); err != nil {
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	defer func() { _ = d.Disk.Remove(Incoming) }()
	if err := d.Disk.Rename(from, aside); err != nil {
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	if err := disk.Move(d.Full(aside), filepath.Join(folder, "file")); err != nil {
		if back := disk.MoveNew(d.Disk, aside, from); back != nil {
			return p, err // it stays aside, and the next command puts it away
		}
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	return p, nil
}

// PutAwayPlace makes the place among the put-away files for one that lies at full.
func (d *Folder) PutAwayPlace(full, path string, version int, exec bool) (PutAway, error) {
	at := time.Now().UTC()
	p := PutAway{Path: path, At: at, Version: version, Exec: exec}
	if err := os.MkdirAll(d.PutAwayFolder(), 0o700); err != nil {
		return p, err
	}
	folder, err := os.MkdirTemp(d.PutAwayFolder(), at.Format("20060102-150405-"))
	if err != nil {
		return p, err
	}
	p.ID = filepath.Base(folder)
	info, err := os.Lstat(full)
	if err == nil {
		p.Size = info.Size()
		var about []byte
		if about, err = json.Marshal(p); err == nil {
			err = disk.WriteSynced(filepath.Join(folder, "about.json"), about)
		}
	}
	if err != nil {
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	return p, nil
}

// Keep puts a file that lies elsewhere among the put-away ones, as that of path.
func (d *Folder) Keep(full, path string, version int, exec bool) error {
	p, err := d.PutAwayPlace(full, path, version, exec)
	if err != nil {
		return err
	}
	return disk.Move(full, filepath.Join(d.PutAwayFolder(), p.ID, "file"))
}

// finishPutAways puts away what a killed command had only taken aside for that.
func (d *Folder) finishPutAways() {
	entries, err := fs.ReadDir(d.Disk.FS(), Incoming)
	if err != nil {
		return
	}
	for _, e := range entries {
		id, mine := strings.CutSuffix(e.Name(), PutAwaySuffix)
		if !mine {
			continue
		}
		folder := filepath.Join(d.PutAwayFolder(), id)
		if _, err := os.Lstat(filepath.Join(folder, "about.json")); err != nil {
			continue // of another workspace
		}
		_ = os.Remove(filepath.Join(folder, "file")) // half a copy: the whole one is still here
		_ = disk.Move(d.Full(filepath.Join(Incoming, e.Name())), filepath.Join(folder, "file"))
	}
	_ = d.Disk.Remove(Incoming)
}

// Kept lists what was put away, the newest first.
func (d *Folder) Kept() ([]PutAway, error) {
	entries, err := os.ReadDir(d.PutAwayFolder())
	if errors.Is(err, fs.ErrNotExist) {
		return []PutAway{}, nil
	}
	list := []PutAway{}
	for _, e := range entries {
		var p PutAway
		about, err := os.ReadFile(filepath.Join(d.PutAwayFolder(), e.Name(), "about.json"))
		if err != nil || json.Unmarshal(about, &p) != nil || p.ID != e.Name() {
			continue
		}
		list = append(list, p)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].At.After(list[j].At) })
	return list, err
}

// Expire removes what has been put away long enough.
func (d *Folder) Expire() {
	list, err := d.Kept()
	if err != nil {
		return
	}
	for _, p := range list {
		if time.Now().UTC().Sub(p.At) > KeepDays*24*time.Hour {
			_ = os.RemoveAll(filepath.Join(d.PutAwayFolder(), p.ID))
		}
	}
}
