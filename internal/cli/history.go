package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace"
)

func (a *app) history() *cli.Command {
	return command("history", "the handoffs of the project, or the versions of one asset", "[PATH | FOLDER | 'PATTERN']",
		"tarn history --by rurik --kind texture --since 2026-03-02",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 1, "history [PATH]")
			if err != nil {
				return err
			}
			w, err := a.openOr(cmd)
			if err != nil {
				return err
			}
			defer w.Close()
			q, err := a.handoffQuery(cmd, w, args)
			if err != nil {
				return err
			}
			if cmd.Bool("lines") {
				return a.lines(ctx, cmd, w, q.Path)
			}
			// A path and nothing else: the versions of an asset, where it is one.
			bare := q.Path != "" && !assetpath.IsGlob(q.Path) && q == (client.HandoffQuery{Path: q.Path, Limit: q.Limit})
			if bare {
				h, err := a.assetHere(ctx, w, q.Path)
				if err == nil {
					return a.answer(cmd, h, func() { a.printVersions(h) })
				}
				if problem, ok := err.(*model.Problem); !ok || problem.Type != model.NotFound {
					return err
				}
			}
			list, more, err := a.handoffs(ctx, w, q)
			if err != nil {
				return err
			}
			if len(list.Handoffs) == 0 && bare {
				return model.NewProblem(model.NotFound, "check the spelling", "there is no asset and no folder %s at the service", q.Path)
			}
			return a.answer(cmd, list, func() {
				if len(list.Handoffs) == 0 {
					a.say("No handoff fits.")
					return
				}
				a.printHandoffs(list.Handoffs)
				if more {
					a.note("Earlier ones: the same with --before h%d.", list.Handoffs[len(list.Handoffs)-1].Number)
				}
			})
		},
		&cli.StringFlag{Name: "branch", Usage: "only what was handed off on this branch"},
		&cli.StringFlag{Name: "by", Usage: "only handoffs of this person"},
		&cli.StringFlag{Name: "kind", Usage: "only what changed assets of this kind: " + strings.Join(media.Kinds, ", ")},
		&cli.StringFlag{Name: "since", Usage: "only from this time on (2h, yesterday, 16:30, 2026-03-02)"},
		&cli.StringFlag{Name: "until", Usage: "only up to this time"},
		&cli.StringFlag{Name: "task", Usage: "only with the id of this task (BRL-112)"},
		&cli.StringFlag{Name: "stage", Usage: "only of this stage"},
		&cli.StringFlag{Name: "text", Usage: "only with this in the note"},
		&cli.StringFlag{Name: "before", Usage: "only below this handoff (h40)"},
		&cli.IntFlag{Name: "last", Aliases: []string{"limit"}, Value: 30, Usage: "so many handoffs at most"}, anywhereFlag(),
		&cli.BoolFlag{Name: "lines", Usage: "of a text asset: which version changed each line last, by whom"})
}

// handoffs lists as many as are asked for, page by page. more says that there may be more behind them.
func (a *app) handoffs(ctx context.Context, w *workspace.Workspace, q client.HandoffQuery) (list model.Handoffs, more bool, err error) {
	list.Handoffs = []model.Handoff{}
	for left := q.Limit; left > 0; {
		q.Limit = min(left, 5000) // what the service gives at once
		page, err := w.Client.Handoffs(ctx, w.Marker.Project, q)
		if err != nil {
			return list, false, err
		}
		if list.Total == 0 {
			list.Total = page.Total
		}
		list.Handoffs = append(list.Handoffs, page.Handoffs...)
		if len(page.Handoffs) < q.Limit {
			return list, false, nil
		}
		left -= q.Limit
		q.Before = page.Handoffs[len(page.Handoffs)-1].Number
	}
	return list, true, nil
}

// handoffQuery reads the filters. Days and times are those of the person's own zone.
func (a *app) handoffQuery(cmd *cli.Command, w *workspace.Workspace, args []string) (q client.HandoffQuery, err error) {
	q = client.HandoffQuery{Branch: cmd.String("branch"), Author: cmd.String("by"), Limit: int(cmd.Int("last")), Kind: cmd.String("kind"),
		Task:  cmd.String("task"),
		Stage: cmd.String("stage"), Text: cmd.String("text")}
	if q.Limit < 1 {
		return q, wrongUse("--last is a number from 1 on")
	}
	if text := cmd.String("before"); text != "" {
		var ok bool
		if q.Before, ok = point.Handoff(text); !ok {
			return q, wrongUse("--before is a handoff, like h40")
		}
	}
	for _, t := range []struct {
		flag string
		end  bool
		into *string
	}{{"since", false, &q.Since}, {"until", true, &q.Until}} {
		if text := cmd.String(t.flag); text != "" {
			at, err := past("--"+t.flag, text, time.Now(), t.end)
			if err != nil {
				return q, err
			}
			*t.into = at.UTC().Format(time.RFC3339Nano)
		}
	}
	switch {
	case len(args) == 0:
	case assetpath.IsGlob(args[0]): // a pattern is one from the root of the project
		q.Path = filepath.ToSlash(args[0])
	case w.IsAway():
		q.Path = strings.Trim(filepath.ToSlash(args[0]), "/")
	default:
		var paths []string
		if paths, err = a.paths(w, args); err == nil {
			q.Path = paths[0]
		}
	}
	return q, err
}

// lines prints where the lines of a text asset come from.
func (a *app) lines(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, path string) error {
	if path == "" || assetpath.IsGlob(path) {
		return wrongUse("name one text asset: tarn history --lines PATH")
	}
	out, err := w.Client.Lines(ctx, w.Marker.Project, path, 0)
	if err != nil {
		return err
	}
	return a.answer(cmd, out, func() {
		a.say("%s, version %d, %s:", out.Path, out.Version, plural(len(out.Lines), "line"))
		t := a.table(">", "", "", "", "")
		last := 0
		for _, l := range out.Lines {
			by := []string{"", "", ""}
			if l.Version != last {
				by = []string{fmt.Sprintf("v%d", l.Version), l.Author, when(l.At)}
			}
			last = l.Version
			t.row(fmt.Sprint(l.Line), by[0], by[1], by[2], l.Text)
		}
		t.print()
	})
}

func (a *app) printHandoffs(list []model.Handoff) {
	apart := slices.ContainsFunc(list, func(h model.Handoff) bool { return h.Branch != model.FirstBranch })
	t := newTable(a.out, ">", "BY", "WHEN", ">ASSETS", ">SIZE", "NOTE")
	if apart {
		t = newTable(a.out, ">", "BRANCH", "BY", "WHEN", ">ASSETS", ">SIZE", "NOTE")
	}
	for _, h := range list {
		note := about(h.Note, h.Tasks, h.Stage)
		if len(h.Milestones) > 0 {
			note = "<" + strings.Join(h.Milestones, ", ") + "> " + note
		}
		if h.Commit != "" {
			note += " · commit " + h.Commit[:min(len(h.Commit), 10)]
		}
		row := []string{fmt.Sprintf("h%d", h.Number), h.Author, when(h.At), count(h.Count), size(h.Size), note}
		if apart {
			row = slices.Insert(row, 1, h.Branch)
		}
		t.row(row...)
	}
	t.print()
}

// assetHere is an asset with its versions, as the branch has it that one is on.
func (a *app) assetHere(ctx context.Context, w *workspace.Workspace, path string) (model.AssetHistory, error) {
	on := ""
	if !w.IsAway() {
		var err error
		if on, err = w.Branch(); err != nil {
			return model.AssetHistory{}, err
		}
	}
	return w.Client.Asset(ctx, w.Marker.Project, on, path)
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
	t := newTable(a.out, ">", ">", "BY", "WHEN", ">SIZE", ">GREW", "NOTE")
	for i, v := range h.Versions {
		s, grew, note := size(v.Size), "", about(v.Note, v.Tasks, v.Stage)
		if i+1 < len(h.Versions) {
			was := h.Versions[i+1]
			if !was.Gone && !v.Gone {
				grew = grown(v.Size - was.Size)
			}
			if was.Path != v.Path {
				note = "moved from " + was.Path + ": " + note
			}
		}
		if v.Gone {
			s = "gone"
		}
		t.row(fmt.Sprintf("v%d", v.Version), fmt.Sprintf("h%d", v.Handoff), v.Author, when(v.At), s, grew, note)
	}
	t.print()
}

// grown is a difference of sizes for people.
func grown(n int64) string {
	switch {
	case n > 0:
		return "+" + size(n)
	case n < 0:
		return "−" + size(-n)
	}
	return "="
}

func (a *app) show() *cli.Command {
	return command("show", "one handoff, or one version of an asset", "h40 | MILESTONE | PATH@v3", "tarn show h12",
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
			if name, n, ok := versionOf(args[0]); ok {
				return a.showVersion(ctx, cmd, w, name, n)
			}
			at, err := a.stateOf(args[0])
			if err != nil {
				return wrongUse("name a handoff like h40, a milestone, or a version like textures/rust.png@v3; tarn history lists them")
			}
			h, err := w.Client.Handoff(ctx, w.Marker.Project, at)
			if err != nil {
				return err
			}
			if cmd.Bool("json") || cmd.Bool("csv") {
				return a.answer(cmd, h, nil)
			}
			project, err := w.Client.Project(ctx, w.Marker.Project)
			if err == nil {
				a.printHandoff(h, project.TaskLinks)
			}
			return err
		})
}

func (a *app) showVersion(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, typed string, n int) error {
	paths, err := a.paths(w, []string{typed})
	if err != nil {
		return err
	}
	h, err := a.assetHere(ctx, w, paths[0])
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
}

// versionOf reads "PATH@v3".
func versionOf(text string) (path string, version int, ok bool) {
	i := strings.LastIndex(text, "@")
	if i < 1 {
		return "", 0, false
	}
	version, ok = point.Numbered(text[i+1:], "v")
	return text[:i], version, ok
}

// stateOf reads how a person names a state, with times in their own zone, and says it in a way that means the same everywhere.
func (a *app) stateOf(text string) (string, error) {
	p, err := point.Parse(text, time.Local)
	if err != nil {
		return "", wrongUse("%v", err)
	}
	return p.String(), nil
}

// handoffAt is the number of the handoff that a person named. "newest" is the one that is it now.
func (a *app) handoffAt(ctx context.Context, w *workspace.Workspace, text string) (int, error) {
	at, err := a.stateOf(text)
	if err != nil {
		return 0, err
	}
	if n, ok := point.Handoff(at); ok {
		return n, nil
	}
	return w.Client.StateAt(ctx, w.Marker.Project, at)
}

func (a *app) printHandoff(h model.Handoff, links []rules.TaskLink) {
	a.say("h%d by %s, %s: %s, %s", h.Number, h.Author, when(h.At), plural(h.Count, "asset"), size(h.Size))
	switch {
	case len(h.Parents) > 1:
		a.say("on %s, where h%d came in", h.Branch, h.Parents[1])
	case h.Branch != model.FirstBranch:
		a.say("on %s", h.Branch)
	}
	if len(h.Milestones) > 0 {
		a.say("milestone %s", strings.Join(h.Milestones, ", "))
	}
	for _, task := range h.Tasks {
		if link := rules.FollowTask(links, task); link != "" {
			a.say("task %s  %s", task, link)
		} else {
			a.say("task %s", task)
		}
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
	a.printChanges(h.Assets)
}

// printChanges lists assets with before and after.
func (a *app) printChanges(list []model.HandoffAsset) {
	t := a.table("", "", "", ">", ">")
	for i, x := range list {
		if i == 500 && len(list) > 520 {
			t.row("…", fmt.Sprintf("and %s more: --json or --csv has all", count(len(list)-i)), "", "", "")
			break
		}
		path, versions, sizes, grew := x.Path, fmt.Sprintf("v%d", x.Version), size(x.Size), ""
		switch {
		case x.Change == "gone":
			versions, sizes = fmt.Sprintf("was v%d", x.Before), size(x.SizeBefore)
		case x.Before > 0 && x.Change != "new":
			versions, grew = fmt.Sprintf("v%d → v%d", x.Before, x.Version), grown(x.Size-x.SizeBefore)
		}
		if x.MovedFrom != "" {
			path = x.MovedFrom + " → " + x.Path
		}
		t.row(x.Change, path, versions, sizes, grew)
	}
	t.print()
}
