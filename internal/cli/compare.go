package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/apart"
	"kettletarn/internal/core/assetpath"
	textlines "kettletarn/internal/core/lines"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) compare() *cli.Command {
	return command("compare", "what is different between two versions of an asset, or between two states of the project", "A [B]",
		"tarn compare textures/rust-albedo.png@v2 textures/rust-albedo.png@v3 --picture rust.png",
		func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 2, "compare PATH@v2 [PATH@v3], compare PATH, or compare h30 [h40]")
			if err != nil {
				return err
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			defer w.Close()
			path, version, ok := versionOf(args[0])
			if !ok && len(args) == 1 {
				if found, err := a.paths(w, args); err == nil && w.Has(found[0]) {
					return a.compareHere(ctx, cmd, w, found[0])
				}
			}
			if !ok {
				return a.compareStates(ctx, cmd, w, args)
			}
			with, later := path, 0
			if len(args) == 2 {
				if with, later, ok = versionOf(args[1]); !ok {
					return wrongUse("name two versions (textures/rust.png@v2 textures/rust.png@v3) or two states (h30 h40)")
				}
			}
			paths, err := a.paths(w, []string{path, with})
			if err != nil {
				return err
			}
			if len(args) == 2 && paths[0] == paths[1] && version == later {
				return wrongUse("both are version %d of %s, and nothing is different between a version and itself", version, path)
			}
			return a.compareVersions(ctx, cmd, w, paths[0], version, paths[1], later)
		},
		&cli.StringFlag{Name: "picture", Usage: "write both and what is different between them, side by side, as a PNG"})
}

// compareVersions compares what the service has: nothing has to come here for that.
func (a *app) compareVersions(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, path string, version int, with string,
	later int) error {
	// Large ones take the service some seconds the first time.
	waiting := time.AfterFunc(time.Second, func() { a.note("Looking at both …") })
	out, err := w.Client.Compare(ctx, w.Marker.Project, path, version, with, later)
	waiting.Stop()
	if err != nil {
		return err
	}
	if err := a.answer(cmd, out, func() {
		a.say("%s@v%d and %s@v%d:", out.Before.Path, out.Before.Version, out.After.Path, out.After.Version)
		a.printComparison(out.Compare)
	}); err != nil {
		return err
	}
	return a.savePicture(ctx, cmd, func(side int, name string) ([]byte, error) {
		switch side {
		case 0:
			return w.Client.Drawing(ctx, w.Marker.Project, out.Before.Path, out.Before.Version, name)
		case 1:
			return w.Client.Drawing(ctx, w.Marker.Project, out.After.Path, out.After.Version, name)
		}
		return w.Client.ComparedDrawing(ctx, w.Marker.Project, path, out.Before.Version, with, out.After.Version, name)
	}, out.Compare)
}

// compareHere compares a file with the version that it was made from.
func (a *app) compareHere(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, path string) error {
	out, err := w.CompareUnsent(ctx, path)
	if err != nil {
		return err
	}
	if out.Version == 0 {
		return model.NewProblem(model.NotFound, "tarn send hands it off", "%s is new here: there is no version of it yet", path)
	}
	if err := a.answer(cmd, out.Comparison, func() {
		a.say("%s@v%d and the file as it is here:", out.Path, out.Version)
		a.printComparison(out.Comparison)
	}); err != nil {
		return err
	}
	return a.savePicture(ctx, cmd, func(side int, name string) ([]byte, error) {
		return out.Drawn[[]string{media.Before, media.After, ""}[side]+name], nil
	}, out.Comparison)
}

// savePicture writes what --picture asks for. get gives a file of the earlier side (0), the later one (1), or of both (2).
func (a *app) savePicture(ctx context.Context, cmd *cli.Command,
	get func(side int, name string) ([]byte, error), c media.Comparison) error {
	name := cmd.String("picture")
	if name == "" {
		return nil
	}
	var pictures [][]byte
	add := func(side int, file string) error {
		data, err := get(side, file)
		if err == nil && data != nil {
			pictures = append(pictures, data)
		}
		return err
	}
	for side, files := range [][]string{c.Before.Files, c.After.Files} {
		if slices.Contains(files, "whole.png") {
			if err := add(side, "whole.png"); err != nil {
				return err
			}
		}
	}
	for _, file := range []string{"difference.png", "plan.png"} {
		if slices.Contains(c.Files, file) {
			if err := add(2, file); err != nil {
				return err
			}
		}
	}
	if len(pictures) == 0 && c.Strip != nil {
		strip, err := c.Strip.Draw()
		if err != nil {
			return err
		}
		pictures = append(pictures, strip)
	}
	if len(pictures) == 0 {
		return model.NewProblem(model.NotFound, "leave --picture out", "there is nothing to draw of these")
	}
	data, err := beside(ctx, pictures)
	if err != nil {
		return err
	}
	target, err := a.folder(name)
	if err != nil {
		return err
	}
	if err := os.WriteFile(target, data, 0o644); err != nil {
		return fmt.Errorf("%s can't be written: %w", target, err)
	}
	a.note("%s has the picture.", target)
	return nil
}

// beside puts pictures beside each other, in a process of its own: they were drawn elsewhere, and nothing is known of them.
func beside(ctx context.Context, pictures [][]byte) (data []byte, err error) {
	folder, err := os.MkdirTemp("", "tarn-picture-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	names := make([]string, len(pictures))
	for i, p := range pictures {
		names[i] = filepath.Join(folder, fmt.Sprint(i))
		if err := os.WriteFile(names[i], p, 0o600); err != nil {
			return nil, err
		}
	}
	return data, apart.Beside(ctx, 1600, names, func(_ string, content io.Reader) (err error) {
		data, err = io.ReadAll(content)
		return err
	})
}

// printComparison prints facts, measures, changes and lines.
func (a *app) printComparison(c media.Comparison) {
	for _, side := range []struct {
		word string
		r    media.Report
	}{{"The earlier one", c.Before}, {"The later one", c.After}} {
		if side.r.Trouble != "" {
			a.say("%s can't be read: %s", side.word, assetpath.Printable(side.r.Trouble))
		}
	}
	if c.Same {
		a.say("Nothing that can be seen or heard is different.")
	}
	t := a.table("", "", "", "")
	for _, f := range c.Facts {
		mark, after := "", f.After
		if f.Changed {
			mark = "→"
		} else {
			after = ""
		}
		t.row("  "+f.Name, f.Before, mark, after)
	}
	t.print()
	if len(c.Measures) > 0 {
		a.say("")
		m := a.table("", "")
		for _, f := range c.Measures {
			m.row("  "+f.Name, f.Value)
		}
		m.print()
	}
	if len(c.Changes) > 0 {
		a.say("")
		t := a.table("", "", "", "")
		for i, x := range c.Changes {
			if i == 60 && len(c.Changes)+c.Left > 70 {
				t.row("  …", fmt.Sprintf("and %s more: --json has them", count(len(c.Changes)+c.Left-i)), "", "")
				break
			}
			text := x.Before
			if x.Before != "" && x.After != "" {
				text += " → "
			}
			if text += x.After; x.Distance > 0 {
				text += fmt.Sprintf("  (by %.4g)", x.Distance)
			}
			t.row("  "+x.Change, x.What, x.Name, text)
		}
		t.print()
	}
	a.printRows(c)
	if c.Strip != nil && c.Kind == media.Other {
		a.say("")
		a.say("  %s of %s are not as before:", size(c.Strip.Changed), size(c.Strip.After))
		a.say("  %s", stripWords(c.Strip, 72))
	}
}

// printRows prints lines with both numbers: those that went with a minus, those that came with a plus.
func (a *app) printRows(c media.Comparison) {
	if len(c.Rows) == 0 {
		return
	}
	a.say("")
	last := 0
	line := func(mark string, before, after int, text string) {
		numbers := []string{"", ""}
		for i, n := range []int{before, after} {
			if n > 0 {
				numbers[i] = fmt.Sprint(n)
			}
		}
		a.say("  %5s %5s %s %s", numbers[0], numbers[1], mark, assetpath.Printable(text))
	}
	for _, r := range c.Rows {
		at := max(r.Before, r.After)
		if last > 0 && r.Before > last+1 {
			a.say("  %5s %5s", "⋮", "⋮")
		}
		switch r.Kind {
		case textlines.Same:
			line(" ", r.Before, r.After, r.Text)
		case textlines.Removed:
			line("-", r.Before, 0, r.Text)
		case textlines.Added:
			line("+", 0, r.After, r.Text)
		default:
			line("-", r.Before, 0, r.Old)
			line("+", 0, r.After, r.Text)
		}
		if r.Before > 0 {
			last = r.Before
		} else if last == 0 {
			last = at
		}
	}
	if c.RowsLeft > 0 {
		a.say("  … and %s more lines", count(c.RowsLeft))
	}
}

// stripWords draws which parts of a content are different: a column is full where anything in it is.
func stripWords(s *media.Strip, width int) string {
	cells := make([]bool, width)
	at := int64(0)
	for _, p := range s.Parts {
		if !p.Same && p.Size > 0 {
			for i := at * int64(width) / max(s.After, 1); i <= (at+p.Size-1)*int64(width)/max(s.After, 1) && i < int64(width); i++ {
				cells[i] = true
			}
		}
		at += p.Size
	}
	out := make([]rune, width)
	for i, c := range cells {
		if out[i] = '·'; c {
			out[i] = '█'
		}
	}
	return string(out)
}

// compareStates prints what is different between two states: by folder, by kind, by person, and asset by asset.
func (a *app) compareStates(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, args []string) (err error) {
	states := []string{"", "newest"}
	for i, text := range args {
		if states[i], err = a.stateOf(text); err != nil {
			return err
		}
	}
	out, err := w.Client.Between(ctx, w.Marker.Project, states[0], states[1], "")
	if err != nil {
		return err
	}
	for next := out.Next; next != ""; {
		page, err := w.Client.Between(ctx, w.Marker.Project, fmt.Sprintf("h%d", out.From.Number), fmt.Sprintf("h%d", out.To.Number), next)
		if err != nil {
			return err
		}
		out.Assets, next = append(out.Assets, page.Assets...), page.Next
	}
	out.Next = ""
	return a.answer(cmd, out, func() { a.printBetween(out) })
}

func (a *app) printBetween(out model.Between) {
	a.say("From %s to %s:", stateWords(out.From), stateWords(out.To))
	if len(out.Assets) == 0 {
		a.say("Nothing is different.")
		return
	}
	a.say("")
	t := a.table("", "", ">NEW", ">EDITED", ">MOVED", ">GONE", ">SIZE", ">GREW")
	tally := func(title string, list ...model.Tally) {
		for _, l := range list {
			name := l.Name
			if name == "" {
				name = "(at the root)"
			}
			t.row(title, name, number(l.New), number(l.Edited), number(l.Moved), number(l.Gone), size(l.Size), grown(l.Size-l.SizeBefore))
			title = ""
		}
	}
	tally("all", model.Tally{Name: plural(len(out.Assets), "asset"), New: out.Total.New, Edited: out.Total.Edited, Moved: out.Total.Moved,
		Gone: out.Total.Gone, Size: out.Total.Size, SizeBefore: out.Total.SizeBefore})
	tally("folder", out.Folders...)
	tally("kind", out.Kinds...)
	t.print()
	a.say("")
	p := a.table("BY", ">HANDOFFS", ">VERSIONS", "FROM", "TO")
	for _, who := range out.People {
		p.row(who.Person, count(who.Handoffs), count(who.Versions), when(who.First), when(who.Last))
	}
	p.print()
	a.say("")
	a.printChanges(out.Assets)
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return count(n)
}

func stateWords(h model.Handoff) string {
	if h.Number == 0 {
		return "the start"
	}
	words := fmt.Sprintf("h%d", h.Number)
	for _, m := range h.Milestones {
		words += " (" + m + ")"
	}
	return words + ", " + when(h.At)
}
