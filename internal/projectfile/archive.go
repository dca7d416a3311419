package projectfile

import (
	"archive/tar"
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/archive"
	"kettletarn/internal/core/model"
)

const (
	unfinished    = ".part"
	blockSize     = 512
	recordEntries = 5000
)

// Archive writes a project into a file (a tar archive, POSIX.1-2001), with all that is recorded of it. Interrupted, the same call goes on
// where it stopped, in a file of the same name with ".part" behind it. It returns the size of the file.
func Archive(ctx context.Context, c *client.Client, key, file string, progress Progress) (size int64, err error) {
	if _, err := os.Lstat(file); err == nil {
		return 0, model.NewProblem(model.Taken, "name a file that is not there", "%s is there already", file)
	}
	f, err := os.OpenFile(file+unfinished, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	a := &writing{sums: map[string]string{}, handed: map[int]bool{}}
	end, err := a.resume(f, key)
	if err != nil {
		return 0, err
	}
	if err := f.Truncate(end); err != nil {
		return 0, err
	}
	if _, err := f.Seek(end, io.SeekStart); err != nil {
		return 0, err
	}
	buffered := bufio.NewWriterSize(f, 1<<20)
	a.tar, a.flush = tar.NewWriter(buffered), func() error { return buffered.Flush() }
	if end == 0 {
		if err := a.json(archive.AboutEntry, archive.About{Format: archive.Format, Project: key, Service: c.URL(),
			Begun: time.Now().UTC()}); err != nil {
			return 0, err
		}
	}
	if err := walk(ctx, c, key, a, progress); err != nil {
		return 0, errors.Join(err, a.tar.Flush(), buffered.Flush())
	}
	if err := a.records(ctx, c, key); err != nil {
		return 0, err
	}
	last := archive.Last{Handoffs: len(a.handed), SHA256: a.sums}
	if err := a.json(archive.LastEntry, last); err != nil {
		return 0, err
	}
	if err := errors.Join(a.tar.Close(), buffered.Flush(), f.Sync()); err != nil {
		return 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), os.Rename(file+unfinished, file)
}

type writing struct {
	tar    *tar.Writer
	flush  func() error
	sums   map[string]string
	handed map[int]bool
}

// resume reads what an interrupted archive has, and where its last whole entry ends. Records are written anew: they may be others now.
func (a *writing) resume(f *os.File, key string) (end int64, err error) {
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	at := &counting{r: f}
	r := tar.NewReader(at)
	for {
		h, err := r.Next()
		// The end, what was cut off, or something that is not as written here.
		if err != nil || h.Typeflag != tar.TypeReg || h.Size > info.Size()-at.n {
			return end, nil
		}
		sum := sha256.New()
		var text []byte
		if h.Name == archive.AboutEntry || strings.HasPrefix(h.Name, archive.HandoffsDir) {
			text, err = io.ReadAll(io.LimitReader(r, archive.MaxText))
			sum.Write(text)
		} else {
			_, err = io.Copy(sum, r)
		}
		if err != nil {
			return end, nil
		}
		switch {
		case h.Name == archive.AboutEntry:
			var about archive.About
			if json.Unmarshal(text, &about) != nil || about.Project != key || about.Format != archive.Format {
				return 0, model.NewProblem(model.Taken, "name another file", "%s is of something else", f.Name())
			}
		case strings.HasPrefix(h.Name, archive.HandoffsDir):
			n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(h.Name, archive.HandoffsDir), ".json"))
			if err != nil {
				return end, nil
			}
			a.handed[n] = true
		case !strings.HasPrefix(h.Name, archive.ContentsDir):
			return end, nil
		}
		a.sums[h.Name] = hex.EncodeToString(sum.Sum(nil))
		end = (at.n + blockSize - 1) / blockSize * blockSize
	}
}

// counting counts what is read, which tar reads without looking ahead.
type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (a *writing) entry(name string, size int64, write func(io.Writer) error) error {
	if err := a.tar.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: size, Format: tar.FormatPAX, Typeflag: tar.TypeReg}); err != nil {
		return err
	}
	sum := sha256.New()
	e := &exact{io.MultiWriter(a.tar, sum), size}
	if err := write(e); err != nil {
		return err
	}
	if e.left != 0 {
		return fmt.Errorf("%s is shorter than was said", name)
	}
	a.sums[name] = hex.EncodeToString(sum.Sum(nil))
	return nil
}

func (a *writing) json(name string, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	text = append(text, '\n')
	return a.entry(name, int64(len(text)), func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	})
}

func (a *writing) has(content string) bool { return a.sums[archive.ContentsDir+content] != "" }
func (a *writing) done(number int) bool    { return a.handed[number] }
func (a *writing) content(name string, size int64, write func(io.Writer) error) error {
	return a.entry(archive.ContentsDir+name, size, write)
}

func (a *writing) handoff(h model.Handoff, changes []archive.Change) error {
	h.Assets = []model.HandoffAsset{}
	if err := a.json(fmt.Sprintf("%s%09d.json", archive.HandoffsDir, h.Number), archive.Handed{Handoff: h, Changes: changes}); err != nil {
		return err
	}
	a.handed[h.Number] = true
	// What is whole lies in the file when something cuts it off.
	return errors.Join(a.tar.Flush(), a.flush())
}

// records writes what is recorded of a project besides its handoffs, a file a list.
func (a *writing) records(ctx context.Context, c *client.Client, key string) error {
	for _, one := range []struct {
		name string
		get  func() (any, error)
	}{
		{"project", func() (any, error) { return c.Project(ctx, key) }},
		{"members", func() (any, error) { return c.Members(ctx, key) }},
		{"branches", func() (any, error) { return c.Branches(ctx, key) }},
		{"milestones", func() (any, error) { return c.Milestones(ctx, key) }},
		{"kits", func() (any, error) { return c.Kits(ctx, key, "") }},
		{"reviews", func() (any, error) {
			list, err := c.Reviews(ctx, key)
			for i, r := range list.Reviews {
				if err == nil {
					list.Reviews[i], err = c.Review(ctx, key, r.Number)
				}
			}
			return list, err
		}},
		{"record", func() (any, error) {
			all := model.Deeds{Record: []model.Deed{}}
			query := url.Values{"limit": {strconv.Itoa(recordEntries)}}
			for {
				page, err := c.Deeds(ctx, key, query)
				if err != nil {
					return nil, err
				}
				all.Record = append(all.Record, page.Record...)
				if page.Next == 0 {
					return all, nil
				}
				query.Set("before", strconv.FormatInt(page.Next, 10))
			}
		}},
	} {
		v, err := one.get()
		if err != nil {
			return err
		}
		if err := a.json(archive.RecordsDir+one.name+".json", v); err != nil {
			return err
		}
	}
	return nil
}
