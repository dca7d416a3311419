package mainline

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kettletarn/internal/core/model"
)

// gitFile is what ties a folder to a repository that lies elsewhere (gitrepository-layout(5), gitfile).
const gitFile = ".git"

// whole marks a repository into which a stream came whole.
const whole = "kettle-tarn-stream-whole"

// FromStream makes a repository of a stream of git's fast-import (git-fast-import(1)) at home, with its files in the folder dir: git itself
// reads the stream, so that what git takes is taken. A stream that came whole before, by its mark, is not read again. progress hears of the
// bytes that are read. See Forget.
func FromStream(ctx context.Context, dir, home, mark string, stream io.Reader, progress func(n int64)) (*Repo, error) {
	r := &Repo{Dir: dir, env: environment()}
	if was, err := os.ReadFile(filepath.Join(home, whole)); err != nil || string(was) != mark {
		if err := os.RemoveAll(home); err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Dir(home), 0o700); err != nil {
			return nil, err
		}
		if _, err := r.run(ctx, nil, "init", "--quiet", "--bare", home); err != nil {
			return nil, err
		}
		cmd := r.command(ctx, "--git-dir="+home, "fast-import", "--quiet", "--force", "--done")
		if !announcesDone(&stream) {
			cmd = r.command(ctx, "--git-dir="+home, "fast-import", "--quiet", "--force")
		}
		var said bytes.Buffer
		cmd.Stdin, cmd.Stderr = &told{stream, progress}, &said
		if err := explain(ctx, cmd.Run(), &said, []string{"fast-import"}); err != nil {
			var failed *Failed
			if errors.As(err, &failed) {
				first, _, _ := strings.Cut(strings.TrimSpace(failed.Said), "\n")
				return nil, model.NewProblem(model.BadRequest, "it has to be the whole of what a fast-export wrote", "git can't read the stream: %s",
					first)
			}
			return nil, err
		}
		if err := os.WriteFile(filepath.Join(home, whole), []byte(mark), 0o600); err != nil {
			return nil, err
		}
	}
	text, err := r.text(ctx, "--git-dir="+home, "for-each-ref", "--format=%(refname)", "refs/heads")
	if err != nil {
		return nil, err
	}
	branches := strings.Fields(text)
	if len(branches) == 0 {
		return nil, model.NewProblem(model.BadRequest, "it has to be the whole of what a fast-export wrote", "the stream has no branch")
	}
	head := branches[0]
	for _, name := range []string{"refs/heads/main", "refs/heads/master", "refs/heads/trunk"} {
		if slices.Contains(branches, name) {
			head = name
			break
		}
	}
	for _, args := range [][]string{{"config", "core.bare", "false"}, {"symbolic-ref", "HEAD", head}} {
		if _, err := r.run(ctx, nil, append([]string{"--git-dir=" + home}, args...)...); err != nil {
			return nil, err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, gitFile), []byte(tie(home)), 0o600); err != nil {
		return nil, err
	}
	// The files of the newest state; what differs already stays as it is, and shows.
	if _, err := os.Stat(filepath.Join(home, "index")); err != nil {
		if _, err := r.run(ctx, nil, "reset", "--hard", "--quiet"); err != nil {
			return nil, err
		}
	}
	return Find(ctx, dir)
}

func tie(home string) string { return fmt.Sprintf("gitdir: %s\n", filepath.ToSlash(home)) }

// TakesStream reports whether a stream may come into a folder: it is empty but for the file of the stream, or was begun with before.
func TakesStream(dir, home, file string) (bool, error) {
	if text, err := os.ReadFile(filepath.Join(dir, gitFile)); err == nil && string(text) == tie(home) {
		return true, nil
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return false, err
	}
	return !slices.ContainsFunc(entries, func(e os.DirEntry) bool { return filepath.Join(dir, e.Name()) != file }), nil
}

// Forget takes the repository of a stream away; the files stay.
func Forget(dir, home string) error {
	return errors.Join(os.Remove(filepath.Join(dir, gitFile)), os.RemoveAll(home))
}

// announcesDone reports whether a stream says that it ends with done: one that is cut off is not taken for whole then.
func announcesDone(stream *io.Reader) bool {
	head := make([]byte, 4096)
	n, _ := io.ReadFull(*stream, head)
	*stream = io.MultiReader(bytes.NewReader(head[:n]), *stream)
	for line := range strings.Lines(string(head[:n])) {
		switch line = strings.TrimSuffix(line, "\n"); {
		case line == "feature done":
			return true
		case line == "" || strings.HasPrefix(line, "feature ") || strings.HasPrefix(line, "option ") || strings.HasPrefix(line, "#"):
		default:
			return false
		}
	}
	return false
}

type told struct {
	io.Reader
	tell func(n int64)
}

func (t *told) Read(p []byte) (int, error) {
	n, err := t.Reader.Read(p)
	t.tell(int64(n))
	return n, err
}
