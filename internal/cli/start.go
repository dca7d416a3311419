package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/workspace"
)

func (a *app) start() *cli.Command {
	return command("start", "make a project from the folder you stand in, and record it as it is", "KEY", "tarn start brinelight",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 1, "start KEY")
			if err != nil {
				return err
			}
			c, err := a.limitedClient(cmd)
			if err != nil {
				return err
			}
			again, err := workspace.Vacant(a.dir, args[0], c.URL())
			if err != nil {
				return err
			}
			preview, err := workspace.PreviewStart(ctx, a.dir)
			if err != nil {
				return err
			}
			if cmd.Bool("preview") {
				return a.answer(cmd, preview, func() { a.printPreview(args[0], preview) })
			}
			if !cmd.Bool("json") && !again {
				a.printPreview(args[0], preview)
			}
			if !cmd.Bool("yes") && !again && !prompt.Confirm(a.in, a.errs, fmt.Sprintf("Make the project %s of this folder?", args[0])) {
				return model.NewProblem(model.BadRequest, "say --yes to go on", "nothing was done")
			}
			w, err := workspace.Start(ctx, a.dir, args[0], c, newProgress(a.errs))
			if err != nil {
				return err
			}
			defer w.Close()
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			sent, err := w.Send(ctx, workspace.SendOptions{Note: cmd.String("note")})
			if err != nil {
				return err
			}
			if sent.Handoff == nil {
				sent.Handoff = sent.Earlier
			}
			if err := w.Refresh(ctx); err != nil {
				return err
			}
			return a.answer(cmd, sent, func() {
				if sent.Handoff != nil {
					a.say("The project %s is there. Handoff h%d holds it as it stands: %s.", args[0], sent.Handoff.Number, plural(sent.Handoff.Count, "asset"))
				} else {
					a.say("The project %s is there, and has nothing in it yet.", args[0])
				}
				a.say("Others join with: tarn sign-in %s, then tarn join %s. Add them with tarn member add HANDLE.", c.URL(), args[0])
			})
		},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Value: "Baseline: everything as it stands", Usage: "note of the first handoff"},
		&cli.BoolFlag{Name: "preview", Usage: "only say what it would track"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"}, limitFlag())
}

func (a *app) printPreview(key string, p *workspace.Preview) {
	a.say("%s would track %s, %s.", key, plural(p.Files, "file"), size(p.Size))
	if p.Left > 0 {
		a.say("The rules leave out %s.", plural(p.Left, "path"))
	}
	if len(p.Largest) > 0 {
		a.say("The largest:")
		t := newTable(a.out, "", ">")
		for _, f := range p.Largest {
			t.row("  "+f.Path, size(f.Size))
		}
		t.print()
	}
	a.printRefusals(fmt.Sprintf("It can't take %s:", plural(len(p.Odd), "name")), p.Odd)
}

func (a *app) join() *cli.Command {
	return command("join", "bring a project down into a new folder", "KEY [DIR]", "tarn join brinelight ~/work/brinelight",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 2, "join KEY [DIR]")
			if err != nil {
				return err
			}
			c, err := a.limitedClient(cmd)
			if err != nil {
				return err
			}
			here := cmd.Bool("here")
			target := a.dir
			if !here {
				target = filepath.Join(a.dir, args[0])
			}
			if len(args) == 2 {
				if target, err = a.folder(args[1]); err != nil {
					return err
				}
			}
			w, err := workspace.Join(ctx, target, args[0], here, c, newProgress(a.errs))
			if err != nil {
				return err
			}
			defer w.Close()
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			if here {
				out, err := w.Adopt(ctx)
				if err != nil {
					return err
				}
				return a.answer(cmd, out, func() { a.printAdopted(target, out) })
			}
			u, err := w.Update(ctx, nil, false)
			if err != nil {
				return err
			}
			if err := a.answer(cmd, u, func() {
				a.say("%s is in %s as of h%d: %s, %s.", args[0], target, u.At, plural(len(u.Brought)+u.Same, "asset"), size(sum(u.Brought)))
			}); err != nil {
				return err
			}
			return a.partly(u)
		},
		&cli.BoolFlag{Name: "here", Usage: "tie a folder that has the files already; overwrites nothing"}, limitFlag())
}

func (a *app) printAdopted(target string, out *workspace.Adopted) {
	a.say("%s is tied to the project: %s taken over as they are.", target, plural(out.Taken, "file"))
	if len(out.Differ) > 0 {
		a.say("These differ from the service, and were left alone (tarn discard puts one away and brings the service's):")
		a.printPaths(out.Differ)
	}
	if len(out.New) > 0 {
		a.say("These are new (tarn send hands them off):")
		a.printPaths(out.New)
	}
	if len(out.Lacking) > 0 {
		a.say("%s at the service and not here yet, or newer there: tarn update brings them.", plural(len(out.Lacking), "asset"))
	}
	a.printRefusals("Not taken:", out.Odd)
}
