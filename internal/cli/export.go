package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) export() *cli.Command {
	return command("export", "write an old state beside the present, into a folder or an archive; the workspace stays as it is",
		"TARGET [PATH…]", "tarn export --at first-light ~/brinelight-first-light",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, -1, "export --at h40 TARGET [PATH…]")
			if err != nil {
				return err
			}
			if cmd.Bool("tar") && cmd.Bool("zip") {
				return wrongUse("take one of --tar and --zip")
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			if err := limited(cmd, w.Client); err != nil {
				return err
			}
			o := workspace.ExportOptions{}
			if o.At, err = a.stateOf(cmd.String("at")); err != nil {
				return err
			}
			if o.Paths, err = a.paths(w, args[1:]); err != nil {
				return err
			}
			target, finish, err := a.exportTo(cmd, args[0], &o)
			if err != nil {
				return err
			}
			out, err := w.Export(ctx, o)
			if err = finish(err); err != nil {
				return err
			}
			said := func() {
				a.note("%s has %s as of h%d, %s. The workspace is as it was.", target, plural(out.Assets, "asset"), out.At, size(out.Size))
			}
			if target == "-" { // what is on standard output is the archive
				said()
				return nil
			}
			return a.answer(cmd, out, said)
		},
		&cli.StringFlag{Name: "at", Usage: "a handoff (h40), a milestone or a time (2026-03-02); the newest where left out"},
		&cli.BoolFlag{Name: "tar", Usage: "write a tar archive; TARGET is its name, or - for standard output"},
		&cli.BoolFlag{Name: "zip", Usage: "write a ZIP archive; TARGET is its name, or - for standard output"}, limitFlag())
}

// exportTo opens what an export goes into. finish ends it: an archive that did not become whole is taken away again.
func (a *app) exportTo(cmd *cli.Command, typed string, o *workspace.ExportOptions) (target string, finish func(error) error, err error) {
	form := ""
	for _, f := range []string{bundle.Tar, bundle.Zip} {
		if cmd.Bool(f) {
			form = f
		}
	}
	if form != "" && typed == "-" {
		o.Out, err = bundle.New(form, a.raw)
		return "-", func(err error) error { return err }, err
	}
	if target, err = a.folder(typed); err != nil {
		return "", nil, err
	}
	if form == "" {
		o.Out, err = workspace.NewFolder(target)
		return target, func(err error) error {
			if err != nil {
				err = fmt.Errorf("%w\n%s is not whole: remove it, and run the same command again", err, target)
			}
			return err
		}, err
	}
	if _, err := os.Lstat(target); err == nil {
		return "", nil, model.NewProblem(model.Taken, "choose another name", "%s is there already", target)
	}
	part := target + ".part"
	file, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return "", nil, err
	}
	buffered := bufio.NewWriterSize(file, 1<<20)
	o.Out, err = bundle.New(form, buffered)
	return target, func(err error) error {
		for _, step := range []func() error{buffered.Flush, file.Sync} {
			if err == nil {
				err = step()
			}
		}
		if closed := file.Close(); err == nil {
			err = closed
		}
		if err == nil {
			err = os.Rename(part, target)
		}
		if err != nil {
			_ = os.Remove(part)
		}
		return err
	}, err
}
