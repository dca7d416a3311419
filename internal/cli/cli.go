// Package cli is the command line of tarn: what each command takes, and what it prints. The work is done by package workspace and by
// the service.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/sheet"
	"kettletarn/internal/core/text"
	"kettletarn/internal/licences"
	"kettletarn/internal/version"
	"kettletarn/internal/workspace"
)

// Exit statuses.
const (
	exitDone        = 0
	exitRefused     = 1
	exitWrongUse    = 2
	exitUnreachable = 3
)

// app is one run of tarn.
type app struct {
	in   io.Reader
	out  io.Writer
	errs io.Writer
	dir  string
	// raw and screen are what out and errs write to.
	raw, screen io.Writer
}

// usageError is a command used in a wrong way.
type usageError struct{ error }

func wrongUse(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// partly says that the command has printed what it could not do.
var errPartly = errors.New("not all of it was done")

// Main runs tarn and returns its exit status.
func Main(ctx context.Context, args []string, in io.Reader, out, errs io.Writer) int {
	dir, err := os.Getwd()
	if err != nil {
		fmt.Fprintln(errs, "tarn: the folder that you are in is gone; go to another one")
		return exitRefused
	}
	// Whatever is printed passes text.Writer; only an archive and the progress bar, which hold no text of others, go around it.
	a := &app{in: in, out: text.NewWriter(out), errs: text.NewWriter(errs), raw: out, screen: errs, dir: dir}
	root := &cli.Command{
		Name:  "tarn",
		Usage: "keeps a team's large assets: versions, handoffs and locks",
		Description: "First steps: tarn sign-in URL, then tarn join KEY for a project that is there, or tarn start KEY to make one of the\n" +
			"folder you stand in. A day: tarn begin FILE, work, tarn send -m NOTE. tarn status says how things stand.",
		Version: version.String(), EnableShellCompletion: true, Suggest: true,
		ShellCompletionCommandName: "completion-of-the-library",
		Reader:                     in, Writer: a.out, ErrWriter: a.errs,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError:   onUsageError,
		Flags: []cli.Flag{&cli.BoolFlag{Name: "licences", Local: true,
			Usage: "print what this program is built upon, and the licences of that"}},
		Commands: a.commands(),
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Bool("licences") && !cmd.Args().Present() {
				_, err := io.WriteString(a.out, licences.Notices)
				return err
			}
			if cmd.Args().Present() {
				meant := ""
				if near := cli.SuggestCommand(cmd.Commands, cmd.Args().First()); near != "" {
					meant = fmt.Sprintf(" (did you mean %s?)", strings.TrimPrefix(near, "Did you mean "))
				}
				return wrongUse("there is no command %q%s; tarn help lists them", cmd.Args().First(), strings.ReplaceAll(meant, "??", "?"))
			}
			return cli.ShowRootCommandHelp(cmd)
		},
	}
	each(root.Commands, func(c *cli.Command) {
		c.OnUsageError = onUsageError
		a.completes(c)
		// A group of commands has nothing to do by itself.
		if c.Action == nil && len(c.Commands) > 0 {
			c.Action = func(_ context.Context, cmd *cli.Command) error {
				if cmd.Args().Present() {
					return wrongUse("tarn %s has no command %q; tarn %s --help lists them", c.Name, cmd.Args().First(), c.Name)
				}
				return cli.ShowSubcommandHelp(cmd)
			}
		}
	})
	asJSON := wantsJSON(args)
	return a.exit(ctx, root.Run(ctx, args), asJSON)
}

func onUsageError(_ context.Context, _ *cli.Command, err error, _ bool) error { return usageError{err} }

func each(commands []*cli.Command, do func(*cli.Command)) {
	for _, c := range commands {
		do(c)
		each(c.Commands, do)
	}
}

func wantsJSON(args []string) bool {
	for _, arg := range args {
		if arg == "--" {
			return false
		}
		if arg == "--json" || arg == "--json=true" {
			return true
		}
	}
	return false
}

// exit prints what went wrong, in words, and says with which status to end.
func (a *app) exit(ctx context.Context, err error, asJSON bool) int {
	var wrong usageError
	var away *client.Unreachable
	var refused *model.Refused
	var problem *model.Problem
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errPartly):
		return exitRefused
	case errors.As(err, &wrong):
		fmt.Fprintln(a.errs, "tarn:", err)
		return exitWrongUse
	case ctx.Err() != nil:
		fmt.Fprintln(a.errs, "\ntarn: stopped. What has arrived stays; the same command goes on from there.")
		return exitRefused
	case errors.As(err, &away):
		fmt.Fprintln(a.errs, "tarn:", away)
		return exitUnreachable
	case errors.As(err, &refused):
		if asJSON {
			_ = a.json(refused)
		}
		a.printRefusals("Nothing was done:", refused.Refusals)
		return exitRefused
	case errors.As(err, &problem):
		if asJSON {
			_ = a.json(map[string]any{"refusals": []model.Refusal{{Reason: problem.Type, Message: problem.Detail, Remedy: problem.Remedy}}})
		}
		fmt.Fprintln(a.errs, "tarn:", problem)
		if problem.Type == model.Unavailable {
			return exitUnreachable
		}
		return exitRefused
	}
	fmt.Fprintln(a.errs, "tarn:", err)
	return exitRefused
}

func (a *app) printRefusals(title string, list []model.Refusal) {
	if len(list) == 0 {
		return
	}
	fmt.Fprintln(a.errs, title)
	for i, r := range list {
		if i == 40 && len(list) > 45 {
			fmt.Fprintf(a.errs, "  … and %d more (--json lists all)\n", len(list)-i)
			break
		}
		fmt.Fprintf(a.errs, "  %s\n", assetpath.Printable(r.Message))
		fmt.Fprintf(a.errs, "      %s\n", r.Remedy)
	}
}

// json prints one object.
func (a *app) json(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := a.out.Write(text.JSON(b.Bytes()))
	return err
}

// answer prints v with --json, the list in it with --csv, and else what human prints.
func (a *app) answer(cmd *cli.Command, v any, human func()) error {
	switch {
	case cmd.Bool("json"):
		return a.json(v)
	case cmd.Bool("csv"):
		return sheet.Write(a.out, v)
	}
	human()
	return nil
}

// note is for the one who reads, where what is said on standard output may go into a file.
func (a *app) note(format string, args ...any) { fmt.Fprintf(a.errs, format+"\n", args...) }

func (a *app) say(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }

// command makes a command with what all of them have.
func command(name, usage, arguments, example string, action cli.ActionFunc, flags ...cli.Flag) *cli.Command {
	// A command within another is named with it, and known by its last word.
	words := strings.Fields(name)
	do := action
	action = func(ctx context.Context, cmd *cli.Command) error {
		if err := valued(cmd); err != nil {
			return err
		}
		return do(ctx, cmd)
	}
	return &cli.Command{Name: words[len(words)-1], Usage: usage, ArgsUsage: arguments,
		UsageText: strings.TrimSpace("tarn "+name+" [options] "+arguments) + "\n\nExample: " + example,
		Flags:     append(flags, &cli.BoolFlag{Name: "json", Usage: "print one JSON object"}), Action: action, HideHelpCommand: true}
}

// valued refuses options that were given and say nothing (a script's empty variable is a mistake, and never stands for everything), and
// words that an option does not have.
func valued(cmd *cli.Command) error {
	for _, f := range cmd.Flags {
		switch f := f.(type) {
		case *cli.StringFlag:
			if cmd.IsSet(f.Name) && strings.TrimSpace(cmd.String(f.Name)) == "" {
				return wrongUse("--%s says nothing; leave it out, or give it a value", f.Name)
			}
			if words := wordsOf(cmd.Name, f.Name); cmd.IsSet(f.Name) && words != nil && !slices.Contains(words, cmd.String(f.Name)) {
				last := len(words) - 1
				return wrongUse("--%s is %s or %s, not %q", f.Name, strings.Join(words[:last], ", "), words[last], cmd.String(f.Name))
			}
		case *cli.StringSliceFlag:
			for _, v := range cmd.StringSlice(f.Name) {
				if strings.TrimSpace(v) == "" {
					return wrongUse("--%s says nothing; leave it out, or give it a value", f.Name)
				}
			}
		}
	}
	return nil
}

// lists gives a command that prints a list the form for spreadsheets.
func lists(c *cli.Command) *cli.Command {
	c.Flags = append(c.Flags, &cli.BoolFlag{Name: "csv", Usage: "print the list as a table for a spreadsheet (RFC 4180)"})
	return c
}

// arguments checks how many there are.
func arguments(cmd *cli.Command, least, most int, usage string) ([]string, error) {
	args := cmd.Args().Slice()
	if len(args) < least || most >= 0 && len(args) > most {
		return nil, wrongUse("use it so: tarn %s", usage)
	}
	for _, arg := range args {
		if strings.TrimSpace(arg) == "" {
			return nil, wrongUse("an empty name stands for nothing; use it so: tarn %s", usage)
		}
		// The library stops reading options at the first argument in some shells' hands; an option in its place is a mistake.
		if strings.HasPrefix(arg, "--") {
			return nil, wrongUse("the option %s has to stand before the names: tarn %s", arg, usage)
		}
	}
	return args, nil
}

// open opens the workspace that the current folder lies in.
func (a *app) open() (*workspace.Workspace, error) {
	root, err := workspace.Find(a.dir)
	if err != nil {
		return nil, err
	}
	if root == "" {
		return nil, model.NewProblem(model.NotFound, "go to one, or make one with tarn join KEY or tarn start KEY",
			"%s does not lie in a workspace", a.dir)
	}
	m, err := workspace.ReadMarker(root)
	if err != nil {
		return nil, err
	}
	c, err := a.clientFor(m.Service)
	if err != nil {
		return nil, err
	}
	w, err := workspace.Open(root, c, newProgress(a.screen))
	if err != nil {
		return nil, err
	}
	w.Handle = whose(c)
	return w, nil
}

// openOr opens the workspace that the current folder lies in, or, with --project, none: what is looked at is at the service.
func (a *app) openOr(cmd *cli.Command) (*workspace.Workspace, error) {
	key := cmd.String("project")
	if key == "" {
		return a.open()
	}
	c, err := a.clientFor("")
	if err != nil {
		return nil, err
	}
	return workspace.Away(c, key), nil
}

// task is what a command does in the workspace that the current folder lies in, with the paths that were typed.
type task func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error

// looking makes the action of a command that changes nothing. It takes least to most names (most -1 for any number).
func (a *app) looking(least, most int, usage string, do task) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		args, err := arguments(cmd, least, most, usage)
		if err != nil {
			return err
		}
		w, err := a.open()
		if err != nil {
			return err
		}
		defer w.Close()
		if err := limited(cmd, w.Client); err != nil {
			return err
		}
		if err := w.FinishInterrupted(); err != nil {
			return err
		}
		paths, err := a.paths(w, args)
		if err != nil {
			return err
		}
		return do(ctx, cmd, w, paths)
	}
}

// working makes the action of a command that changes the workspace, or something at the service for it: one at a time.
func (a *app) working(least, most int, usage string, do task) cli.ActionFunc {
	return a.looking(least, most, usage, func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
		release, err := w.Work()
		if err != nil {
			return err
		}
		defer release()
		return do(ctx, cmd, w, paths)
	})
}

// limitFlag is that of every command that moves content.
func limitFlag() cli.Flag {
	return &cli.StringFlag{Name: "limit-rate", Aliases: []string{"limit"}, Usage: "use at most so much of the line (4MB/s)"}
}

// limited does what the flag says.
func limited(cmd *cli.Command, c *client.Client) error {
	rate := cmd.String("limit-rate")
	if rate == "" {
		return nil
	}
	n, err := humanize.ParseBytes(strings.TrimSuffix(rate, "/s"))
	if err != nil || n < 1<<10 || n > 1<<40 {
		return wrongUse("%q is not a limit; it looks like 4MB/s, and is 1KB/s at least", rate)
	}
	c.Limit(int64(n))
	return nil
}

// limitedClient is a client for the service that one is signed in to, with the flag's limit.
func (a *app) limitedClient(cmd *cli.Command) (*client.Client, error) {
	c, err := a.clientFor("")
	if err == nil {
		err = limited(cmd, c)
	}
	return c, err
}

// paths turns the names that a person typed into paths of the workspace.
func (a *app) paths(w *workspace.Workspace, typed []string) ([]string, error) {
	paths := make([]string, len(typed))
	for i, t := range typed {
		p, err := w.Path(a.dir, t)
		if err != nil {
			return nil, err
		}
		paths[i] = p
	}
	return w.Spelled(paths)
}

// anywhere is looking for a command that needs no files: with --project, it needs no workspace either, and paths are those of the project.
func (a *app) anywhere(least, most int, usage string, do task) cli.ActionFunc {
	inWorkspace := a.looking(least, most, usage, do)
	return func(ctx context.Context, cmd *cli.Command) error {
		key := cmd.String("project")
		if key == "" {
			return inWorkspace(ctx, cmd)
		}
		args, err := arguments(cmd, least, most, usage)
		if err != nil {
			return err
		}
		c, err := a.clientFor("")
		if err != nil {
			return err
		}
		w := workspace.Away(c, key)
		w.Handle = whose(c)
		for i := range args {
			args[i] = strings.Trim(filepath.ToSlash(args[i]), "/")
		}
		return do(ctx, cmd, w, args)
	}
}

func anywhereFlag() cli.Flag {
	return &cli.StringFlag{Name: "project", Usage: "of this project, from anywhere; paths are those within it"}
}

func (a *app) folder(typed string) (string, error) {
	full := typed
	if !filepath.IsAbs(full) {
		full = filepath.Join(a.dir, typed)
	}
	return filepath.Abs(full)
}

// commands are grouped by what one wants to do.
func (a *app) commands() (all []*cli.Command) {
	for _, group := range []struct {
		name string
		list []*cli.Command
	}{
		{"1. Set up", []*cli.Command{a.signIn(), a.signOut(), a.whoami(), a.passphrase(), a.signInList(), a.start(), a.join(), a.scope(),
			a.rules()}},
		{"2. The day's work", []*cli.Command{lists(a.status()), a.begin(), a.send(), a.update(), a.discard(), a.settle(), a.move(), a.desk(),
			a.watch()}},
		{"3. Locks, and one another", []*cli.Command{a.lock(), a.unlock(), lists(a.holders()), a.ask(), a.answerAsk(), lists(a.news())}},
		{"4. Look back, and go back", []*cli.Command{lists(a.history()), lists(a.show()), lists(a.compare()), lists(a.find()),
			a.export(), a.rollback(), a.milestone()}},
		{"5. Working apart, and sharing", []*cli.Command{a.branch(), a.switchTo(), a.merge(), a.review(), a.kit()}},
		{"6. Beside the code", []*cli.Command{a.pin(), a.adopt()}},
		{"7. Projects and people", []*cli.Command{a.project(), a.member(), a.invite(), a.deeds(), a.usage(), a.token(), a.showing(), a.heal(),
			a.editor(),
			a.completion()}},
	} {
		for _, c := range group.list {
			c.Category = group.name
			all = append(all, c)
		}
	}
	return all
}
