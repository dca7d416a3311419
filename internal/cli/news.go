package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
)

func (a *app) news() *cli.Command {
	return command("news", "how you hear of things by mail and on the desktop, in all your projects", "[KIND…]", "tarn news turn asked --mail at-once --desktop on",
		func(ctx context.Context, cmd *cli.Command) error {
			kinds, err := arguments(cmd, 0, -1, "news [KIND…]")
			if err != nil {
				return err
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			settings, err := c.NewsSettings(ctx)
			if err != nil {
				return err
			}
			changed, err := changeNews(cmd, &settings, kinds)
			if err != nil {
				return err
			}
			if changed {
				if settings, err = c.SetNewsSettings(ctx, settings); err != nil {
					return err
				}
			}
			return a.answer(cmd, settings, func() {
				switch {
				case !settings.MailWorks:
					a.say("This service sends no mail: whoever runs it sets a mail server.")
				case settings.Mail == "":
					a.say("No mail goes to you: tarn news --address YOU@STUDIO.EXAMPLE changes that.")
				default:
					a.say("Mail goes to %s.", settings.Mail)
				}
				t := a.table("KIND", "MAIL", "DESKTOP", "WHEN")
				for _, k := range settings.Kinds {
					desktop := "off"
					if k.Desktop {
						desktop = "on"
					}
					t.row(k.Name, k.Mail, desktop, k.About)
				}
				t.print()
			})
		},
		&cli.StringFlag{Name: "address", Usage: "your mail address; none ends all mail"},
		&cli.StringFlag{Name: "mail", Usage: "of the kinds named: at-once, daily (in one summary a day) or never"},
		&cli.StringFlag{Name: "desktop", Usage: "of the kinds named: on or off; shown where tarn watch runs"})
}

// changeNews does what the flags say, and reports whether that is anything.
func changeNews(cmd *cli.Command, s *model.NewsSettings, kinds []string) (changed bool, err error) {
	for _, name := range kinds {
		if _, known := news.Find(name); !known {
			return false, wrongUse("%q is no kind of news; tarn news lists them", name)
		}
	}
	mail, desktop := cmd.String("mail"), cmd.String("desktop")
	switch {
	case (mail != "" || desktop != "") && len(kinds) == 0:
		return false, wrongUse("say of which kinds: tarn news turn asked --mail at-once")
	case mail == "" && desktop == "" && len(kinds) > 0:
		return false, wrongUse("say what to change: --mail or --desktop")
	case mail != "" && mail != news.AtOnce && mail != news.Daily && mail != news.Never:
		return false, wrongUse("--mail is at-once, daily or never, not %q", mail)
	case desktop != "" && desktop != "on" && desktop != "off":
		return false, wrongUse("--desktop is on or off, not %q", desktop)
	}
	if cmd.IsSet("address") {
		if s.Mail, changed = strings.TrimSpace(cmd.String("address")), true; s.Mail == "none" {
			s.Mail = ""
		}
	}
	for i := range s.Kinds {
		for _, name := range kinds {
			if k := &s.Kinds[i]; k.Name == name {
				changed = true
				if mail != "" {
					k.Mail = mail
				}
				if desktop != "" {
					k.Desktop = desktop == "on"
				}
			}
		}
	}
	return changed, nil
}
