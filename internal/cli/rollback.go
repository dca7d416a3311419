package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/workspace"
)

func (a *app) rollback() *cli.Command {
	return command("rollback", "bring an old state back, as a new handoff; nothing is deleted", "[PATH…] --to v3|h40|MILESTONE|TIME",
		"tarn rollback textures/rust-albedo.png --to v3",
		a.working(0, -1, "rollback PATH… --to h40, rollback --without h40, or rollback --all --to h40",
			func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
				o, err := a.rollbackOptions(cmd, paths)
				if err != nil {
					return err
				}
				h, u, err := w.Rollback(ctx, o)
				if err != nil {
					return err
				}
				answer := map[string]any{"handoff": h.Handoff, "note": h.Note, "changes": h.Changes, "heads_up": h.HeadsUps, "brought": u.Brought,
					"refusals": append(h.Refusals, u.Refusals...)}
				if err := a.answer(cmd, answer, func() { a.printRollback(h, o.Preview) }); err != nil {
					return err
				}
				if o.Preview && len(h.Refusals) > 0 {
					a.printRefusals("This stands in the way:", h.Refusals)
					return errPartly
				}
				return a.partly(&workspace.Updated{Refusals: u.Refusals})
			}),
		&cli.StringFlag{Name: "to", Usage: "what to go back to: v3 of one asset, or h40, a milestone or a time (2026-03-02)"},
		&cli.StringFlag{Name: "without", Usage: "undo this handoff, where its assets have not moved on (h40)"},
		&cli.BoolFlag{Name: "all", Usage: "the whole project"},
		&cli.BoolFlag{Name: "set", Usage: "take the rest of their sets back to the same handoff"},
		&cli.BoolFlag{Name: "preview", Usage: "say what it would do, and do nothing"},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "why; made up from what it goes back to where left out"})
}

func (a *app) rollbackOptions(cmd *cli.Command, paths []string) (o workspace.RollbackOptions, err error) {
	o = workspace.RollbackOptions{Paths: paths, All: cmd.Bool("all"), Set: cmd.Bool("set"), Note: cmd.String("note"),
		Preview: cmd.Bool("preview")}
	to, without := cmd.String("to"), cmd.String("without")
	n, version := point.Numbered(to, "v")
	switch {
	case (to == "") == (without == ""):
		return o, wrongUse("say what to go back to (--to v3, h40, a milestone or a time), or what to do without (--without h40); tarn history " +
			"lists the handoffs")
	case without != "":
		if len(paths) > 0 || o.All || o.Set {
			return o, wrongUse("--without undoes a handoff as a whole: leave the paths out")
		}
		if o.Without, version = point.Handoff(without); !version {
			return o, wrongUse("--without is a handoff, like h40")
		}
	case o.All == (len(paths) > 0):
		return o, wrongUse("name what goes back: assets or folders, or --all for the whole project")
	case version && (len(paths) != 1 || o.All):
		return o, wrongUse("%s is a version of one asset; for several take a handoff or a milestone", to)
	case version:
		o.Version = n
	default:
		o.To, err = a.stateOf(to)
	}
	return o, err
}

// printRollback says what a rollback did, or would do.
func (a *app) printRollback(h *model.RollbackAnswer, preview bool) {
	if preview {
		a.say("This would be a handoff of %s: %s", plural(len(h.Changes), "asset"), firstLine(h.Note, 100))
	} else if h.Handoff != nil {
		a.say("h%d: %s. Nothing was deleted.", h.Handoff.Number, firstLine(h.Handoff.Note, 100))
	}
	now := map[string]int{}
	if h.Handoff != nil {
		for _, asset := range h.Handoff.Assets {
			now[asset.Path] = asset.Version
		}
	}
	t := a.table("", "", "", ">")
	for i, c := range h.Changes {
		if i == 200 && len(h.Changes) > 220 {
			t.row("  …", fmt.Sprintf("and %s more: --json has all", count(len(h.Changes)-i)), "", "")
			break
		}
		path, behind, s := c.Path, fmt.Sprintf("was v%d", c.Version), size(c.Size)
		if c.MovedFrom != "" {
			path = c.MovedFrom + " → " + c.Path
		}
		words := ""
		switch c.Change {
		case "back":
			words = fmt.Sprintf("as in v%d", c.To)
		case "returns":
			words, behind = fmt.Sprintf("returns as in v%d", c.To), "was gone"
		case "moves":
			words = "back to where it was"
		case "goes":
			words, s = "goes: it was not there", ""
		}
		if n := now[c.Path]; n > 0 && c.Change != "goes" {
			behind += fmt.Sprintf(", now v%d", n)
		}
		t.row("  "+path, words, behind, s)
	}
	t.print()
	for _, u := range h.HeadsUps {
		a.say("heads-up: %s has unsent changes to %s, in %s", u.Handle, u.Path, u.Workspace)
	}
}
