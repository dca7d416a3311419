package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/signins"
	"kettletarn/internal/workspace"
)

func (a *app) invite() *cli.Command {
	add := command("invite add", "make a link by which people join the project", "", "tarn invite add --role artist --uses 3",
		a.ofProject(0, 0, "invite add --role ROLE", a.addInvitation),
		&cli.StringFlag{Name: "role", Value: model.Artist, Usage: "what they become: viewer, artist or lead"},
		&cli.StringFlag{Name: "mail", Usage: "send it to this address"},
		&cli.IntFlag{Name: "uses", Value: 1, Usage: "how many people it lets in"},
		&cli.StringFlag{Name: "expires", Value: "7d", Usage: "how long it holds: 7d, 4w, or a day"}, anywhereFlag())
	list := command("invite list", "the invitations, the newest first", "", "tarn invite list",
		a.ofProject(0, 0, "invite list", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string, _ []string) error {
			all, err := c.Invitations(ctx, key)
			if err != nil {
				return err
			}
			return a.answer(cmd, all, func() { a.printInvitations(all.Invitations) })
		}), anywhereFlag())
	end := command("invite end", "let nobody in by an invitation any more", "NUMBER", "tarn invite end 3",
		a.ofProject(1, 1, "invite end NUMBER", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string, args []string) error {
			number, err := strconv.Atoi(args[0])
			if err != nil {
				return wrongUse("%q is not a number; tarn invite list shows them", args[0])
			}
			if err := c.EndInvitation(ctx, key, number); err != nil {
				return err
			}
			return a.answer(cmd, map[string]int{"ended": number}, func() { a.say("Nobody joins by it any more. Who has joined stays.") })
		}), anywhereFlag())
	return &cli.Command{Name: "invite", Usage: "letting people in by a link: add, list, end", Commands: []*cli.Command{add, lists(list), end},
		HideHelpCommand: true, Action: needsSub}
}

func (a *app) addInvitation(ctx context.Context, cmd *cli.Command, c *client.Client, key string, _ []string) error {
	days, ok := daysOf(cmd.String("expires"))
	if !ok {
		return wrongUse("%q is not a length of time; it looks like 7d, 4w or 1y", cmd.String("expires"))
	}
	out, err := c.AddInvitation(ctx, key, model.InvitationRequest{Role: cmd.String("role"), Mail: cmd.String("mail"),
		Uses: int(cmd.Int("uses")),
		Days: days})
	if err != nil {
		return err
	}
	out.Address = c.URL() + out.Address
	return a.answer(cmd, out, func() {
		a.say("%s", out.Address)
		people := "one person"
		if out.Uses > 1 {
			people = plural(out.Uses, "person", "people")
		}
		a.note("It is shown this once. It lets %s in as %s, until %s. tarn invite end %d ends it before.", people, out.Role,
			out.Until.Local().Format("2 January 2006"), out.Number)
		switch {
		case out.Sent:
			a.note("It was sent to %s.", out.Mail)
		case out.Mail != "":
			a.note("It could not be sent to %s: pass it on yourself.", out.Mail)
		}
	})
}

func (a *app) printInvitations(list []model.Invitation) {
	if len(list) == 0 {
		a.say("There are none. tarn invite add makes one.")
		return
	}
	t := a.table(">", "AS", "BY", "TO", "UNTIL", "JOINED")
	for _, i := range list {
		until := i.Until.Local().Format("2 Jan 2006")
		switch {
		case i.Ended != nil:
			until = "ended by " + i.EndedBy
		case !i.Holds && len(i.Joined) >= i.Uses:
			until = "used"
		case !i.Holds:
			until = "lets nobody in"
		}
		t.row(strconv.Itoa(i.Number), i.Role, i.By, i.Mail, until, fmt.Sprintf("%d of %d  %s", len(i.Joined), i.Uses, strings.Join(i.Joined,
			", ")))
	}
	t.print()
}

// joinByLink takes an invitation: as whoever is signed in to its service, or as somebody new.
func (a *app) joinByLink(ctx context.Context, cmd *cli.Command, address, secret string) error {
	if !client.Safe(address) && !cmd.Bool("plain-http") {
		return signins.Unsafe(address)
	}
	c := a.newClient(address, "")
	if _, err := c.Service(ctx); err != nil {
		return err
	}
	offer, err := c.Invited(ctx, secret)
	if err != nil {
		return err
	}
	kept, err := signins.Read()
	if err != nil {
		return err
	}
	if was, ok := kept.Services[address]; ok && (cmd.String("as") == "" || cmd.String("as") == was.Handle) {
		if out, err := a.newClient(address, was.Token).JoinInvited(ctx, secret); err == nil {
			return a.joinedByLink(cmd, address, was.Handle, out)
		} else if problem := (*model.Problem)(nil); !errors.As(err, &problem) || problem.Type != model.NotSignedIn &&
			problem.Type != model.SignInExpired {
			return err
		}
	}
	if offer.Over != "" {
		return model.NewProblem(model.InvitationOver, "ask "+offer.By+" for another one", "this invitation to %s lets nobody in any more",
			offer.Project)
	}
	a.note("%s invites you to %s, as %s. Choose a handle, by which others know you, and a passphrase.", offer.By, offer.Project, offer.Role)
	handle := cmd.String("as")
	if handle == "" {
		fmt.Fprint(a.errs, "Handle: ")
		if handle, err = prompt.Line(a.in); err != nil {
			return err
		}
	}
	passphrase, err := prompt.Passphrase(a.in, a.errs, "Passphrase", true)
	if err != nil {
		return err
	}
	out, err := c.JoinAsNew(ctx, model.InvitedJoin{Secret: secret, Handle: handle, Passphrase: passphrase,
		From: "tarn on " + workspace.Machine()})
	if err != nil {
		return err
	}
	kept.Current = address
	kept.Services[address] = signins.SignIn{Handle: handle, Token: out.SignIn.Token, Plain: !client.Safe(address)}
	if err := kept.Write(); err != nil {
		return err
	}
	return a.joinedByLink(cmd, address, handle, out)
}

func (a *app) joinedByLink(cmd *cli.Command, address, handle string, out model.Joined) error {
	return a.answer(cmd, map[string]string{"handle": handle, "service": address, "project": out.Project, "role": out.Role}, func() {
		a.say("You are %s in %s now, as %s. tarn join %s brings it down.", out.Role, out.Project, handle, out.Project)
	})
}
