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
)

// Contents reads the repository's contents one after the other, through one git process. It holds a buffer, never a whole content. Not
// safe for concurrent use.
type Contents struct {
	cancel context.CancelFunc
	cmd    *exec.Cmd
	in     io.WriteCloser
	out    *bufio.Reader
	said   bytes.Buffer
	open   *io.LimitedReader // what is left of the content that is being read
}

// Contents starts reading. It is closed by whoever started it.
func (r *Repo) Contents(ctx context.Context) (*Contents, error) {
	ctx, cancel := context.WithCancel(ctx)
	c := &Contents{cancel: cancel, cmd: r.command(ctx, "cat-file", "--batch")}
	c.cmd.Stderr = &c.said
	in, err := c.cmd.StdinPipe()
	if err != nil {
		cancel()
		return nil, err
	}
	out, err := c.cmd.StdoutPipe()
	if err == nil {
		err = c.cmd.Start()
	}
	if err != nil {
		cancel()
		return nil, explain(ctx, err, &c.said, []string{"cat-file"})
	}
	c.in, c.out = in, bufio.NewReaderSize(out, 256<<10)
	return c, nil
}

// Open gives the size in bytes and the bytes of a content, by its id. Whoever reads them checks that they are so many: git may have ended.
// What Open gave before is over then.
func (c *Contents) Open(ctx context.Context, blob string) (size int64, body io.Reader, err error) {
	if err := c.skip(ctx); err != nil {
		return 0, nil, err
	}
	if _, err := io.WriteString(c.in, blob+"\n"); err != nil {
		return 0, nil, c.broken(ctx, err)
	}
	line, err := c.out.ReadString('\n')
	if err != nil {
		return 0, nil, c.broken(ctx, err)
	}
	words := strings.Fields(line)
	if len(words) != 3 || words[1] != "blob" {
		return 0, nil, fmt.Errorf("the git repository lacks the content %s; a clone that was made without contents can't be read", blob)
	}
	if size, err = strconv.ParseInt(words[2], 10, 64); err != nil || size < 0 {
		return 0, nil, c.broken(ctx, errors.New("git says no size"))
	}
	c.open = &io.LimitedReader{R: c.out, N: size}
	return size, c.open, nil
}

// skip reads what is left of the content before, and the line break behind it.
func (c *Contents) skip(ctx context.Context) error {
	if c.open == nil {
		return nil
	}
	if _, err := io.Copy(io.Discard, c.open); err != nil {
		return c.broken(ctx, err)
	}
	if c.open.N > 0 {
		return c.broken(ctx, io.ErrUnexpectedEOF)
	}
	if _, err := c.out.Discard(1); err != nil {
		return c.broken(ctx, err)
	}
	c.open = nil
	return nil
}

func (c *Contents) broken(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("git stopped giving contents: %w; %s", err, strings.TrimSpace(c.said.String()))
}

// Close ends it.
func (c *Contents) Close() error {
	_ = c.in.Close()
	c.cancel()
	_ = c.cmd.Wait()
	return nil
}
