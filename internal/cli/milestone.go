package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/workspace"
)

func (a *app) milestone() *cli.Command {
	return &cli.Command{Name: "milestone", Usage: "names for handoffs that stay", HideHelpCommand: true, Commands: []*cli.Command{
		lists(command("milestone list", "the milestones, the latest handoff first", "", "tarn milestone list",
			a.looking(0, 0, "milestone list", a.listMilestones))),
		command("milestone add", "name a handoff; a milestone is never moved", "NAME", "tarn milestone add first-light --at h40",
			a.named("milestone add NAME", a.addMilestone),
			&cli.StringFlag{Name: "at", Usage: "the handoff, or a time; the newest where left out"},
			&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "what it stands for"}),
		command("milestone remove", "take a name away, which only leads may; the handoff stays", "NAME", "tarn milestone remove first-light",
			a.named("milestone remove NAME",
				func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
					if err := w.Client.RemoveMilestone(ctx, w.Marker.Project, names[0]); err != nil {
						return err
					}
					return a.answer(cmd, map[string]any{"removed": names[0]}, func() { a.say("The name %s is gone; its handoff stays.", names[0]) })
				})),
	}}
}

// named makes the action of a command that takes one name, which is no path.
func (a *app) named(usage string, do task) cli.ActionFunc { return a.naming(1, 1, usage, do) }

// naming makes the action of a command that takes least to most names (most -1 for any number), which are no paths.
func (a *app) naming(least, most int, usage string, do task) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		args, err := arguments(cmd, least, most, usage)
		if err != nil {
			return err
		}
		w, err := a.open()
		if err != nil {
			return err
		}
		defer w.Close()
		return do(ctx, cmd, w, args)
	}
}

func (a *app) listMilestones(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
	list, err := w.Client.Milestones(ctx, w.Marker.Project)
	if err != nil {
		return err
	}
	return a.answer(cmd, list, func() {
		if len(list.Milestones) == 0 {
			a.say("There are no milestones yet: tarn milestone add NAME names the newest handoff.")
			return
		}
		t := a.table("NAME", ">", "HANDED OFF", "NAMED BY", "NOTE")
		for _, m := range list.Milestones {
			t.row(m.Name, fmt.Sprintf("h%d", m.Handoff), when(m.HandedOff), m.Person, firstLine(m.Note, 60))
		}
		t.print()
	})
}

func (a *app) addMilestone(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	if err := point.CheckName(names[0]); err != nil {
		return wrongUse("%v", err)
	}
	at, err := a.stateOf(cmd.String("at"))
	if err != nil {
		return err
	}
	m, err := w.Client.AddMilestone(ctx, w.Marker.Project, model.MilestoneRequest{Name: names[0], At: at, Note: cmd.String("note")})
	if err != nil {
		return err
	}
	return a.answer(cmd, m, func() { a.say("%s names h%d from now on.", m.Name, m.Handoff) })
}
