package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/spot"
	"kettletarn/internal/workspace"
)

func (a *app) review() *cli.Command {
	text := func(usage string) cli.Flag {
		return &cli.StringFlag{Name: "text", Aliases: []string{"m"}, Usage: usage}
	}
	return &cli.Command{Name: "review", Usage: "looking together at a branch or a handoff, before it comes in", HideHelpCommand: true,
		Commands: []*cli.Command{
			lists(command("review list", "the reviews, the open ones first", "", "tarn review list", a.looking(0, 0, "review list", a.listReviews),
				&cli.BoolFlag{Name: "mine", Usage: "only those in which you are asked, and have not answered as they are now"})),
			command("review open", "open a review, and ask people to look", "BRANCH | h40",
				"tarn review open second-chapter --ask tamsin,rurik -m 'Does the bell read from the boat?'", a.named("review open BRANCH",
					a.openReview),
				&cli.StringSliceFlag{Name: "ask", Usage: "who is asked, by handle; may be given more than once"}, text("what is to be looked at")),
			command("review show", "one review: who was asked, who answered what, and all that was said", "r4", "tarn review show r4",
				a.named("review show r4", a.showReview)),
			command("review say", "say something, of the whole or of a spot on an asset", "r4 [PATH]",
				"tarn review say r4 textures/rust.png --where 30%,45% -m 'Too green here'", a.sayInReview,
				text("what you have to say"),
				&cli.StringFlag{Name: "where", Usage: "a place (30%,45%, page 2 30%,45%), a point (1.2,0,-3), a moment (0:12.5), 'line 12', " +
					"'part R4' or 'net GND'"},
				&cli.IntFlag{Name: "version", Usage: "of which version; the one that is looked at where left out"},
				&cli.IntFlag{Name: "to", Usage: "the remark that this answers"},
				&cli.IntFlag{Name: "settle", Usage: "settle this remark, with or without words"},
				&cli.IntFlag{Name: "unsettle", Usage: "take that back"}),
			command("review answer", "say yes, or not yet, to the whole as it is now", "r4", "tarn review answer r4 --yes",
				a.named("review answer r4", a.answerReview), &cli.BoolFlag{Name: "yes", Usage: "it may come in"},
				&cli.BoolFlag{Name: "not-yet", Usage: "something is missing; -m says what"}, text("why, or what is missing")),
			command("review close", "end a review", "r4", "tarn review close r4", a.named("review close r4", a.closeReview)),
		}}
}

// reviewOf reads r4.
func reviewOf(text string) (int, error) {
	n, err := strconv.Atoi(strings.TrimPrefix(strings.ToLower(text), "r"))
	if err != nil || n < 1 {
		return 0, wrongUse("%s is no review; they are called r1, r2 and so on", text)
	}
	return n, nil
}

// ofReview is what a review is about.
func ofReview(r model.Review) string {
	if r.Branch != "" {
		return r.Branch
	}
	return fmt.Sprintf("h%d", r.Handoff)
}

func (a *app) listReviews(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, _ []string) error {
	list, err := w.Client.Reviews(ctx, w.Marker.Project)
	if err != nil {
		return err
	}
	if cmd.Bool("mine") {
		who, err := w.Client.Whoami(ctx)
		if err != nil {
			return err
		}
		mine := []model.Review{}
		for _, r := range list.Reviews {
			if r.Closed == nil && slices.Contains(r.Waits, who.Handle) {
				mine = append(mine, r)
			}
		}
		list.Reviews = mine
	}
	return a.answer(cmd, list, func() {
		if len(list.Reviews) == 0 {
			a.say("There is nothing to look at.")
			return
		}
		t := a.table("", "OF", "OPENED BY", "WHEN", "ANSWERS", ">OPEN REMARKS", "WHAT")
		for _, r := range list.Reviews {
			answers := verdicts(r)
			if r.Closed != nil {
				answers = "closed"
			}
			t.row(fmt.Sprintf("r%d", r.Number), ofReview(r), r.Person, when(r.At), answers, count(r.Open), firstLine(r.Text, 50))
		}
		t.print()
	})
}

// verdicts counts what people answered, and names who has not.
func verdicts(r model.Review) string {
	var parts []string
	yes, no := 0, 0
	for _, x := range r.Answers {
		switch {
		case x.Old:
		case x.Yes:
			yes++
		default:
			no++
		}
	}
	for _, p := range []struct {
		n    int
		what string
	}{{yes, "yes"}, {no, "not yet"}, {len(r.Waits), "to answer"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
		}
	}
	return strings.Join(parts, ", ")
}

func (a *app) openReview(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	q := model.ReviewRequest{Of: names[0], Text: cmd.String("text"), Ask: []string{}}
	for _, list := range cmd.StringSlice("ask") {
		for _, h := range strings.Split(list, ",") {
			if h = strings.TrimSpace(h); h != "" {
				q.Ask = append(q.Ask, h)
			}
		}
	}
	r, err := w.Client.OpenReview(ctx, w.Marker.Project, q)
	if err != nil {
		return err
	}
	return a.answer(cmd, r, func() {
		asked := "Nobody is asked yet"
		switch len(r.Asked) {
		case 0:
		case 1:
			asked = r.Asked[0] + " hears of it"
		default:
			asked = strings.Join(r.Asked, ", ") + " hear of it"
		}
		a.say("r%d is the review of %s. %s; tarn review show r%d has what is said.", r.Number, ofReview(r), asked, r.Number)
	})
}

func (a *app) showReview(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	n, err := reviewOf(names[0])
	if err != nil {
		return err
	}
	r, err := w.Client.Review(ctx, w.Marker.Project, n)
	if err != nil {
		return err
	}
	answer := struct {
		model.Review
		Spots []model.RemarkSpot `json:"spots,omitempty"`
	}{Review: r}
	if slices.ContainsFunc(r.Remarks, func(m model.Remark) bool { return m.Where != "" }) {
		found, err := w.Client.RemarkSpots(ctx, w.Marker.Project, n)
		if err != nil {
			return err
		}
		answer.Spots = found.Spots
	}
	return a.answer(cmd, answer, func() { a.printReview(r, answer.Spots) })
}

func (a *app) printReview(r model.Review, spots []model.RemarkSpot) {
	state := fmt.Sprintf("at h%d", r.Head)
	if r.Closed != nil {
		state = fmt.Sprintf("closed by %s, %s", r.Closer, when(*r.Closed))
	}
	a.say("r%d of %s, opened by %s, %s; %s", r.Number, ofReview(r), r.Person, when(r.At), state)
	for line := range strings.Lines(r.Text) {
		a.say("  %s", strings.TrimRight(line, "\r\n"))
	}
	a.say("")
	for _, x := range r.Answers {
		answer, why := "not yet", ""
		if x.Yes {
			answer = "yes"
		}
		if x.Why != "" {
			why = ": " + firstLine(x.Why, 100)
		}
		old := ""
		if x.Old {
			old = fmt.Sprintf(" (of h%d, before it moved on)", x.Head)
		}
		a.say("%s says %s%s, %s%s", x.Person, answer, old, when(x.At), why)
	}
	for _, h := range r.Waits {
		a.say("%s is asked", h)
	}
	for _, m := range r.Remarks {
		if m.Answers == 0 {
			a.printRemark(r, m, spots)
		}
	}
}

// printRemark prints a remark with what was answered to it.
func (a *app) printRemark(r model.Review, m model.Remark, spots []model.RemarkSpot) {
	on := ""
	if m.Path != "" {
		on = fmt.Sprintf(" on %s@v%d", m.Path, m.Version)
		if m.Where != "" {
			on += " at " + m.Where
			at := slices.IndexFunc(spots, func(s model.RemarkSpot) bool { return s.Remark == m.Number })
			switch {
			case at < 0:
				on += " (no longer there)"
			case spots[at].Version != m.Version && spots[at].Where != m.Where:
				on += fmt.Sprintf(" (on v%d at %s)", spots[at].Version, spots[at].Where)
			}
		}
	}
	state := ""
	if m.Settled != nil {
		state = ", settled by " + m.Settler
	}
	a.say("\n%d  %s%s, %s%s", m.Number, m.Person, on, when(m.At), state)
	for line := range strings.Lines(m.Text) {
		a.say("   %s", strings.TrimRight(line, "\r\n"))
	}
	for _, x := range r.Remarks {
		if x.Answers == m.Number {
			a.say("   %d  %s, %s: %s", x.Number, x.Person, when(x.At), strings.Join(strings.Fields(x.Text), " "))
		}
	}
}

func (a *app) sayInReview(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1, 2, "review say r4 [PATH]")
	if err != nil {
		return err
	}
	n, err := reviewOf(args[0])
	if err != nil {
		return err
	}
	w, err := a.open()
	if err != nil {
		return err
	}
	defer w.Close()
	q := model.RemarkRequest{Text: cmd.String("text"), Where: cmd.String("where"), Version: cmd.Int("version"), Answers: cmd.Int("to")}
	if q.Where != "" {
		if _, err := spot.Parse(q.Where); err != nil {
			return wrongUse("%v", err)
		}
	}
	if len(args) == 2 {
		if q.Path, err = w.Path(a.dir, args[1]); err != nil {
			return err
		}
	}
	settle, unsettle := cmd.Int("settle"), cmd.Int("unsettle")
	if q.Text == "" && settle == 0 && unsettle == 0 {
		return wrongUse("-m has what you have to say; --settle 3 settles a remark")
	}
	var r model.Review
	if q.Text != "" {
		if q.Answers == 0 {
			q.Answers = max(settle, unsettle)
		}
		if r, err = w.Client.Say(ctx, w.Marker.Project, n, q); err != nil {
			return err
		}
	}
	if settle+unsettle > 0 {
		if r, err = w.Client.SettleRemark(ctx, w.Marker.Project, n, model.SettleRequest{Remark: max(settle, unsettle),
			Settled: settle > 0}); err != nil {
			return err
		}
	}
	return a.answer(cmd, r, func() {
		a.say("Said in r%d: %s, %s open.", r.Number, plural(r.Said, "remark"), count(r.Open))
	})
}

func (a *app) answerReview(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	n, err := reviewOf(names[0])
	if err != nil {
		return err
	}
	if cmd.Bool("yes") == cmd.Bool("not-yet") {
		return wrongUse("answer with --yes, or with --not-yet -m WHY")
	}
	r, err := w.Client.AnswerReview(ctx, w.Marker.Project, n, model.AnswerRequest{Yes: cmd.Bool("yes"), Why: cmd.String("text")})
	if err != nil {
		return err
	}
	return a.answer(cmd, r, func() { a.say("Your answer to r%d is kept, as of h%d: %s.", r.Number, r.Head, verdicts(r)) })
}

func (a *app) closeReview(ctx context.Context, cmd *cli.Command, w *workspace.Workspace, names []string) error {
	n, err := reviewOf(names[0])
	if err != nil {
		return err
	}
	r, err := w.Client.CloseReview(ctx, w.Marker.Project, n)
	if err != nil {
		return err
	}
	return a.answer(cmd, r, func() { a.say("r%d is closed; what was said in it stays.", r.Number) })
}
