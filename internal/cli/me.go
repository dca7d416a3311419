package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
)

func (a *app) passphrase() *cli.Command {
	return command("passphrase", "change your passphrase; your sign-ins elsewhere end with it", "", "tarn passphrase",
		func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "passphrase"); err != nil {
				return err
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			old, err := prompt.Passphrase(a.in, a.errs, "The passphrase that you have", false)
			if err != nil {
				return err
			}
			fresh, err := prompt.Passphrase(a.in, a.errs, "The new one", true)
			if err != nil {
				return err
			}
			out, err := c.ChangePassphrase(ctx, old, fresh)
			if err != nil {
				return err
			}
			return a.answer(cmd, out, func() {
				a.say("Your passphrase is changed. %s elsewhere ended; this one holds.", plural(int(out.Ended), "sign-in"))
			})
		})
}

func (a *app) signInList() *cli.Command {
	list := lists(command("sign-ins list", "where you are signed in", "", "tarn sign-ins list",
		func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "sign-ins list"); err != nil {
				return err
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			out, err := c.SignIns(ctx)
			if err != nil {
				return err
			}
			return a.answer(cmd, out, func() {
				t := a.table(">", "FROM", "MADE", "LAST USED", "ENDS", "")
				for _, s := range out.SignIns {
					here, used := "", "never"
					if s.Here {
						here = "this one"
					}
					if s.Used != nil {
						used = when(*s.Used)
					}
					t.row(count(int(s.ID)), s.From, when(s.Made), used, s.Expires.Local().Format("2 Jan 2006"), here)
				}
				t.print()
			})
		}))
	end := command("sign-ins end", "end a sign-in elsewhere: by its number, or all others", "[NUMBER]", "tarn sign-ins end --others",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 1, "sign-ins end NUMBER, or sign-ins end --others")
			if err != nil {
				return err
			}
			if cmd.Bool("others") == (len(args) == 1) {
				return wrongUse("use it so: tarn sign-ins end NUMBER, or tarn sign-ins end --others")
			}
			which := "others"
			if len(args) == 1 {
				which = args[0]
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			out, err := c.EndSignIn(ctx, which)
			if err != nil {
				return err
			}
			return a.answer(cmd, out, func() { a.say("%s ended.", plural(int(out.Ended), "sign-in")) })
		}, &cli.BoolFlag{Name: "others", Usage: "all but the one that you use here"})
	return &cli.Command{Name: "sign-ins", Usage: "where you are signed in, and ending that", Commands: []*cli.Command{list, end},
		HideHelpCommand: true}
}

// told prints news, the newest first, and notes that it was read.
func (a *app) told(ctx context.Context, cmd *cli.Command) error {
	c, err := a.clientFor("")
	if err != nil {
		return err
	}
	last := int(cmd.Int("last"))
	if last < 1 {
		return wrongUse("--last is a number from 1 on")
	}
	var out model.News
	for before := int64(0); len(out.News) < last; {
		page, err := c.Latest(ctx, cmd.String("project"), before, min(last-len(out.News), 200))
		if err != nil {
			return err
		}
		out.News, out.Unread = append(out.News, page.News...), out.Unread+page.Unread
		if before = page.Next; before == 0 {
			break
		}
	}
	if out.News == nil {
		out.News = []model.NewsItem{}
	}
	if err := a.answer(cmd, out, func() {
		if len(out.News) == 0 {
			a.say("Nothing has happened yet that concerns you.")
			return
		}
		t := a.table("", "WHEN", "PROJECT", "WHAT")
		for _, n := range out.News {
			unread := ""
			if n.Unread {
				unread = "new"
			}
			t.row(unread, when(n.At), n.Project, n.Text)
		}
		t.print()
	}); err != nil || len(out.News) == 0 || out.Unread == 0 || cmd.Bool("keep-unread") || cmd.Bool("json") || cmd.Bool("csv") {
		return err
	}
	return c.ReadNews(ctx, out.News[0].ID)
}
