package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/workspace"
)

func (a *app) start() *cli.Command {
	return command("start", "make a project from the folder you stand in, and record it as it is", "KEY", "tarn start brinelight",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 1, "start KEY")
			if err != nil {
				return err
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			again, err := workspace.Vacant(a.dir, args[0], c.URL())
			if err != nil {
				return err
			}
			preview, err := workspace.PreviewStart(ctx, a.dir)
			if err != nil {
				return err
			}
			if cmd.Bool("preview") {
				return a.answer(cmd, preview, func() { a.printPreview(args[0], preview) })
			}
			if !cmd.Bool("json") && !again {
				a.printPreview(args[0], preview)
			}
			if !cmd.Bool("yes") && !again && !prompt.Confirm(a.in, a.errs, fmt.Sprintf("Make the project %s of this folder?", args[0])) {
				return model.NewProblem(model.BadRequest, "say --yes to go on", "nothing was done")
			}
			w, err := workspace.Start(ctx, a.dir, args[0], c, newProgress(a.errs))
			if err != nil {
				return err
			}
			defer w.Close()
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			sent, err := w.Send(ctx, workspace.SendOptions{Note: cmd.String("note")})
			if err != nil {
				return err
			}
			if sent.Handoff == nil {
				sent.Handoff = sent.Earlier
			}
			if err := w.Refresh(ctx); err != nil {
				return err
			}
			return a.answer(cmd, sent, func() {
				if sent.Handoff != nil {
					a.say("The project %s is there. Handoff h%d holds it as it stands: %s.", args[0], sent.Handoff.Number, plural(sent.Handoff.Count, "asset"))
				} else {
					a.say("The project %s is there, and has nothing in it yet.", args[0])
				}
				a.say("Others join with: tarn sign-in %s, then tarn join %s. Add them with tarn member add HANDLE.", c.URL(), args[0])
			})
		},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Value: "Baseline: everything as it stands", Usage: "note of the first handoff"},
		&cli.BoolFlag{Name: "preview", Usage: "only say what it would track"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"})
}

func (a *app) printPreview(key string, p *workspace.Preview) {
	a.say("%s would track %s, %s.", key, plural(p.Files, "file"), size(p.Size))
	if p.Left > 0 {
		a.say("The rules leave out %s.", plural(p.Left, "path"))
	}
	if len(p.Largest) > 0 {
		a.say("The largest:")
		t := newTable(a.out, "", ">")
		for _, f := range p.Largest {
			t.row("  "+f.Path, size(f.Size))
		}
		t.print()
	}
	a.printRefusals(fmt.Sprintf("It can't take %s:", plural(len(p.Odd), "name")), p.Odd)
}

func (a *app) join() *cli.Command {
	return command("join", "bring a project down into a new folder", "KEY [DIR]", "tarn join brinelight ~/work/brinelight",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 2, "join KEY [DIR]")
			if err != nil {
				return err
			}
			c, err := a.clientFor("")
			if err != nil {
				return err
			}
			here := cmd.Bool("here")
			target := a.dir
			if !here {
				target = filepath.Join(a.dir, args[0])
			}
			if len(args) == 2 {
				if target, err = a.folder(args[1]); err != nil {
					return err
				}
			}
			w, err := workspace.Join(ctx, target, args[0], here, c, newProgress(a.errs))
			if err != nil {
				return err
			}
			defer w.Close()
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			if here {
				out, err := w.Adopt(ctx)
				if err != nil {
					return err
				}
				return a.answer(cmd, out, func() { a.printAdopted(target, out) })
			}
			u, err := w.Update(ctx, nil, false)
			if err != nil {
				return err
			}
			if err := a.answer(cmd, u, func() {
				a.say("%s is in %s as of h%d: %s, %s.", args[0], target, u.At, plural(len(u.Brought)+u.Same, "asset"), size(sum(u.Brought)))
			}); err != nil {
				return err
			}
			return a.partly(u)
		},
		&cli.BoolFlag{Name: "here", Usage: "tie a folder that has the files already; overwrites nothing"})
}

func sum(assets []model.Asset) (n int64) {
	for _, a := range assets {
		n += a.Size
	}
	return n
}

func (a *app) printAdopted(target string, out *workspace.Adopted) {
	a.say("%s is tied to the project: %s taken over as they are.", target, plural(out.Taken, "file"))
	if len(out.Differ) > 0 {
		a.say("These differ from the service, and were left alone (tarn discard puts one away and brings the service's):")
		a.printPaths(out.Differ)
	}
	if len(out.New) > 0 {
		a.say("These are new (tarn send hands them off):")
		a.printPaths(out.New)
	}
	if len(out.Lacking) > 0 {
		a.say("%s at the service and not here yet, or newer there: tarn update brings them.", plural(len(out.Lacking), "asset"))
	}
	a.printRefusals("Not taken:", out.Odd)
}

func (a *app) printPaths(assets []model.Asset) {
	for i, x := range assets {
		if i == 20 && len(assets) > 22 {
			a.say("  … and %d more", len(assets)-i)
			return
		}
		a.say("  %s", x.Path)
	}
}

// partly prints what an update could not do.
func (a *app) partly(u *workspace.Updated) error {
	if len(u.Clashes) > 0 {
		var list []model.Refusal
		for _, c := range u.Clashes {
			list = append(list, clash(c))
		}
		a.printRefusals("Left as they are here:", list)
	}
	a.printRefusals("Not done:", u.Refusals)
	if len(u.Clashes)+len(u.Refusals) > 0 {
		return errPartly
	}
	return nil
}

func clash(c model.Asset) model.Refusal {
	whose := ""
	if c.Author != "" {
		whose = " by " + c.Author
	}
	return model.Refusal{Path: c.Path, Reason: model.Clash, Message: fmt.Sprintf("%s: changed here, and version %d%s is newer there", c.Path, c.Newest, whose),
		Remedy: "tarn discard puts yours away and brings theirs; tarn discard --restore gets yours back"}
}

func (a *app) status() *cli.Command {
	return command("status", "what has changed here, what is newer there, who holds what", "[PATH…]", "tarn status textures",
		func(ctx context.Context, cmd *cli.Command) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			paths, err := a.paths(w, cmd.Args().Slice())
			if err != nil {
				return err
			}
			if cmd.Bool("fetch") {
				if err := w.Refresh(ctx); err != nil {
					return err
				}
			}
			s, err := w.Status(ctx)
			if err != nil {
				return err
			}
			assets, missing := workspace.Within(s.Assets, paths)
			if len(missing) > 0 {
				return model.NewProblem(model.NotFound, "check the spelling; what the rules leave out is not listed", "there is no asset at %s", strings.Join(missing, ", "))
			}
			v := map[string]any{"project": w.Marker.Project, "service": w.Marker.Service, "at": s.At, "fetched": s.Fetched, "assets": emptyNotNil(assets), "odd": append([]model.Refusal{}, s.Odd...), "left_out": s.Left}
			if s.Rules != nil {
				fmt.Fprintln(a.errs, "tarn:", s.Rules)
			}
			return a.answer(cmd, v, func() {
				if len(assets) == 1 && len(paths) == 1 && assets[0].Path == paths[0] {
					a.printCard(w, s, assets[0])
					return
				}
				a.printStatus(w, s, assets)
			})
		},
		&cli.BoolFlag{Name: "fetch", Usage: "ask the service first"})
}

func emptyNotNil(assets []model.Asset) []model.Asset {
	return append([]model.Asset{}, assets...)
}

func (a *app) holderWord(w *workspace.Workspace, x model.Asset) string {
	switch {
	case x.Lock == nil && x.State == model.New:
		return ""
	case x.Lock == nil:
		return "free"
	case x.Lock.WorkspaceID == w.Marker.Workspace:
		return "yours"
	}
	return x.Lock.Holder
}

func fetchedWord(t time.Time) string {
	if t.IsZero() {
		return "the service was not asked yet"
	}
	return "as the service said " + when(t)
}

// groups are the states, in the order in which they want doing something about.
var groups = []struct{ state, title, remedy string }{
	{model.Clash, "Changed here and newer there", "tarn discard PATH puts yours away and brings theirs"},
	{model.Edited, "Changed here", "tarn send -m NOTE hands them off"},
	{model.New, "New here", "tarn send -m NOTE hands them off"},
	{model.Gone, "Gone here", "tarn discard PATH brings one back; tarn send --with-gone hands the deletion off"},
	{model.Behind, "Newer there", "tarn update brings them"},
}

func (a *app) printStatus(w *workspace.Workspace, s *workspace.Status, assets []model.Asset) {
	byState := map[string][]model.Asset{}
	var others, mine []model.Asset
	for _, x := range assets {
		byState[x.State] = append(byState[x.State], x)
		if x.Lock != nil && x.Lock.WorkspaceID == w.Marker.Workspace {
			mine = append(mine, x)
		} else if x.Lock != nil {
			others = append(others, x)
		}
	}
	a.say("%s, h%d, %s", w.Marker.Project, s.At, fetchedWord(s.Fetched))
	if s.Pending != nil {
		a.say("\nA send from %s was cut off before its answer came; the next tarn send finds out what became of it.", when(s.Pending.Since))
	}
	quiet := true
	for _, g := range groups {
		list := byState[g.state]
		if len(list) == 0 {
			continue
		}
		quiet = false
		a.say("\n%s (%s): %s", g.title, count(len(list)), g.remedy)
		t := newTable(a.out, "", "", ">", "", "")
		for i, x := range list {
			if i == 50 && len(list) > 55 {
				t.row("  …", fmt.Sprintf("and %d more", len(list)-i), "", "", "")
				break
			}
			version := ""
			switch {
			case x.State == model.Behind && x.Gone:
				version = "was removed by " + x.Author
			case x.State == model.Behind && x.Version == 0:
				version = fmt.Sprintf("v%d by %s", x.Newest, x.Author)
			case x.State == model.Behind || x.State == model.Clash:
				version = fmt.Sprintf("v%d here, v%d by %s", x.Version, x.Newest, x.Author)
			case x.Version > 0:
				version = fmt.Sprintf("from v%d", x.Version)
			}
			t.row("  "+x.State, x.Path, size(x.Size), version, a.holderWord(w, x))
		}
		t.print()
	}
	if len(mine) > 0 {
		a.say("\nYou hold (%s):", count(len(mine)))
		t := newTable(a.out, "", "", "")
		for _, x := range mine {
			t.row("  "+x.Path, "taken "+when(x.Lock.Since), x.State)
		}
		t.print()
	}
	if len(others) > 0 {
		a.say("\nHeld by others (%s):", count(len(others)))
		t := newTable(a.out, "", "", "", "")
		for i, x := range others {
			if i == 20 && len(others) > 22 {
				t.row("  …", fmt.Sprintf("and %d more: tarn holders", len(others)-i), "", "")
				break
			}
			t.row("  "+x.Path, x.Lock.Holder, "taken "+when(x.Lock.Since), firstLine(x.Lock.Note, 40))
		}
		t.print()
	}
	if quiet {
		a.say("\nNothing has changed here, and nothing newer is known: %s.", plural(len(byState[model.Same]), "asset"))
	}
	a.printRefusals(fmt.Sprintf("\nNot tracked (%s):", count(len(s.Odd))), s.Odd)
}

// printCard is the one-glance card of a single file.
func (a *app) printCard(w *workspace.Workspace, s *workspace.Status, x model.Asset) {
	a.say("%s", x.Path)
	t := newTable(a.out, "", "")
	t.row("  state", x.State)
	switch {
	case x.Newest == 0:
		t.row("  version", "none yet")
	case x.Version == x.Newest:
		t.row("  version", fmt.Sprintf("%d, the newest", x.Version))
	case x.Version == 0:
		t.row("  version", fmt.Sprintf("not here; %d is the newest", x.Newest))
	default:
		t.row("  version", fmt.Sprintf("%d here; %d is the newest", x.Version, x.Newest))
	}
	t.row("  size", size(x.Size))
	if x.At != nil {
		t.row("  last", fmt.Sprintf("%s, %s (h%d): %s", x.Author, when(*x.At), x.Handoff, firstLine(x.Note, 60)))
	}
	switch holder := a.holderWord(w, x); holder {
	case "":
	case "free":
		t.row("  lock", "free")
	default:
		line := fmt.Sprintf("%s, taken %s in %s", holder, when(x.Lock.Since), x.Lock.Workspace)
		if x.Lock.Note != "" {
			line += ": " + firstLine(x.Lock.Note, 60)
		}
		t.row("  lock", line)
	}
	t.row("  known", fetchedWord(s.Fetched))
	t.print()
}

func (a *app) begin() *cli.Command {
	return command("begin", "before editing: newest version, lock, and open it in its program", "PATH…", "tarn begin textures/rust-albedo.png",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, -1, "begin PATH…")
			if err != nil {
				return err
			}
			return a.work(func(w *workspace.Workspace) error {
				paths, err := a.paths(w, args)
				if err != nil {
					return err
				}
				locks, u, err := w.Lock(ctx, paths, cmd.String("note"), true)
				if err != nil {
					return err
				}
				if err := a.answer(cmd, map[string]any{"locks": locks, "brought": u.Brought, "refusals": u.Refusals}, func() {
					for _, l := range locks {
						a.say("%s is yours.", l.Path)
					}
					for _, b := range u.Brought {
						a.say("%s: version %d by %s was brought.", b.Path, b.Newest, b.Author)
					}
				}); err != nil {
					return err
				}
				if err := a.partly(u); err != nil {
					return err
				}
				if !cmd.Bool("no-open") {
					a.openFiles(w, locks)
				}
				return nil
			})
		},
		&cli.StringFlag{Name: "note", Usage: "what you are about to do; others see it"},
		&cli.BoolFlag{Name: "no-open", Usage: "do not open the file"})
}

// openFiles opens locked files in their programs, where there are few.
func (a *app) openFiles(w *workspace.Workspace, locks []model.Lock) {
	if len(locks) > 5 {
		fmt.Fprintf(a.errs, "%d files are too many to open at once; open them yourself.\n", len(locks))
		return
	}
	for _, l := range locks {
		c := openCommand(filepath.Join(w.Root, filepath.FromSlash(l.Path)))
		if err := c.Start(); err != nil {
			fmt.Fprintf(a.errs, "%s is ready, but could not be opened by itself (%v); open it yourself.\n", l.Path, err)
			continue
		}
		_ = c.Process.Release()
	}
}

func (a *app) send() *cli.Command {
	return command("send", "hand off the changes, all of them or none", "[PATH…]", `tarn send -m "Rust on the north rail" textures`,
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, -1, "send -m NOTE [PATH…]")
			if err != nil {
				return err
			}
			note := cmd.String("note")
			if strings.TrimSpace(note) == "" {
				return wrongUse("add a note: tarn send -m \"what was done, and why\"")
			}
			return a.work(func(w *workspace.Workspace) error {
				paths, err := a.paths(w, args)
				if err != nil {
					return err
				}
				sent, err := w.Send(ctx, workspace.SendOptions{Note: note, Tasks: cmd.StringSlice("task"), Stage: cmd.String("stage"),
					KeepLocks: cmd.Bool("keep-locks"), WithGone: cmd.Bool("with-gone"), Paths: paths})
				if err != nil {
					return err
				}
				return a.answer(cmd, sent, func() { a.printSent(sent, cmd.Bool("keep-locks")) })
			})
		},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "what was done, and why"},
		&cli.StringSliceFlag{Name: "task", Usage: "id of a task; may be given more than once"},
		&cli.StringFlag{Name: "stage", Usage: "how far it is, in a word of your team"},
		&cli.BoolFlag{Name: "keep-locks", Usage: "do not give the locks back"},
		&cli.BoolFlag{Name: "with-gone", Usage: "hand off the deletions too"})
}

func (a *app) printSent(s *workspace.Sent, kept bool) {
	if s.Earlier != nil {
		a.say("Your interrupted send had arrived, as h%d: %s.", s.Earlier.Number, plural(s.Earlier.Count, "asset"))
	}
	if s.Handoff == nil && s.Earlier == nil {
		a.say("There is nothing to send.")
	}
	if s.Handoff != nil {
		locks := ""
		for _, x := range s.Handoff.Assets {
			if x.Change != model.New && !kept {
				locks = "; their locks are free again"
			}
		}
		if kept {
			locks = "; you keep their locks"
		}
		a.say("h%d: %s, %s sent%s.", s.Handoff.Number, plural(s.Handoff.Count, "asset"), size(s.Sent), locks)
		t := newTable(a.out, "", "", "")
		for i, x := range s.Handoff.Assets {
			if i == 20 && len(s.Handoff.Assets) > 22 {
				t.row("  …", fmt.Sprintf("and %d more", len(s.Handoff.Assets)-i), "")
				break
			}
			t.row("  "+x.Change, x.Path, fmt.Sprintf("v%d", x.Version))
		}
		t.print()
	}
	if len(s.Left) > 0 {
		a.say("Gone here and not sent (--with-gone hands the deletion off):")
		a.printPaths(s.Left)
	}
	a.printRefusals("Left out:", s.Odd)
}

func (a *app) update() *cli.Command {
	return command("update", "bring newer versions down; never overwrites a change of yours", "[PATH…]", "tarn update --preview",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, -1, "update [PATH…]")
			if err != nil {
				return err
			}
			return a.work(func(w *workspace.Workspace) error {
				paths, err := a.paths(w, args)
				if err != nil {
					return err
				}
				preview := cmd.Bool("preview")
				u, err := w.Update(ctx, paths, preview)
				if err != nil {
					return err
				}
				if err := a.answer(cmd, u, func() { a.printUpdated(u, preview) }); err != nil {
					return err
				}
				return a.partly(u)
			})
		},
		&cli.BoolFlag{Name: "preview", Usage: "only list what would come"})
}

func (a *app) printUpdated(u *workspace.Updated, preview bool) {
	verb, gone := "Brought", "removed"
	if preview {
		verb, gone = "Would bring", "would be removed"
	}
	if len(u.Brought)+len(u.Removed) == 0 {
		a.say("Nothing newer: this is h%d.", u.At)
		return
	}
	a.say("%s %s, %s; this is h%d.", verb, plural(len(u.Brought), "asset"), size(sum(u.Brought)), u.At)
	t := newTable(a.out, "", "", "", "")
	for i, x := range append(u.Brought, u.Removed...) {
		if i == 30 {
			t.row("  …", fmt.Sprintf("and %d more", len(u.Brought)+len(u.Removed)-i), "", "")
			break
		}
		what := fmt.Sprintf("v%d", x.Newest)
		if x.Gone {
			what = gone
		}
		t.row("  "+x.Path, what, x.Author, firstLine(x.Note, 50))
	}
	t.print()
}

func (a *app) discard() *cli.Command {
	return command("discard", "put local changes away, and bring back what was there", "PATH…", "tarn discard textures/rust-albedo.png",
		func(ctx context.Context, cmd *cli.Command) error {
			args := cmd.Args().Slice()
			if cmd.Bool("list") == (len(args) > 0) {
				return wrongUse("use it so: tarn discard PATH…, tarn discard --list, or tarn discard --restore PATH…")
			}
			return a.work(func(w *workspace.Workspace) error {
				if cmd.Bool("list") {
					list, err := w.Kept()
					if err != nil {
						return err
					}
					return a.answer(cmd, map[string]any{"put_away": list}, func() { a.printKept(list) })
				}
				paths, err := a.paths(w, args)
				if err != nil {
					return err
				}
				if cmd.Bool("restore") {
					list, err := w.Restore(ctx, paths)
					if err != nil {
						return err
					}
					return a.answer(cmd, map[string]any{"restored": list}, func() {
						for _, p := range list {
							a.say("%s is back as you had it.", p.Path)
						}
					})
				}
				out, err := w.Discard(ctx, paths)
				if err != nil {
					return err
				}
				if err := a.answer(cmd, out, func() {
					if len(out.PutAway)+len(out.Restored) == 0 {
						a.say("Nothing had changed there.")
					}
					for _, p := range out.PutAway {
						a.say("%s: yours is put away for %d days; tarn discard --restore %s brings it back.", p.Path, workspace.KeepDays, p.Path)
					}
					for _, x := range out.Restored {
						a.say("%s: version %d is back.", x.Path, x.Newest)
					}
				}); err != nil {
					return err
				}
				return a.partly(&workspace.Updated{Refusals: out.Refusals})
			})
		},
		&cli.BoolFlag{Name: "list", Usage: "list what was put away"},
		&cli.BoolFlag{Name: "restore", Usage: "bring put-away files back, by path or by name in the list"})
}

func (a *app) printKept(list []workspace.PutAway) {
	if len(list) == 0 {
		a.say("Nothing is put away.")
		return
	}
	t := newTable(a.out, "NAME", "PATH", ">SIZE", "PUT AWAY")
	for _, p := range list {
		t.row(p.ID, p.Path, size(p.Size), when(p.At))
	}
	t.print()
}
