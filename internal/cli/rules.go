package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace"
)

func (a *app) rules() *cli.Command {
	c := command("rules", "what is tracked, what its lock is needed for, and why", "", "tarn rules test textures/cache/rust.png",
		a.looking(0, 0, "rules", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
			v, err := w.Rules(ctx)
			if err != nil {
				return err
			}
			return a.answer(cmd, v, func() { a.printRules(v) })
		}))
	c.Commands = []*cli.Command{a.rulesTest(), a.rulesPreset(), a.rulesInclude()}
	return c
}

func (a *app) printRules(v *workspace.RulesHere) {
	if len(v.Presets) > 0 {
		a.say("Presets: %s. What no rule covers is %s.", strings.Join(v.Presets, ", "), v.Otherwise)
	} else {
		a.say("No presets. What no rule covers is %s.", v.Otherwise)
	}
	if v.ReadOnly {
		a.say("Files whose lock is needed and not held are read-only.")
	}
	t := a.table("WHERE", "KIND", "LOCK", "PATTERNS", ">FILES", ">SIZE")
	for _, r := range v.Rules {
		where := r.In
		if r.Line > 0 {
			where = fmt.Sprintf("%s, line %d", r.In, r.Line)
		}
		t.row(where, dash(r.Kind), dash(r.Lock), firstLine(strings.Join(r.Match, "  "), 48), count(r.Assets), size(r.Size))
	}
	t.print()
	if len(v.Branches) > 0 {
		a.say("")
		t := a.table("WHERE", "BRANCHES", "WHAT COMES ONTO THEM")
		for _, b := range v.Branches {
			t.row(fmt.Sprintf("%s, line %d", b.In, b.Line), strings.Join(b.Match, "  "), b.Says)
		}
		t.print()
	}
	a.say("The last rule that matches decides. tarn rules test PATH says which one that is.")
	seconds := func(n int64) string { return span(time.Duration(n) * time.Second) }
	forgotten := "never looks forgotten"
	if v.Locks.ForgottenAfter > 0 {
		forgotten = "looks forgotten after " + seconds(v.Locks.ForgottenAfter) + " of silence"
	}
	behind := "is refused"
	if v.Locks.BehindWarns {
		behind = "is only warned about"
	}
	a.say("A lock that comes free stands offered to the next in line for %s; one that is held %s. Locking an old version %s.",
		seconds(v.Locks.OfferFor), forgotten, behind)
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// lockWords is what the lock of a path is needed for, in words.
func lockWords(d rules.Decision) string {
	switch d.Lock {
	case rules.Free:
		return "may be sent without a lock"
	case rules.OnEdit:
		return "needs its lock to be sent, taken by itself on the first edit where tarn watch runs"
	}
	return "needs its lock to be sent"
}

func (a *app) rulesTest() *cli.Command {
	return command("rules test", "which line decides about a path, and why", "PATH…", "tarn rules test textures/cache/rust.png",
		a.looking(1, -1, "rules test PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			list, err := w.TestRules(ctx, paths)
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]any{"paths": list}, func() {
				for _, t := range list {
					a.say("%s", t.Path)
					card := a.table("", "")
					card.row("  it is", fmt.Sprintf("%s, by %s", t.Kind, t.KindBy))
					if t.Kind == rules.Asset {
						card.row("  lock", fmt.Sprintf("%s, by %s", t.Lock, t.LockBy))
					}
					if t.Asset && t.Kind != rules.Asset {
						card.row("  but", "it is an asset of the project already, and stays one until somebody hands off its removal")
					}
					card.print()
				}
			})
		}))
}

func (a *app) rulesPreset() *cli.Command {
	return command("rules preset", "list the presets, or put some into the rules", "[NAME…]", "tarn rules preset game sound",
		func(ctx context.Context, cmd *cli.Command) error {
			names, err := arguments(cmd, 0, -1, "rules preset [NAME…]")
			if err != nil {
				return err
			}
			if cmd.Bool("text") || len(names) == 0 {
				return a.printPresets(cmd, names)
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			stay, err := w.AddPresets(ctx, names)
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]any{"presets": names, "would_leave_out": emptyNotNil(stay)}, func() {
				a.say("tarn.toml names %s now. tarn send hands it off; until then it holds here only.", strings.Join(names, ", "))
				a.printStay(stay)
			})
		},
		&cli.BoolFlag{Name: "text", Usage: "print the rules of the presets named, or of all"})
}

func (a *app) printPresets(cmd *cli.Command, names []string) error {
	var list []rules.Preset
	for _, p := range rules.Presets() {
		wanted := len(names) == 0
		for _, n := range names {
			wanted = wanted || n == p.Name
		}
		if wanted {
			list = append(list, p)
		}
	}
	if len(list) < len(names) {
		return wrongUse("there is no such preset; tarn rules preset lists them")
	}
	return a.answer(cmd, map[string]any{"presets": list}, func() {
		t := a.table("PRESET", "WHAT IT IS FOR")
		for _, p := range list {
			if cmd.Bool("text") {
				a.say("# %s\n%s", p.Name, p.Text)
				continue
			}
			t.row(p.Name, p.About)
		}
		if !cmd.Bool("text") {
			t.print()
			a.say("tarn rules preset NAME puts one into tarn.toml; --text shows what it says.")
		}
	})
}

// printStay says what becomes of assets that changed rules would leave out.
func (a *app) printStay(stay []model.Asset) {
	if len(stay) == 0 {
		return
	}
	fmt.Fprintf(a.errs, "These are assets, and the rules would leave them out now (%s). They stay assets until somebody hands off their "+
		"removal:\n", count(len(stay)))
	few(a.errs, stay, func(x model.Asset) string { return x.Path })
}

func (a *app) rulesInclude() *cli.Command {
	return command("rules include", "make an asset of a path that the rules leave out; who is no lead asks the leads", "PATH…",
		`tarn rules include -m "the sky is painted, not made" cache/sky.png`,
		a.working(1, -1, "rules include PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			out, err := w.Include(ctx, paths, cmd.String("reason"))
			if err != nil {
				return err
			}
			return a.answer(cmd, out, func() {
				for _, p := range out.Included {
					a.say("%s: an exception is in tarn.toml now. tarn send hands both off.", p)
				}
				for _, p := range out.Asked {
					a.say("%s: only leads change the rules, so they were asked. They decide on the rules page.", p)
				}
				for _, p := range out.Already {
					a.say("%s: the rules make an asset of it already.", p)
				}
			})
		}),
		&cli.StringFlag{Name: "reason", Aliases: []string{"m"}, Usage: "why; the leads see it"})
}

func (a *app) scope() *cli.Command {
	c := command("scope", "which folders come down to this workspace", "", "tarn scope remove sounds/raw",
		a.looking(0, 0, "scope", func(_ context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
			s, err := w.Scope()
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]any{"scope": append([]string{}, s...)}, func() {
				if len(s) == 0 {
					a.say("Everything comes down. tarn scope remove DIR leaves a folder out.")
					return
				}
				a.say("Scope: %s.", scopeWords(s))
			})
		}))
	c.Commands = []*cli.Command{
		command("scope add", "bring folders down from now on", "DIR…", "tarn scope add levels/harbour",
			a.working(1, -1, "scope add DIR…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
				u, err := w.AddScope(ctx, paths)
				if err != nil {
					return err
				}
				if err := a.answer(cmd, u, func() { a.printUpdated(u, false) }); err != nil {
					return err
				}
				return a.partly(u)
			}), limitFlag()),
		command("scope remove", "take folders out of this workspace; the service keeps them", "DIR…", "tarn scope remove sounds/raw",
			a.working(1, -1, "scope remove DIR…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
				u, err := w.RemoveScope(ctx, paths)
				if err != nil {
					return err
				}
				if err := a.answer(cmd, u, func() {
					a.say("%s, %s, taken out of this workspace. The service keeps them; tarn scope add brings them back.", plural(len(u.Removed), "file"),
						size(sum(u.Removed)))
				}); err != nil {
					return err
				}
				return a.partly(u)
			})),
	}
	return c
}

func scopeWords(scope []string) string {
	words := make([]string, len(scope))
	for i, s := range scope {
		if out, left := strings.CutPrefix(s, "-"); left {
			words[i] = "without " + out
		} else {
			words[i] = s
		}
	}
	return strings.Join(words, ", ")
}

func (a *app) settle() *cli.Command {
	return command("settle", "end a clash: what changed both here and there", "PATH", "tarn settle levels/harbour.glb --use both",
		a.working(1, 1, "settle PATH --use mine|theirs|both|copy",
			func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
				use := cmd.String("use")
				if use == "" {
					return wrongUse("say which: tarn settle %s --use mine, --use theirs, --use both or --use copy", paths[0])
				}
				s, err := w.Settle(ctx, paths[0], use)
				if err != nil {
					return err
				}
				if now, err := w.Status(ctx, workspace.Question{}); err == nil {
					w.Tell(ctx, now)
				}
				return a.answer(cmd, s, func() { a.printSettled(s) })
			}),
		&cli.StringFlag{Name: "use", Usage: "mine, theirs, both (theirs beside mine under a name of its own) or copy (mine becomes a new file " +
			"beside theirs, which needs no lock)"})
}

func (a *app) printSettled(s *workspace.Settled) {
	theirs := fmt.Sprintf("version %d by %s", s.Theirs.Newest, s.Theirs.Author)
	switch {
	case s.Use == workspace.UseCopy:
		a.say("Yours is a new file now: %s. tarn send hands it off.", s.Beside)
		if !s.Theirs.Gone {
			a.say("%s is %s again.", s.Path, theirs)
		}
		return
	case s.Use == workspace.UseTheirs && s.Theirs.Gone:
		a.say("%s is gone, as it is at the service.", s.Path)
	case s.Use == workspace.UseTheirs:
		a.say("%s is %s now.", s.Path, theirs)
	case !s.Superseded:
		a.say("Yours stays. It was removed there by %s; the next send brings it back as a new file.", s.Theirs.Author)
	default:
		a.say("Yours stays. The next send supersedes %s; that version stays in the history.", theirs)
	}
	if s.Beside != "" {
		a.say("%s is beside it: %s", strings.ToUpper(theirs[:1])+theirs[1:], s.Beside)
	}
	if s.PutAway != nil {
		a.say("Yours is put away for %d days; tarn discard --restore %s brings it back.", workspace.KeepDays, s.Path)
	}
}

func (a *app) move() *cli.Command {
	return command("move", "move an asset; it keeps its history and its lock", "FROM TO",
		"tarn move levels/harbour.glb levels/old/harbour.glb",
		a.working(2, 2, "move FROM TO", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			from, to := paths[0], paths[1]
			typed, err := w.Path(a.dir, cmd.Args().Get(1))
			if err != nil {
				return err
			}
			if assetpath.Fold(typed) == assetpath.Fold(from) {
				to = typed // another spelling of its own name is not to be put right
			} else if info, err := os.Stat(filepath.Join(w.Root, filepath.FromSlash(to))); err == nil && info.IsDir() {
				to = strings.TrimPrefix(to+"/"+filepath.Base(from), "/")
			}
			list, err := w.Move(ctx, from, to)
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]any{"moved": list}, func() {
				if len(list) == 1 {
					a.say("%s is %s now. tarn send hands the move off.", list[0].From, list[0].To)
					return
				}
				a.say("%s moved to %s. tarn send hands the moves off.", plural(len(list), "file"), to)
			})
		}))
}
