// Package archive is the form of a project in one file, with its whole past: a tar archive (POSIX.1-2001) that docs/project-file.md
// describes. It is for taking a project elsewhere, and has nothing that only this program understands.
package archive

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"
	"time"

	"kettletarn/internal/core/model"
)

// Format is that of the archive: it grows where something in it means something else.
const Format = 1

// About is the first entry.
type About struct {
	Format  int       `json:"format"`
	Project string    `json:"project"`
	Service string    `json:"service"`
	Begun   time.Time `json:"begun"`
}

// Change is what a handoff did to a path, against the handoff on whose line it is: its content is named by Content, or it is gone. Asset is
// a number that stays the same wherever the asset is moved.
type Change struct {
	Path       string `json:"path"`
	Gone       bool   `json:"gone,omitempty"`
	Asset      int64  `json:"asset,omitempty"`
	MovedFrom  string `json:"moved_from,omitempty"`
	Version    int    `json:"version,omitempty"`
	Content    string `json:"content,omitempty"`
	Size       int64  `json:"size,omitempty"`
	Executable bool   `json:"executable,omitempty"`
}

// Handed is a handoff.
type Handed struct {
	model.Handoff
	Changes []Change `json:"changes"`
}

// Last is the last entry: the SHA-256 (FIPS 180-4) of every other one, by its name.
type Last struct {
	Handoffs int               `json:"handoffs"`
	SHA256   map[string]string `json:"sha256"`
}

// Names of entries, and what names begin with.
const (
	AboutEntry  = "about.json"
	LastEntry   = "sha256.json"
	HandoffsDir = "handoffs/"
	ContentsDir = "contents/"
	RecordsDir  = "records/"
)

// MaxText is the most bytes that an entry has which is not a content.
const MaxText = 256 << 20

// ErrInvalid is wrapped by errors about files that are not whole, or not what this package writes.
var ErrInvalid = errors.New("not a whole file of a project")

// Visitor takes what a file has, in its order. A content is to be read within the call.
type Visitor interface {
	About(ctx context.Context, a About) error
	Content(ctx context.Context, name string, size int64, r io.Reader) error
	Handoff(ctx context.Context, h Handed) error
	Record(ctx context.Context, name string, text []byte) error
}

// Read reads a file and holds every entry to its digest, which is known only at its end: what was taken before an error is not to be kept.
// The error is the visitor's, that of reading, or wraps [ErrInvalid].
func Read(ctx context.Context, r io.Reader, v Visitor) error {
	t := tar.NewReader(r)
	sums := map[string]string{}
	handoffs := 0
	for {
		h, err := t.Next()
		if err == io.EOF {
			return fmt.Errorf("it ends before %s: %w", LastEntry, ErrInvalid)
		}
		if err != nil {
			return invalid(err)
		}
		// A sparse entry can stand for any size.
		sparse := h.PAXRecords["GNU.sparse.major"] != "" || h.PAXRecords["GNU.sparse.map"] != "" || h.PAXRecords["GNU.sparse.size"] != ""
		if h.Typeflag != tar.TypeReg || sparse || sums[h.Name] != "" || (h.Name == AboutEntry) != (len(sums) == 0) {
			return fmt.Errorf("%q is out of place: %w", h.Name, ErrInvalid)
		}
		if name, is := strings.CutPrefix(h.Name, ContentsDir); is {
			body := &summed{r: t, sum: sha256.New()}
			if err := v.Content(ctx, name, h.Size, body); err != nil {
				return invalid(err)
			}
			if _, err := io.Copy(io.Discard, body); err != nil {
				return invalid(err)
			}
			sums[h.Name] = hex.EncodeToString(body.sum.Sum(nil))
			continue
		}
		if h.Size > MaxText {
			return fmt.Errorf("%q has %d bytes: %w", h.Name, h.Size, ErrInvalid)
		}
		text, err := io.ReadAll(io.LimitReader(t, MaxText))
		if err != nil {
			return invalid(err)
		}
		if h.Name == LastEntry {
			return whole(text, sums, handoffs)
		}
		sum := sha256.Sum256(text)
		sums[h.Name] = hex.EncodeToString(sum[:])
		switch name, isRecord := strings.CutPrefix(h.Name, RecordsDir); {
		case h.Name == AboutEntry:
			var a About
			if err := json.Unmarshal(text, &a); err != nil || a.Format < 1 {
				return fmt.Errorf("%s can't be read: %w", h.Name, ErrInvalid)
			}
			if a.Format > Format {
				return fmt.Errorf("it is of format %d, and this program reads %d: %w", a.Format, Format, ErrInvalid)
			}
			err = v.About(ctx, a)
		case strings.HasPrefix(h.Name, HandoffsDir):
			var one Handed
			if err := json.Unmarshal(text, &one); err != nil || one.Number < 1 {
				return fmt.Errorf("%s can't be read: %w", h.Name, ErrInvalid)
			}
			handoffs++
			err = v.Handoff(ctx, one)
		case isRecord:
			err = v.Record(ctx, name, text)
		default:
			return fmt.Errorf("%q is unknown: %w", h.Name, ErrInvalid)
		}
		if err != nil {
			return err
		}
	}
}

func whole(text []byte, sums map[string]string, handoffs int) error {
	var last Last
	if err := json.Unmarshal(text, &last); err != nil {
		return fmt.Errorf("%s can't be read: %w", LastEntry, ErrInvalid)
	}
	for name, want := range last.SHA256 {
		if got, there := sums[name]; !there {
			return fmt.Errorf("%q is missing: %w", name, ErrInvalid)
		} else if got != want {
			return fmt.Errorf("%q is damaged: %w", name, ErrInvalid)
		}
	}
	if len(last.SHA256) != len(sums) || last.Handoffs != handoffs {
		return fmt.Errorf("it has something of which %s says nothing: %w", LastEntry, ErrInvalid)
	}
	return nil
}

// invalid is an error of reading: an archive that ends early, or is none, is not well-formed.
func invalid(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, tar.ErrHeader) || errors.Is(err, tar.ErrFieldTooLong) {
		return fmt.Errorf("%v: %w", err, ErrInvalid)
	}
	return err
}

type summed struct {
	r   io.Reader
	sum hash.Hash
}

func (s *summed) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	s.sum.Write(p[:n])
	return n, err
}
