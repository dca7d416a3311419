package cli

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
)

func (a *app) deeds() *cli.Command {
	return lists(command("record", "everything that was done: people, roles, rules, locks, handoffs, limits, deletions", "",
		"tarn record --about people --since 2w", func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "record"); err != nil {
				return err
			}
			last := int(cmd.Int("last"))
			if last < 1 {
				return wrongUse("--last is a number from 1 on")
			}
			c, key, err := a.projectOrService(cmd)
			if err != nil {
				return err
			}
			query := url.Values{"person": {cmd.String("person")}, "about": {cmd.String("about")}, "path": {cmd.String("path")}}
			for _, name := range []string{"since", "until"} {
				if v := cmd.String(name); v != "" {
					at, err := past("--"+name, v, time.Now(), name == "until")
					if err != nil {
						return err
					}
					query.Set(name, at.UTC().Format(time.RFC3339))
				}
			}
			all := model.Deeds{Record: []model.Deed{}}
			for len(all.Record) < last {
				query.Set("limit", strconv.Itoa(min(last-len(all.Record), 5000)))
				page, err := c.Deeds(ctx, key, query)
				if err != nil {
					return err
				}
				all.Record = append(all.Record, page.Record...)
				if all.Next = page.Next; page.Next == 0 {
					break
				}
				query.Set("before", strconv.FormatInt(page.Next, 10))
			}
			return a.answer(cmd, all, func() {
				t := a.table("WHEN", "PROJECT", "WHAT")
				if key != "" {
					t = a.table("WHEN", "WHAT")
				}
				for _, d := range all.Record {
					if key != "" {
						t.row(when(d.At), d.Text)
					} else {
						t.row(when(d.At), d.Project, d.Text)
					}
				}
				t.print()
				if all.Next != 0 {
					a.say("There is more: --last %d shows more of it.", last*4)
				}
			})
		},
		&cli.StringFlag{Name: "person", Usage: "only what this person did, or what was done to them"},
		&cli.StringFlag{Name: "about", Usage: "only what is about one of: " + strings.Join(news.SubjectWords(), ", ")},
		&cli.StringFlag{Name: "path", Usage: "only what is about this asset, or something in this folder"},
		&cli.StringFlag{Name: "since", Usage: "only from this time on (2h, yesterday, 16:30, 2026-03-02)"},
		&cli.StringFlag{Name: "until", Usage: "only up to this time"},
		&cli.IntFlag{Name: "last", Value: 50, Usage: "so many entries at most"},
		&cli.BoolFlag{Name: "service", Usage: "that of the whole service; for stewards"}, anywhereFlag()))
}
