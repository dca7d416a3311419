package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/prompt"
	"kettletarn/internal/workspace"
)

func sum(assets []model.Asset) (n int64) {
	for _, a := range assets {
		n += a.Size
	}
	return n
}

func (a *app) printPaths(assets []model.Asset) {
	few(a.out, assets, func(x model.Asset) string { return x.Path })
}

// few prints the first of a list, a line each.
func few[T any](out io.Writer, list []T, line func(T) string) {
	for i, x := range list {
		if i == 20 && len(list) > 22 {
			fmt.Fprintf(out, "  … and %d more\n", len(list)-i)
			return
		}
		fmt.Fprintf(out, "  %s\n", assetpath.Printable(line(x)))
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
	message := fmt.Sprintf("%s: changed here, and version %d%s is newer there", c.Path, c.Newest, whose)
	switch {
	case c.MovedTo != "":
		message = fmt.Sprintf("%s: changed here, and moved to %s%s there", c.Path, c.MovedTo, whose)
	case c.Gone:
		message = fmt.Sprintf("%s: changed here, and removed%s there", c.Path, whose)
	case c.Version == 0:
		message = fmt.Sprintf("%s: there is a file here that was never sent, and version %d%s belongs in its place", c.Path, c.Newest, whose)
	}
	return model.Refusal{Path: c.Path, Reason: model.Clash, Message: message,
		Remedy: "tarn settle " + c.Path + " --use mine, theirs, both or copy"}
}

func (a *app) begin() *cli.Command {
	return command("begin", "before editing: newest version, lock, and open it in its program", "PATH…", "tarn begin textures/rust-albedo.png",
		a.working(1, -1, "begin PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			out, err := w.Lock(ctx, paths, workspace.LockOptions{Note: cmd.String("note"), Begin: true, Set: cmd.Bool("set"), Any: cmd.Bool("any"),
				Bring: cmd.Bool("bring")})
			if err != nil {
				return err
			}
			locks, u := out.Locks, out.Updated
			u.Refusals = append(u.Refusals, out.Refusals...)
			if err := a.answer(cmd, map[string]any{"locks": locks, "brought": u.Brought, "refusals": u.Refusals}, func() {
				for _, l := range locks {
					a.say("%s is yours.", l.Path)
				}
				for _, b := range u.Brought {
					a.say("%s: version %d by %s was brought.", b.Path, b.Newest, b.Author)
				}
				a.printBeforeEditing(ctx, w, locks)
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
		}),
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "what you are about to do; others see it"},
		&cli.BoolFlag{Name: "no-open", Usage: "do not open the file"},
		&cli.BoolFlag{Name: "any", Usage: "of several, take those that can be taken"},
		&cli.BoolFlag{Name: "bring", Usage: "move your lock here from another of your workspaces"},
		&cli.BoolFlag{Name: "set", Usage: "take the rest of each set along"})
}

// openFiles opens locked files in their programs, where there are few.
func (a *app) openFiles(w *workspace.Workspace, locks []model.Lock) {
	if len(locks) > 5 {
		fmt.Fprintf(a.errs, "%d files are too many to open at once; open them yourself.\n", len(locks))
		return
	}
	for _, l := range locks {
		if !w.Openable(l.Path) {
			fmt.Fprintf(a.errs, "%s is of no kind that tarn knows, and opening it might run it.\n", l.Path)
			if !prompt.Confirm(a.in, a.errs, "Open it all the same?") {
				fmt.Fprintf(a.errs, "It was not opened; it is ready to be, by you.\n")
				continue
			}
		}
		if err := opened(openCommand(filepath.Join(w.Root, filepath.FromSlash(l.Path)))); err != nil {
			fmt.Fprintf(a.errs, "%s is ready, but could not be opened by itself (%v); open it yourself.\n", l.Path, err)
		}
	}
}

// opened starts what opens a file, and waits a moment for it to fail: what has nothing to open with says so at once, and what works goes
// on.
func opened(c *exec.Cmd) error {
	if err := c.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	select {
	case err := <-ended:
		return err
	case <-time.After(2 * time.Second):
		return nil
	}
}

func (a *app) send() *cli.Command {
	return command("send", "hand off the changes, all of them or none", "[PATH…]", `tarn send -m "Rust on the north rail" textures`,
		a.working(0, -1, "send -m NOTE [PATH…]", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			if cmd.Bool("cancel") {
				return a.cancelSends(ctx, cmd, w)
			}
			note := cmd.String("note")
			if strings.TrimSpace(note) == "" {
				return wrongUse("add a note: tarn send -m \"what was done, and why\"")
			}
			o := workspace.SendOptions{About: model.About{Note: note, Tasks: cmd.StringSlice("task"), Stage: cmd.String("stage")},
				KeepLocks: cmd.Bool("keep-locks"), Older: cmd.Bool("older"), WithGone: cmd.Bool("with-gone"), Paths: paths, Set: cmd.Bool("set"),
				Apart: a.askApart, Stay: a.printStay}
			if cmd.Bool("background") {
				return a.sendLater(ctx, cmd, w, o)
			}
			sent, err := w.Send(ctx, o)
			if a.meant(err) {
				o.Older = true
				sent, err = w.Send(ctx, o)
			}
			if err != nil {
				return err
			}
			return a.answer(cmd, sent, func() { a.printSent(sent, cmd.Bool("keep-locks")) })
		}),
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "what was done, and why"},
		&cli.StringSliceFlag{Name: "task", Usage: "id of a task; may be given more than once"},
		&cli.StringFlag{Name: "stage", Usage: "how far it is, in a word of your team"},
		&cli.BoolFlag{Name: "keep-locks", Usage: "do not give the locks back"},
		&cli.BoolFlag{Name: "with-gone", Usage: "hand off the deletions too"},
		&cli.BoolFlag{Name: "older", Usage: "send also what is the same as an older version; for scripts, where nobody can be asked"},
		&cli.BoolFlag{Name: "set", Usage: "take the rest of each set along"},
		&cli.BoolFlag{Name: "background", Usage: "set copies aside and let tarn watch send them; editing goes on at once"},
		&cli.BoolFlag{Name: "cancel", Usage: "take back what is being sent in the background, and is not there yet"}, limitFlag())
}

// meant asks whether going back to older versions is meant, where nothing else stands in the way of a send, and somebody is there to say
// so.
func (a *app) meant(err error) bool {
	var refused *model.Refused
	if !errors.As(err, &refused) || !prompt.Interactive(a.in) {
		return false
	}
	for _, r := range refused.Refusals {
		if r.Reason != model.OlderVersion {
			return false
		}
	}
	fmt.Fprintln(a.errs, "This would go back:")
	few(a.errs, refused.Refusals, func(r model.Refusal) string { return r.Message })
	return prompt.Confirm(a.in, a.errs, "Send it all the same?")
}

// askApart points out files that belong to what is sent and stay behind. At a terminal it asks; elsewhere the send goes on.
func (a *app) askApart(list []workspace.Reference) bool {
	fmt.Fprintf(a.errs, "Changed too, named by what you send, and not in this send (%s):\n", count(len(list)))
	few(a.errs, list, func(r workspace.Reference) string { return r.To + ", which " + r.From + " names" })
	if !prompt.Interactive(a.in) {
		return true
	}
	return prompt.Confirm(a.in, a.errs, "Send without them?")
}

func (a *app) sendLater(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, o workspace.SendOptions) error {
	j, err := w.SendLater(ctx, o)
	if err != nil {
		return err
	}
	watched := w.Watched(ctx)
	return a.answer(cmd, map[string]any{"job": j, "watched": watched}, func() {
		if j == nil {
			a.say("There is nothing to send.")
			return
		}
		a.say("%s, %s set aside; you can go on editing. tarn status shows how far it is.", plural(len(j.Files), "asset"), size(j.Size))
		if !watched {
			a.say("Nothing sends it yet: start tarn watch in this workspace.")
		}
	})
}

// cancelSends takes back what goes on in the background.
func (a *app) cancelSends(ctx context.Context, cmd *cli.Command, w *workspace.Workspace) error {
	jobs, err := w.Jobs()
	if err != nil {
		return err
	}
	arrived := []model.Handoff{}
	for i := range jobs {
		h, err := w.CancelJob(ctx, &jobs[i])
		if err != nil {
			return err
		}
		if h != nil {
			arrived = append(arrived, *h)
		}
	}
	return a.answer(cmd, map[string]any{"canceled": len(jobs) - len(arrived), "handoffs": arrived}, func() {
		for _, h := range arrived {
			a.say("h%d had arrived already: %s. tarn rollback --without h%d undoes it.", h.Number, plural(h.Count, "asset"), h.Number)
		}
		if n := len(jobs) - len(arrived); n > 0 {
			a.say("%s taken back; the changes are as they are here.", plural(n, "send"))
		} else if len(jobs) == 0 {
			a.say("Nothing is being sent in the background.")
		}
	})
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
				locks = "; their locks are given back"
			}
		}
		if kept {
			locks = "; you keep their locks"
		}
		a.say("h%d: %s, %s sent%s.", s.Handoff.Number, plural(s.Handoff.Count, "asset"), size(s.Sent), locks)
		t := newTable(a.out, "", "", "", "")
		for i, x := range s.Handoff.Assets {
			if i == 20 && len(s.Handoff.Assets) > 22 {
				t.row("  …", fmt.Sprintf("and %d more", len(s.Handoff.Assets)-i), "", "")
				break
			}
			from := ""
			if x.MovedFrom != "" {
				from = "from " + x.MovedFrom
			}
			t.row("  "+x.Change, x.Path, fmt.Sprintf("v%d", x.Version), from)
		}
		t.print()
	}
	if len(s.Left) > 0 {
		a.say("Gone here and not sent (%s; --with-gone hands the deletions off):", count(len(s.Left)))
		a.printPaths(s.Left)
	}
	a.printRefusals("Left out:", s.Odd)
}

func (a *app) update() *cli.Command {
	return command("update", "bring newer versions down; never overwrites a change of yours", "[PATH…]", "tarn update --preview",
		a.working(0, -1, "update [PATH…]", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			preview := cmd.Bool("preview")
			o := workspace.UpdateOptions{Paths: paths, Preview: preview, Newest: cmd.Bool("newest"), Pinned: cmd.Bool("pinned")}
			to, revision := cmd.String("to"), cmd.String("commit")
			ways := 0
			for _, named := range []bool{o.Newest, o.Pinned, to != "", revision != ""} {
				if named {
					ways++
				}
			}
			if ways > 1 {
				return wrongUse("take one of --to, --pinned, --commit and --newest")
			}
			if to != "" {
				var err error
				if o.To, err = a.handoffAt(ctx, w, to); err != nil {
					return err
				}
			}
			if revision != "" {
				p, err := a.pinOf(ctx, w, revision)
				if err != nil {
					return err
				}
				o.To = p.Handoff
			}
			if o.Pinned || revision != "" {
				if err := a.warnUnsent(ctx, w); err != nil {
					return err
				}
			}
			u, err := w.Update(ctx, o)
			if err != nil {
				return err
			}
			if err := a.answer(cmd, u, func() { a.printUpdated(u, preview) }); err != nil {
				return err
			}
			return a.partly(u)
		}),
		&cli.BoolFlag{Name: "preview", Usage: "only list what would come"},
		&cli.StringFlag{Name: "to", Usage: "bring the workspace to a handoff (h40), a milestone or a time, and stay at it"},
		&cli.BoolFlag{Name: "pinned", Usage: "bring the workspace to what tarn.pin says, and follow it from now on"},
		&cli.StringFlag{Name: "commit", Usage: "bring the workspace to what tarn.pin said in a commit, and stay at it"},
		&cli.BoolFlag{Name: "newest", Usage: "follow the newest again"}, limitFlag())
}

// warnUnsent says which changes are not in any handoff, before the workspace goes elsewhere. They stay.
func (a *app) warnUnsent(ctx context.Context, w *workspace.Workspace) error {
	list, err := w.UnsentHere(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	a.note("Changed here and not sent; it stays as it is, on top of what comes (tarn discard puts one away):")
	for i, x := range list {
		if i == 20 && len(list) > 25 {
			a.note("  … and %d more", len(list)-i)
			break
		}
		a.note("  %-7s %s", x.State, x.Path)
	}
	return nil
}

func (a *app) printUpdated(u *workspace.Updated, preview bool) {
	verb, gone := "Brought", "removed"
	if preview {
		verb, gone = "Would bring", "would remove"
	}
	for _, x := range u.Moved {
		a.say("%s was moved to %s by %s; your changes to it went along.", x.MovedFrom, x.Path, x.Author)
	}
	stays := ""
	if u.Follows > 0 {
		stays = "; the workspace stays there until tarn update --newest"
	}
	if u.Pinned {
		stays = ", as tarn.pin says; the workspace follows the pin until tarn update --newest"
	}
	if len(u.Brought)+len(u.Removed) == 0 {
		a.say("Nothing to bring: this is h%d%s.", u.At, stays)
		return
	}
	what := fmt.Sprintf("%s, %s", plural(len(u.Brought), "asset"), size(sum(u.Brought)))
	if len(u.Brought) == 0 {
		what = "nothing"
	}
	if len(u.Removed) > 0 {
		what += fmt.Sprintf(", and %s %s", gone, plural(len(u.Removed), "asset"))
	}
	a.say("%s %s; this is h%d%s.", verb, what, u.At, stays)
	t := newTable(a.out, "", "", "", "")
	for i, x := range append(u.Brought, u.Removed...) {
		if i == 30 {
			t.row("  …", fmt.Sprintf("and %d more", len(u.Brought)+len(u.Removed)-i), "", "")
			break
		}
		what := fmt.Sprintf("v%d", x.Newest)
		if x.Gone {
			what = "removed"
		}
		if x.MovedTo != "" {
			what = "moved to " + x.MovedTo
		}
		t.row("  "+x.Path, what, x.Author, firstLine(x.Note, 50))
	}
	t.print()
}

func (a *app) discard() *cli.Command {
	return command("discard", "put local changes away, and bring back what was there", "PATH…", "tarn discard textures/rust-albedo.png",
		a.working(0, -1, "discard PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			if cmd.Bool("list") == (len(paths) > 0) {
				return wrongUse("use it so: tarn discard PATH…, tarn discard --list, or tarn discard --restore PATH…")
			}
			if cmd.Bool("list") {
				list, err := w.Kept()
				if err != nil {
					return err
				}
				return a.answer(cmd, map[string]any{"put_away": list}, func() { a.printKept(list) })
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
		}),
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

func (a *app) heal() *cli.Command {
	return command("heal", "give the service back content that it lost, from the files here", "", "tarn heal",
		a.working(0, 0, "heal", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
			h, err := w.Heal(ctx)
			if err != nil {
				return err
			}
			return a.answer(cmd, h, func() {
				switch {
				case h.Wanted == 0:
					a.say("The service lacks nothing.")
				case h.Given == h.Wanted:
					a.say("The service lacked %s, and has all of it back from here (%s).", plural(h.Wanted, "chunk"), size(h.Size))
				case h.Given == 0:
					a.say("The service lacks %s, and none of it is here. Somebody else's workspace may have it.", plural(h.Wanted, "chunk"))
				default:
					a.say("The service lacked %s; %s of it came from here (%s). Somebody else's workspace may have the rest.", plural(h.Wanted, "chunk"),
						count(h.Given), size(h.Size))
				}
			})
		}), limitFlag())
}
