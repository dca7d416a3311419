package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
)

func (a *app) usage() *cli.Command {
	return lists(command("usage", "what the project takes, what that is of, when it will be full, what it costs", "", "tarn usage --days 90",
		func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "usage"); err != nil {
				return err
			}
			c, key, err := a.projectOrService(cmd)
			if err != nil {
				return err
			}
			u, err := c.Usage(ctx, key, int(cmd.Int("days")))
			if err != nil {
				return err
			}
			return a.answer(cmd, u, func() { a.printUsage(u) })
		},
		&cli.IntFlag{Name: "days", Value: 14, Usage: "over so many days"},
		&cli.BoolFlag{Name: "service", Usage: "of all projects together; for stewards"}, anywhereFlag()))
}

func (a *app) printUsage(u model.Usage) {
	of := ""
	if u.Limit > 0 {
		of = fmt.Sprintf(", of at most %s", size(u.Limit))
	}
	a.say("It takes %s at the service%s.", size(u.Stored), of)
	for _, f := range u.Forecasts {
		a.say("%s", f.Says)
	}
	if c := u.Cost; c != nil {
		a.say("These days cost %.2f %s, and the next 30 will cost about %.2f.", c.Past, c.Currency, c.Expected)
	}
	if len(u.Days) > 0 {
		a.say("")
		t := a.table("DAY", ">STORED", ">NEWEST FILES", ">THOSE BEFORE", ">ASSETS", ">BROUGHT", ">FETCHED")
		for _, d := range u.Days {
			t.row(d.Day, size(d.Stored), size(d.Present), size(d.Past), count(d.Assets), size(d.Brought), size(d.Fetched))
		}
		t.print()
	}
	for _, part := range []string{"folder", "kind", "person", "branch"} {
		t, n := a.table(strings.ToUpper(part), ">NEWEST FILES", ">THOSE BEFORE"), 0
		for _, p := range u.Parts {
			if p.Part != part {
				continue
			}
			if n++; n <= 12 {
				t.row(p.Name, size(p.Present), size(p.Past))
			}
		}
		if n > 1 {
			a.say("")
			t.print()
		}
		if n > 12 {
			a.say("  … and %d more: --json has all", n-12)
		}
	}
}

// projectOrService is the client for the project that a command is about, and its key; "" with --service, for all of the service.
func (a *app) projectOrService(cmd *cli.Command) (c *client.Client, key string, err error) {
	address := ""
	if !cmd.Bool("service") {
		if key, err = a.projectOf(cmd); err != nil {
			return nil, "", err
		}
		address = a.serviceOf(cmd)
	}
	c, err = a.clientFor(address)
	return c, key, err
}
