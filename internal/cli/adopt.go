package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/mainline"
	"kettletarn/internal/prompt"
	"kettletarn/internal/workspace"
)

// adopted is what tarn adopt prints with --json.
type adopted struct {
	Project  string              `json:"project,omitempty"`
	Weights  *workspace.Weights  `json:"weights,omitempty"`
	Rules    string              `json:"rules,omitempty"`
	Brought  *workspace.Brought  `json:"brought,omitempty"`
	Taken    *workspace.Adopted  `json:"taken_over,omitempty"`
	Prepared *workspace.Prepared `json:"prepared,omitempty"`
}

func (a *app) adopt() *cli.Command {
	return command("adopt", "bring the assets of a git repository over, with their past if you like", "[KEY]",
		"tarn adopt brinelight --history",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 1, "adopt KEY [--history]")
			if err != nil {
				return err
			}
			streamed, err := a.fromStream(ctx, cmd)
			if err != nil {
				return err
			}
			repo, err := mainline.Find(ctx, a.dir)
			if err != nil {
				return mainlineProblem(err)
			}
			root, err := workspace.Find(a.dir)
			if err != nil {
				return err
			}
			key, again := "", false
			if root == a.dir {
				m, err := workspace.ReadMarker(root)
				if err != nil {
					return err
				}
				key, again = m.Project, true
			}
			switch {
			case len(args) == 1 && again && args[0] != key:
				return model.NewProblem(model.Taken, "leave the key out, or take a clone of its own for another project",
					"this folder is a workspace of the project %s already", key)
			case len(args) == 1:
				key = args[0]
			}
			out := &adopted{Project: key}
			preview, err := a.adoptPreview(ctx, cmd, repo, out, again)
			if err != nil || preview {
				return err
			}
			if key == "" {
				return wrongUse("name the project to be made: tarn adopt KEY; tarn adopt --preview only shows what there is")
			}
			if err := workspace.ReadyForPast(ctx, repo, pastWanted(cmd), leavesGit(cmd)); err != nil {
				return err
			}
			if !again && !cmd.Bool("yes") && !prompt.Confirm(a.in, a.errs,
				fmt.Sprintf("Make the project %s of the assets in this repository?", key)) {
				return model.NewProblem(model.BadRequest, "say --yes to go on, --preset NAME for other presets, --preview only to look",
					"nothing was done")
			}
			if out.Rules != "" {
				if err := workspace.WriteRules(a.dir, out.Rules); err != nil {
					return err
				}
			}
			if err := a.adoptNow(ctx, cmd, repo, out, key); err != nil || streamed == "" {
				return err
			}
			return mainline.Forget(a.dir, streamed)
		},
		&cli.BoolFlag{Name: "history", Usage: "bring the past in first: a handoff for each commit that changed an asset, with its author, date " +
			"and message"},
		&cli.StringFlag{Name: "stream",
			Usage: "bring in the past that this file has, a stream of git's fast-import (what a fast-export of any program " +
				"writes), into the folder you stand in"},
		&cli.BoolFlag{Name: "beside", Usage: "leave git as it is, to try it out beside what you have; again, it brings what came since"},
		&cli.BoolFlag{Name: "preview", Usage: "only show what the assets weigh in the repository"},
		&cli.BoolFlag{Name: "list-paths", Usage: "only print the path of every asset that the repository's history has"},
		&cli.BoolFlag{Name: "git-wins", Usage: "where something was handed off here and changed in git since, make git's the newest"},
		&cli.StringSliceFlag{Name: "preset", Usage: "rules for a kind of work, in place of those proposed; may be given more than once"},
		&cli.BoolFlag{Name: "no-presets", Usage: "propose rules without presets"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"}, limitFlag())
}

// adoptPreview shows what there is. done says that no more was asked for.
func (a *app) adoptPreview(ctx context.Context, cmd *cli.Command, repo *mainline.Repo, out *adopted, again bool) (done bool, err error) {
	only := cmd.Bool("preview") || cmd.Bool("list-paths")
	if again && !only {
		return false, nil
	}
	var r *rules.Rules
	if !again {
		presets := cmd.StringSlice("preset")
		if cmd.Bool("no-presets") {
			presets = []string{}
		} else if len(presets) == 0 {
			presets = nil
		}
		p, err := workspace.PreviewStart(ctx, a.dir, presets)
		if err != nil {
			return false, err
		}
		if out.Rules = p.Rules; p.Rules != "" {
			if r, err = rules.Parse([]byte(p.Rules)); err != nil {
				return false, err
			}
		}
	}
	if r == nil {
		if r, err = workspace.RulesOf(ctx, a.dir); err != nil {
			return false, err
		}
	}
	if out.Weights, err = workspace.Weigh(ctx, repo, r, cmd.Bool("list-paths")); err != nil {
		return false, err
	}
	if cmd.Bool("list-paths") {
		return true, a.answer(cmd, out, func() {
			for _, p := range out.Weights.List {
				fmt.Fprintln(a.out, p)
			}
		})
	}
	if only && cmd.Bool("json") {
		return true, a.json(out)
	}
	if !cmd.Bool("json") {
		a.printWeights(out.Weights, r.Presets)
	}
	return only, nil
}

func (a *app) printWeights(w *workspace.Weights, presets []string) {
	if len(presets) > 0 {
		a.say("Under the presets %s, assets are %s in the history: %s, %s.", strings.Join(presets, ", "), plural(w.Paths, "path"),
			plural(w.Versions, "version"), size(w.Size))
	} else {
		a.say("Assets are %s in the history: %s, %s.", plural(w.Paths, "path"), plural(w.Versions, "version"), size(w.Size))
	}
	share := 0.0
	if w.Whole > 0 {
		share = 100 * float64(w.Assets) / float64(w.Whole)
	}
	a.say("A clone of the repository weighs %s, compressed. %s of that is assets (%.1f %%); without them it would weigh %s.", size(w.Whole),
		size(w.Assets), share, size(w.Whole-w.Assets))
	if len(w.Kinds) == 0 {
		return
	}
	row := func(t *table, x workspace.Weight) {
		t.row("  "+assetpath.Printable(x.Name), count(x.Versions), size(x.Size), size(x.Stored),
			fmt.Sprintf("%.1f %%", 100*float64(x.Stored)/float64(max(w.Whole, 1))))
	}
	a.say("\nBy kind:")
	t := a.table("", ">VERSIONS", ">SIZE", ">IN GIT", ">SHARE")
	for i, k := range w.Kinds {
		if i == 12 && len(w.Kinds) > 13 {
			t.row("  …", fmt.Sprintf("%d more", len(w.Kinds)-i), "", "", "")
			break
		}
		row(t, k)
	}
	t.print()
	a.say("\nThe heaviest:")
	t = a.table("", ">VERSIONS", ">SIZE", ">IN GIT", ">SHARE")
	for i, p := range w.Heaviest {
		if i == 10 {
			break
		}
		row(t, p)
	}
	t.print()
	a.printSizes("\nLarge, and covered by no rule (a rule in tarn.toml can make assets of them):", w.Uncovered)
	a.say("")
}

func (a *app) adoptNow(ctx context.Context, cmd *cli.Command, repo *mainline.Repo, out *adopted, key string) error {
	c, err := a.limitedClient(cmd)
	if err != nil {
		return err
	}
	var w *workspace.Workspace
	beside := leavesGit(cmd)
	if beside {
		w, err = workspace.StartBeside(ctx, a.dir, key, c, newProgress(a.screen))
	} else {
		w, err = workspace.Start(ctx, a.dir, key, "", c, newProgress(a.screen))
	}
	if err != nil {
		return err
	}
	defer w.Close()
	if beside {
		if err := workspace.Beside(ctx, repo); err != nil {
			return err
		}
	}
	release, err := w.Work()
	if err != nil {
		return err
	}
	defer release()
	r, err := workspace.RulesOf(ctx, a.dir)
	if err != nil {
		return err
	}
	o := workspace.BringOptions{History: pastWanted(cmd), Over: cmd.Bool("git-wins"), Branches: cmd.String("stream") != "",
		Note: "Baseline: the assets as the git repository has them"}
	if out.Brought, err = w.BringPast(ctx, repo, r, o); err != nil {
		var refused *model.Refused
		if errors.As(err, &refused) && out.Brought != nil && out.Brought.Handoffs > 0 {
			a.note("Brought in up to h%d; then something stood in the way.", out.Brought.Last)
		}
		return err
	}
	if out.Taken, err = w.TakeOver(ctx, beside); err != nil {
		return err
	}
	if !beside {
		if out.Prepared, err = w.Prepare(ctx, repo, r); err != nil {
			return err
		}
	}
	return a.answer(cmd, out, func() { a.printAdoption(key, out) })
}

func (a *app) printAdoption(key string, out *adopted) {
	b := out.Brought
	switch {
	case b.Handoffs == 0:
		a.say("%s has everything up to commit %s already.", key, b.Head[:10])
	case b.First == b.Last:
		a.say("1 handoff, %s: h%d of %s, up to commit %s.", plural(b.Versions, "version"), b.Last, key, b.Head[:10])
	default:
		a.say("%s, %s: h%d to h%d of %s, up to commit %s.", plural(b.Handoffs, "handoff"), plural(b.Versions, "version"), b.First, b.Last, key,
			b.Head[:10])
	}
	if len(b.Unknown) > 0 {
		a.say("Kept by name, since nobody here has their mail address (tarn news --address sets one's own): %s.", strings.Join(b.Unknown, ", "))
	}
	for _, one := range b.Branches {
		as := ""
		if one.Git != one.Branch {
			as = ", which is " + one.Git + " in git"
		}
		a.say("The branch %s, from h%d, with %s of its own%s.", one.Branch, one.At, plural(one.Handoffs, "handoff"), as)
	}
	for _, name := range b.Apart {
		a.say("%s has no state in common with what came in, and stays out: bring it into a project of its own.", name)
	}
	if len(b.Mapped) > 0 {
		a.say("No asset can have these names, on all systems or beside what is there; they are kept as:")
		t := a.table("", "")
		for i, m := range b.Mapped {
			if i == 30 && len(b.Mapped) > 35 {
				t.row("  …", fmt.Sprintf("and %d more: --json lists all", len(b.Mapped)-i))
				break
			}
			t.row("  "+m.Git, m.Asset)
		}
		t.print()
	}
	if len(out.Taken.Differ) > 0 {
		a.say("These differ from the last commit, and are unsent changes now (tarn send hands them off):")
		a.printPaths(out.Taken.Differ)
	}
	if len(out.Taken.New) > 0 {
		a.say("These were never in git and are new (tarn send hands them off):")
		a.printPaths(out.Taken.New)
	}
	a.printRefusals("Not taken:", out.Taken.Odd)
	if out.Prepared == nil {
		a.say("Git is as it was. tarn adopt --beside brings what comes since; tarn adopt moves the assets over for good.")
		return
	}
	a.say("A commit is prepared, and not made: %s out of git's index (the files stay), %s in it.", plural(out.Prepared.Untracked, "file"),
		strings.Join(out.Prepared.Staged, " and "))
	a.say("Look at it with git status, then: git commit -m \"The assets live in Kettle Tarn\"")
	a.say("What the past weighs stays in git until it is rewritten there: tarn adopt --list-paths prints the paths, and the page \"Code and " +
		"assets\" says how.")
}

// With a stream, the past is wanted, and there is no git for anybody to go on with.
func pastWanted(cmd *cli.Command) bool { return cmd.Bool("history") || cmd.String("stream") != "" }
func leavesGit(cmd *cli.Command) bool  { return cmd.Bool("beside") || cmd.String("stream") != "" }

// fromStream makes a repository of the stream that is named, for as long as it is brought in, and says where it lies; "" where none is
// named. Interrupted, the same command goes on where it stopped. See mainline.FromStream.
func (a *app) fromStream(ctx context.Context, cmd *cli.Command) (home string, err error) {
	file := cmd.String("stream")
	if file == "" {
		return "", nil
	}
	if !filepath.IsAbs(file) {
		file = filepath.Join(a.dir, file)
	}
	sum := sha256.Sum256([]byte(a.dir))
	home = filepath.Join(xdg.StateHome, "kettle-tarn", "streams", hex.EncodeToString(sum[:12]))
	if may, err := mainline.TakesStream(a.dir, home, file); err != nil {
		return "", err
	} else if !may {
		return "", model.NewProblem(model.Taken, "make a new folder, go there, and run it again", "%s is not empty", a.dir)
	}
	f, err := os.Open(file)
	if err != nil {
		return "", model.NewProblem(model.NotFound, "check the name", "the stream can't be read: %v", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	p := newProgress(a.screen)
	p.Start("Reading the stream", info.Size())
	_, err = mainline.FromStream(ctx, a.dir, home, fmt.Sprintf("%d %d", info.Size(), info.ModTime().UnixNano()), f, p.Add)
	p.Done()
	return home, err
}
