package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) lock() *cli.Command {
	return command("lock", "take the locks of assets, all of them or none", "PATH…", `tarn lock --note "north rail" textures/rust-albedo.png`,
		a.working(1, -1, "lock PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			locks, _, err := w.Lock(ctx, paths, cmd.String("note"), false)
			if err != nil {
				return err
			}
			return a.answer(cmd, model.Locks{Locks: locks}, func() {
				for _, l := range locks {
					a.say("%s is yours.", l.Path)
				}
			})
		}),
		&cli.StringFlag{Name: "note", Usage: "what you are about to do; others see it"})
}

func (a *app) unlock() *cli.Command {
	return command("unlock", "give locks back", "PATH…", `tarn unlock --override --reason "on leave since Friday" levels/harbour.glb`,
		a.working(1, -1, "unlock PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			if cmd.Bool("override") && strings.TrimSpace(cmd.String("reason")) == "" {
				return wrongUse("taking a lock away needs a reason: tarn unlock --override --reason \"…\" PATH; its holder gets to see it")
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
		&cli.StringFlag{Name: "reason", Usage: "why, with --override"})
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
