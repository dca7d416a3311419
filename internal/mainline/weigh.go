package mainline

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
)

// Object is one content of the repository's history, with a path that it has somewhere there. Size is that of its bytes, Stored what it
// takes in the repository, compressed or as a difference.
type Object struct {
	Path         string
	Blob         bool
	Size, Stored int64
}

// Objects calls each with everything that can be reached from the revisions ("--all" for every branch and tag): what a clone brings.
// Objects without a path are commits and the roots of trees.
func (r *Repo) Objects(ctx context.Context, revisions []string, each func(Object) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	list := append([]string{"rev-list", "--objects"}, revisions...)
	from := r.command(ctx, list...)
	check := []string{"cat-file", "--buffer", "--batch-check=%(objecttype) %(objectsize) %(objectsize:disk) %(rest)"}
	to := r.command(ctx, check...)
	pipe, err := from.StdoutPipe()
	if err != nil {
		return err
	}
	to.Stdin = pipe
	if err := from.Start(); err != nil {
		return explain(ctx, err, &bytes.Buffer{}, list)
	}
	err = piped(ctx, to, check, cancel, func(out *bufio.Reader) error {
		for {
			line, err := out.ReadString('\n')
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			words := strings.SplitN(strings.TrimSuffix(line, "\n"), " ", 4)
			if len(words) < 3 {
				return fmt.Errorf("git cat-file says something else than an object: %.80q", line)
			}
			o := Object{Blob: words[0] == "blob"}
			if o.Size, err = strconv.ParseInt(words[1], 10, 64); err == nil {
				o.Stored, err = strconv.ParseInt(words[2], 10, 64)
			}
			if err != nil {
				return fmt.Errorf("git cat-file says something else than an object: %.80q", line)
			}
			if len(words) == 4 {
				o.Path = words[3]
			}
			if err := each(o); err != nil {
				return err
			}
		}
	})
	if ended := from.Wait(); err == nil && ended != nil {
		err = ended
		if failed, ok := ended.(*exec.ExitError); ok {
			err = &Failed{Args: list, Status: failed.ExitCode(), Said: string(failed.Stderr)}
		}
	}
	return err
}

// Below is a path of the whole repository as one from Dir; ok is false for what lies elsewhere.
func (r *Repo) Below(path string) (string, bool) { return strings.CutPrefix(path, r.Prefix) }
