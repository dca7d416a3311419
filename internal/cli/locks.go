package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/prompt"
	"kettletarn/internal/workspace"
)

func (a *app) lock() *cli.Command {
	return command("lock", "take the locks of assets (files, folders, quoted patterns), all of them or none; or wait in line", "PATH…",
		`tarn lock --wait --note "north rail" levels/harbour.glb`,
		a.working(1, -1, "lock PATH…", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			out, err := w.Lock(ctx, paths, workspace.LockOptions{Note: cmd.String("note"), Set: cmd.Bool("set"), Any: cmd.Bool("any"),
				Wait:    cmd.Bool("wait"),
				Diverge: cmd.Bool("diverge"), Bring: cmd.Bool("bring"), Reserve: cmd.Bool("reserve")})
			if err != nil {
				return err
			}
			if err := a.answer(cmd, model.Locks{Locks: out.Locks, Waiting: out.Waiting, Refusals: out.Refusals}, func() {
				for _, l := range out.Locks {
					if l.Diverged > 0 {
						a.say("%s is yours, from version %d, though others have one that it was not made from: everyone sees that.", l.Path, l.Diverged)
						continue
					}
					a.say("%s is yours.", l.Path)
				}
				for _, x := range out.Waiting {
					a.say("%s: %s has it; you are %s in line, and will be told.", x.Path, x.Holder, lock.Ordinal(x.Place))
				}
				a.printBeforeEditing(ctx, w, out.Locks)
			}); err != nil {
				return err
			}
			if len(out.Refusals) > 0 {
				a.printRefusals("Not taken:", out.Refusals)
				return errPartly
			}
			return nil
		}),
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "what you are about to do; others see it"},
		&cli.BoolFlag{Name: "wait", Usage: "where somebody else has it, wait in line; says at which place at once"},
		&cli.BoolFlag{Name: "any", Usage: "of several, take those that can be taken"},
		&cli.BoolFlag{Name: "diverge", Usage: "go on from the version here though a newer one exists; everyone sees that"},
		&cli.BoolFlag{Name: "bring", Usage: "move your lock here from another of your workspaces"},
		&cli.BoolFlag{Name: "reserve", Usage: "keep names for files that come later"},
		&cli.BoolFlag{Name: "set", Usage: "take the rest of each set along"})
}

// printBeforeEditing names who else has unsent changes to what was locked just now, and says what of it comes from a kit.
func (a *app) printBeforeEditing(ctx context.Context, w *workspace.Workspace, locks []model.Lock) {
	paths := make([]string, len(locks))
	for i, l := range locks {
		paths[i] = l.Path
	}
	heads, err := w.HeadsUps(paths)
	if err != nil || ctx.Err() != nil {
		return
	}
	for _, h := range heads {
		fmt.Fprintf(a.errs, "Heads-up: %s has changes to %s that were not sent, since %s in %s.\n", h.Handle, h.Path, when(h.Since), h.Workspace)
	}
	for _, line := range w.FromKits(paths) {
		fmt.Fprintln(a.errs, line)
	}
}

func (a *app) unlock() *cli.Command {
	return command("unlock", "give locks back, or leave the line", "PATH…",
		`tarn unlock --override --reason "on leave since Friday" levels/harbour.glb`,
		a.unlocking(func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			reason := strings.TrimSpace(cmd.String("reason") + cmd.String("note"))
			if cmd.Bool("override") && reason == "" {
				return wrongUse("taking a lock away needs a reason: tarn unlock --override --reason \"…\" PATH; its holder gets to see it")
			}
			if !cmd.Bool("override") {
				if err := a.beforeUnlock(ctx, cmd, w, paths); err != nil {
					return err
				}
			}
			out, err := w.Unlock(ctx, paths, cmd.Bool("override"), reason)
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]any{"unlocked": append([]string{}, out.Freed...), "left": append([]string{}, out.Left...)}, func() {
				for _, p := range out.Freed {
					if next := out.Next[p]; next != "" {
						a.say("%s is given back, and offered to %s.", p, next)
						continue
					}
					a.say("%s is free.", p)
				}
				for _, p := range out.Left {
					a.say("%s: you are out of its line.", p)
				}
			})
		}),
		&cli.BoolFlag{Name: "override", Usage: "take it away from whoever holds it; leads and owners"},
		&cli.StringFlag{Name: "reason", Usage: "why, with --override"},
		&cli.StringFlag{Name: "edits", Usage: "what becomes of changes that were not sent: send, put-away or leave; asked for where left out"},
		anywhereFlag(),
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "with --override: why; with --edits send: what was done, and why"})
}

// unlocking is the action of unlock: taking a lock away needs no workspace where the project is named.
func (a *app) unlocking(do task) cli.ActionFunc {
	working := a.working(1, -1, "unlock PATH…", do)
	return func(ctx context.Context, cmd *cli.Command) error {
		switch {
		case cmd.String("project") == "":
			return working(ctx, cmd)
		case !cmd.Bool("override"):
			return wrongUse("a lock is given back in the workspace that holds it; with --project, --override takes it away")
		}
		return a.anywhere(1, -1, "unlock --override --project KEY -m REASON PATH…", do)(ctx, cmd)
	}
}

// beforeUnlock sees to unsent changes of what is to be unlocked. It never guesses what shall become of them.
func (a *app) beforeUnlock(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
	unsent, err := w.Unsent(ctx, paths)
	if err != nil || len(unsent) == 0 {
		return err
	}
	what := cmd.String("edits")
	if what == "" {
		fmt.Fprintf(a.errs, "Not sent yet (%s):\n", count(len(unsent)))
		few(a.errs, unsent, func(x model.Asset) string { return x.State + "  " + x.Path })
		what = prompt.Choose(a.in, a.errs, "Send them, put them away, or leave them here without the lock?", "send", "put-away", "leave")
	}
	names := make([]string, len(unsent))
	for i, x := range unsent {
		names[i] = x.Path
	}
	switch what {
	case "leave":
		return nil
	case "put-away":
		_, err := w.Discard(ctx, names)
		return err
	case "send":
		note := cmd.String("note") + cmd.String("word") // of unlock, of answer
		if note == "" && prompt.Interactive(a.in) {
			fmt.Fprint(a.errs, "What was done, and why? ")
			if note, err = prompt.Line(a.in); err != nil {
				return err
			}
		}
		if strings.TrimSpace(note) == "" {
			return wrongUse("add a note: tarn unlock --edits send -m \"what was done, and why\" PATH")
		}
		_, err := w.Send(ctx, workspace.SendOptions{About: model.About{Note: note}, Paths: names, KeepLocks: true, WithGone: true})
		return err
	}
	return model.NewProblem(model.BadRequest, "say --edits send, --edits put-away or --edits leave",
		"there are changes that were not sent, and nothing was unlocked")
}

func (a *app) holders() *cli.Command {
	return command("holders", "who holds what, since when and for what, who waits, and who has unsent changes", "[PATH…]",
		"tarn holders levels",
		a.anywhere(0, -1, "holders [PATH…]", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			if cmd.Bool("record") {
				return a.record(ctx, cmd, w, paths)
			}
			for _, name := range []string{"ending", "since"} {
				if cmd.IsSet(name) {
					return wrongUse("--%s is of the record: tarn holders --record --%s …", name, name)
				}
			}
			// Both are asked for at once: far from the service, one waits once.
			var all model.Locks
			heads := []model.HeadsUp{}
			both, asking := errgroup.WithContext(ctx)
			both.Go(func() (err error) {
				all, err = w.Client.Locks(asking, w.Marker.Project)
				return err
			})
			if !cmd.Bool("mine") && !cmd.Bool("waiting") && !cmd.Bool("stale") {
				both.Go(func() (err error) {
					heads, err = a.unsentOf(asking, w, paths)
					return err
				})
			}
			if err := both.Wait(); err != nil {
				return err
			}
			kept := []model.Lock{}
			for _, l := range all.Locks {
				if hit, _ := workspace.Within([]model.Asset{{Path: l.Path}}, paths); len(hit) > 0 && wanted(cmd, w, l) {
					kept = append(kept, l)
				}
			}
			return a.answer(cmd, map[string]any{"locks": kept, "heads_up": heads}, func() { a.printHolders(w, kept, heads) })
		}),
		&cli.BoolFlag{Name: "mine", Usage: "only what you hold, here or in another of your workspaces"},
		&cli.BoolFlag{Name: "waiting", Usage: "only what somebody waits for"},
		&cli.BoolFlag{Name: "stale", Usage: "only what looks forgotten: held for long, with no unsent change and no word from its workspace"},
		&cli.BoolFlag{Name: "record", Usage: "who held what before, for how long, and how it ended"},
		&cli.StringFlag{Name: "person", Usage: "only of one person"},
		&cli.StringFlag{Name: "ending", Usage: "the record of what ended so: " + strings.Join(lock.EndingWords(), ", ") + "; held for what " +
			"has not"},
		&cli.StringFlag{Name: "since", Usage: "the record from this time on (2h, yesterday, 16:30, 2026-03-02)"}, anywhereFlag())
}

func wanted(cmd *cli.Command, w *workspace.Workspace, l model.Lock) bool {
	mine := l.WorkspaceID == w.Marker.Workspace || w.Handle != "" && l.Holder == w.Handle
	if who := cmd.String("person"); who != "" && l.Holder != who {
		return false
	}
	return (!cmd.Bool("mine") || mine && l.Holder != "") && (!cmd.Bool("waiting") || len(l.Waitlist) > 0) &&
		(!cmd.Bool("stale") || l.Forgotten)
}

// unsentOf lists who has unsent changes at or below paths.
func (a *app) unsentOf(ctx context.Context, w *workspace.Workspace, paths []string) ([]model.HeadsUp, error) {
	all, err := w.Client.Unsent(ctx, w.Marker.Project)
	out := []model.HeadsUp{}
	for _, h := range all.HeadsUps {
		if hit, _ := workspace.Within([]model.Asset{{Path: h.Path}}, paths); len(hit) > 0 {
			out = append(out, h)
		}
	}
	return out, err
}

func (a *app) printHolders(w *workspace.Workspace, locks []model.Lock, heads []model.HeadsUp) {
	if len(locks) == 0 {
		a.say("Nothing is locked there, and nobody waits.")
	} else {
		t := a.table("ASSET", "HOLDER", "TAKEN", "WHERE", "NOTE")
		for _, l := range locks {
			if l.Holder == "" {
				t.row(l.Path, "free", "", "", "")
			} else {
				holder := l.Holder
				if l.WorkspaceID == w.Marker.Workspace {
					holder = "yours"
				}
				t.row(l.Path, holder, when(l.Since), l.Workspace, firstLine(l.Note, 40))
			}
			for _, line := range lockLines(l) {
				t.under("    " + line)
			}
		}
		t.print()
	}
	if len(heads) > 0 {
		a.say("\nChanged and not sent (%s):", count(len(heads)))
		t := a.table("", "", "", "")
		for _, h := range heads {
			t.row("  "+h.Path, h.Handle, h.State, "since "+when(h.Since)+" in "+h.Workspace)
		}
		t.print()
	}
}

// lockLines are what else there is to say of a lock.
func lockLines(l model.Lock) (lines []string) {
	if l.Diverged > 0 {
		lines = append(lines, fmt.Sprintf("taken knowingly from version %d, though others have one that it was not made from", l.Diverged))
	}
	if l.Forgotten {
		lines = append(lines, "looks forgotten: no unsent change, and no word from there since "+when(*l.Heard))
	}
	for i, x := range l.Waitlist {
		switch {
		case x.OfferedUntil != nil:
			lines = append(lines, fmt.Sprintf("offered to %s until %s", x.Handle, x.OfferedUntil.Local().Format("2 Jan 15:04")))
		default:
			line := fmt.Sprintf("%s in line: %s, since %s", lock.Ordinal(i+1), x.Handle, when(x.Since))
			if x.Note != "" && !slices.ContainsFunc(l.Asks, func(k model.Ask) bool { return k.Person == x.Handle && k.Reason == x.Note }) {
				line += ", for " + firstLine(x.Note, 50)
			}
			lines = append(lines, line)
		}
	}
	for _, k := range l.Asks {
		lines = append(lines, askLine(l, k))
	}
	return lines
}

func askLine(l model.Lock, k model.Ask) string {
	line := fmt.Sprintf("%s asks %s to let go: %s (%s)", k.Person, l.Holder, firstLine(k.Reason, 60), when(k.At))
	switch {
	case k.Answer != "":
		line += "; not yet"
		if k.Until != nil {
			line += " until " + k.Until.Local().Format("2 Jan 15:04")
		}
		if k.Word != "" {
			line += ": " + firstLine(k.Word, 60)
		}
	case k.Unanswered:
		line += "; no answer yet"
	}
	return line
}

// record prints the record.
func (a *app) record(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
	query := url.Values{}
	for _, name := range []string{"person", "ending"} {
		if v := cmd.String(name); v != "" {
			query.Set(name, v)
		}
	}
	if v := cmd.String("since"); v != "" {
		at, err := past("--since", v, time.Now(), false)
		if err != nil {
			return err
		}
		query.Set("since", at.UTC().Format(time.RFC3339))
	}
	if len(paths) > 1 {
		return wrongUse("the record is looked at for one path at a time")
	}
	if len(paths) == 1 {
		query.Set("path", paths[0])
	}
	record, err := w.Client.Record(ctx, w.Marker.Project, query)
	if err != nil {
		return err
	}
	return a.answer(cmd, record, func() {
		if len(record.Holds) == 0 {
			a.say("Nothing was held there.")
			return
		}
		t := a.table("ASSET", "PERSON", "TAKEN", ">HELD", "ENDED")
		for i, h := range record.Holds {
			if i == 200 && len(record.Holds) > 205 {
				t.row("…", "", "", "", fmt.Sprintf("and %s more: --json or --csv has all", count(len(record.Holds)-i)))
				break
			}
			t.row(h.Path, h.Person, when(h.Taken), span(time.Duration(h.Seconds)*time.Second), endingWords(h))
		}
		t.print()
	})
}

func endingWords(h model.Hold) string {
	word := lock.SaidOf(h.Ending)
	if h.Handoff > 0 {
		word += fmt.Sprintf(" (h%d)", h.Handoff)
	}
	if h.EndedBy != "" {
		word += " by " + h.EndedBy
	}
	if h.Word != "" && h.Ending == lock.EndOverridden {
		word += ": " + firstLine(h.Word, 50)
	}
	return word
}

func (a *app) ask() *cli.Command {
	return command("ask", "ask the holder of a lock to let go; you wait in line from then on", "PATH",
		`tarn ask -m "two minutes for the rail" levels/harbour.glb`,
		a.working(1, 1, "ask -m REASON PATH", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			reason := cmd.String("reason")
			if strings.TrimSpace(reason) == "" {
				return wrongUse("say why: tarn ask -m \"…\" PATH; the holder gets to see it")
			}
			out, err := w.Ask(ctx, paths[0], reason)
			if err != nil {
				return err
			}
			return a.answer(cmd, out, func() {
				a.say("%s was asked; you are %s in line for %s, and will be told.", out.Holder, lock.Ordinal(out.Place), out.Path)
			})
		}),
		&cli.StringFlag{Name: "reason", Aliases: []string{"m"}, Usage: "why; the holder sees it"})
}

func (a *app) answerAsk() *cli.Command {
	return command("answer", "answer those who ask for a lock that you hold", "PATH",
		`tarn answer --not-yet -m "the reef is half moved" --until 16:30 levels/harbour.glb`,
		a.working(1, 1, "answer PATH --give or --not-yet",
			func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
				give := cmd.Bool("give")
				if give == cmd.Bool("not-yet") {
					return wrongUse("say --give or --not-yet")
				}
				answer := model.AskAnswer{Path: paths[0], Give: give, To: cmd.String("to"), Word: cmd.String("word")}
				if text := cmd.String("until"); text != "" {
					until, err := moment(text, time.Now())
					if err != nil {
						return err
					}
					answer.Until = &until
				}
				if give {
					if err := a.beforeUnlock(ctx, cmd, w, paths); err != nil {
						return err
					}
				}
				if err := w.Answer(ctx, answer); err != nil {
					return err
				}
				return a.answer(cmd, map[string]any{"path": answer.Path, "give": give}, func() {
					switch {
					case give && answer.To != "":
						a.say("%s is offered to %s now.", answer.Path, answer.To)
					case give:
						a.say("%s is offered to the first in line now.", answer.Path)
					default:
						a.say("They are told: not yet.")
					}
				})
			}),
		&cli.BoolFlag{Name: "give", Usage: "give the lock back, for the first in line"},
		&cli.BoolFlag{Name: "not-yet", Usage: "keep it for now"},
		&cli.StringFlag{Name: "to", Usage: "of several, whom it is for"},
		&cli.StringFlag{Name: "word", Aliases: []string{"m"}, Usage: "with --not-yet: why; with --edits send: the note"},
		&cli.StringFlag{Name: "until", Usage: "with --not-yet: until when (16:30, tomorrow, 2026-03-02, 2h)"},
		&cli.StringFlag{Name: "edits", Usage: "with --give: what becomes of changes that were not sent: send, put-away or leave; asked for " +
			"where left out"})
}

// past reads a point in time behind us: how long ago, a day, or a time of day. With end, a day stands for its end.
func past(flag, text string, now time.Time, end bool) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(-d), nil
	}
	day := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	switch text {
	case "yesterday":
		day = day.AddDate(0, 0, -1)
		fallthrough
	case "today":
		if end {
			return day.AddDate(0, 0, 1), nil
		}
		return day, nil
	}
	if t, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		return day.Add(time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute), nil
	}
	if at, ok := point.Time(text, now.Location(), end); ok {
		return at, nil
	}
	return time.Time{}, wrongUse("%s is no time: %q; it looks like 2h, yesterday, 16:30, 2026-03-02 or 2026-03-02T15:04:05Z", flag, text)
}

// moment reads a point in time to come: a time of day, a day, or a span from now.
func moment(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	if t, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		at := midnight.Add(time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute)
		if at.Before(now) {
			at = at.AddDate(0, 0, 1)
		}
		return at, nil
	}
	if text == "tomorrow" {
		return midnight.AddDate(0, 0, 1), nil
	}
	for _, form := range []string{time.DateOnly, "2006-01-02 15:04", time.RFC3339} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil && t.After(now) {
			return t, nil
		}
	}
	return time.Time{}, wrongUse("%q is not a time to come; it looks like 16:30, tomorrow, 2026-03-02 or 2h", text)
}
