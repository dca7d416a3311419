package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/projectfile"
)

func (a *app) download() *cli.Command {
	return command("project download", "write a project with its whole past into one file", "KEY FILE",
		"tarn project download lantern lantern.tar", func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2, 2, "project download KEY FILE")
			if err != nil {
				return err
			}
			c, err := a.limitedClient(cmd)
			if err != nil {
				return err
			}
			file, err := filepath.Abs(filepath.Join(a.dir, args[1]))
			if filepath.IsAbs(args[1]) {
				file = args[1]
			}
			if err != nil {
				return err
			}
			p := newProgress(a.screen)
			begun, last := false, 0
			tell := func(done, total int) {
				if !begun {
					begun = true
					p.Start("Handoffs", int64(total))
				}
				p.Add(int64(done - last))
				last = done
			}
			defer p.Done()
			if cmd.Bool("stream") {
				return a.downloadStream(ctx, cmd, c, args[0], file, tell)
			}
			size_, err := projectfile.Archive(ctx, c, args[0], file, tell)
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]any{"file": file, "size": size_}, func() {
				a.say("%s has all of %s: %s. What is in it is described in docs/project-file.md.", file, args[0], size(size_))
			})
		},
		&cli.BoolFlag{Name: "stream", Usage: "as a stream of git's fast-import, which version-control programs of every kind read"}, limitFlag())
}

func (a *app) downloadStream(ctx context.Context, cmd *cli.Command, c *client.Client, key, file string, tell projectfile.Progress) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return model.NewProblem(model.Taken, "name a file that is not there", "%s is there already", file)
	}
	if err != nil {
		return err
	}
	err = projectfile.Stream(ctx, c, key, f, tell)
	if err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return a.answer(cmd, map[string]any{"file": file}, func() {
		a.say("%s has the past of %s: git init, then git fast-import < %s, in a new folder, makes a repository of it.", file, key,
			filepath.Base(file))
	})
}
