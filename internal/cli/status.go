package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/sheet"
	"kettletarn/internal/workspace"
	"kettletarn/internal/workspace/scan"
)

func (a *app) status() *cli.Command {
	return command("status", "what has changed here, what is newer there, who holds what", "[PATH…]", "tarn status textures",
		a.looking(0, -1, "status [PATH…]", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			if cmd.Bool("fetch") {
				if err := w.Refresh(ctx); err != nil {
					return err
				}
			}
			asJSON := cmd.Bool("json")
			s, err := w.QuickStatus(ctx, workspace.Question{Paths: paths, All: asJSON, LeftOut: cmd.Bool("ignored")})
			if err != nil {
				return err
			}
			if cmd.Bool("fetch") {
				w.Tell(ctx, s)
			}
			assets, missing := workspace.Within(s.Assets, paths)
			if missing = unexplained(missing, s); len(missing) > 0 {
				return model.NewProblem(model.NotFound, "check the spelling; tarn rules test PATH says whether the rules leave it out",
					"there is no asset at %s", strings.Join(missing, ", "))
			}
			if s.Rules != nil {
				fmt.Fprintln(a.errs, "tarn:", s.Rules)
			}
			if asJSON {
				return a.json(statusJSON(w, s, assets, cmd.Bool("ignored")))
			}
			if cmd.Bool("csv") {
				return sheet.Write(a.out, assets)
			}
			if len(assets) == 1 && len(paths) == 1 && (assets[0].Path == paths[0] || assets[0].MovedFrom == paths[0]) {
				a.printCard(w, s, assets[0])
			} else {
				a.printStatus(w, s, assets)
			}
			if cmd.Bool("ignored") {
				a.printLeftOut(s)
			}
			return nil
		}),
		&cli.BoolFlag{Name: "fetch", Usage: "ask the service first"},
		&cli.BoolFlag{Name: "ignored", Usage: "also list what is left out, with the rule that does it"})
}

// unexplained are the paths at which there is nothing, those excepted that are listed as left out.
func unexplained(missing []string, s *workspace.Status) (out []string) {
	for _, m := range missing {
		known := false
		for _, l := range s.LeftOut {
			known = known || strings.TrimSuffix(l.Path, "/") == m || strings.HasPrefix(l.Path, m+"/")
		}
		if !known {
			out = append(out, m)
		}
	}
	return out
}

func statusJSON(w *workspace.Workspace, s *workspace.Status, assets []model.Asset, leftOut bool) workspace.Standing {
	v := w.Standing(s)
	v.Assets = emptyNotNil(assets)
	if leftOut {
		v.Ignored = append([]scan.LeftOut{}, s.LeftOut...)
	}
	return v
}

func (a *app) printLeftOut(s *workspace.Status) {
	if len(s.LeftOut) == 0 {
		a.say("\nThe rules leave nothing out.")
		return
	}
	a.say("\nLeft out (%s): tarn rules include PATH takes one in", count(len(s.LeftOut)))
	t := a.table("", "", "")
	for i, l := range s.LeftOut {
		if i == 200 && len(s.LeftOut) > 205 {
			t.row("  …", fmt.Sprintf("and %s more: --json lists all", count(len(s.LeftOut)-i)), "")
			break
		}
		t.row("  "+l.State, l.Path, "by "+l.By.String())
	}
	t.print()
}

func watchedWord(s *workspace.Status) string {
	if s.Watched {
		return ", watched"
	}
	return ""
}

func emptyNotNil(assets []model.Asset) []model.Asset {
	return append([]model.Asset{}, assets...)
}

func (a *app) holderWord(w *workspace.Workspace, x model.Asset) string {
	switch {
	case x.Lock == nil && x.State == model.New:
		return ""
	case x.Lock != nil && x.Lock.WorkspaceID == w.Marker.Workspace:
		return "yours"
	}
	holder := "free"
	if x.Lock != nil {
		holder = x.Lock.Holder
	}
	for i, wait := range x.Waiting {
		switch {
		case wait.WorkspaceID == w.Marker.Workspace && wait.OfferedUntil != nil:
			return "offered to you"
		case wait.WorkspaceID == w.Marker.Workspace:
			return fmt.Sprintf("%s; waiting, %s in line", holder, lock.Ordinal(i+1))
		case wait.OfferedUntil != nil:
			holder = "offered to " + wait.Handle
		}
	}
	return holder
}

func fetchedWord(t time.Time) string {
	if t.IsZero() {
		return "the service was not asked yet"
	}
	return "as the service said " + when(t)
}

// groups are the states, in the order in which they want doing something about.
var groups = []struct{ state, title, remedy string }{
	{model.Clash, "Changed here and newer there", "tarn settle PATH --use mine, theirs, both or copy ends it"},
	{model.Edited, "Changed here", "tarn send -m NOTE hands them off"},
	{moved, "Moved here", "tarn send -m NOTE hands the moves off"},
	{model.New, "New here", "tarn send -m NOTE hands them off"},
	{model.Gone, "Gone here", "tarn discard PATH brings one back; tarn send --with-gone hands the deletion off"},
	{model.Behind, "Newer there", "tarn update brings them"},
	{model.Outside, "Outside the scope", "tarn scope add DIR takes a folder in; they are not sent before"},
}

// moved groups files that are only at another place.
const moved = "moved"

func (a *app) printStatus(w *workspace.Workspace, s *workspace.Status, assets []model.Asset) {
	byState := map[string][]model.Asset{}
	var others, mine, warned, lines []model.Asset
	for _, x := range assets {
		state := x.State
		if state == model.Same && x.MovedFrom != "" {
			state = moved
		}
		byState[state] = append(byState[state], x)
		switch {
		case x.Lock != nil && x.Lock.WorkspaceID == w.Marker.Workspace:
			mine = append(mine, x)
		case len(x.Waiting) > 0:
			lines = append(lines, x)
		case x.Lock != nil:
			others = append(others, x)
		}
		if len(x.HeadsUp) > 0 {
			warned = append(warned, x)
		}
	}
	a.say("%s, on %s at h%d, %s%s", w.Marker.Project, s.View.On(), s.At, fetchedWord(s.Fetched), watchedWord(s))
	switch p, err := workspace.ReadPin(w.Root); {
	case s.Pinned && err == nil && p.Handoff != s.Follows:
		a.say("It follows the pin, which says h%d now: tarn update brings it there.", p.Handoff)
	case s.Pinned:
		a.say("It follows the pin; the newest is h%d. tarn update --newest goes to the newest.", s.View.Newest)
	case s.Follows > 0:
		a.say("It stays at h%d; the newest is h%d. tarn update --newest goes back to the newest.", s.Follows, s.View.Newest)
	}
	if len(s.Scope) > 0 {
		a.say("Scope: %s.", scopeWords(s.Scope))
	}
	if s.Pending != nil {
		a.say("\nA send from %s was cut off before its answer came; the next tarn send finds out what became of it.", when(s.Pending.Since))
	}
	a.printJobs(s.Jobs)
	quiet := len(s.Jobs) == 0
	for _, g := range groups {
		list := byState[g.state]
		if len(list) == 0 {
			continue
		}
		quiet = false
		a.say("\n%s (%s): %s", g.title, count(len(list)), g.remedy)
		t := a.table("", "", ">", "", "")
		for i, x := range list {
			if i == 50 && len(list) > 55 {
				t.row("  …", fmt.Sprintf("and %d more", len(list)-i), "", "", "")
				break
			}
			word := x.State
			if g.state == moved {
				word = moved
			}
			if x.Sending > 0 {
				word = fmt.Sprintf("sending %d%%", x.Sending)
			}
			t.row("  "+word, x.Path, size(x.Size), versionWord(x), a.holderWord(w, x))
		}
		t.print()
	}
	if len(warned) > 0 {
		quiet = false
		a.say("\nHeads-up (%s): somebody else has changes that were not sent", count(len(warned)))
		t := a.table("", "", "")
		for _, x := range warned {
			for _, h := range x.HeadsUp {
				t.row("  "+x.Path, h.Handle, "since "+when(h.Since)+" in "+h.Workspace)
			}
		}
		t.print()
	}
	quiet = a.printLines(w, lines) && quiet
	if len(mine) > 0 {
		a.say("\nYou hold (%s):", count(len(mine)))
		t := a.table("", "", "", "")
		for _, x := range mine {
			waits := ""
			if n := len(x.Waiting); n > 0 {
				waits = x.Waiting[0].Handle + " waits"
				if n > 1 {
					waits = fmt.Sprintf("%s and %d more wait", x.Waiting[0].Handle, n-1)
				}
			}
			t.row("  "+x.Path, "taken "+when(x.Lock.Since), x.State, waits)
		}
		t.print()
	}
	if len(others) > 0 {
		a.say("\nHeld by others (%s):", count(len(others)))
		t := a.table("", "", "", "")
		for i, x := range others {
			if i == 20 && len(others) > 22 {
				t.row("  …", fmt.Sprintf("and %d more: tarn holders", len(others)-i), "", "")
				break
			}
			t.row("  "+x.Path, x.Lock.Holder, "taken "+when(x.Lock.Since), firstLine(x.Lock.Note, 40))
		}
		t.print()
	}
	if n := len(s.KitsBehind); n > 0 {
		quiet = false
		a.say("\nKits of which there is a later release (%s): tarn kit update DIR, or --all, brings it", count(n))
		t := a.table("", "", "")
		for _, u := range s.KitsBehind {
			t.row("  "+u.Dir, fmt.Sprintf("%s@%d", u.Kit, u.Release), fmt.Sprintf("the latest is @%d", u.Newest))
		}
		t.print()
	}
	if quiet {
		a.say("\nNothing has changed here, and nothing newer is known: %s.", plural(s.Same, "asset"))
	}
	if len(s.Uncovered) > 0 {
		a.say("\nLarge and covered by no rule (%s): the main history would take them. tarn rules include PATH makes an asset of one",
			count(len(s.Uncovered)))
		t := a.table("", ">")
		for _, x := range s.Uncovered {
			t.row("  "+x.Path, size(x.Size))
		}
		t.print()
	}
	a.printRefusals(fmt.Sprintf("\nNot tracked (%s):", count(len(s.Odd))), s.Odd)
}

// printLines prints what somebody waits for, with what is offered to this workspace first. It reports whether there was nothing to say.
func (a *app) printLines(w *workspace.Workspace, lines []model.Asset) (quiet bool) {
	var offered, rest []model.Asset
	for _, x := range lines {
		if a.holderWord(w, x) == "offered to you" {
			offered = append(offered, x)
		} else {
			rest = append(rest, x)
		}
	}
	if len(offered) > 0 {
		a.say("\nYour turn (%s): tarn begin takes it, with its newest version", count(len(offered)))
		t := a.table("", "")
		for _, x := range offered {
			t.row("  "+x.Path, "until "+x.Waiting[0].OfferedUntil.Local().Format("2 Jan 15:04"))
		}
		t.print()
	}
	if len(rest) > 0 {
		a.say("\nWaited for (%s):", count(len(rest)))
		t := a.table("", "", "")
		for _, x := range rest {
			since := ""
			if x.Lock != nil {
				since = "taken " + when(x.Lock.Since)
			}
			t.row("  "+x.Path, a.holderWord(w, x), since)
		}
		t.print()
	}
	return len(lines) == 0
}

func versionWord(x model.Asset) string {
	word := ""
	switch {
	case x.State == model.Behind && x.Gone && x.MovedTo != "":
		word = "was moved by " + x.Author + " to " + x.MovedTo
	case x.Gone && x.State == model.Clash && x.MovedTo != "":
		word = fmt.Sprintf("v%d here; %s moved it to %s", x.Version, x.Author, x.MovedTo)
	case x.Gone && (x.State == model.Behind || x.State == model.Clash):
		word = "was removed by " + x.Author
	case x.State == model.Behind && x.Version == 0:
		word = fmt.Sprintf("v%d by %s", x.Newest, x.Author)
	case x.State == model.Clash && x.Version == 0:
		word = fmt.Sprintf("never sent; v%d by %s there", x.Newest, x.Author)
	case x.State == model.Behind || x.State == model.Clash:
		word = fmt.Sprintf("v%d here, v%d by %s", x.Version, x.Newest, x.Author)
	case x.Version > 0:
		word = fmt.Sprintf("from v%d", x.Version)
	}
	if x.MovedFrom != "" {
		word = strings.TrimPrefix(word+", moved from "+x.MovedFrom, ", ")
	}
	return word
}

func (a *app) printJobs(jobs []workspace.Job) {
	for _, j := range jobs {
		note := firstLine(j.Note, 50)
		if len(j.Refusals) == 0 {
			a.say("\nSending in the background: %s, %s, %d%%: %s", plural(len(j.Files), "asset"), size(j.Size), j.Percent, note)
			if j.Trouble != "" {
				a.say("  It waits: %s", j.Trouble)
			}
			a.say("  tarn send --cancel takes it back.")
			continue
		}
		a.printRefusals(fmt.Sprintf("\nA send in the background was refused (%s). Your files are as they were; send again when this is cleared:",
			note), j.Refusals)
	}
}

// printCard is the one-glance card of a single file.
func (a *app) printCard(w *workspace.Workspace, s *workspace.Status, x model.Asset) {
	a.say("%s", x.Path)
	t := a.table("", "")
	t.row("  state", cardState(x))
	if x.MovedFrom != "" {
		t.row("  moved", "from "+x.MovedFrom+", not sent yet")
	}
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
		line, _, _ := strings.Cut(holder, "; waiting")
		if x.Lock != nil {
			line = fmt.Sprintf("%s, taken %s in %s", line, when(x.Lock.Since), x.Lock.Workspace)
			if x.Lock.Note != "" {
				line += ": " + firstLine(x.Lock.Note, 60)
			}
		}
		t.row("  lock", line)
	}
	for i, wait := range x.Waiting {
		who := wait.Handle
		if wait.WorkspaceID == w.Marker.Workspace {
			who = "you"
		}
		line := fmt.Sprintf("%s, %s, since %s", lock.Ordinal(i+1), who, when(wait.Since))
		if wait.OfferedUntil != nil {
			line += "; offered until " + wait.OfferedUntil.Local().Format("2 Jan 15:04")
		}
		t.row("  in line", line)
	}
	for _, h := range x.HeadsUp {
		t.row("  heads-up", fmt.Sprintf("%s has changes that were not sent, since %s in %s", h.Handle, when(h.Since), h.Workspace))
	}
	d := s.Decide(x.Path)
	t.row("  rules", lockWords(d)+", by "+d.LockBy.String())
	t.row("  known", fetchedWord(s.Fetched))
	t.print()
}

// cardState is a state with what it means.
func cardState(x model.Asset) string {
	words := map[string]string{model.Same: "as it is at the service", model.New: "not sent yet", model.Edited: "changed here, not sent",
		model.Gone: "gone here", model.Behind: "a newer version exists",
		model.Clash: "changed here, and newer there", model.Outside: "outside the scope"}
	word := x.State
	if words[x.State] != "" {
		word += ": " + words[x.State]
	}
	if x.Sending > 0 {
		word += fmt.Sprintf("; being sent in the background, %d%%", x.Sending)
	}
	return word
}
