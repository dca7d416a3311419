package handoffs

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"

	"kettletarn/internal/core/change"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// What a merge says: what would come, what nobody has decided, what stands in the way, what people said.

func (m *merge) note() string {
	if m.q.Note != "" {
		return m.q.Note
	}
	return fmt.Sprintf("%s comes into %s", m.from.Name, m.into.Name)
}

// answer says what the merge does.
func (m *merge) answer() model.MergeAnswer {
	out := model.MergeAnswer{From: m.from.Name, Into: m.into.Name, At: m.into.Head, AtFrom: m.from.Head, Since: m.since, Note: m.note(),
		Comes: []model.MergeChange{}, Undecided: []model.MergeClash{}, Refusals: append([]model.Refusal{}, m.plan.Refusals...),
		Count: len(m.plan.Came) + len(m.plan.Made) + len(m.plan.Asides), Made: len(m.plan.Made) + len(m.plan.Asides), Open: len(m.plan.Undecided),
		Answers: m.answers}
	add := func(path, does string, was, now *tree.Entry, version, before int, made bool) {
		if was == nil && now == nil {
			out.Count-- // it is not there, before and after
			return
		}
		c := model.MergeChange{Path: path, Change: does, Version: version, Before: before, Made: made}
		if now != nil {
			c.Content, c.Executable = now.Content.String(), now.Mode&tree.Executable != 0
			if c.Size = now.Size; was == nil || was.Content != now.Content {
				out.Size += now.Size
			}
			if was != nil && was.Spelling() != now.Spelling() {
				c.MovedFrom = was.Spelling()
			}
		}
		out.Comes = append(out.Comes, c)
	}
	for _, x := range m.plan.Came {
		id := x.ID
		add(pathAfter(x, x.There), does(x.Here, x.There), x.Here, x.There, m.tips[1][id].Number, m.tips[0][id].Number, false)
	}
	for _, x := range m.plan.Made {
		id := x.Met.ID
		add(pathAfter(x.Met, x.Entry), does(x.Here, x.Entry), x.Here, x.Entry, m.next(id), m.tips[0][id].Number, true)
	}
	for _, a := range m.plan.Asides {
		add(a.Path, "new", nil, &a.Entry, 1, 0, true)
	}
	slices.SortFunc(out.Comes, func(a, b model.MergeChange) int { return strings.Compare(a.Path, b.Path) })
	most := model.MaxMergeListed
	if m.q.Whole {
		most = model.MaxMergeWhole
	}
	out.Comes = out.Comes[:min(len(out.Comes), most)]
	for _, u := range m.plan.Undecided[:min(len(m.plan.Undecided), most)] {
		out.Undecided = append(out.Undecided, m.clash(u))
	}
	return out
}

func pathAfter(x tree.Met, now *tree.Entry) string {
	if now != nil {
		return now.Spelling()
	}
	return change.Spelled(x)
}

// does is what happens to an asset on the branch that stays.
func does(was, now *tree.Entry) string {
	switch {
	case now == nil:
		return "gone"
	case was == nil:
		return "new"
	case was.Content == now.Content && was.Spelling() != now.Spelling():
		return "moved"
	}
	return "edited"
}

// clash tells of something that nobody has decided.
func (m *merge) clash(u change.Undecided) model.MergeClash {
	id := u.Met.ID
	path := change.Spelled(u.Met)
	c := model.MergeClash{Path: path, Why: u.Why, Ways: u.Ways}
	side := func(e *tree.Entry, version int) *model.MergeSide {
		if e == nil {
			return nil
		}
		return &model.MergeSide{Path: e.Spelling(), Version: version, Size: e.Size, Content: e.Content.String(),
			Executable: e.Mode&tree.Executable != 0}
	}
	c.Here, c.There = side(u.Here, m.tips[0][id].Number), side(u.There, m.tips[1][id].Number)
	if u.Base != nil {
		c.Base = side(u.Base, u.Base.Version)
	}
	if u.Other != nil {
		c.Other = u.Other.Spelling()
	}
	here, there := m.into.Name, m.from.Name
	switch u.Why {
	case tree.BothEdited:
		c.Message = fmt.Sprintf("%s: edited on %s (v%d) and on %s (v%d)", path, here, c.Here.Version, there, c.There.Version)
	case tree.BothMoved:
		c.Message = fmt.Sprintf("%s: moved to %s on %s, and to %s on %s", path, c.Here.Path, here, c.There.Path, there)
	case tree.GoneHere:
		c.Message = fmt.Sprintf("%s: deleted on %s, and changed on %s (v%d)", path, here, there, c.There.Version)
	case tree.GoneThere:
		c.Message = fmt.Sprintf("%s: changed on %s (v%d), and deleted on %s", path, here, c.Here.Version, there)
	case tree.PlaceTaken:
		c.Message = fmt.Sprintf("%s: on %s it comes to %s, where %s has %s", path, there, c.There.Path, here, c.Other)
	case tree.FileFolder:
		c.Message = fmt.Sprintf("%s: on %s it comes to %s, and %s is in the way: a file can't be a folder, too", path, there, c.There.Path,
			c.Other)
	}
	switch {
	case u.Text != nil && u.Text.Err != nil:
		c.Message += fmt.Sprintf("; it can't be merged line by line: %v", u.Text.Err)
	case u.Text != nil:
		c.Places = u.Text.Places
		c.Message += "; both changed the same lines in " + english.Plural(len(c.Places), "place", "")
	case u.Tried != "" && !slices.Contains(u.Ways, u.Tried):
		c.Message += fmt.Sprintf("; it can't be decided with %q", u.Tried)
	}
	return c
}

// refused is the error of a merge that can't be carried out.
func (m *merge) refused() error {
	refusals := slices.Clone(m.plan.Refusals)
	for _, u := range m.plan.Undecided {
		c := m.clash(u)
		refusals = append(refusals, model.Refusal{Path: c.Path, Reason: "undecided", Message: c.Message,
			Remedy: fmt.Sprintf("decide with --decide '%s=%s'", c.Path, strings.Join(c.Ways, "|"))})
		if len(refusals) >= model.MaxMergeListed {
			break
		}
	}
	if len(refusals) == 0 {
		return nil
	}
	return &model.Refused{Refusals: refusals}
}

// lookedAt takes in what people said of the branch that comes, and refuses where the rules ask for more of them. Who handed off on the
// branch since the common state does not count for it.
func (m *merge) lookedAt(ctx context.Context, tx *records.Tx, asked rules.OnBranch) error {
	list, err := tx.Reviews(ctx, m.project.ID, 0, m.from.ID)
	if err != nil {
		return err
	}
	m.answers = nil
	yes := map[string]bool{}
	for _, r := range list {
		for _, a := range r.Answers {
			m.answers = append(m.answers, model.MergeVerdict{Review: r.Number, Person: a.Person, Yes: a.Yes, Why: a.Why, Old: a.Old})
			if a.Yes && !a.Old {
				yes[a.Person] = true
			}
		}
	}
	if asked.Yes == 0 {
		return nil
	}
	worked, err := tx.Worked(ctx, m.project.ID, m.since, m.from.Head)
	if err != nil {
		return err
	}
	for _, w := range worked {
		delete(yes, w.Person)
	}
	members, err := tx.MembersCalled(ctx, m.project.ID, ground.SortedKeys(yes))
	if err != nil {
		return err
	}
	count := 0
	for person := range yes {
		if model.AtLeast(members[person].Role, asked.YesRole) {
			count++
		}
	}
	if count >= asked.Yes {
		return nil
	}
	whose := ""
	if asked.YesRole != model.Viewer {
		whose = " from a " + asked.YesRole
		if strings.ContainsRune("ao", rune(asked.YesRole[0])) {
			whose = " from an " + asked.YesRole
		}
	}
	m.plan.Refusals = append(m.plan.Refusals, model.Refusal{Path: rules.File, Reason: "unseen",
		Message: fmt.Sprintf("%s comes into %s after %d yes%s of those who did not make it; it has %d, by %s", m.from.Name, m.into.Name,
			asked.Yes, whose,
			count, asked.YesFrom),
		Remedy: fmt.Sprintf("ask people to look: tarn review open %s --ask HANDLE -m TEXT; a yes counts until the branch moves on", m.from.Name)})
	return nil
}
