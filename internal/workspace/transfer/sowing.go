package transfer

import (
	"errors"
	"io/fs"
	"os"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/placing"
)

// sowing puts chunks into the files that have them, in whichever order they come.
type sowing struct {
	r     *fetching
	disk  disk.Disk
	files []arriving
	sites map[chunk.Digest][]site
	left  []int            // how many chunks each file lacks
	out   map[int]*os.File // those that are open
}

// site is a place in one of the files.
type site struct {
	file int
	at   int64
}

// maxOpen is how many files are open at once: a chunk that many files have begins all of them.
const maxOpen = 32

// empty makes the files that have no chunks.
func (s *sowing) empty() error {
	for i, left := range s.left {
		if left > 0 {
			continue
		}
		if _, err := s.open(i); err != nil {
			return err
		}
		if err := s.whole(i); err != nil {
			return err
		}
	}
	return nil
}

func (s *sowing) sow(d chunk.Digest, data []byte) error {
	for _, at := range s.sites[d] {
		out, err := s.open(at.file)
		if err != nil {
			return err
		}
		if _, err := out.WriteAt(data, at.at); err != nil {
			return err
		}
		if s.left[at.file]--; s.left[at.file] == 0 {
			if err := s.whole(at.file); err != nil {
				return err
			}
		}
	}
	s.r.w.Progress.Add(int64(len(data)))
	return nil
}

func (s *sowing) open(i int) (*os.File, error) {
	if out := s.out[i]; out != nil {
		return out, nil
	}
	if len(s.out) >= maxOpen {
		for other, out := range s.out {
			if err := out.Close(); err != nil {
				return nil, err
			}
			delete(s.out, other)
			break
		}
	}
	f := s.files[i].Wanted
	part, begun := placing.PartName(f), s.left[i] < len(s.files[i].refs)
	flag := os.O_WRONLY
	if !begun {
		flag |= os.O_CREATE | os.O_EXCL
	}
	out, err := s.disk.OpenFile(part, flag, placing.ModeOf(f))
	if !begun && errors.Is(err, fs.ErrExist) {
		// Never written into: it might be a second name of a file that is in its place.
		if err = s.r.w.Folder.Disk.Remove(part); err == nil {
			out, err = s.disk.OpenFile(part, flag, placing.ModeOf(f))
		}
	}
	if err == nil {
		s.out[i] = out
	}
	return out, err
}

// whole ends a file that has all its chunks.
func (s *sowing) whole(i int) error {
	out := s.out[i]
	delete(s.out, i)
	disk.Soon(out, 0, 0)
	if err := out.Close(); err != nil {
		_ = s.r.w.Folder.Disk.Remove(placing.PartName(s.files[i].Wanted))
		return err
	}
	s.r.finish(s.files[i])
	s.left[i] = -1
	return nil
}

// end removes what is not whole, and returns those files.
func (s *sowing) end() (rest []arriving, err error) {
	for _, out := range s.out {
		err = errors.Join(err, out.Close())
	}
	for i, f := range s.files {
		if s.left[i] >= 0 {
			rest = append(rest, f)
			_ = s.r.w.Folder.Disk.Remove(placing.PartName(f.Wanted))
		}
	}
	return rest, err
}
