package backup

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/store"
)

// Restored is what came back.
type Restored struct {
	Name     string    `json:"name"`
	At       time.Time `json:"at"`
	Projects []string  `json:"projects"`
	Packs    int       `json:"packs"`
	Bytes    int64     `json:"bytes"`
}

// Restore brings a service back from a backup ("" for the newest) into an empty database and an empty store. Interrupted, the same command
// goes on: packs that came back stay. The service that begins with it is in another life: see [records.Tx.BeginLife].
func Restore(ctx context.Context, s Source, dir, name string, progress Progress) (out Restored, err error) {
	release, restore, names, err := reading(dir)
	if err != nil {
		return out, err
	}
	defer release()
	switch {
	case len(names) == 0:
		return out, model.NewProblem(model.NotFound, "run tarnd backup first", "there is no whole backup in %s", dir)
	case name == "":
		name = names[0]
	}
	a, err := Read(dir, name)
	if err != nil {
		return out, err
	}
	out = Restored{Name: name, At: a.At, Projects: a.Projects, Packs: len(a.Packs)}
	if empty, err := records.Empty(ctx, s.URL); err != nil {
		return out, err
	} else if !empty {
		return out, model.NewProblem(model.Taken, "name an empty database with --db (createdb makes one)",
			"the database has tables already, and a backup comes back into an empty one")
	}
	there := map[string]int64{}
	if err := s.Store.List(ctx, "", func(i store.Info) error {
		there[i.Name] = i.Size
		return nil
	}); err != nil {
		return out, err
	}
	wanted := map[string]int64{}
	var total, done int64
	for _, p := range a.Packs {
		wanted[p.Name] = p.Size
		total += p.Size
	}
	for n, size := range there {
		if was, is := wanted[n]; !is || was != size {
			return out, model.NewProblem(model.Taken, "name an empty folder with --data", "there are packs already that this backup does not have")
		}
	}
	dump := filepath.Join(dir, backupsFolder, name, dumpFile)
	if err := held(dump, a.Database, &Checked{}); err != nil {
		return out, fmt.Errorf("the dump of the database in %s %w; take another backup with --at: %s", name, err, strings.Join(names, ", "))
	}
	for _, p := range a.Packs {
		if _, is := there[p.Name]; !is {
			if err := s.copyIn(ctx, p, dir); err != nil {
				return out, noRoom(err)
			}
		}
		done += p.Size
		progress("packs", done, total)
	}
	out.Bytes = done
	progress("the database", 0, 0)
	if err := run(ctx, s.URL, restore, "--single-transaction", "--exit-on-error", "--no-owner", "--no-privileges",
		"--dbname="+databaseOf(s.URL),
		dump); err != nil {
		return out, err
	}
	db, err := records.Open(ctx, s.URL)
	if err != nil {
		return out, err
	}
	defer db.Close()
	return out, db.Write(ctx, func(tx *records.Tx) error { return tx.BeginLife(ctx) })
}

func databaseOf(url string) string {
	env, err := records.Environment(url)
	if err != nil {
		return ""
	}
	for _, e := range env {
		if name, is := strings.CutPrefix(e, "PGDATABASE="); is {
			url = name
		}
	}
	return url
}

// copyIn brings a pack back into the store, where it is what its digest says.
func (s Source) copyIn(ctx context.Context, p File, dir string) error {
	f, err := os.Open(filepath.Join(dir, packsFolder, filepath.FromSlash(p.Name)))
	if err != nil {
		return fmt.Errorf("the pack %s is not in the backup; tarnd backup --check says what else is missing: %w", p.Name, err)
	}
	defer f.Close()
	return s.Store.Put(ctx, p.Name, func(w io.Writer) error {
		sum := sha256.New()
		n, err := io.Copy(io.MultiWriter(w, sum), f)
		if err == nil && (n != p.Size || hex.EncodeToString(sum.Sum(nil)) != p.SHA256) {
			err = fmt.Errorf("the pack %s is damaged in the backup; tarnd backup --check says what else is, and --at takes another backup", p.Name)
		}
		return err
	})
}

// noRoom says in words that a disk is full.
func noRoom(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, store.ErrFull) {
		return model.NewProblem(model.DiskFull, "make room, then run the same command again: what was copied stays", "the disk is full")
	}
	return err
}
