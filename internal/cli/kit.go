package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/kit"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

func (a *app) kit() *cli.Command {
	preview := &cli.BoolFlag{Name: "preview", Usage: "say what it would do, and do nothing"}
	note := &cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "why, above what it says by itself"}
	return &cli.Command{Name: "kit", Usage: "sets of assets that one project releases, and others use", HideHelpCommand: true,
		Commands: []*cli.Command{
			command("kit list", "the kits that the project makes, and those that it uses", "", "tarn kit list", a.looking(0, 0, "kit list", a.kits)),
			command("kit show", "a release of a kit, the latest where no number is named, and what is different in it", "NAME[@N]",
				"tarn kit show lamp-parts@3", a.named("kit show NAME[@N], of this project, or PROJECT/NAME[@N]", a.showKit)),
			command("kit compare", "what is different between two releases", "NAME@N NAME@M", "tarn kit compare lamp-parts@2 lamp-parts@3",
				a.naming(2, 2, "kit compare NAME@N NAME@M", a.compareKits)),
			command("kit release", "release a kit of the project under its next number; a release never changes", "NAME -m NOTE",
				`tarn kit release lamp-parts -m "The winch has its own lamp"`, a.named("kit release NAME -m NOTE", a.releaseKit),
				&cli.StringFlag{Name: "at", Usage: "as it is in this state: h40, or a milestone; the newest where left out"},
				&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "what is new in it"}),
			command("kit use", "bring a kit of another project into a folder, as a handoff", "PROJECT/NAME",
				"tarn kit use brinelight/lamp-parts --in parts/lamp", a.named("kit use PROJECT/NAME [--in DIR]", a.useKit),
				&cli.StringFlag{Name: "in", Usage: "the folder, from the root of the project (default kits/NAME)"},
				&cli.IntFlag{Name: "stay", HideDefault: true, Usage: "take this release, and keep to it; else it follows the latest"}, note, preview),
			command("kit update", "bring uses of kits to the latest release; what was changed here stays as it is", "[DIR…]",
				"tarn kit update parts/lamp",
				a.naming(0, -1, "kit update [DIR…] [--all]", a.updateKits),
				&cli.BoolFlag{Name: "all", Usage: "all uses that are behind, but for those that keep to a release"},
				&cli.BoolFlag{Name: "everywhere", Usage: "with --all: those in your other projects, too"},
				&cli.IntFlag{Name: "to", HideDefault: true, Usage: "take this release, and keep to it"}, note, preview),
			command("kit offer", "put what was changed in a use to the project that made the kit, for a review there", "DIR -m WHY",
				`tarn kit offer parts/lamp -m "The hinge was a millimetre off"`, a.named("kit offer DIR -m WHY", a.offerKit),
				&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "why they should take it"}),
			command("kit detach", "make the assets of a use ordinary ones", "DIR", "tarn kit detach parts/lamp",
				a.named("kit detach DIR", a.detachKit), note, preview),
		}}
}

func (a *app) kits(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
	list, err := w.Kits(ctx)
	if err != nil {
		return err
	}
	return a.answer(cmd, list, func() {
		if len(list.Made)+len(list.Uses) == 0 {
			a.say("There are no kits here. tarn kit use PROJECT/NAME brings one in; [[kit]] in tarn.toml names one that this project makes.")
			return
		}
		if len(list.Made) > 0 {
			a.say("Made here:")
			t := a.table("  KIT", "LATEST", "RELEASED", "BY", "NOTE")
			for _, k := range list.Made {
				if len(k.Releases) == 0 {
					t.row("  "+k.Name, "not released yet", "", "", "")
					continue
				}
				r := k.Releases[0]
				t.row("  "+k.Name, fmt.Sprintf("@%d, of h%d", r.Number, r.Handoff), when(r.At), r.Person, firstLine(r.Note, 60))
			}
			t.print()
		}
		if len(list.Uses) > 0 {
			a.say("Used here:")
			t := a.table("  FOLDER", "KIT", ">ASSETS", "")
			for _, u := range list.Uses {
				t.row("  "+u.Dir, fmt.Sprintf("%s@%d", u.Kit, u.Release), count(u.Assets), useSays(u))
			}
			t.print()
		}
	})
}

// useSays is how a use stands.
func useSays(u model.KitUse) string {
	var words []string
	switch {
	case u.Newest > u.Release && u.Stay:
		words = append(words, fmt.Sprintf("keeps to it; the latest is @%d", u.Newest))
	case u.Newest > u.Release:
		words = append(words, fmt.Sprintf("behind: the latest is @%d", u.Newest))
	case u.Newest == 0:
		words = append(words, "its project is not yours to look at")
	default:
		words = append(words, "the latest")
	}
	if n := len(u.Changed); n > 0 {
		words = append(words, plural(n, "asset")+" changed here")
	}
	return strings.Join(words, "; ")
}

// kitNamed is a kit by its name, in the project of the workspace where none is named.
func kitNamed(w *workspace.Workspace, text string) (project, name string, number int, err error) {
	project, name, number, err = kit.ParseName(text)
	if err != nil {
		return "", "", 0, usageError{err}
	}
	if project == "" {
		project = w.Marker.Project
	}
	return project, name, number, nil
}

func (a *app) showKit(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	project, name, number, err := kitNamed(w, names[0])
	if err != nil {
		return err
	}
	k, err := w.Client.KitState(ctx, project, name, number, 0)
	if err != nil {
		return err
	}
	users, err := w.Client.KitUsers(ctx, project, name)
	if err != nil {
		return err
	}
	return a.answer(cmd, struct {
		model.KitState
		Uses []model.KitUsed `json:"uses"`
	}{k, users.Uses}, func() {
		a.say("%s/%s@%d by %s, %s: h%d, %s, %s\n\n  %s\n", project, k.Kit, k.Number, k.Person, when(k.At), k.Handoff,
			plural(here(k.Assets), "asset"), size(k.Size), firstLine(k.Note, 200))
		a.printKit(k.Assets, false)
		if len(users.Uses) > 0 {
			a.say("\nUsed in:")
			t := a.table("  PROJECT", "FOLDER", "RELEASE", "")
			for _, u := range users.Uses {
				t.row("  "+u.Project, u.Dir, fmt.Sprintf("@%d", u.Release), useSays(u.KitUse))
			}
			t.print()
		}
	})
}

func here(assets []model.KitAsset) (n int) {
	for _, x := range assets {
		if x.Change != "gone" {
			n++
		}
	}
	return n
}

// printKit lists assets of a kit; only those that are different, where that is asked for.
func (a *app) printKit(assets []model.KitAsset, changed bool) {
	t := a.table("", "", ">")
	rows := 0
	for _, x := range assets {
		if changed && x.Change == "" {
			continue
		}
		if rows++; rows == 200 && len(assets) > 220 {
			t.row("  …", "and more: --json has all", "")
			break
		}
		change := x.Change
		if x.Was != "" {
			change += " from " + x.Was
		}
		t.row("  "+x.Path, change, size(x.Size))
	}
	t.print()
}

func (a *app) compareKits(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	project, name, since, err := kitNamed(w, names[0])
	if err != nil {
		return err
	}
	other, second, number, err := kitNamed(w, names[1])
	if err != nil {
		return err
	}
	if project != other || name != second || since == 0 || number == 0 {
		return wrongUse("name two releases of one kit: tarn kit compare lamp-parts@2 lamp-parts@3")
	}
	k, err := w.Client.KitState(ctx, project, name, number, since)
	if err != nil {
		return err
	}
	return a.answer(cmd, k, func() {
		a.say("%s/%s@%d beside @%d:", project, name, number, since)
		a.printKit(k.Assets, true)
	})
}

func (a *app) releaseKit(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	note := cmd.String("note")
	if note == "" {
		return wrongUse("say what is new in it: tarn kit release %s -m \"…\"", names[0])
	}
	r, err := w.Client.ReleaseKit(ctx, w.Marker.Project, model.KitReleaseRequest{Kit: names[0], At: cmd.String("at"), Note: note})
	if err != nil {
		return err
	}
	return a.answer(cmd, r, func() {
		a.say("%s/%s@%d is released, as of h%d. It never changes; others take it with tarn kit use %s/%s.", w.Marker.Project, r.Kit, r.Number,
			r.Handoff, w.Marker.Project, r.Kit)
	})
}

func (a *app) useKit(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	project, name, number, err := kit.ParseName(names[0])
	if err != nil || project == "" || number != 0 {
		return wrongUse("name a kit of another project: tarn kit use brinelight/lamp-parts (--stay 3 takes release 3, and keeps to it)")
	}
	dir := cmd.String("in")
	if dir == "" {
		dir = "kits/" + name
	}
	return a.changeKit(ctx, cmd, w, model.KitRequest{Kit: names[0], Dir: dir, To: int(cmd.Int("stay")), Stay: cmd.Int("stay") > 0})
}

func (a *app) detachKit(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	return a.changeKit(ctx, cmd, w, model.KitRequest{Dir: names[0], Detach: true})
}

func (a *app) updateKits(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, dirs []string) error {
	if (len(dirs) == 0) != cmd.Bool("all") || cmd.Int("to") > 0 && len(dirs) != 1 || cmd.Bool("everywhere") && !cmd.Bool("all") {
		return wrongUse("name folders that came from a kit, or --all; --to takes one folder. tarn kit list shows them")
	}
	release, err := w.Work()
	if err != nil {
		return err
	}
	defer release()
	if cmd.Bool("all") {
		list, err := w.Kits(ctx)
		if err != nil {
			return err
		}
		for _, u := range list.Uses {
			if u.Newest > u.Release && !u.Stay {
				dirs = append(dirs, u.Dir)
			}
		}
		if cmd.Bool("everywhere") {
			return a.updateEverywhere(ctx, cmd, w, dirs)
		}
		if len(dirs) == 0 {
			return a.answer(cmd, map[string]any{"uses": []model.KitAnswer{}}, func() { a.say("No use is behind.") })
		}
	}
	if len(dirs) == 1 {
		return a.changed(ctx, cmd, w, model.KitRequest{Dir: dirs[0], To: int(cmd.Int("to")), Stay: cmd.Int("to") > 0})
	}
	var failed error
	for _, dir := range dirs {
		failed = errors.Join(failed, a.changed(ctx, cmd, w, model.KitRequest{Dir: dir}))
	}
	return failed
}

// updateEverywhere brings uses here, in dirs, and those in one's other projects.
func (a *app) updateEverywhere(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, dirs []string) error {
	all := []workspace.KitEverywhere{}
	say := func(one workspace.KitEverywhere) {
		all = append(all, one)
		switch {
		case cmd.Bool("json"):
		case one.Answer == nil:
			a.say("%s: %s: %s", one.Project, one.Dir, one.Trouble)
		default:
			a.say("In %s:", one.Project)
			a.printKitChange(one.Answer, model.KitRequest{})
		}
	}
	for _, dir := range dirs {
		one := workspace.KitEverywhere{Project: w.Marker.Project, Dir: dir}
		answer, _, err := w.ChangeKit(ctx, model.KitRequest{Dir: dir, Note: cmd.String("note"), Preview: cmd.Bool("preview")})
		if one.Answer = answer; err != nil && answer == nil {
			one.Trouble = err.Error()
		}
		say(one)
	}
	if err := w.UpdateKitsElsewhere(ctx, cmd.String("note"), cmd.Bool("preview"), say); err != nil {
		return err
	}
	if err := a.answer(cmd, map[string]any{"uses": all}, func() {
		if len(all) == 0 {
			a.say("No use is behind, in none of your projects.")
		}
	}); err != nil {
		return err
	}
	for _, one := range all {
		if one.Trouble != "" {
			return errPartly
		}
	}
	return nil
}

func (a *app) offerKit(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	why := cmd.String("note")
	if why == "" {
		return wrongUse("say why they should take it: tarn kit offer %s -m \"…\"", names[0])
	}
	out, err := w.OfferKit(ctx, names[0], why)
	if err != nil {
		return err
	}
	return a.answer(cmd, out, func() {
		asked := "nobody is asked: it has no other lead"
		if len(out.Asked) > 0 {
			asked = strings.Join(out.Asked, ", ") + " is asked to look"
			if len(out.Asked) > 1 {
				asked = strings.Join(out.Asked, ", ") + " are asked to look"
			}
		}
		a.say("%s has it on the branch %s, as h%d, with the review r%d: %s.", out.Project, out.Branch, out.Handoff, out.Review, asked)
		t := a.table("")
		for _, path := range out.Paths {
			t.row("  " + path)
		}
		t.print()
		a.say("Once it is accepted and merged there, it comes with the next release of %s.", out.Kit)
	})
}

// changeKit changes a use, as the one command that works in the workspace.
func (a *app) changeKit(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, q model.KitRequest) error {
	release, err := w.Work()
	if err != nil {
		return err
	}
	defer release()
	return a.changed(ctx, cmd, w, q)
}

func (a *app) changed(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, q model.KitRequest) error {
	q.Note, q.Preview = cmd.String("note"), cmd.Bool("preview")
	answer, u, err := w.ChangeKit(ctx, q)
	if err != nil {
		return err
	}
	if err := a.answer(cmd, answer, func() { a.printKitChange(answer, q) }); err != nil {
		return err
	}
	if q.Preview && len(answer.Refusals) > 0 {
		a.printRefusals("This stands in the way:", answer.Refusals)
		return errPartly
	}
	return a.partly(&workspace.Updated{Refusals: u.Refusals})
}

// printKitChange says what became, or would become, of a use.
func (a *app) printKitChange(k *model.KitAnswer, q model.KitRequest) {
	does, at := "would be", ""
	if k.Handoff != nil {
		does, at = "is", fmt.Sprintf("h%d: ", k.Handoff.Number)
	}
	if q.Detach {
		a.say("%s%s %s detached from %s: ordinary assets from then on, with their past.", at, k.Use.Dir, does, k.Use.Kit)
		return
	}
	from := ""
	if k.Was > 0 && k.Was != k.Use.Release {
		from = fmt.Sprintf(", from @%d", k.Was)
	}
	a.say("%s%s %s %s@%d%s, with %s.", at, k.Use.Dir, does, k.Use.Kit, k.Use.Release, from, plural(k.Use.Assets, "asset"))
	a.printKit(k.Changes, true)
	if len(k.Kept) > 0 {
		a.say("Changed here before, and left as they are:")
		t := a.table("")
		for _, path := range k.Kept {
			t.row("  " + path)
		}
		t.print()
	}
}
