package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) history() *cli.Command {
	return command("history", "the handoffs of the project, or the versions of one asset", "[PATH]", "tarn history textures/rust-albedo.png",
		a.looking(0, 1, "history [PATH]", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			q := client.HandoffQuery{Author: cmd.String("by"), Limit: int(cmd.Int("limit"))}
			if len(paths) == 1 && paths[0] != "" {
				h, err := w.Client.Asset(ctx, w.Marker.Project, paths[0])
				if err == nil {
					return a.answer(cmd, h, func() { a.printVersions(h) })
				}
				if problem, ok := err.(*model.Problem); !ok || problem.Type != model.NotFound {
					return err
				}
				q.Path = paths[0] // a folder
			}
			list, err := w.Client.Handoffs(ctx, w.Marker.Project, q)
			if err != nil {
				return err
			}
			if len(list.Handoffs) == 0 && q.Path != "" {
				return model.NewProblem(model.NotFound, "check the spelling", "there is no asset and no folder %s at the service", q.Path)
			}
			return a.answer(cmd, list, func() {
				if len(list.Handoffs) == 0 {
					a.say("There are no handoffs yet.")
					return
				}
				a.printHandoffs(list.Handoffs)
			})
		}),
		&cli.StringFlag{Name: "by", Usage: "only handoffs of this person"},
		&cli.IntFlag{Name: "limit", Value: 30, Usage: "handoffs at most"})
}

func (a *app) printHandoffs(list []model.Handoff) {
	t := newTable(a.out, ">", "BY", "WHEN", ">ASSETS", ">SIZE", "NOTE")
	for _, h := range list {
		note := about(h.Note, h.Tasks, h.Stage)
		if h.Commit != "" {
			note += " · commit " + h.Commit[:min(len(h.Commit), 10)]
		}
		t.row(fmt.Sprintf("h%d", h.Number), h.Author, when(h.At), count(h.Count), size(h.Size), note)
	}
	t.print()
}

func about(note string, tasks []string, stage string) string {
	text := firstLine(note, 60)
	if len(tasks) > 0 {
		text += " (" + strings.Join(tasks, ", ") + ")"
	}
	if stage != "" {
		text += " [" + stage + "]"
	}
	return text
}

func (a *app) printVersions(h model.AssetHistory) {
	lock := "free"
	if h.Asset.Lock != nil {
		lock = fmt.Sprintf("held by %s, taken %s", h.Asset.Holder, when(h.Asset.Lock.Since))
	}
	a.say("%s: %s, %s", h.Asset.Path, plural(len(h.Versions), "version"), lock)
	t := newTable(a.out, ">", ">", "BY", "WHEN", ">SIZE", "NOTE")
	for _, v := range h.Versions {
		s := size(v.Size)
		if v.Gone {
			s = "gone"
		}
		t.row(fmt.Sprintf("v%d", v.Version), fmt.Sprintf("h%d", v.Handoff), v.Author, when(v.At), s, about(v.Note, v.Tasks, v.Stage))
	}
	t.print()
}

func (a *app) show() *cli.Command {
	return command("show", "one handoff, or one version of an asset", "h40 | PATH@v3", "tarn show h12",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 1, "show h40, or show PATH@v3")
			if err != nil {
				return err
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			if n, ok := numbered(args[0], "h"); ok {
				h, err := w.Client.Handoff(ctx, w.Marker.Project, n)
				if err != nil {
					return err
				}
				return a.answer(cmd, h, func() { a.printHandoff(h) })
			}
			name, version, ok := strings.Cut(args[0], "@")
			n, numberOK := numbered(version, "v")
			if !ok || !numberOK {
				return wrongUse("name a handoff like h40, or a version like textures/rust.png@v3; tarn history lists both")
			}
			paths, err := a.paths(w, []string{name})
			if err != nil {
				return err
			}
			h, err := w.Client.Asset(ctx, w.Marker.Project, paths[0])
			if err != nil {
				return err
			}
			for _, v := range h.Versions {
				if v.Version == n {
					return a.answer(cmd, v, func() {
						t := newTable(a.out, "", "")
						t.row("version", fmt.Sprintf("%d of %s", v.Version, v.Path))
						t.row("handoff", fmt.Sprintf("h%d by %s, %s", v.Handoff, v.Author, when(v.At)))
						t.row("size", size(v.Size))
						t.row("digest", v.Digest)
						t.row("note", about(v.Note, v.Tasks, v.Stage))
						t.print()
					})
				}
			}
			return model.NewProblem(model.NotFound, "see tarn history "+paths[0], "%s has no version %d", paths[0], n)
		})
}

// numbered reads "h40" or "v3".
func numbered(text, letter string) (int, bool) {
	digits, ok := strings.CutPrefix(text, letter)
	n, err := strconv.Atoi(digits)
	return n, ok && err == nil && n > 0 && digits[0] != '+'
}

func (a *app) printHandoff(h model.Handoff) {
	a.say("h%d by %s, %s: %s, %s", h.Number, h.Author, when(h.At), plural(h.Count, "asset"), size(h.Size))
	if len(h.Tasks) > 0 {
		a.say("tasks %s", strings.Join(h.Tasks, ", "))
	}
	if h.Stage != "" {
		a.say("stage %s", h.Stage)
	}
	if h.Commit != "" {
		a.say("brought in from commit %s", h.Commit)
	}
	a.say("")
	for line := range strings.Lines(h.Note) {
		a.say("  %s", assetpath.Printable(strings.TrimRight(line, "\r\n")))
	}
	a.say("")
	t := newTable(a.out, "", "", "", ">")
	for _, x := range h.Assets {
		t.row(x.Change, x.Path, fmt.Sprintf("v%d", x.Version), size(x.Size))
	}
	t.print()
}

func (a *app) rollback() *cli.Command {
	return command("rollback", "send an old version of an asset as a new one", "PATH", "tarn rollback textures/rust-albedo.png --to v3",
		a.working(1, 1, "rollback PATH --to v3", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, paths []string) error {
			to, ok := numbered(cmd.String("to"), "v")
			if !ok {
				return wrongUse("say which version: tarn rollback %s --to v3; tarn history %s lists them", paths[0], paths[0])
			}
			h, u, err := w.Rollback(ctx, paths[0], to, cmd.String("note"), cmd.Bool("set"))
			if err != nil {
				return err
			}
			if err := a.answer(cmd, map[string]any{"handoff": h, "brought": u.Brought, "refusals": append([]model.Refusal{}, u.Refusals...)}, func() {
				for _, x := range h.Assets {
					if x.Path == paths[0] {
						a.say("h%d: %s is as it was in version %d, as version %d. Nothing was deleted.", h.Number, x.Path, to, x.Version)
					}
				}
				for _, x := range h.Assets {
					if x.Path != paths[0] {
						a.say("  with it %s, as version %d", x.Path, x.Version)
					}
				}
			}); err != nil {
				return err
			}
			return a.partly(&workspace.Updated{Refusals: u.Refusals})
		}),
		&cli.StringFlag{Name: "to", Usage: "the version to go back to, like v3"},
		&cli.BoolFlag{Name: "set", Usage: "take the rest of its set back to the same handoff"},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "why; made up from the version where left out"})
}
