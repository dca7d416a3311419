package mainline

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

// Commit is one commit on the first-parent line, with what it changed beside its first parent. Message and names are UTF-8 as far as git
// could make them so.
type Commit struct {
	ID         string
	Name, Mail string
	At         time.Time // when the author made it
	Message    string
	Changes    []Change
}

// Change is what a commit did to one file. Status is A (added), M (changed), D (deleted), R (renamed from From) or T (of another type now).
// Mode and Blob are those after it.
type Change struct {
	Status     byte
	Path, From string
	Mode, Blob string
}

// Regular reports whether there is a file after the change: not a link, and not another repository.
func (c Change) Regular() bool { return c.Status != 'D' && regular(c.Mode) }

// Executable reports whether it may be run.
func (c Change) Executable() bool { return c.Mode == "100755" }

// maxField is the longest field that is read, in bytes: a message, a path.
const maxField = 64 << 20

// Walk calls each with the commits on the first-parent line of a revision, the oldest first, as git finds them: nothing is kept. Renames
// are git's: a file that goes and one that comes in the same commit and is alike.
func (r *Repo) Walk(ctx context.Context, revision string, each func(Commit) error) error {
	args := append([]string{"log", "--first-parent", "-m", "--reverse", "--root", "--format=%H%x00%aN%x00%aE%x00%at%x00%B"}, rawOptions...)
	return r.stream(ctx, append(args, "--end-of-options", revision, "--"), func(out *bufio.Reader) error {
		field, err := next(out)
		for {
			if errors.Is(err, io.EOF) {
				return nil
			}
			var c Commit
			if err == nil {
				c, field, err = readCommit(field, out)
			}
			if err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			if failed := each(c); failed != nil {
				return failed
			}
		}
	})
}

// Difference is what is different between two commits, as one change of the second; "" as the first stands for nothing at all.
func (r *Repo) Difference(ctx context.Context, from, to string) (c Commit, err error) {
	if from == "" {
		if from, err = r.text(ctx, "hash-object", "-t", "tree", "--stdin"); err != nil {
			return c, err
		}
	}
	c.ID = to
	args := append([]string{"diff-tree", "-r"}, rawOptions...)
	err = r.stream(ctx, append(args, "--end-of-options", from, to, "--"), func(out *bufio.Reader) (err error) {
		c.Changes, err = readChanges(out)
		return err
	})
	return c, err
}

var rawOptions = []string{"-z", "--raw", "-M", "--no-abbrev", "--no-ext-diff", "--no-color", "--relative"}

// readCommit reads one commit whose first field is there, and the first field of the next one. At the end of all, that error is io.EOF.
func readCommit(id string, out *bufio.Reader) (c Commit, field string, err error) {
	if len(id) != 40 && len(id) != 64 {
		return c, "", fmt.Errorf("git log says something else than a commit: %.80q", id)
	}
	c.ID = id
	var at string
	for _, into := range []*string{&c.Name, &c.Mail, &at, &c.Message} {
		if *into, err = next(out); err != nil {
			return c, "", unexpected(err)
		}
	}
	seconds, err := strconv.ParseInt(at, 10, 64)
	if err != nil {
		seconds = 0 // a commit whose date git can't read
	}
	c.At = time.Unix(seconds, 0).UTC()
	for {
		if field, err = next(out); err != nil {
			return c, "", err
		}
		if field = strings.TrimPrefix(field, "\n"); !strings.HasPrefix(field, ":") {
			return c, field, nil
		}
		change, err := readChange(field, out)
		if err != nil {
			return c, "", err
		}
		c.Changes = append(c.Changes, change)
	}
}

// readChanges reads changes to the end.
func readChanges(out *bufio.Reader) (list []Change, err error) {
	for {
		field, err := next(out)
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		change, err := readChange(field, out)
		if err != nil {
			return nil, err
		}
		list = append(list, change)
	}
}

// readChange reads one change in git's raw form, whose first field is there.
func readChange(field string, out *bufio.Reader) (c Change, err error) {
	meta := strings.Fields(strings.TrimPrefix(field, ":"))
	if len(meta) != 5 || len(meta[4]) == 0 || !strings.HasPrefix(field, ":") {
		return c, fmt.Errorf("git says something else than a change: %.80q", field)
	}
	c = Change{Status: meta[4][0], Mode: meta[1], Blob: meta[3]}
	if c.Path, err = next(out); err != nil {
		return c, unexpected(err)
	}
	switch c.Status {
	case 'A', 'M', 'D', 'T':
	case 'R':
		c.From = c.Path
		if c.Path, err = next(out); err != nil {
			return c, unexpected(err)
		}
	default:
		return c, fmt.Errorf("git names a change %q that is not known", meta[4])
	}
	return c, nil
}

func unexpected(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// next reads up to the next zero byte.
func next(out *bufio.Reader) (string, error) {
	var long []byte
	for {
		part, err := out.ReadSlice(0)
		switch {
		case err == nil && long == nil:
			return string(part[:len(part)-1]), nil
		case err == nil:
			return string(append(long, part[:len(part)-1]...)), nil
		case errors.Is(err, bufio.ErrBufferFull) && len(long) < maxField:
			long = append(long, part...)
		case errors.Is(err, io.EOF) && len(part)+len(long) == 0:
			return "", io.EOF
		case errors.Is(err, io.EOF):
			return string(append(long, part...)), nil
		default:
			return "", err
		}
	}
}

// stream runs git and has what it prints read as it comes. Whoever reads may end early with an error.
func (r *Repo) stream(ctx context.Context, args []string, read func(*bufio.Reader) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cmd := r.command(ctx, args...)
	return piped(ctx, cmd, args, cancel, read)
}

func piped(ctx context.Context, cmd *exec.Cmd, args []string, cancel func(), read func(*bufio.Reader) error) error {
	var said bytes.Buffer
	cmd.Stderr = &said
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return explain(ctx, err, &said, args)
	}
	failed := read(bufio.NewReaderSize(out, 256<<10))
	if failed != nil {
		cancel()
	}
	err = cmd.Wait()
	if failed != nil {
		var ended *exec.ExitError
		if errors.Is(failed, io.ErrUnexpectedEOF) && errors.As(err, &ended) && said.Len() > 0 {
			return explain(context.WithoutCancel(ctx), err, &said, args)
		}
		return failed
	}
	return explain(ctx, err, &said, args)
}

// Branch is a branch of the repository, and its newest commit.
type Branch struct{ Name, Commit string }

// Branches are those of the repository besides the one that is checked out, by name.
func (r *Repo) Branches(ctx context.Context) (list []Branch, err error) {
	out, err := r.text(ctx, "for-each-ref", "--sort=refname", "--format=%(HEAD)%(objectname) %(refname:lstrip=2)", "refs/heads")
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(out) {
		line = strings.TrimSuffix(line, "\n")
		if commit, name, ok := strings.Cut(strings.TrimPrefix(line, " "), " "); ok && !strings.HasPrefix(line, "*") {
			list = append(list, Branch{name, commit})
		}
	}
	return list, nil
}

// Line is the ids of the commits on the first-parent line of a revision, the oldest first.
func (r *Repo) Line(ctx context.Context, revision string, each func(id string) error) error {
	return r.stream(ctx, []string{"rev-list", "--first-parent", "--reverse", "--end-of-options", revision, "--"},
		func(out *bufio.Reader) error {
			lines := bufio.NewScanner(out)
			for lines.Scan() {
				if err := each(lines.Text()); err != nil {
					return err
				}
			}
			return lines.Err()
		})
}

// Shallow reports whether the repository has only the latest part of its history.
func (r *Repo) Shallow(ctx context.Context) (bool, error) {
	out, err := r.text(ctx, "rev-parse", "--is-shallow-repository")
	return out == "true", err
}

// Index is what the index has otherwise than the last commit.
func (r *Repo) Index(ctx context.Context) (list []Change, err error) {
	args := []string{"diff", "--cached", "--raw", "-z", "--no-renames", "--no-abbrev", "--no-ext-diff", "--no-color", "--relative"}
	err = r.stream(ctx, args, func(out *bufio.Reader) (err error) {
		list, err = readChanges(out)
		return err
	})
	return list, err
}

// Tracked calls each with the files in the index, as changes that add them.
func (r *Repo) Tracked(ctx context.Context, each func(Change) error) error {
	return r.stream(ctx, []string{"ls-files", "--stage", "-z"}, func(out *bufio.Reader) error {
		for {
			field, err := next(out)
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			meta, path, ok := strings.Cut(field, "\t")
			words := strings.Fields(meta)
			if !ok || len(words) != 3 {
				return fmt.Errorf("git ls-files says something else than a file: %.80q", field)
			}
			if err := each(Change{Status: 'A', Path: path, Mode: words[0], Blob: words[1]}); err != nil {
				return err
			}
		}
	})
}

// Untrack takes files out of the index; on disk they stay.
func (r *Repo) Untrack(ctx context.Context, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	_, err := r.run(ctx, []byte(strings.Join(paths, "\x00")+"\x00"), "update-index", "-z", "--force-remove", "--stdin")
	return err
}
