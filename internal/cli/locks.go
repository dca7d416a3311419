package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/workspace"
)

func (a *app) lock() *cli.Command {
	return command("lock", "take the locks of assets, all of them or none", "PATH…", `tarn lock --note "north rail" textures/rust-albedo.png`,
		a.working(1, -1, "lock PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			locks, _, err := w.Lock(ctx, paths, cmd.String("note"), false, cmd.Bool("set"))
			if err != nil {
				return err
			}
			return a.answer(cmd, model.Locks{Locks: locks}, func() {
				for _, l := range locks {
					a.say("%s is yours.", l.Path)
				}
				a.printHeadsUps(ctx, w, locks)
			})
		}),
		&cli.StringFlag{Name: "note", Usage: "what you are about to do; others see it"},
		&cli.BoolFlag{Name: "set", Usage: "take the rest of each set along"})
}

// printHeadsUps names who else has unsent changes to what was locked just now.
func (a *app) printHeadsUps(ctx context.Context, w *workspace.Workspace, locks []model.Lock) {
	paths := make([]string, len(locks))
	for i, l := range locks {
		paths[i] = l.Path
	}
	heads, err := w.HeadsUps(paths)
	if err != nil || ctx.Err() != nil {
		return
	}
	for _, h := range heads {
		fmt.Fprintf(a.errs, "Heads-up: %s has changes to %s that were not sent, since %s in %s.\n", h.Handle, h.Path, when(h.Since), h.Workspace)
	}
}

func (a *app) unlock() *cli.Command {
	return command("unlock", "give locks back", "PATH…", `tarn unlock --override --reason "on leave since Friday" levels/harbour.glb`,
		a.working(1, -1, "unlock PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			if cmd.Bool("override") && strings.TrimSpace(cmd.String("reason")) == "" {
				return wrongUse("taking a lock away needs a reason: tarn unlock --override --reason \"…\" PATH; its holder gets to see it")
			}
			if !cmd.Bool("override") {
				if err := a.beforeUnlock(ctx, cmd, w, paths); err != nil {
					return err
				}
			}
			freed, err := w.Unlock(ctx, paths, cmd.Bool("override"), cmd.String("reason"))
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]any{"unlocked": freed}, func() {
				for _, p := range freed {
					a.say("%s is free.", p)
				}
			})
		}),
		&cli.BoolFlag{Name: "override", Usage: "take it away from whoever holds it; leads and owners"},
		&cli.StringFlag{Name: "reason", Usage: "why, with --override"},
		&cli.StringFlag{Name: "edits", Usage: "what becomes of changes that were not sent: send, put-away or leave; asked for where left out"},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "with --edits send: what was done, and why"})
}

// beforeUnlock sees to unsent changes of what is to be unlocked. It never guesses what shall become of them.
func (a *app) beforeUnlock(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
	unsent, err := w.Unsent(ctx, paths)
	if err != nil || len(unsent) == 0 {
		return err
	}
	what := cmd.String("edits")
	if what == "" {
		fmt.Fprintf(a.errs, "Not sent yet (%s):\n", count(len(unsent)))
		few(a.errs, unsent, func(x model.Asset) string { return x.State + "  " + x.Path })
		what = prompt.Choose(a.in, a.errs, "Send them, put them away, or leave them here without the lock?", "send", "put-away", "leave")
	}
	names := make([]string, len(unsent))
	for i, x := range unsent {
		names[i] = x.Path
	}
	switch what {
	case "leave":
		return nil
	case "put-away":
		_, err := w.Discard(ctx, names)
		return err
	case "send":
		note := cmd.String("note")
		if note == "" && prompt.Interactive(a.in) {
			fmt.Fprint(a.errs, "What was done, and why? ")
			if note, err = prompt.Line(a.in); err != nil {
				return err
			}
		}
		if strings.TrimSpace(note) == "" {
			return wrongUse("add a note: tarn unlock --edits send -m \"what was done, and why\" PATH")
		}
		_, err := w.Send(ctx, workspace.SendOptions{Note: note, Paths: names, KeepLocks: true, WithGone: true})
		return err
	case "":
		return model.NewProblem(model.BadRequest, "say --edits send, --edits put-away or --edits leave", "there are changes that were not sent, and nothing was unlocked")
	}
	return wrongUse("--edits is send, put-away or leave; this is %q", what)
}

func (a *app) holders() *cli.Command {
	return command("holders", "who holds what, since when, and for what", "[PATH…]", "tarn holders levels",
		a.looking(0, -1, "holders [PATH…]", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			all, err := w.Client.Locks(ctx, w.Marker.Project)
			if err != nil {
				return err
			}
			kept := []model.Lock{}
			for _, l := range all.Locks {
				if hit, _ := workspace.Within([]model.Asset{{Path: l.Path}}, paths); len(hit) > 0 {
					kept = append(kept, l)
				}
			}
			return a.answer(cmd, model.Locks{Locks: kept}, func() {
				if len(kept) == 0 {
					a.say("Nothing is locked there.")
					return
				}
				t := newTable(a.out, "ASSET", "HOLDER", "TAKEN", "WHERE", "NOTE")
				for _, l := range kept {
					holder := l.Holder
					if l.WorkspaceID == w.Marker.Workspace {
						holder = "yours"
					}
					t.row(l.Path, holder, when(l.Since), l.Workspace, firstLine(l.Note, 40))
				}
				t.print()
			})
		}))
}
