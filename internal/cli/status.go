package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) status() *cli.Command {
	return command("status", "what has changed here, what is newer there, who holds what", "[PATH…]", "tarn status textures",
		a.looking(0, -1, "status [PATH…]", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
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
		}),
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
