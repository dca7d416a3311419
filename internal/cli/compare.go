package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) compare() *cli.Command {
	return command("compare", "what is different between two states of the project", "A [B]", "tarn compare first-light newest",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 2, "compare first-light [newest]")
			if err != nil {
				return err
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			return a.compareStates(ctx, cmd, w, args)
		})
}

// compareStates prints what is different between two states: by folder, by kind, by person, and asset by asset.
func (a *app) compareStates(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, args []string) (err error) {
	states := []string{"", "newest"}
	for i, text := range args {
		if states[i], err = a.stateOf(text); err != nil {
			return err
		}
	}
	out, err := w.Client.Between(ctx, w.Marker.Project, states[0], states[1], "")
	if err != nil {
		return err
	}
	for next := out.Next; next != ""; {
		page, err := w.Client.Between(ctx, w.Marker.Project, fmt.Sprintf("h%d", out.From.Number), fmt.Sprintf("h%d", out.To.Number), next)
		if err != nil {
			return err
		}
		out.Assets, next = append(out.Assets, page.Assets...), page.Next
	}
	out.Next = ""
	return a.answer(cmd, out, func() { a.printBetween(out) })
}

func (a *app) printBetween(out model.Between) {
	a.say("From %s to %s:", stateWords(out.From), stateWords(out.To))
	if len(out.Assets) == 0 {
		a.say("Nothing is different.")
		return
	}
	a.say("")
	t := a.table("", "", ">NEW", ">EDITED", ">MOVED", ">GONE", ">SIZE", ">GREW")
	tally := func(title string, list ...model.Tally) {
		for _, l := range list {
			name := l.Name
			if name == "" {
				name = "(at the root)"
			}
			t.row(title, name, number(l.New), number(l.Edited), number(l.Moved), number(l.Gone), size(l.Size), grown(l.Size-l.SizeBefore))
			title = ""
		}
	}
	tally("all", model.Tally{Name: plural(len(out.Assets), "asset"), New: out.Total.New, Edited: out.Total.Edited, Moved: out.Total.Moved, Gone: out.Total.Gone, Size: out.Total.Size, SizeBefore: out.Total.SizeBefore})
	tally("folder", out.Folders...)
	tally("kind", out.Kinds...)
	t.print()
	a.say("")
	p := a.table("BY", ">HANDOFFS", ">VERSIONS", "FROM", "TO")
	for _, who := range out.People {
		p.row(who.Person, count(who.Handoffs), count(who.Versions), when(who.First), when(who.Last))
	}
	p.print()
	a.say("")
	a.printChanges(out.Assets)
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return count(n)
}

func stateWords(h model.Handoff) string {
	if h.Number == 0 {
		return "the start"
	}
	words := fmt.Sprintf("h%d", h.Number)
	for _, m := range h.Milestones {
		words += " (" + m + ")"
	}
	return words + ", " + when(h.At)
}
