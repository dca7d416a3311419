package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
)

func (a *app) news() *cli.Command {
	return command("news", "what happened that concerns you, the newest first; and how you hear of it by mail and on the desktop", "[KIND…]",
		"tarn news turn asked --mail at-once --desktop on",
		func(ctx context.Context, cmd *cli.Command) error {
			kinds, err := arguments(cmd, 0, -1, "news, news --settings, or news KIND… --mail at-once")
			if err != nil {
				return err
			}
			if len(kinds) == 0 && !cmd.Bool("settings") && !cmd.IsSet("address") && !cmd.IsSet("code") && !cmd.IsSet("mail") &&
				!cmd.IsSet("desktop") {
				return a.told(ctx, cmd)
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
			if code := cmd.String("code"); code != "" {
				if settings, err = c.ConfirmMail(ctx, code); err != nil {
					return err
				}
			}
			return a.answer(cmd, settings, func() {
				switch {
				case settings.MailWanted != "":
					a.say("A letter with a code went to %s: tarn news --code CODE shows that it is yours, and mail goes there from then on.",
						settings.MailWanted)
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
		&cli.BoolFlag{Name: "settings", Usage: "show how you hear of things"},
		&cli.IntFlag{Name: "last", Value: 30, Usage: "so many things at most"},
		&cli.StringFlag{Name: "project", Usage: "only of this project"},
		&cli.BoolFlag{Name: "keep-unread", Usage: "what is new stays so"},
		&cli.StringFlag{Name: "address", Usage: "your mail address; none ends all mail"},
		&cli.StringFlag{Name: "code", Usage: "the code out of the letter that went to your address"},
		&cli.StringFlag{Name: "mail", Usage: "of the kinds named: at-once, daily (in one summary a day) or never"},
		&cli.StringFlag{Name: "desktop", Usage: "of the kinds named: on or off; shown where tarn watch runs"})
}

// changeNews does what the flags say, and reports whether that is anything.
func changeNews(cmd *cli.Command, s *model.NewsSettings, kinds []string) (changed bool, err error) {
	for _, name := range kinds {
		if _, known := news.Find(name); !known {
			return false, wrongUse("%q is no kind of news; tarn news --settings lists them", name)
		}
	}
	mail, desktop := cmd.String("mail"), cmd.String("desktop")
	switch {
	case (mail != "" || desktop != "") && len(kinds) == 0:
		return false, wrongUse("say of which kinds: tarn news turn asked --mail at-once")
	case mail == "" && desktop == "" && len(kinds) > 0:
		return false, wrongUse("say what to change: --mail or --desktop")
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
