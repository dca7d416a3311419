package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/workspace"
)

func (a *app) project() *cli.Command {
	list := command("project list", "your projects", "", "tarn project list", func(ctx context.Context, cmd *cli.Command) error {
		c, err := a.clientFor("")
		if err != nil {
			return err
		}
		all, err := c.Projects(ctx)
		if err != nil {
			return err
		}
		return a.answer(cmd, all, func() {
			if len(all.Projects)+len(all.Deleted) == 0 {
				a.say("No projects yet. tarn start KEY makes one of the folder you stand in.")
				return
			}
			t := newTable(a.out, "PROJECT", "YOU ARE", ">ASSETS", ">SIZE", ">HANDOFFS", ">LOCKED", "LATEST")
			var archived []string
			for _, p := range all.Projects {
				if p.Archived != nil && !cmd.Bool("archived") {
					archived = append(archived, p.Key)
					continue
				}
				t.row(p.Key, p.Role, count(p.Assets), size(p.Size), count(p.Handoffs), count(p.Locks), whenPtr(p.Latest))
			}
			if len(archived) < len(all.Projects) {
				t.print()
			}
			if len(archived) > 0 {
				a.say("Archived, and only looked at (--archived lists them): %s", strings.Join(archived, ", "))
			}
			for _, d := range all.Deleted {
				a.say("%s was deleted by %s. It goes for good on %s; tarn project restore %s brings it back.", d.Key, d.By,
					d.Goes.Local().Format("2 January 2006"), d.Key)
			}
		})
	})
	list.Flags = append(list.Flags, &cli.BoolFlag{Name: "archived", Usage: "with those that are archived"})
	show := command("project show", "one project and its people", "KEY", "tarn project show brinelight",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 1, "project show KEY")
			if err != nil {
				return err
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			p, err := c.Project(ctx, args[0])
			if err != nil {
				return err
			}
			members, err := c.Members(ctx, args[0])
			if err != nil {
				return err
			}
			v := struct {
				model.Project
				People []model.Member `json:"people"`
			}{p, members.Members}
			return a.answer(cmd, v, func() {
				a.say("%s: %s, %s, %s, %s locked; latest %s", p.Key, plural(p.Assets, "asset"), size(p.Size), plural(p.Handoffs, "handoff"),
					count(p.Locks), whenPtr(p.Latest))
				a.say("%s", storage(p))
				a.printMembers(members.Members)
			})
		})
	limit := command("project limit", "set the most that a project may take at the service, none for no limit; for stewards", "KEY SIZE",
		"tarn project limit brinelight 500GB", func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2, 2, "project limit KEY SIZE")
			if err != nil {
				return err
			}
			n := uint64(0)
			if args[1] != "none" {
				if n, err = humanize.ParseBytes(args[1]); err != nil || n == 0 || n > 1<<60 {
					return wrongUse("%q is not a size; it looks like 500GB, or none", args[1])
				}
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			p, err := c.SetLimit(ctx, args[0], int64(n))
			if err != nil {
				return err
			}
			return a.answer(cmd, p, func() { a.say("%s", storage(p)) })
		})
	archive := command("project archive", "make a project one that is only looked at, out of the way; for owners", "KEY",
		"tarn project archive lantern", a.ofKey("project archive KEY", func(ctx context.Context, cmd *cli.Command, c *client.Client,
			key string) error {
			p, err := c.Archive(ctx, key, !cmd.Bool("back"))
			if err != nil {
				return err
			}
			return a.answer(cmd, p, func() {
				if p.Archived != nil {
					a.say("%s is archived: it is only looked at. tarn project archive %s --back brings it back.", key, key)
				} else {
					a.say("%s is back: work goes on.", key)
				}
			})
		}), &cli.BoolFlag{Name: "back", Usage: "bring it back"})
	remove := command("project delete", "delete a project, which can be brought back for some days; for owners", "KEY",
		"tarn project delete lantern", a.ofKey("project delete KEY", a.deleteProject),
		&cli.StringFlag{Name: "typed", Usage: "the key once more, in place of being asked for it"})
	restore := command("project restore", "bring a deleted project back", "KEY", "tarn project restore lantern",
		a.ofKey("project restore KEY", func(ctx context.Context, cmd *cli.Command, c *client.Client, key string) error {
			p, err := c.RestoreProject(ctx, key)
			if err != nil {
				return err
			}
			return a.answer(cmd, p, func() { a.say("%s is back, as it was.", key) })
		}))
	return &cli.Command{Name: "project", Usage: "projects: list, show, limit, archive, download, delete, restore",
		Commands: []*cli.Command{lists(list), show, limit, archive, a.download(), remove, restore}, HideHelpCommand: true, Action: needsSub}
}

// ofKey is a command about the project whose key it is given.
func (a *app) ofKey(usage string, do func(ctx context.Context, cmd *cli.Command, c *client.Client, key string) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		args, err := arguments(cmd, 1, 1, usage)
		if err != nil {
			return err
		}
		c, err := a.clientFor("")
		if err != nil {
			return err
		}
		return do(ctx, cmd, c, args[0])
	}
}

func (a *app) deleteProject(ctx context.Context, cmd *cli.Command, c *client.Client, key string) error {
	p, err := c.Project(ctx, key)
	if err != nil {
		return err
	}
	typed := cmd.String("typed")
	if typed == "" {
		a.note("%s has %s with %s, and %s; everybody in it is told. Type its key to delete it:", key, plural(p.Assets, "asset"),
			plural(p.Handoffs, "handoff"), plural(p.Members, "person", "people"))
		if typed, err = prompt.Line(a.in); err != nil {
			return err
		}
	}
	out, err := c.DeleteProject(ctx, key, strings.TrimSpace(typed))
	if err != nil {
		return err
	}
	return a.answer(cmd, out, func() {
		a.say("%s is deleted. It goes for good on %s; until then tarn project restore %s brings it back. Folders on people's machines stay.", key,
			out.Goes.Local().Format("2 January 2006"), key)
	})
}

// storage says what a project takes.
func storage(p model.Project) string {
	if p.Limit > 0 {
		return fmt.Sprintf("%s takes %s at the service, of at most %s", p.Key, size(p.Stored), size(p.Limit))
	}
	return fmt.Sprintf("%s takes %s at the service; no limit is set", p.Key, size(p.Stored))
}

func needsSub(_ context.Context, cmd *cli.Command) error {
	if cmd.Args().Present() {
		return wrongUse("there is no command %q here; tarn %s --help lists them", cmd.Args().First(), cmd.Name)
	}
	return cli.ShowSubcommandHelp(cmd)
}

func (a *app) printMembers(list []model.Member) {
	t := newTable(a.out, "PERSON", "ROLE")
	for _, m := range list {
		t.row(m.Handle, m.Role)
	}
	t.print()
}

// projectFlag names a project outside a workspace.
var projectFlag = &cli.StringFlag{Name: "project", Usage: "key of the project, outside a workspace"}

// projectOf is the project that a command is about: the named one, or that of the workspace.
func (a *app) projectOf(cmd *cli.Command) (string, error) {
	if key := cmd.String("project"); key != "" {
		return key, nil
	}
	root, err := workspace.Find(a.dir)
	if err != nil {
		return "", err
	}
	if root == "" {
		return "", wrongUse("name the project with --project KEY, or go to a workspace of it")
	}
	m, err := workspace.ReadMarker(root)
	return m.Project, err
}

// serviceOf is the address that goes with projectOf.
func (a *app) serviceOf(cmd *cli.Command) string {
	if cmd.String("project") != "" {
		return ""
	}
	root, err := workspace.Find(a.dir)
	if err != nil || root == "" {
		return ""
	}
	m, _ := workspace.ReadMarker(root)
	return m.Service
}

func (a *app) member() *cli.Command {
	with := func(least int, usage string, do func(ctx context.Context, cmd *cli.Command, key string, args []string) error) cli.ActionFunc {
		return func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, least, least, usage)
			if err != nil {
				return err
			}
			key, err := a.projectOf(cmd)
			if err != nil {
				return err
			}
			return do(ctx, cmd, key, args)
		}
	}
	list := command("member list", "the people of the project", "", "tarn member list",
		with(0, "member list", func(ctx context.Context, cmd *cli.Command, key string, _ []string) error {
			c, err := a.clientFor(a.serviceOf(cmd))
			if err != nil {
				return err
			}
			members, err := c.Members(ctx, key)
			if err != nil {
				return err
			}
			return a.answer(cmd, members, func() { a.printMembers(members.Members) })
		}), projectFlag)
	add := command("member add", "add a person, or change their role", "HANDLE", "tarn member add rurik --role artist",
		with(1, "member add HANDLE --role ROLE", func(ctx context.Context, cmd *cli.Command, key string, args []string) error {
			c, err := a.clientFor(a.serviceOf(cmd))
			if err != nil {
				return err
			}
			m, err := c.SetMember(ctx, key, args[0], cmd.String("role"))
			if err != nil {
				return err
			}
			return a.answer(cmd, m, func() { a.say("%s is %s in %s.", m.Handle, m.Role, key) })
		}), projectFlag, &cli.StringFlag{Name: "role", Value: model.Artist, Usage: "viewer, artist, lead or owner"})
	remove := command("member remove", "take a person out; their locks are given back", "HANDLE", "tarn member remove rurik --preview",
		with(1, "member remove HANDLE", func(ctx context.Context, cmd *cli.Command, key string, args []string) error {
			return a.leave(ctx, cmd, key, args[0])
		}), projectFlag, &cli.BoolFlag{Name: "preview", Usage: "say what that would touch, and do nothing"})
	leave := command("member leave", "leave a project yourself; your locks are given back", "", "tarn member leave --preview",
		with(0, "member leave", func(ctx context.Context, cmd *cli.Command, key string, _ []string) error {
			return a.leave(ctx, cmd, key, "")
		}), projectFlag, &cli.BoolFlag{Name: "preview", Usage: "say what that would touch, and do nothing"})
	return &cli.Command{Name: "member", Usage: "the people of a project: list, add, remove, leave",
		Commands: []*cli.Command{lists(list), add, remove, leave}, HideHelpCommand: true, Action: needsSub}
}

// leave takes somebody out of a project, "" for oneself, and says what that touches.
func (a *app) leave(ctx context.Context, cmd *cli.Command, key, handle string) error {
	c, err := a.clientFor(a.serviceOf(cmd))
	if err != nil {
		return err
	}
	l, err := c.Leaving(ctx, key, handle)
	if err != nil {
		return err
	}
	if !cmd.Bool("preview") {
		if handle == "" {
			err = c.Leave(ctx, key)
		} else {
			err = c.RemoveMember(ctx, key, handle)
		}
		if err != nil {
			return err
		}
	}
	return a.answer(cmd, l, func() {
		will, is := "would leave", "would be given back"
		if !cmd.Bool("preview") {
			will, is = "is no longer in", "is given back"
		}
		a.say("%s %s %s. What they did stays under their name.", l.Handle, will, key)
		if l.Only && cmd.Bool("preview") {
			a.say("They are its only owner: make somebody else an owner first.")
		}
		if len(l.Locks) > 0 {
			a.say("What they hold %s (%s):", is, count(len(l.Locks)))
			few(a.out, l.Locks, func(p string) string { return p })
		}
		for _, x := range []struct {
			n         int
			one, many string
		}{{l.Waiting, "place in line ends", "places in line end"}, {l.Tokens, "token ends", "tokens end"},
			{l.Showings, "link for people outside ends", "links for people outside end"},
			{l.Invitations, "invitation of theirs ends", "invitations of theirs end"}} {
			if x.n > 0 {
				a.say("%s with that.", plural(x.n, x.one, x.many))
			}
		}
		if len(l.Unsent) > 0 {
			a.say("They have changes that were not sent, and that stay on their disk (%s):", count(len(l.Unsent)))
			few(a.out, l.Unsent, func(p string) string { return p })
		}
	})
}
