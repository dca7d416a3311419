// Package backup copies a service's database and packs while it runs, checks the copies, and brings a service back from one. A backup
// folder holds packs, which never change and are copied once, and for each backup a dump of the database with a list of the packs that it
// names (docs/operations.md, "Backup"). PostgreSQL's own programs write and read the dumps.
package backup

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/store"
)

// What a backup folder has.
const (
	packsFolder   = "packs"
	backupsFolder = "backups"
	dumpFile      = "database.dump"
	aboutFile     = "about.json"
	marker        = "KETTLE-TARN-BACKUP"
	partSuffix    = ".part"
	nameForm      = "20060102T150405Z"
	format        = 1
)

// File is a file of a backup with its SHA-256 (FIPS 180-4), so that sha256sum checks it, too. Size is in bytes.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// About is what a backup has: the dump, and the packs that it names.
type About struct {
	Format   int       `json:"format"`
	At       time.Time `json:"at"`
	Version  string    `json:"version"`
	Projects []string  `json:"projects"`
	Database File      `json:"database"`
	Packs    []File    `json:"packs"`
}

// Progress tells how far something is, in bytes; total 0 where that is not known.
type Progress func(what string, done, total int64)

// Source is what is backed up, or comes back: the address of the database, and the store.
type Source struct {
	URL     string
	Store   store.Store
	Version string
}

// Made is what making a backup did. Sizes are bytes.
type Made struct {
	Name   string   `json:"name"`
	Packs  int      `json:"packs"`
	Copied int      `json:"copied"`
	Bytes  int64    `json:"bytes"`
	Dump   int64    `json:"dump"`
	Gone   []string `json:"thinned"`
}

// program finds one of PostgreSQL's own programs, the newest where there are several.
func program(name string) (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if len(found) > 0 {
		sort.Slice(found, func(i, j int) bool {
			if len(found[i]) != len(found[j]) {
				return len(found[i]) < len(found[j])
			}
			return found[i] < found[j]
		})
		return found[len(found)-1], nil
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return "", model.NewProblem(model.Unavailable, "install PostgreSQL's client programs (Debian: postgresql-client)",
			"%s is not on this machine", name)
	}
	return path, nil
}

// open has a backup folder for itself.
func open(dir string, make bool) (release func(), err error) {
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist) && make:
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	case errors.Is(err, fs.ErrNotExist):
		return nil, model.NewProblem(model.NotFound, "name the folder that tarnd backup wrote", "there is no folder %s", dir)
	case err != nil:
		return nil, err
	}
	_, err = os.Stat(filepath.Join(dir, marker))
	if errors.Is(err, fs.ErrNotExist) {
		if !make {
			return nil, model.NewProblem(model.NotFound, "name the folder that tarnd backup wrote", "%s is no backup", dir)
		}
		if len(entries) > 0 {
			return nil, model.NewProblem(model.Taken, "name an empty folder, or one that tarnd backup wrote", "%s has other things in it", dir)
		}
		text := "Backups of a Kettle Tarn service: see docs/operations.md.\n"
		if err := os.WriteFile(filepath.Join(dir, marker), []byte(text), 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(dir, ".busy"))
	if ok, err := lock.TryLock(); err != nil {
		return nil, err
	} else if !ok {
		return nil, model.NewProblem(model.Taken, "wait until it is done", "another tarnd works on %s", dir)
	}
	return func() { _ = lock.Unlock() }, nil
}

// freshMoment is now, or the next second where there is a backup of this one already.
func freshMoment(ctx context.Context, dir string) (now time.Time, err error) {
	for {
		now = time.Now().UTC()
		if _, err := os.Stat(filepath.Join(dir, backupsFolder, now.Format(nameForm))); err != nil {
			return now, nil
		}
		select {
		case <-ctx.Done():
			return now, ctx.Err()
		case <-time.After(time.Until(now.Truncate(time.Second).Add(time.Second))):
		}
	}
}

// Make makes a backup in a folder, and thins out the old ones there, unless all are kept. What is there is not written again. A backup that
// was interrupted leaves nothing that counts: the next one goes on with the packs that it had copied.
func Make(ctx context.Context, s Source, db *records.DB, dir string, keepAll bool, progress Progress) (out Made, err error) {
	release, err := open(dir, true)
	if err != nil {
		return out, err
	}
	defer release()
	dump, err := program("pg_dump")
	if err != nil {
		return out, err
	}
	if err := sweep(dir); err != nil {
		return out, err
	}
	known, err := known(dir)
	if err != nil {
		return out, err
	}
	now, err := freshMoment(ctx, dir)
	if err != nil {
		return out, err
	}
	out.Name = now.Format(nameForm)
	about := About{Format: format, At: now, Version: s.Version, Packs: []File{}}
	place := filepath.Join(dir, backupsFolder, out.Name+partSuffix)
	if err := os.MkdirAll(place, 0o700); err != nil {
		return out, err
	}
	defer func() {
		if err != nil {
			_ = os.RemoveAll(place)
			err = noRoom(err)
		}
	}()
	// Nothing is removed from the store meanwhile.
	alone, err := db.Alone(ctx, 1, func() error {
		return db.Snapshot(ctx, func(snapshot string, packs []records.PackFile, projects []string) error {
			about.Projects = projects
			progress("the database", 0, 0)
			if err := run(ctx, s.URL, dump, "--format=custom", "--no-owner", "--no-privileges", "--snapshot="+snapshot,
				"--file="+filepath.Join(place, dumpFile)); err != nil {
				return err
			}
			var total, done int64
			for _, p := range packs {
				total += p.Size
			}
			for _, p := range packs {
				f, is := known[p.Name]
				if !is || f.Size != p.Size {
					if f, err = s.copyOut(ctx, p, dir); err != nil {
						return err
					}
					out.Copied++
					out.Bytes += f.Size
				}
				about.Packs = append(about.Packs, f)
				done += p.Size
				progress("packs", done, total)
			}
			return nil
		})
	})
	if err == nil && !alone {
		err = model.NewProblem(model.Taken, "run it again when that is done", "the service removes or merges packs just now")
	}
	if err != nil {
		return out, err
	}
	if about.Database, err = digest(filepath.Join(place, dumpFile)); err != nil {
		return out, err
	}
	about.Database.Name, out.Packs, out.Dump = dumpFile, len(about.Packs), about.Database.Size
	text, err := json.MarshalIndent(about, "", "  ")
	if err != nil {
		return out, err
	}
	if err := writeSynced(filepath.Join(place, aboutFile), bytes.NewReader(text)); err != nil {
		return out, err
	}
	if err := syncPath(filepath.Join(place, dumpFile)); err != nil {
		return out, err
	}
	if err := syncPath(place); err != nil {
		return out, err
	}
	if err := os.Rename(place, strings.TrimSuffix(place, partSuffix)); err != nil {
		return out, err
	}
	if err := syncPath(filepath.Join(dir, backupsFolder)); err != nil {
		return out, err
	}
	if !keepAll {
		out.Gone, err = thin(dir, now)
	}
	out.Gone = append([]string{}, out.Gone...)
	return out, err
}

// run runs one of PostgreSQL's programs, which reaches the database by its environment.
func run(ctx context.Context, url, program string, args ...string) error {
	env, err := records.Environment(url)
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, program, args...)
	c.Env = env
	var errs bytes.Buffer
	c.Stderr = &errs
	if err := c.Run(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		said := strings.TrimSpace(errs.String())
		if lines := strings.Split(said, "\n"); len(lines) > 4 {
			said = strings.Join(lines[:4], "\n")
		}
		return fmt.Errorf("%s did not do it: %w\n%s", filepath.Base(program), err, said)
	}
	return nil
}

// copyOut copies a pack from the store.
func (s Source) copyOut(ctx context.Context, p records.PackFile, dir string) (File, error) {
	o, err := s.Store.Open(ctx, p.Name)
	if err != nil {
		return File{}, fmt.Errorf("the pack %s can't be read; tarnd verify says what that touches: %w", p.Name, err)
	}
	defer o.Close()
	if o.Size() != p.Size {
		return File{}, fmt.Errorf("the pack %s has %d bytes, and should have %d; tarnd verify says what that touches", p.Name, o.Size(), p.Size)
	}
	name := filepath.Join(dir, packsFolder, filepath.FromSlash(p.Name))
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return File{}, err
	}
	sum := sha256.New()
	if err := writeSynced(name, io.TeeReader(io.NewSectionReader(o, 0, p.Size), sum)); err != nil {
		return File{}, err
	}
	return File{Name: p.Name, Size: p.Size, SHA256: hex.EncodeToString(sum.Sum(nil))}, syncPath(filepath.Dir(name))
}

// writeSynced writes a file, whole and durable before it has its name.
func writeSynced(name string, from io.Reader) error {
	f, err := os.OpenFile(name+partSuffix, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if _, err = io.Copy(f, from); err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(name+partSuffix, name)
	}
	return err
}

func syncPath(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

func digest(name string) (File, error) {
	f, err := os.Open(name)
	if err != nil {
		return File{}, err
	}
	defer f.Close()
	sum := sha256.New()
	n, err := io.Copy(sum, f)
	return File{Name: filepath.Base(name), Size: n, SHA256: hex.EncodeToString(sum.Sum(nil))}, err
}

// sweep removes what interrupted backups left.
func sweep(dir string) error {
	for _, folder := range []string{backupsFolder, packsFolder} {
		if err := filepath.WalkDir(filepath.Join(dir, folder), func(path string, d fs.DirEntry, err error) error {
			switch {
			case errors.Is(err, fs.ErrNotExist):
				return nil
			case err != nil:
				return err
			case strings.HasSuffix(path, partSuffix):
				if err := os.RemoveAll(path); err != nil {
					return err
				}
				if d.IsDir() {
					return fs.SkipDir
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// List lists the backups in a folder, the newest first.
func List(dir string) (names []string, err error) {
	entries, err := os.ReadDir(filepath.Join(dir, backupsFolder))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range entries {
		if _, err := time.Parse(nameForm, e.Name()); err == nil && e.IsDir() {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	slices.Reverse(names)
	return names, nil
}

// Read reads what a backup has.
func Read(dir, name string) (a About, err error) {
	text, err := os.ReadFile(filepath.Join(dir, backupsFolder, name, aboutFile))
	if err == nil {
		err = json.Unmarshal(text, &a)
	}
	if err == nil && a.Format != format {
		err = fmt.Errorf("its format is %d, and this tarnd reads %d", a.Format, format)
	}
	if err != nil {
		return a, fmt.Errorf("the backup %s can't be read: %w", name, err)
	}
	return a, nil
}

// known are the packs that earlier backups have, as far as their files are there.
func known(dir string) (map[string]File, error) {
	names, err := List(dir)
	if err != nil {
		return nil, err
	}
	out := map[string]File{}
	for _, name := range names {
		a, err := Read(dir, name)
		if err != nil {
			return nil, err
		}
		for _, p := range a.Packs {
			if _, is := out[p.Name]; is {
				continue
			}
			if info, err := os.Stat(filepath.Join(dir, packsFolder, filepath.FromSlash(p.Name))); err == nil && info.Size() == p.Size {
				out[p.Name] = p
			}
		}
	}
	return out, nil
}

// Which backups are kept: all of two days, the last of each day of two weeks, the last of each week of a year.
const (
	keepAllFor  = 48 * time.Hour
	keepDayFor  = 14 * 24 * time.Hour
	keepWeekFor = 52 * 7 * 24 * time.Hour
)

// Kept are those of some times, the newest first, that are kept.
func Kept(times []time.Time, now time.Time) (kept []bool) {
	days, weeks := map[string]bool{}, map[string]bool{}
	for _, at := range times {
		age := now.Sub(at)
		year, week := at.ISOWeek()
		day, of := at.Format("2006-01-02"), fmt.Sprint(year, "-", week)
		keep := age <= keepAllFor || age <= keepDayFor && !days[day] || age <= keepWeekFor && !weeks[of]
		days[day], weeks[of] = true, true
		kept = append(kept, keep)
	}
	if len(kept) > 0 {
		kept[0] = true
	}
	return kept
}

// thin removes the backups that are not kept, and the packs that none of the others names.
func thin(dir string, now time.Time) (gone []string, err error) {
	names, err := List(dir)
	if err != nil {
		return nil, err
	}
	times := make([]time.Time, len(names))
	for i, n := range names {
		times[i], _ = time.Parse(nameForm, n)
	}
	named := map[string]bool{}
	for i, keep := range Kept(times, now) {
		if keep {
			a, err := Read(dir, names[i])
			if err != nil {
				return gone, err
			}
			for _, p := range a.Packs {
				named[p.Name] = true
			}
			continue
		}
		gone = append(gone, names[i])
	}
	for _, name := range gone {
		place := filepath.Join(dir, backupsFolder, name)
		if err := os.Rename(place, place+partSuffix); err != nil {
			return gone, err
		}
		if err := os.RemoveAll(place + partSuffix); err != nil {
			return gone, err
		}
	}
	root := filepath.Join(dir, packsFolder)
	return gone, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(root, path)
		if err == nil && !named[filepath.ToSlash(rel)] {
			err = os.Remove(path)
		}
		return err
	})
}

// Checked is what a check found: how much was read, and what is wrong, in words.
type Checked struct {
	Backups int      `json:"backups"`
	Packs   int      `json:"packs"`
	Bytes   int64    `json:"bytes"`
	Wrong   []string `json:"wrong"`
}

// reading opens a folder of backups: with the program that reads dumps, and the names of the backups, the newest first.
func reading(dir string) (release func(), restore string, names []string, err error) {
	if release, err = open(dir, false); err != nil {
		return nil, "", nil, err
	}
	if restore, err = program("pg_restore"); err == nil {
		names, err = List(dir)
	}
	if err != nil {
		release()
	}
	return release, restore, names, err
}

// Check reads all backups in a folder, and holds every file to its digest, and every dump to what PostgreSQL can read.
func Check(ctx context.Context, dir string, progress Progress) (out Checked, err error) {
	release, restore, names, err := reading(dir)
	if err != nil {
		return out, err
	}
	defer release()
	out.Wrong = []string{}
	looked := map[string]error{}
	for i, name := range names {
		progress("backups", int64(i), int64(len(names)))
		a, err := Read(dir, name)
		if err != nil {
			out.Wrong = append(out.Wrong, err.Error())
			continue
		}
		out.Backups++
		dump := filepath.Join(dir, backupsFolder, name, dumpFile)
		if err := held(dump, a.Database, &out); err != nil {
			out.Wrong = append(out.Wrong, fmt.Sprintf("%s: its dump of the database %v", name, err))
		} else if err := exec.CommandContext(ctx, restore, "--list", dump).Run(); err != nil {
			out.Wrong = append(out.Wrong, fmt.Sprintf("%s: PostgreSQL can't read its dump of the database", name))
		}
		for _, p := range a.Packs {
			if err := ctx.Err(); err != nil {
				return out, err
			}
			key := p.Name + " " + p.SHA256
			wrong, is := looked[key]
			if !is {
				wrong = held(filepath.Join(dir, packsFolder, filepath.FromSlash(p.Name)), p, &out)
				looked[key] = wrong
				out.Packs++
			}
			if wrong != nil {
				out.Wrong = append(out.Wrong, fmt.Sprintf("%s: the pack %s %v", name, p.Name, wrong))
			}
		}
	}
	return out, nil
}

// held holds a file to what is written of it.
func held(name string, f File, out *Checked) error {
	got, err := digest(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("is missing")
	case err != nil:
		return fmt.Errorf("can't be read: %w", err)
	case got.Size != f.Size || got.SHA256 != f.SHA256:
		return errors.New("is damaged")
	}
	out.Bytes += got.Size
	return nil
}
