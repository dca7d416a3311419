package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pin"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/mainline"
	"kettletarn/internal/workspace"
)

func (a *app) pin() *cli.Command {
	c := command("pin", "write into tarn.pin which handoff the code goes with", "", "tarn pin",
		a.working(0, 0, "pin", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
			switch {
			case cmd.Bool("hook") || cmd.Bool("no-hook"):
				return a.pinHooks(ctx, cmd, w)
			case cmd.Bool("newer"):
				return a.pinNewer(ctx, cmd, w)
			}
			return a.pinWrite(ctx, cmd, w)
		}),
		&cli.BoolFlag{Name: "leave-unsent", Usage: "pin what is at the service, though there are changes here that were not sent"},
		&cli.BoolFlag{Name: "newer", Usage: "settle a pin that a merge left in conflict: the newer side stays"},
		&cli.BoolFlag{Name: "hook", Usage: "put hooks into the git repository: one keeps assets out of commits, the others notice when the pin " +
			"moves"},
		&cli.BoolFlag{Name: "no-hook", Usage: "take those hooks out again"})
	c.Commands = []*cli.Command{a.pinCheck(), a.pinBetween(), a.pinStaged(), a.pinMoved(), a.pinTell()}
	for _, forHooks := range c.Commands[2:] {
		forHooks.Hidden = true
	}
	return c
}

func (a *app) pinWrite(ctx context.Context, cmd *cli.Command, w *workspace.Workspace) error {
	out, err := w.WritePin(ctx, cmd.Bool("leave-unsent"))
	if err != nil {
		return err
	}
	repo, found := mainline.Find(ctx, w.Root)
	fenced := false
	if found == nil {
		if fenced, err = workspace.KeepFence(ctx, w.Root, true); err != nil {
			return err
		}
		tellPins(ctx, w, repo)
	}
	return a.answer(cmd, out, func() {
		was := ""
		if out.Before != nil && out.Before.Handoff != out.Pin.Handoff {
			was = fmt.Sprintf(" (it said h%d)", out.Before.Handoff)
		}
		switch {
		case out.Before != nil && *out.Before == out.Pin:
			a.say("tarn.pin says h%d already.", out.Pin.Handoff)
		default:
			a.say("tarn.pin says h%d now%s. Commit it with the code that goes with it.", out.Pin.Handoff, was)
		}
		if out.Newest > out.Pin.Handoff {
			a.say("The newest is h%d; this workspace has h%d.", out.Newest, out.Pin.Handoff)
		}
		if len(out.Left) > 0 {
			a.say("Not in it, since not sent (%s):", count(len(out.Left)))
			a.printPaths(out.Left)
		}
		if fenced || out.Before == nil && found == nil {
			a.say("The block of assets in .gitignore was brought up to date: commit it too.")
		}
		if found != nil {
			a.say("%s lies in no git repository; put tarn.pin where the code is.", w.Root)
		}
	})
}

func (a *app) pinNewer(ctx context.Context, cmd *cli.Command, w *workspace.Workspace) error {
	newer, older, err := w.NewerPin(ctx)
	if err != nil {
		return err
	}
	repo, err := mainline.Find(ctx, w.Root)
	if err == nil {
		err = repo.Stage(ctx, rules.Pin)
	}
	if err != nil && !errors.Is(err, mainline.ErrNone) {
		return err
	}
	return a.answer(cmd, map[string]pin.Pin{"pin": newer, "older": older}, func() {
		a.say("tarn.pin says h%d, the newer of the two (the other side said h%d), and is settled for git. "+
			"tarn update --pinned brings its assets.", newer.Handoff, older.Handoff)
	})
}

func (a *app) pinHooks(ctx context.Context, cmd *cli.Command, w *workspace.Workspace) error {
	if cmd.Bool("hook") && cmd.Bool("no-hook") {
		return wrongUse("take --hook or --no-hook, not both")
	}
	repo, err := mainline.Find(ctx, w.Root)
	if err != nil {
		return mainlineProblem(err)
	}
	if cmd.Bool("no-hook") {
		removed, err := repo.RemoveHooks(ctx)
		if err != nil {
			return mainlineProblem(err)
		}
		return a.answer(cmd, map[string][]string{"removed": append([]string{}, removed...)}, func() {
			if len(removed) == 0 {
				a.say("There are no hooks of ours in the repository.")
				return
			}
			a.say("Taken out: %s. What stood there before is back.", strings.Join(removed, ", "))
		})
	}
	kept, err := repo.AddHooks(ctx)
	if err != nil {
		return mainlineProblem(err)
	}
	return a.answer(cmd, map[string][]string{"kept": append([]string{}, kept...)}, func() {
		a.say("The hooks are in. Before a commit, assets are kept out of it; after a checkout or merge that moves the pin, the assets come along")
		a.say("where the workspace follows the pin (tarn update --pinned), and otherwise you are told.")
		if len(kept) > 0 {
			a.say("What stood there before is called first: %s.", strings.Join(kept, ", "))
		}
	})
}

// mainlineProblem is an error of the git repository as something that people can act on.
func mainlineProblem(err error) error {
	if errors.Is(err, mainline.ErrNone) {
		return model.NewProblem(model.NotFound, "go to the repository with the code, or make one with git init", "%v", err)
	}
	return err
}

func (a *app) pinCheck() *cli.Command {
	return command("pin check", "whether the pin is true: for build machines", "", "tarn pin check --workspace",
		a.looking(0, 0, "pin check", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
			out, err := w.CheckHere(ctx, cmd.Bool("workspace"))
			if err != nil {
				return err
			}
			if err := a.answer(cmd, out, func() {
				a.say("tarn.pin is true: h%d of %s, %s…", out.Pin.Handoff, out.Pin.Project, out.Pin.Digest[:12])
				if cmd.Bool("workspace") && len(out.Differing) == 0 {
					a.say("The files here are exactly those: %s.", plural(out.Assets, "asset"))
				}
			}); err != nil {
				return err
			}
			if len(out.Differing) == 0 {
				return nil
			}
			fmt.Fprintf(a.errs, "The files here are not those (%s): tarn update --pinned brings them; changes of yours stay.\n",
				count(len(out.Differing)))
			for i, x := range out.Differing {
				if i == 40 && len(out.Differing) > 45 {
					fmt.Fprintf(a.errs, "  … and %d more (--json lists all)\n", len(out.Differing)-i)
					break
				}
				fmt.Fprintf(a.errs, "  %-7s %s\n", differenceWord(x), assetpath.Printable(x.Path))
			}
			return errPartly
		}),
		&cli.BoolFlag{Name: "workspace", Usage: "also that the files here are exactly what it names"})
}

func differenceWord(x model.Asset) string {
	switch x.State {
	case model.Gone:
		return "missing"
	case model.New:
		return "more"
	}
	return "other"
}

// between is what lies between the pins of two commits.
type between struct {
	From     pin.Pin         `json:"from"`
	To       pin.Pin         `json:"to"`
	Handoffs []model.Handoff `json:"handoffs"`
}

func (a *app) pinBetween() *cli.Command {
	return command("pin between", "which handoffs lie between the pins of two commits", "REV [REV]", "tarn pin between v1.2 HEAD",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 2, "pin between REV [REV]")
			if err != nil {
				return err
			}
			if len(args) == 1 {
				args = append(args, "HEAD")
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			out := between{Handoffs: []model.Handoff{}}
			if out.From, err = a.pinOf(ctx, w, args[0]); err == nil {
				out.To, err = a.pinOf(ctx, w, args[1])
			}
			if err != nil {
				return err
			}
			from, to := min(out.From.Handoff, out.To.Handoff), max(out.From.Handoff, out.To.Handoff)
			if out.Handoffs, err = w.HandoffsBetween(ctx, from, to); err != nil {
				return err
			}
			return a.answer(cmd, out, func() {
				back := ""
				if out.To.Handoff < out.From.Handoff {
					back = "; it goes back, so these are left out again"
				}
				a.say("%s pins h%d, %s pins h%d: %s between%s", args[0], out.From.Handoff, args[1], out.To.Handoff,
					plural(len(out.Handoffs), "handoff"), back)
				a.printHandoffs(out.Handoffs)
			})
		})
}

// pinOf is the pin of a commit, which the service has.
func (a *app) pinOf(ctx context.Context, w *workspace.Workspace, revision string) (p pin.Pin, err error) {
	repo, err := mainline.Find(ctx, w.Root)
	if err != nil {
		return p, mainlineProblem(err)
	}
	commit, err := repo.Commit(ctx, revision)
	if err != nil {
		return p, model.NewProblem(model.NotFound, "git log shows the commits", "%v", err)
	}
	p, err = repo.PinAt(ctx, commit)
	if errors.Is(err, mainline.ErrNoPin) {
		return p, model.NewProblem(model.NotFound, "git log tarn.pin lists the commits that moved it", "the commit %s (%s) has no tarn.pin",
			revision, commit[:12])
	}
	if err != nil {
		return p, model.NewProblem(model.BadRequest, "take a commit before or behind it", "the pin of %s can't be read: %v", revision, err)
	}
	return p, workspace.CheckPin(ctx, w.Client, w.Marker.Project, p)
}

func (a *app) pinStaged() *cli.Command {
	return command("pin staged", "refuse what the next commit would add if it is an asset: for the hook before a commit", "",
		"tarn pin staged",
		func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "pin staged"); err != nil {
				return err
			}
			repo, err := mainline.Find(ctx, a.dir)
			if err != nil {
				return mainlineProblem(err)
			}
			refusals, err := workspace.JudgeStaged(ctx, repo)
			if err != nil {
				return err
			}
			if len(refusals) == 0 {
				return a.answer(cmd, map[string]any{"refusals": []model.Refusal{}}, func() {})
			}
			return &model.Refused{Refusals: refusals}
		})
}

func (a *app) pinMoved() *cli.Command {
	return command("pin moved", "say, or bring along, what a move from one commit to another did to the pin: for hooks", "FROM TO",
		"tarn pin moved ORIG_HEAD HEAD",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2, 2, "pin moved FROM TO")
			if err != nil {
				return err
			}
			repo, err := mainline.Find(ctx, a.dir)
			if err != nil {
				return mainlineProblem(err)
			}
			was, is := pinAtRevision(ctx, repo, args[0]), pinAtRevision(ctx, repo, args[1])
			v := map[string]any{"moved": is != nil && (was == nil || *was != *is)}
			if is == nil || was != nil && *was == *is {
				return a.answer(cmd, v, func() {})
			}
			v["pin"] = is
			if root, err := workspace.Find(a.dir); err == nil && root == "" {
				return a.answer(cmd, v, func() {
					a.say("tarn.pin says h%d of %s: tarn join --pinned brings its assets.", is.Handoff, is.Project)
				})
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			follows, at, err := w.Following()
			if err != nil {
				return err
			}
			if !follows {
				return a.answer(cmd, v, func() {
					a.say("tarn.pin says h%d now; this workspace is at h%d and does not follow the pin. tarn update --pinned brings those assets.",
						is.Handoff, at)
				})
			}
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			u, err := w.Update(ctx, workspace.UpdateOptions{})
			if err != nil {
				return err
			}
			v["update"] = u
			if err := a.answer(cmd, v, func() { a.printUpdated(u, false) }); err != nil {
				return err
			}
			return a.partly(u)
		})
}

// pinAtRevision is the pin of a revision, nil where it has none that can be read.
func pinAtRevision(ctx context.Context, repo *mainline.Repo, revision string) *pin.Pin {
	commit, err := repo.Commit(ctx, revision)
	if err != nil {
		return nil
	}
	p, err := repo.PinAt(ctx, commit)
	if err != nil {
		return nil
	}
	return &p
}

// tellWithin bounds what telling the service of pins may take: nobody waits for it.
const tellWithin = 3 * time.Second

func (a *app) pinTell() *cli.Command {
	return command("pin tell", "tell the service which commits pinned which handoffs, so that the console can show it", "", "tarn pin tell",
		func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0, "pin tell"); err != nil {
				return err
			}
			repo, err := mainline.Find(ctx, a.dir)
			if err != nil {
				return mainlineProblem(err)
			}
			if cmd.Bool("if-moved") {
				is, was := pinAtRevision(ctx, repo, "HEAD"), pinAtRevision(ctx, repo, "HEAD^")
				if is == nil || was != nil && *was == *is {
					return nil
				}
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			n, err := tellPins(ctx, w, repo)
			if err != nil && cmd.Bool("if-moved") {
				return nil // the next tarn pin tells of it: a commit is no place to complain about the network
			}
			if err != nil {
				return err
			}
			return a.answer(cmd, map[string]int{"told": n}, func() {
				if !cmd.Bool("if-moved") {
					a.say("The service knows of %s that moved the pin.", plural(n, "commit"))
				}
			})
		},
		&cli.BoolFlag{Name: "if-moved", Usage: "only where the last commit moved the pin: for the hook after a commit"})
}

// tellPins tells the service which commits moved the pin, the latest ones.
func tellPins(ctx context.Context, w *workspace.Workspace, repo *mainline.Repo) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, tellWithin)
	defer cancel()
	list, err := repo.PinLog(ctx, "HEAD", 200)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	commits := make([]model.PinnedCommit, 0, len(list))
	for _, p := range list {
		commits = append(commits, model.PinnedCommit{Commit: p.Commit, Author: p.Author, Subject: p.Subject, At: time.Unix(p.At, 0).UTC(),
			Handoff: p.Pin.Handoff, Digest: p.Pin.Digest})
	}
	return w.TellPins(ctx, commits)
}

// joinPinned brings the assets that belong to the code in the folder.
func (a *app) joinPinned(ctx context.Context, cmd *cli.Command) error {
	if _, err := arguments(cmd, 0, 0, "join --pinned"); err != nil {
		return err
	}
	dir, err := a.pinFolder(ctx)
	if err != nil {
		return err
	}
	p, err := workspace.ReadPin(dir)
	if err != nil {
		return err
	}
	c, err := a.clientFor(p.Service)
	if err != nil {
		return err
	}
	if err := limited(cmd, c); err != nil {
		return err
	}
	if err := workspace.CheckPin(ctx, c, p.Project, p); err != nil {
		var problem *model.Problem
		if errors.As(err, &problem) && problem.Type == model.NotSignedIn {
			return model.NewProblem(model.NotSignedIn, "tarn sign-in "+c.URL()+", then the same again; a build machine sets TARN_URL and TARN_TOKEN",
				"the assets that go with this code are at %s, and you are not signed in there", c.URL())
		}
		return err
	}
	w, err := workspace.Join(ctx, dir, p.Project, true, c, newProgress(a.screen))
	if err != nil {
		return err
	}
	defer w.Close()
	release, err := w.Work()
	if err != nil {
		return err
	}
	defer release()
	if folders := cmd.StringSlice("scope"); len(folders) > 0 {
		if err := w.SetScope(folders); err != nil {
			return err
		}
	}
	if err := a.warnUnsent(ctx, w); err != nil {
		return err
	}
	u, err := w.Update(ctx, workspace.UpdateOptions{Pinned: true})
	if err != nil {
		return err
	}
	if err := a.answer(cmd, u, func() {
		here := ""
		if u.Same > 0 {
			here = fmt.Sprintf(", %s were here", count(u.Same))
		}
		a.say("%s is as tarn.pin says, h%d: %s, %s brought%s. It follows the pin until tarn update --newest.", p.Project, u.At,
			plural(len(u.Brought), "asset"), size(sum(u.Brought)), here)
	}); err != nil {
		return err
	}
	return a.partly(u)
}

// pinFolder finds the pin in the folder or above it, within the repository.
func (a *app) pinFolder(ctx context.Context) (string, error) {
	top := a.dir
	if repo, err := mainline.Find(ctx, a.dir); err == nil {
		top = repo.Top
	} else if !errors.Is(err, mainline.ErrNone) {
		return "", err
	}
	for dir := a.dir; ; dir = filepath.Dir(dir) {
		if _, err := workspace.ReadPin(dir); !errors.Is(err, fs.ErrNotExist) {
			return dir, nil
		}
		if same, err := filepath.EvalSymlinks(dir); err != nil || same == top || dir == top || dir == filepath.Dir(dir) {
			return "", model.NewProblem(model.NotFound, "go to a clone of the code whose commit has one; tarn pin writes it in a workspace",
				"there is no tarn.pin in %s", a.dir)
		}
	}
}
