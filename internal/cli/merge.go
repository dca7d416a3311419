package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) merge() *cli.Command {
	return command("merge", "bring a branch into another one; what both changed is decided file by file", "BRANCH",
		"tarn merge second-chapter --preview",
		a.named("merge BRANCH", func(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
			o := workspace.MergeOptions{From: names[0], Into: cmd.String("into"), Note: cmd.String("note"), Preview: cmd.Bool("preview")}
			for _, text := range cmd.StringSlice("decide") {
				at := strings.LastIndexByte(text, '=')
				if at < 1 {
					return wrongUse("--decide is a pattern and a way, like 'levels/*.ktl=here'; the ways are %s", strings.Join(model.Ways, ", "))
				}
				o.Decide = append(o.Decide, model.Decision{Pattern: text[:at], Way: text[at+1:]})
			}
			if err := limited(cmd, w.Client); err != nil {
				return err
			}
			to := cmd.String("to")
			if to != "" {
				folder, err := a.folder(to)
				if err != nil {
					return err
				}
				if o.To, err = workspace.NewFolder(folder); err != nil {
					return err
				}
			}
			release, err := w.Work()
			if err != nil {
				return err
			}
			defer release()
			m, u, err := w.Merge(ctx, o)
			if err != nil {
				return err
			}
			answer := struct {
				*model.MergeAnswer
				Update *workspace.Updated `json:"update,omitempty"`
			}{m, u}
			if err := a.answer(cmd, answer, func() { a.printMerge(m, o, to) }); err != nil {
				return err
			}
			if o.Preview && (m.Open > 0 || len(m.Refusals) > 0) {
				return errPartly
			}
			return a.partly(&workspace.Updated{Refusals: u.Refusals})
		}),
		&cli.StringFlag{Name: "into", Usage: "the branch that it comes into; the one that you are on where left out"},
		&cli.BoolFlag{Name: "preview", Usage: "say what it would do, and do nothing"},
		&cli.StringSliceFlag{Name: "decide",
			Usage: "what becomes of what both changed: 'PATTERN=here', there, both or lines; may be given more " +
				"than once, and the last one that fits counts"},
		&cli.StringFlag{Name: "to", Usage: "write what it would change into this new folder, to try it, and merge nothing"},
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "why; made up where left out"}, limitFlag())
}

// printMerge says what a merge did, or would do.
func (a *app) printMerge(m *model.MergeAnswer, o workspace.MergeOptions, to string) {
	since := "they have no state in common"
	if m.Since > 0 {
		since = fmt.Sprintf("their common state is h%d", m.Since)
	}
	made := ""
	if m.Made > 0 {
		made = fmt.Sprintf(", %s of both sides", plural(m.Made, "new version"))
	}
	switch {
	case m.Handoff != nil:
		a.say("h%d: %s (h%d) is in %s now: %s%s.", m.Handoff.Number, m.From, m.AtFrom, m.Into, plural(m.Count, "asset"), made)
	case to != "":
		a.say("What %s (h%d) would bring into %s (h%d) is in %s; nothing was merged.", m.From, m.AtFrom, m.Into, m.At, to)
	default:
		a.say("%s (h%d) would come into %s (h%d); %s.", m.From, m.AtFrom, m.Into, m.At, since)
	}
	if m.Count > 0 {
		if m.Handoff == nil {
			a.say("\nBy itself (%s, %s)%s:", count(m.Count), size(m.Size), made)
		}
		t := a.table("", "", "", ">")
		for i, c := range m.Comes {
			if i == 50 && m.Count > 55 {
				t.row("  …", fmt.Sprintf("and %s more: --json has them", count(m.Count-i)), "", "")
				break
			}
			path, versions := c.Path, fmt.Sprintf("v%d", c.Version)
			if c.MovedFrom != "" {
				path = c.MovedFrom + " → " + c.Path
			}
			if c.Before > 0 {
				versions = fmt.Sprintf("v%d → v%d", c.Before, c.Version)
			}
			s := size(c.Size)
			if c.Change == "gone" {
				versions, s = fmt.Sprintf("was v%d", c.Before), ""
			}
			t.row("  "+path, c.Change, versions, s)
		}
		t.print()
	}
	if m.Open > 0 {
		a.say("\nTo be decided (%s):", count(m.Open))
		for i, c := range m.Undecided {
			if i == 30 && m.Open > 33 {
				a.say("  … and %s more: --json has them", count(m.Open-i))
				break
			}
			a.say("  %s", c.Message)
			a.say("    %s", strings.Join(c.Ways, ", "))
			for _, p := range c.Places {
				a.say("    lines %d to %d of the common text: %q here, %q there", p.From+1, max(p.To, p.From+1), strings.Join(p.Here, " / "),
					strings.Join(p.There, " / "))
			}
		}
		a.say("tarn merge %s --decide '%s=%s' decides one of them; a pattern decides many.", m.From, m.Undecided[0].Path, m.Undecided[0].Ways[0])
	}
	for _, v := range m.Answers {
		answer := "not yet"
		if v.Yes {
			answer = "yes"
		}
		if v.Old {
			answer += ", before it moved on"
		}
		a.say("%s said %s in r%d", v.Person, answer, v.Review)
	}
	if len(m.Refusals) > 0 {
		a.say("")
		a.printRefusals("This stands in the way:", m.Refusals)
	}
	if o.Preview && m.Open == 0 && len(m.Refusals) == 0 {
		a.say("\nNothing has to be decided; the same without --preview does it.")
	}
}
