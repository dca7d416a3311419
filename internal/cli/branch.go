package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/workspace"
)

func (a *app) branch() *cli.Command {
	return &cli.Command{Name: "branch", Usage: "lines of work, to try something without breaking what works", HideHelpCommand: true,
		Commands: []*cli.Command{
			lists(command("branch list", "the branches, and how far apart they are", "", "tarn branch list",
				a.looking(0, 0, "branch list", a.listBranches))),
			command("branch add", "make a branch from a state", "NAME", "tarn branch add second-chapter -m 'the drowned bell'",
				a.named("branch add NAME", a.addBranch),
				&cli.StringFlag{Name: "at", Usage: "where it begins: a handoff (h40), a milestone, a branch or a time; the newest of your branch " +
					"where left out"},
				&cli.StringFlag{Name: "why", Aliases: []string{"m"}, Usage: "what it is for"},
				&cli.BoolFlag{Name: "switch", Usage: "bring this workspace over to it"}),
			command("branch show", "one branch: since when it has gone its own way, what changed, what clashes, who is on it", "NAME",
				"tarn branch show second-chapter", a.named("branch show NAME", a.showBranch)),
			a.branchState("done", "say that a branch is ready to come in", model.Done, "is done: it is ready to come in"),
			a.branchState("close", "close a branch: it keeps everything and takes nothing more", model.Closed,
				"is closed: it keeps everything, takes nothing more, and counts for no lock"),
			a.branchState("reopen", "go on with a branch that is done or closed", model.Live, "is live again"),
		}}
}

func (a *app) switchTo() *cli.Command {
	return command("switch", "bring the workspace over to a branch", "NAME", "tarn switch second-chapter",
		a.named("switch NAME", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
			if err := limited(cmd, w.Client); err != nil {
				return err
			}
			return a.goTo(ctx, cmd, w, names[0])
		}), limitFlag())
}

// goTo switches, and says what that brought.
func (a *app) goTo(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, name string) error {
	release, err := w.Work()
	if err != nil {
		return err
	}
	defer release()
	u, err := w.Switch(ctx, name)
	if err != nil {
		return err
	}
	on, err := w.Branch()
	if err != nil {
		return err
	}
	answer := struct {
		Branch string `json:"branch"`
		*workspace.Updated
	}{on, u}
	if err := a.answer(cmd, answer, func() {
		a.say("This workspace is on %s now, at h%d.", on, u.At)
		a.printUpdated(u, false)
	}); err != nil {
		return err
	}
	return a.partly(u)
}

func (a *app) branchState(verb, usage, state, said string) *cli.Command {
	return command("branch "+verb, usage, "NAME", "tarn branch "+verb+" second-chapter", a.named("branch "+verb+" NAME",
		func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
			b, err := w.Client.SetBranchState(ctx, w.Marker.Project, names[0], state)
			if err != nil {
				return err
			}
			return a.answer(cmd, b, func() { a.say("The branch %s %s.", b.Name, said) })
		}))
}

func (a *app) listBranches(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
	list, err := w.Client.Branches(ctx, w.Marker.Project)
	if err != nil {
		return err
	}
	return a.answer(cmd, list, func() {
		t := a.table("BRANCH", "STATE", ">NEWEST", "BY", "WHEN", "FROM", "HANDOFFS APART", "WHAT FOR")
		for _, b := range list.Branches {
			newest, moved, from := "", "", ""
			if b.Head > 0 {
				newest = fmt.Sprintf("h%d", b.Head)
			}
			if b.Moved != nil {
				moved = when(*b.Moved)
			}
			if b.From != "" {
				from = fmt.Sprintf("%s h%d", b.From, b.At)
			}
			t.row(b.Name, b.State, newest, b.Author, moved, from, distance(b), firstLine(b.Why, 50))
		}
		t.print()
	})
}

// distance says how many handoffs a branch and the one that it came from are from each other.
func distance(b model.Branch) string {
	if b.From == "" {
		return ""
	}
	var parts []string
	if b.Ahead > 0 {
		parts = append(parts, count(b.Ahead)+" of its own")
	}
	if b.Behind > 0 {
		parts = append(parts, count(b.Behind)+" behind")
	}
	if len(parts) == 0 {
		return "the same"
	}
	return strings.Join(parts, ", ")
}

func (a *app) addBranch(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	if err := point.CheckBranch(names[0]); err != nil {
		return wrongUse("%v", err)
	}
	at, err := w.Branch()
	if err != nil {
		return err
	}
	if cmd.String("at") != "" {
		if at, err = a.stateOf(cmd.String("at")); err != nil {
			return err
		}
	}
	b, err := w.Client.AddBranch(ctx, w.Marker.Project, model.BranchRequest{Name: names[0], At: at, Why: cmd.String("why")})
	if err != nil {
		return err
	}
	if cmd.Bool("switch") {
		return a.goTo(ctx, cmd, w, b.Name)
	}
	return a.answer(cmd, b, func() {
		a.say("The branch %s begins at h%d of %s, with %s.", b.Name, b.At, b.From, plural(int(b.Assets), "asset"))
	})
}

func (a *app) showBranch(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	b, err := w.Client.Branch(ctx, w.Marker.Project, names[0])
	if err != nil {
		return err
	}
	return a.answer(cmd, b, func() {
		a.say("%s is %s, with %s.", b.Name, b.State, plural(int(b.Assets), "asset"))
		if b.Why != "" {
			a.say("%s", b.Why)
		}
		if b.From != "" {
			a.say("Made by %s from %s at h%d, %s.", b.Person, b.From, b.At, when(b.Made))
			a.say("Since h%d it has gone its own way: %s. On %s since: %s.", b.Since, changed(b.Here), b.From, changed(b.There))
		}
		switch {
		case b.Clashing > 0:
			a.say("")
			a.say("Changed on both, and to be decided when they meet (%d):", b.Clashing)
			for _, path := range b.Clashes {
				a.say("  %s", path)
			}
			if b.Clashing > len(b.Clashes) {
				a.say("  and %d more", b.Clashing-len(b.Clashes))
			}
		case b.From != "":
			a.say("Nothing clashes with %s.", b.From)
		}
		if len(b.Workspaces) > 0 {
			a.say("")
			a.say("On it:")
			for _, on := range b.Workspaces {
				a.say("  %s, in %s", on.Handle, on.Workspace)
			}
		}
	})
}

// changed says what was done to assets.
func changed(n *model.BranchChanges) string {
	var parts []string
	for _, p := range []struct {
		n    int
		what string
	}{{n.New, "new"}, {n.Changed, "changed"}, {n.Moved, "moved"}, {n.Gone, "gone"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
		}
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}
