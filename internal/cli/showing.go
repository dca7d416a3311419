package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
)

func (a *app) showing() *cli.Command {
	add := command("showing add", "make a link by which somebody outside looks at a version, a state, or two versions beside each other",
		"WHAT [WHAT]", "tarn showing add first-light --for \"Harbour Press\" --until 14d",
		a.ofProject(1, 2, "showing add PATH@v3, showing add PATH@v2 PATH@v3, or showing add MILESTONE", a.addShowing),
		&cli.StringFlag{Name: "for", Usage: "for whom it is"},
		&cli.StringFlag{Name: "until", Value: "14d", Usage: "how long it leads anywhere: 14d, 4w, 1y, or a day"},
		&cli.BoolFlag{Name: "with-files", Usage: "let them take the files along; without it they look"}, anywhereFlag())
	list := command("showing list", "the links for people outside, the newest first", "", "tarn showing list",
		a.ofProject(0, 0, "showing list", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string, _ []string) error {
			all, err := c.Showings(ctx, key)
			if err != nil {
				return err
			}
			return a.answer(cmd, all, func() { a.printShowings(all) })
		}), anywhereFlag())
	end := command("showing end", "make such a link lead nowhere from now on", "NUMBER", "tarn showing end 3",
		a.ofProject(1, 1, "showing end NUMBER", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string, args []string) error {
			number, err := strconv.Atoi(args[0])
			if err != nil {
				return wrongUse("%q is not a number; tarn showing list shows them", args[0])
			}
			if err := c.EndShowing(ctx, key, number); err != nil {
				return err
			}
			return a.answer(cmd, map[string]int{"ended": number}, func() { a.say("The link leads nowhere any more.") })
		}), anywhereFlag())
	off := command("showing off", "let no link for people outside lead anywhere, which only leads may", "", "tarn showing off",
		a.switchShowings(true, "Nothing of %s is shown outside any more, until tarn showing on."), anywhereFlag())
	on := command("showing on", "let them lead where they led again, those that were not ended", "", "tarn showing on",
		a.switchShowings(false, "What was not ended is shown outside again, and %s may have new links."), anywhereFlag())
	return &cli.Command{Name: "showing", Usage: "links for people outside, who look without an account: add, list, end, off, on",
		Commands: []*cli.Command{add, lists(list), end, off, on}, HideHelpCommand: true, Action: needsSub}
}

func (a *app) switchShowings(off bool, said string) cli.ActionFunc {
	return a.ofProject(0, 0, "showing off, showing on", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string,
		_ []string) error {
		out, err := c.SwitchShowings(ctx, key, off)
		if err != nil {
			return err
		}
		return a.answer(cmd, out, func() { a.say(said, key) })
	})
}

func (a *app) addShowing(ctx context.Context, cmd *cli.Command, c *client.Client, key string, args []string) error {
	days, ok := daysOf(cmd.String("until"))
	if !ok {
		return wrongUse("%q is not a length of time; it looks like 14d, 4w or 1y", cmd.String("until"))
	}
	if cmd.String("for") == "" {
		return wrongUse("say for whom it is, with --for")
	}
	q := model.ShowingRequest{For: cmd.String("for"), Days: days, Files: cmd.Bool("with-files")}
	path, version, isVersion := versionOf(args[0])
	switch {
	case !isVersion && len(args) == 2:
		return wrongUse("name two versions (textures/rust.png@v2 textures/rust.png@v3), or one state")
	case !isVersion:
		at, err := a.stateOf(args[0])
		if err != nil {
			return err
		}
		q.At = at
	default:
		paths := []string{path}
		if len(args) == 2 {
			with, later, ok := versionOf(args[1])
			if !ok {
				return wrongUse("name two versions (textures/rust.png@v2 textures/rust.png@v3), or one state")
			}
			paths, q.Compare, q.WithVersion = append(paths, with), true, later
		}
		if cmd.String("project") == "" { // paths are those from where one stands
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			if paths, err = a.paths(w, paths); err != nil {
				return err
			}
		}
		if q.Path, q.Version = paths[0], version; q.Compare {
			q.With = paths[1]
		}
	}
	out, err := c.AddShowing(ctx, key, q)
	if err != nil {
		return err
	}
	out.Address = c.URL() + out.Address
	return a.answer(cmd, out, func() {
		a.say("%s", out.Address)
		a.note("It is shown this once. Whoever has it sees %s, and nothing else, until %s. tarn showing end %d ends it before.",
			shownBy(out.Shown), out.Until.Local().Format("2 January 2006"), out.Number)
	})
}

// shownBy is what a showing shows, as commands name it.
func shownBy(s model.Shown) string {
	switch {
	case s.Path == "" && s.State != fmt.Sprintf("h%d", s.Handoff):
		return fmt.Sprintf("%s (h%d)", s.State, s.Handoff)
	case s.Path == "":
		return s.State
	case s.With == "":
		return fmt.Sprintf("%s@v%d", s.Path, s.Version)
	}
	return fmt.Sprintf("%s@v%d beside %s@v%d", s.Path, s.Version, s.With, s.WithVersion)
}

func (a *app) printShowings(all model.Showings) {
	if all.Off {
		a.say("A lead switched them off: none of them leads anywhere.")
	}
	if len(all.Showings) == 0 {
		a.say("There are none. tarn showing add makes one.")
		return
	}
	t := a.table(">", "SHOWS", "TO", "BY", "UNTIL", ">OPENED", "LAST")
	for _, s := range all.Showings {
		until := s.Until.Local().Format("2 Jan 2006")
		switch {
		case s.Ended != nil:
			until = "ended by " + s.EndedBy
		case !s.Holds:
			until = "leads nowhere"
		}
		last := ""
		if s.OpenedLast != nil {
			last = when(*s.OpenedLast)
		}
		t.row(strconv.Itoa(s.Number), shownBy(s.Shown), s.For, s.By, until, strconv.Itoa(s.Opened), last)
	}
	t.print()
}
