package cli

import (
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
)

func (a *app) token() *cli.Command {
	fresh := command("token new", "make a credential for this project alone, for a machine that works by itself", "",
		"tarn token new --role viewer --expires 90d --label \"build machine\"",
		a.ofProject(0, 0, "token new --role ROLE --expires 90d", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string,
			_ []string) error {
			days, ok := daysOf(cmd.String("expires"))
			if !ok {
				return wrongUse("%q is not a length of time; it looks like 90d, 12w or 1y", cmd.String("expires"))
			}
			t, err := c.NewToken(ctx, key, model.TokenRequest{Role: cmd.String("role"), Days: days, Label: cmd.String("label")})
			if err != nil {
				return err
			}
			return a.answer(cmd, t, func() {
				a.say("%s", t.Token)
				a.note("It is shown this once. It is for %s alone, may do what %s may, and ends on %s. "+
					"A machine sets TARN_URL=%s and TARN_TOKEN to it.", key, withArticle(t.Role), t.Expires.Local().Format("2 January 2006"), c.URL())
			})
		}),
		&cli.StringFlag{Name: "role", Value: model.Viewer, Usage: "the most that it may do: viewer, artist, lead or owner"},
		&cli.StringFlag{Name: "expires", Value: "90d", Usage: "how long it holds: 90d, 12w, 1y"},
		&cli.StringFlag{Name: "label", Usage: "what it is for"}, projectFlag)
	list := command("token list", "the credentials for this project alone that still hold", "", "tarn token list",
		a.ofProject(0, 0, "token list", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string, _ []string) error {
			all, err := c.Tokens(ctx, key)
			if err != nil {
				return err
			}
			return a.answer(cmd, all, func() {
				if len(all.Tokens) == 0 {
					a.say("There are none. tarn token new makes one.")
					return
				}
				t := newTable(a.out, ">", "FOR", "BY", "MAY DO", "MADE", "ENDS")
				for _, x := range all.Tokens {
					t.row(strconv.FormatInt(x.ID, 10), x.Label, x.Person, x.Role, when(x.Made), x.Expires.Local().Format("2 Jan 2006"))
				}
				t.print()
			})
		}), projectFlag)
	end := command("token end", "make such a credential unusable from now on", "NUMBER", "tarn token end 3",
		a.ofProject(1, 1, "token end NUMBER", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return wrongUse("%q is not a number; tarn token list shows them", args[0])
			}
			if err := c.EndToken(ctx, key, id); err != nil {
				return err
			}
			return a.answer(cmd, map[string]int64{"ended": id}, func() { a.say("It can't be used any more.") })
		}), projectFlag)
	return &cli.Command{Name: "token", Usage: "credentials for machines: new, list, end", Commands: []*cli.Command{fresh, lists(list), end},
		HideHelpCommand: true, Action: needsSub}
}

// ofProject makes the action of a command about a project that no workspace is needed for.
func (a *app) ofProject(least, most int, usage string, do func(ctx context.Context, cmd *cli.Command, c *client.Client, key string,
	args []string) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		args, err := arguments(cmd, least, most, usage)
		if err != nil {
			return err
		}
		key, err := a.projectOf(cmd)
		if err != nil {
			return err
		}
		c, err := a.clientFor(a.serviceOf(cmd))
		if err != nil {
			return err
		}
		return do(ctx, cmd, c, key, args)
	}
}

func withArticle(role string) string {
	if strings.ContainsAny(role[:1], "ao") {
		return "an " + role
	}
	return "a " + role
}

// daysOf reads a length of time in whole days.
func daysOf(text string) (int, bool) {
	units := map[string]int{"d": 1, "w": 7, "y": 365}
	for unit, days := range units {
		if n, err := strconv.Atoi(strings.TrimSuffix(text, unit)); strings.HasSuffix(text, unit) && err == nil && n > 0 && n*days < 100*366 {
			return n * days, true
		}
	}
	if end, err := time.ParseInLocation("2006-01-02", text, time.Local); err == nil && end.After(time.Now()) {
		return int(time.Until(end).Hours()/24) + 1, true
	}
	return 0, false
}
