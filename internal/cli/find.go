package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) find() *cli.Command {
	return command("find", "what fits words: names, notes, tasks, people, and what is in the files", "WORDS", "tarn find rust 4096",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 8, "find WORDS")
			if err != nil {
				return err
			}
			w, err := a.openOr(cmd)
			if err != nil {
				return err
			}
			defer w.Close()
			return a.findIn(ctx, cmd, w, strings.Join(args, " "))
		},
		&cli.IntFlag{Name: "last", Usage: "so many of each kind at most", Value: 20}, anywhereFlag())
}

func (a *app) findIn(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, text string) error {
	found, err := w.Client.Find(ctx, w.Marker.Project, text, int(cmd.Int("last")))
	if err != nil {
		return err
	}
	return a.answer(cmd, found, func() {
		if len(found.Assets)+len(found.Handoffs)+len(found.Milestones)+len(found.People)+len(found.Branches) == 0 {
			a.say("Nothing fits %q.", text)
			return
		}
		a.printFound(found)
	})
}

func (a *app) printFound(found model.Found) {
	if len(found.Assets) > 0 {
		t := a.table("ASSET", ">VERSION", ">SIZE", "LAST BY", "HOLDER", "IN IT")
		for _, x := range found.Assets {
			t.row(x.Path, fmt.Sprintf("v%d", x.Newest), size(x.Size), x.Author, x.Holder, x.Why)
		}
		t.print()
	}
	if len(found.Handoffs) > 0 {
		t := a.table("HANDOFF", "BY", "NOTE")
		for _, h := range found.Handoffs {
			t.row(fmt.Sprintf("h%d", h.Number), h.Author, about(h.Note, h.Tasks, h.Stage))
		}
		t.print()
	}
	for _, m := range found.Milestones {
		a.say("milestone %s, h%d", m.Name, m.Handoff)
	}
	for _, p := range found.People {
		a.say("person %s", p)
	}
	for _, b := range found.Branches {
		a.say("branch %s", b)
	}
}
