package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
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
			c, err := a.limitedClient(cmd)
			if err != nil {
				return err
			}
			again := false
			if !cmd.Bool("preview") {
				if again, err = workspace.MayStart(ctx, a.dir, args[0], c); err != nil {
					return err
				}
			}
			presets := cmd.StringSlice("preset")
			if cmd.Bool("no-presets") {
				presets = []string{}
			} else if len(presets) == 0 {
				presets = nil
			}
			var preview *workspace.Preview
			if !again || cmd.Bool("preview") {
				if preview, err = workspace.PreviewStart(ctx, a.dir, presets); err != nil {
					return err
				}
			}
			if cmd.Bool("preview") {
				return a.answer(cmd, preview, func() { a.printPreview(args[0], preview) })
			}
			if !cmd.Bool("json") && !again {
				a.printPreview(args[0], preview)
			}
			if !cmd.Bool("yes") && !again && !prompt.Confirm(a.in, a.errs, fmt.Sprintf("Make the project %s of this folder?", args[0])) {
				return model.NewProblem(model.BadRequest, "say --yes to go on, --preset NAME for other presets, --no-presets for none",
					"nothing was done")
			}
			rulesText := ""
			if preview != nil {
				rulesText = preview.Rules
			}
			w, err := workspace.Start(ctx, a.dir, args[0], rulesText, c, newProgress(a.screen))
			if err != nil {
				return err
			}
			defer w.Close()
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			sent, err := w.Send(ctx, workspace.SendOptions{About: model.About{Note: cmd.String("note")}})
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
					a.say("The project %s is there. Handoff h%d holds it as it stands: %s.", args[0], sent.Handoff.Number,
						plural(sent.Handoff.Count, "asset"))
				} else {
					a.say("The project %s is there, and has nothing in it yet.", args[0])
				}
				a.say("Others join with: tarn sign-in %s, then tarn join %s. Add them with tarn member add HANDLE.", c.URL(), args[0])
			})
		},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Value: "Baseline: everything as it stands", Usage: "note of the first handoff"},
		&cli.StringSliceFlag{Name: "preset", Usage: "rules for a kind of work, in place of those proposed; may be given more than once"},
		&cli.BoolFlag{Name: "no-presets", Usage: "take everything"},
		&cli.BoolFlag{Name: "preview", Usage: "only say what it would track"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"}, limitFlag())
}

func (a *app) printPreview(key string, p *workspace.Preview) {
	switch {
	case p.Rules != "" && len(p.Presets) > 0:
		a.say("Proposed rules: the presets %s. They would be written into tarn.toml.", strings.Join(p.Presets, ", "))
	case p.Rules != "":
		a.say("No preset fits or was asked for: a tarn.toml without any would be written.")
	default:
		a.say("The rules in tarn.toml hold.")
	}
	a.say("%s would track %s, %s.", key, plural(p.Files, "file"), size(p.Size))
	if p.Code > 0 {
		a.say("Left to the main history: %s.", plural(p.Code, "file"))
	}
	if p.Left > 0 {
		a.say("Left out: %s.", plural(p.Left, "file or folder", "files and folders"))
		t := a.table("", ">", "")
		for i, l := range p.LeftBy {
			if i == 20 {
				t.row("", count(len(p.LeftBy)-i), "more rules: --json lists all")
				break
			}
			t.row(" ", count(l.Files), l.By.String())
		}
		t.print()
	}
	a.printSizes("The largest:", p.Largest)
	if len(p.Hidden) > 0 {
		a.say("Large, and hidden by a git ignore file. Often these are assets; " +
			"a rule with kind = \"asset\" that names their place takes them in:")
		t := a.table("", ">", "")
		for _, l := range p.Hidden {
			t.row("  "+l.Path, size(l.Size), l.By.String())
		}
		t.print()
	}
	a.printSizes("Large, binary, and covered by no rule: the main history would take them:", p.Uncovered)
	a.printRefusals(fmt.Sprintf("It can't take %s:", plural(len(p.Odd), "name")), p.Odd)
}

func (a *app) printSizes(title string, list []model.Asset) {
	if len(list) == 0 {
		return
	}
	a.say("%s", title)
	t := a.table("", ">")
	for _, f := range list {
		t.row("  "+f.Path, size(f.Size))
	}
	t.print()
}

func (a *app) join() *cli.Command {
	return command("join", "bring a project down into a new folder, or the assets that go with the code in this one", "KEY [DIR]",
		"tarn join brinelight ~/work/brinelight",
		func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Bool("pinned") {
				return a.joinPinned(ctx, cmd)
			}
			args, err := arguments(cmd, 1, 2, "join KEY [DIR]")
			if err != nil {
				return err
			}
			c, err := a.limitedClient(cmd)
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
			if err := scopeThere(ctx, c, args[0], cmd.StringSlice("scope")); err != nil {
				return err
			}
			if name := cmd.String("branch"); name != "" {
				if _, err := c.Branch(ctx, args[0], name); err != nil {
					return err // before a folder is made for it
				}
			}
			w, err := workspace.Join(ctx, target, args[0], here, c, newProgress(a.screen))
			if err != nil {
				return err
			}
			defer w.Close()
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			if name := cmd.String("branch"); name != "" {
				if err := w.StartOn(ctx, name); err != nil {
					return err
				}
			}
			if here {
				out, err := w.Adopt(ctx)
				if err != nil {
					return err
				}
				return a.answer(cmd, out, func() { a.printAdopted(target, out) })
			}
			o := workspace.UpdateOptions{}
			if at := cmd.String("at"); at != "" {
				if o.To, err = a.handoffAt(ctx, w, at); err != nil {
					return err
				}
			}
			if err := a.takeUp(ctx, cmd, w); err != nil {
				return err
			}
			if !cmd.Bool("json") && o.To == 0 {
				if err := a.printComing(ctx, w); err != nil {
					return err
				}
			}
			u, err := w.Update(ctx, o)
			if err != nil {
				return err
			}
			on, err := w.Branch()
			if err != nil {
				return err
			}
			if err := a.answer(cmd, u, func() {
				a.say("%s is in %s, on %s as of h%d: %s, %s.", args[0], target, on, u.At, plural(len(u.Brought)+u.Same, "asset"), size(sum(u.Brought)))
				if u.Follows > 0 {
					a.say("It stays at h%d; tarn update --newest makes it follow the newest.", u.Follows)
				}
			}); err != nil {
				return err
			}
			return a.partly(u)
		},
		&cli.StringSliceFlag{Name: "scope", Usage: "bring down only this folder; may be given more than once"},
		&cli.BoolFlag{Name: "pinned", Usage: "inside a clone of the code: bring the assets that its tarn.pin names; can be repeated"},
		&cli.StringFlag{Name: "at", Usage: "bring it down as of a handoff (h40), a milestone or a time, and stay there"},
		&cli.StringFlag{Name: "branch", Usage: "bring down this branch, and follow it"},
		&cli.StringFlag{Name: "like", Usage: "with the scope and the branch that another workspace of yours has or had, by its name; - for none"},
		&cli.BoolFlag{Name: "here", Usage: "tie a folder that has the files already; overwrites nothing"}, limitFlag())
}

// scopeThere refuses folders of a scope that the project does not have, before anything is made: a slip would make a workspace with
// nothing in it.
func scopeThere(ctx context.Context, c *client.Client, key string, folders []string) error {
	var refusals []model.Refusal
	for _, f := range folders {
		f = strings.Trim(filepath.ToSlash(f), "/")
		page, err := c.Folder(ctx, key, f, 0, 1)
		var problem *model.Problem
		if err != nil && (!errors.As(err, &problem) || problem.Type != model.NotFound) {
			return err
		}
		if err != nil || len(page.Folders)+len(page.Assets) == 0 {
			refusals = append(refusals, model.Refusal{Path: f, Reason: "unknown", Message: f + ": the project has no such folder",
				Remedy: "check the spelling; the console shows the folders, and tarn scope add brings one in later"})
		}
	}
	if len(refusals) > 0 {
		return &model.Refused{Refusals: refusals}
	}
	return nil
}

// takeUp gives a new workspace its scope: as the flags say, or else as the person's last one had it, if they want that.
func (a *app) takeUp(ctx context.Context, cmd *cli.Command, w *workspace.Workspace) error {
	if folders := cmd.StringSlice("scope"); len(folders) > 0 {
		return w.SetScope(folders)
	}
	like := cmd.String("like")
	if like == "-" {
		return nil
	}
	fresh, err := w.Fresh()
	if err != nil || !fresh {
		return err
	}
	known, err := w.Client.Workspaces(ctx, w.Marker.Project)
	if err != nil {
		return err
	}
	var others []model.Workspace
	for _, o := range known.Workspaces {
		if o.ID != w.Marker.Workspace && o.Kind == model.KindFolder &&
			(like == "" && o.Told != nil && o.Machine != "" || like != "" && strings.EqualFold(o.Name, like)) {
			others = append(others, o)
		}
	}
	switch {
	case like != "" && len(others) == 0:
		return model.NewProblem(model.NotFound, "tarn join without --like shows them", "you have, and had, no workspace %s in %s", like,
			w.Marker.Project)
	case like != "":
		return a.takeLike(ctx, w, others[0])
	}
	// The one that was heard of last is offered where it is not just another folder on this machine that is in use.
	for _, o := range others {
		if o.Machine == workspace.Machine() && workspace.Stands(o.Folder) || len(o.Scope) == 0 && o.Follows == 0 && o.Locks == 0 &&
			o.Unsent == 0 {
			continue
		}
		text := fmt.Sprintf("You had %s in %s on %s, last heard of %s: %s.", w.Marker.Project, o.Folder, o.Machine, when(o.Seen),
			workspaceWords(o))
		if !prompt.Interactive(a.in) || cmd.Bool("json") {
			a.note("%s\nWith --like %q this one gets the same.", text, o.Name)
			return nil
		}
		fmt.Fprintf(a.errs, "%s\nTake that up here? [Y/n] ", text)
		answer, err := prompt.Line(a.in)
		if err != nil {
			return err
		}
		if answer = strings.ToLower(strings.TrimSpace(answer)); answer == "" || strings.HasPrefix(answer, "y") {
			return a.takeLike(ctx, w, o)
		}
		return nil
	}
	return nil
}

func (a *app) takeLike(ctx context.Context, w *workspace.Workspace, o model.Workspace) error {
	if err := w.Take(o); err != nil {
		return err
	}
	a.note("As in %s: %s.", o.Name, workspaceWords(o))
	if o.Locks > 0 {
		a.note("%s held there: tarn holders --mine lists them, and tarn lock --bring PATH makes one yours here.",
			plural(o.Locks, "lock is", "locks are"))
	}
	if o.Unsent > 0 {
		a.note("%s had changes there that were never sent; only that machine has them.", plural(o.Unsent, "asset"))
	}
	return nil
}

// workspaceWords says what a workspace had.
func workspaceWords(o model.Workspace) string {
	words := "all of it"
	if len(o.Scope) > 0 {
		if words = scopeWords(o.Scope); !strings.HasPrefix(o.Scope[0], "-") {
			words = "only " + words
		}
	}
	if o.Branch != "" && o.Branch != "main" {
		words += ", on the branch " + o.Branch
	}
	if o.Follows > 0 {
		words += fmt.Sprintf(", at h%d", o.Follows)
	}
	return words
}

// printComing says what a join is about to bring, by folder, and how long that may take.
func (a *app) printComing(ctx context.Context, w *workspace.Workspace) error {
	coming, err := w.Coming(ctx)
	if err != nil || coming.Files == 0 {
		return err
	}
	long := ""
	if word := paceWord(coming.Size, coming.Pace); word != "" {
		long = ", " + word
	}
	a.say("%s, %s to bring%s:", plural(coming.Files, "asset"), size(coming.Size), long)
	t := a.table("", ">", ">", "")
	for i, f := range coming.Folders {
		if i == 20 {
			t.row("  …", fmt.Sprintf("%d more", len(coming.Folders)-i), "", "")
			break
		}
		t.row("  "+f.Name, count(f.Assets), size(f.Size), paceWord(f.Size, coming.Pace))
	}
	t.print()
	return nil
}

// paceWord is how long so many bytes take at so many a second; "" before the first time that something was brought here.
func paceWord(n, pace int64) string {
	if pace <= 0 {
		return ""
	}
	d := time.Duration(float64(n) / float64(pace) * float64(time.Second))
	if d < time.Second {
		return "under a second"
	}
	return "about " + d.Round(time.Second).String()
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
