package daemon

import (
	"context"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/people"
)

// persons are the commands about those who can sign in.
func persons() *cli.Command {
	return &cli.Command{Name: "person", Usage: "the people who can sign in", Commands: []*cli.Command{
		{Name: "add", Usage: "make a person; reads a passphrase, prints a token once", ArgsUsage: "HANDLE",
			UsageText: "tarnd person add HANDLE [--steward]\n\nExample: tarnd person add tamsin",
			Flags:     []cli.Flag{&cli.BoolFlag{Name: "steward", Usage: "may run the whole service"}, asJSON()}, Action: addPerson},
		{Name: "list", Usage: "everybody, and when they were last heard of", UsageText: "tarnd person list\n\nExample: tarnd person list",
			Flags: []cli.Flag{asJSON()}, Action: listPeople},
		{Name: "end", Usage: "let somebody go: sign-ins and tokens end at once, locks are given back; what they did stays under their name",
			ArgsUsage: "HANDLE",
			UsageText: "tarnd person end HANDLE\n\nExample: tarnd person end rurik", Flags: []cli.Flag{asJSON()}, Action: endPerson},
		{Name: "passphrase", Usage: "give a person another passphrase, for one who forgot theirs or comes back; all their sign-ins end",
			ArgsUsage: "HANDLE",
			UsageText: "tarnd person passphrase HANDLE\n\nExample: tarnd person passphrase rurik", Flags: []cli.Flag{asJSON()},
			Action: resetPassphrase},
		{Name: "link", Usage: "print a link by which somebody chooses another passphrase in a browser; good once, for three days",
			ArgsUsage: "HANDLE",
			UsageText: "tarnd person link HANDLE\n\nExample: tarnd person link rurik", Flags: []cli.Flag{asJSON()}, Action: linkFor},
		{Name: "steward", Usage: "make somebody a steward, who runs the whole service, or take that back", ArgsUsage: "HANDLE",
			UsageText: "tarnd person steward HANDLE [--off]\n\nExample: tarnd person steward odile",
			Flags:     []cli.Flag{&cli.BoolFlag{Name: "off", Usage: "take it back"}, asJSON()}, Action: setSteward},
	}, Action: func(_ context.Context, cmd *cli.Command) error {
		if cmd.Args().Present() {
			return wrong("tarnd person has no command %q; tarnd person --help lists them", cmd.Args().First())
		}
		return cli.ShowSubcommandHelp(cmd)
	}}
}

// withPeople opens the service for one of them, with the one handle that it takes where it takes one.
func withPeople(ctx context.Context, cmd *cli.Command, named bool,
	do func(svc *service.Service, handle string) (any, error), say func(io.Writer)) error {
	switch {
	case named && (cmd.Args().Len() != 1 || strings.TrimSpace(cmd.Args().First()) == ""):
		return wrong("name one handle: tarnd person %s HANDLE", cmd.Name)
	case !named && cmd.Args().Present():
		return wrong("tarnd person %s takes no arguments", cmd.Name)
	}
	return opened(ctx, cmd, func(_ settings, _ *records.DB, svc *service.Service) (any, error) {
		return do(svc, cmd.Args().First())
	}, say)
}

func addPerson(ctx context.Context, cmd *cli.Command) error {
	token, handle := "", ""
	return withPeople(ctx, cmd, true, func(svc *service.Service, name string) (any, error) {
		handle = name
		passphrase, err := prompt.Passphrase(cmd.Root().Reader, cmd.Root().ErrWriter, "Passphrase for "+handle, true)
		if err != nil {
			return nil, err
		}
		token, err = svc.AddPerson(ctx, handle, passphrase, cmd.Bool("steward"))
		return map[string]any{"handle": handle, "steward": cmd.Bool("steward"), "token": token}, err
	}, func(out io.Writer) {
		fmt.Fprintf(out, "%s can sign in now. A token for scripts, shown this once:\n%s\n", handle, token)
	})
}

func listPeople(ctx context.Context, cmd *cli.Command) error {
	var list []model.PersonRow
	return withPeople(ctx, cmd, false, func(svc *service.Service, _ string) (any, error) {
		var err error
		list, err = svc.People(ctx)
		return map[string]any{"people": append([]model.PersonRow{}, list...)}, err
	}, func(out io.Writer) {
		t := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(t, "HANDLE\tPROJECTS\tSIGN-INS\tLAST HEARD OF\t")
		day := func(at *time.Time) string {
			if at == nil {
				return "never"
			}
			return at.Local().Format("2 Jan 2006 15:04")
		}
		for _, p := range list {
			state := ""
			switch {
			case p.Ended != nil:
				state = "let go " + day(p.Ended)
			case !p.MaySignIn:
				state = "has no passphrase"
			case p.Steward:
				state = "steward"
			}
			fmt.Fprintf(t, "%s\t%d\t%d\t%s\t%s\n", p.Handle, p.Projects, p.SignIns, day(p.Seen), state)
		}
		_ = t.Flush()
	})
}

func endPerson(ctx context.Context, cmd *cli.Command) error {
	var out people.PersonEnded
	return withPeople(ctx, cmd, true, func(svc *service.Service, handle string) (any, error) {
		var err error
		out, err = svc.EndPerson(ctx, handle)
		return out, err
	}, func(w io.Writer) {
		fmt.Fprintf(w, "%s can't sign in any more: %d sign-ins and tokens ended, %d locks were given back.\n", out.Handle, out.Ended, out.Locks)
		if len(out.Projects) > 0 {
			fmt.Fprintf(w, "They left %s.\n", strings.Join(out.Projects, ", "))
		}
		if len(out.Owns) > 0 {
			fmt.Fprintf(w, "They are the only owner of %s still: make somebody else an owner there (tarn member add HANDLE --role owner, as a "+
				"steward).\n", strings.Join(out.Owns, ", "))
		}
	})
}

func resetPassphrase(ctx context.Context, cmd *cli.Command) error {
	who := ""
	return withPeople(ctx, cmd, true, func(svc *service.Service, handle string) (any, error) {
		who = handle
		passphrase, err := prompt.Passphrase(cmd.Root().Reader, cmd.Root().ErrWriter, "New passphrase for "+handle, true)
		if err != nil {
			return nil, err
		}
		return map[string]any{"handle": handle}, svc.ResetPassphrase(ctx, handle, passphrase)
	}, func(w io.Writer) { fmt.Fprintf(w, "%s has the new passphrase. All their sign-ins ended.\n", who) })
}

// operator is who runs these commands: nobody at the service, and may do everything.
var operator = ground.Actor{Steward: true}

func linkFor(ctx context.Context, cmd *cli.Command) error {
	var out model.WayIn
	s, err := read(cmd)
	if err != nil {
		return err
	}
	return withPeople(ctx, cmd, true, func(svc *service.Service, handle string) (any, error) {
		out, err = svc.WayIn(ctx, operator, handle)
		if out.Address != "" {
			out.Address = strings.TrimRight(s.Address, "/") + out.Address
		}
		return out, err
	}, func(w io.Writer) {
		fmt.Fprintf(w, "%s\nIt is good once, until %s. Pass it on to %s alone.\n", out.Address, out.Until.Local().Format("2 January 2006, 15:04"),
			out.Handle)
		if s.Address == "" {
			fmt.Fprintln(w, "Put the address of the console before it: --address says it.")
		}
	})
}

func setSteward(ctx context.Context, cmd *cli.Command) error {
	who, is := "", !cmd.Bool("off")
	return withPeople(ctx, cmd, true, func(svc *service.Service, handle string) (any, error) {
		who = handle
		return map[string]any{"handle": handle, "steward": is}, svc.SetSteward(ctx, operator, handle, is)
	}, func(w io.Writer) {
		if is {
			fmt.Fprintf(w, "%s is a steward now.\n", who)
		} else {
			fmt.Fprintf(w, "%s is no steward any more.\n", who)
		}
	})
}
