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
			least := 1
			if cmd.Bool("twice") {
				least = 0
			}
			if cmd.Bool("twice") && cmd.Bool("like") {
				return wrongUse("take one of --twice and --like: what is like a file is found beside what is the same")
			}
			args, err := arguments(cmd, least, 8, "find WORDS, find --twice [PATH] or find --like PATH")
			if err != nil {
				return err
			}
			w, err := a.openOr(cmd)
			if err != nil {
				return err
			}
			defer w.Close()
			if cmd.Bool("twice") {
				return a.findTwice(ctx, cmd, w, args)
			}
			if cmd.Bool("like") {
				return a.findLike(ctx, cmd, w, args)
			}
			return a.findIn(ctx, cmd, w, strings.Join(args, " "))
		},
		&cli.IntFlag{Name: "last", Usage: "so many of each kind at most", Value: 20},
		&cli.BoolFlag{Name: "twice", Usage: "what is there more than once, byte for byte; with a PATH, what else is the same"},
		&cli.BoolFlag{Name: "like", Usage: "what looks or sounds like the asset at PATH"}, anywhereFlag())
}

func (a *app) findLike(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, args []string) error {
	if len(args) != 1 {
		return wrongUse("name one asset: tarn find --like PATH")
	}
	paths, err := a.paths(w, args)
	if err != nil {
		return err
	}
	found, err := w.Client.Alike(ctx, w.Marker.Project, paths[0], int(cmd.Int("last")))
	if err != nil {
		return err
	}
	return a.answer(cmd, found, func() {
		if len(found.Assets) == 0 {
			a.say("Nothing else looks or sounds like %s.", paths[0])
			return
		}
		t := a.table("LIKE IT", ">VERSION", ">SIZE", "LAST BY", ">ALIKE")
		for _, x := range found.Assets {
			t.row(x.Path, fmt.Sprintf("v%d", x.Newest), size(x.Size), x.Author, fmt.Sprintf("%d %%", (64-x.Apart)*100/64))
		}
		t.print()
	})
}

func (a *app) findTwice(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, args []string) error {
	path := ""
	if len(args) > 1 {
		return wrongUse("one path at most: tarn find --twice PATH")
	}
	if len(args) == 1 {
		paths, err := a.paths(w, args)
		if err != nil {
			return err
		}
		path = paths[0]
	}
	found, err := w.Client.Twice(ctx, w.Marker.Project, path, int(cmd.Int("last")))
	if err != nil {
		return err
	}
	return a.answer(cmd, found, func() {
		switch {
		case len(found.Contents) == 0 && path != "":
			a.say("Nothing else is the same as %s.", path)
			return
		case len(found.Contents) == 0:
			a.say("Nothing is there twice.")
			return
		case path == "":
			a.say("%s there more than once, which takes %s more on each disk than once would.", are(found.Total, "content"), size(found.Wasted))
		}
		for _, c := range found.Contents {
			a.say("")
			a.say("%s, %s", size(c.Size), plural(c.Count, "asset"))
			for _, x := range c.Assets {
				a.say("  %s", x.Path)
			}
			if more := c.Count - len(c.Assets); more > 0 {
				a.say("  and %s more", count(more))
			}
		}
	})
}

// are is so many of a noun, and the verb that goes with them.
func are(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return plural(n, noun) + " are"
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
