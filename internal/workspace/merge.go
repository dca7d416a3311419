package workspace

import (
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
)

// MergeOptions say what is brought where. Into is "" for the branch that the workspace is on.
type MergeOptions struct {
	From, Into string
	Decide     []model.Decision
	Note       string
	Preview    bool
	// To, where not nil, gets what would come out, and nothing is merged.
	To bundle.Writer
}

// Merge brings a branch into another one, and brings what came of it here, where that is the branch that the workspace is on; or says what
// it would do. It is refused where assets that would change have unsent changes here.
func (w *Workspace) Merge(ctx context.Context, o MergeOptions) (*model.MergeAnswer, *Updated, error) {
	on, err := w.Branch()
	if err != nil {
		return nil, nil, err
	}
	if o.Into == "" {
		o.Into = on
	}
	here := !w.IsAway() && point.Fold(o.Into) == point.Fold(on)
	status := &Status{}
	if here {
		if status, err = w.Status(ctx, Question{}); err != nil {
			return nil, nil, err
		}
	}
	q := model.MergeRequest{Workspace: w.Marker.Workspace, From: o.From, Into: o.Into, Decide: o.Decide, Note: strings.TrimSpace(o.Note),
		Preview: true, Whole: o.To != nil || slices.ContainsFunc(status.Assets, Changed)}
	plan, err := w.Client.Merge(ctx, w.Marker.Project, "", q)
	if err != nil {
		return nil, nil, err
	}
	if o.To != nil {
		return &plan, newUpdated(), w.writeMerged(ctx, &plan, o.To)
	}
	own := unsentAmong(status, &plan)
	plan.Refusals = append(plan.Refusals, own...)
	if o.Preview {
		return &plan, newUpdated(), nil
	}
	if len(own) > 0 && plan.Open == 0 {
		return nil, nil, &model.Refused{Refusals: plan.Refusals}
	}
	q.Preview, q.Whole, q.Seen, q.SeenFrom = false, false, plan.At, plan.AtFrom
	done, err := w.Client.Merge(ctx, w.Marker.Project, uuid.NewString(), q)
	if err != nil || !here {
		return &done, newUpdated(), err
	}
	u, err := w.Update(ctx, UpdateOptions{})
	return &done, u, err
}

// unsentAmong are the refusals over unsent changes to what a merge changes.
func unsentAmong(s *Status, plan *model.MergeAnswer) (refusals []model.Refusal) {
	touched := map[string]bool{}
	for _, c := range plan.Comes {
		touched[assetpath.Fold(c.Path)] = true
		if c.MovedFrom != "" {
			touched[assetpath.Fold(c.MovedFrom)] = true
		}
	}
	for _, path := range s.unsentIn(touched) {
		refusals = append(refusals, model.Refusal{Path: path, Reason: "edited", Message: path + ": it has changes here that were not sent",
			Remedy: "send them, or put them away with tarn discard, then merge"})
	}
	return refusals
}

// writeMerged writes what a merge would change, as it would be; of what nobody has decided, both sides, the one that comes under a name
// that says its branch.
func (w *Workspace) writeMerged(ctx context.Context, plan *model.MergeAnswer, to bundle.Writer) error {
	if len(plan.Comes) < plan.Count || len(plan.Undecided) < plan.Open {
		return model.NewProblem(model.TooLarge, "export both states instead: tarn export --at BRANCH DIR",
			"a merge of more than %d assets can't be written beside", model.MaxMergeWhole)
	}
	var assets []model.Asset
	size, taken := int64(0), map[string]bool{}
	add := func(path, content string, n int64, executable bool) {
		taken[assetpath.Fold(path)] = true
		assets = append(assets, model.Asset{Path: path, Content: content, Size: n, Executable: executable})
		size += n
	}
	for _, c := range plan.Comes {
		if c.Change != "gone" {
			add(c.Path, c.Content, c.Size, c.Executable)
		}
	}
	for _, c := range plan.Undecided {
		if c.Here != nil {
			add(c.Here.Path, c.Here.Content, c.Here.Size, c.Here.Executable)
		}
	}
	for _, c := range plan.Undecided {
		if c.There != nil {
			name := change.Beside(c.There.Path, plan.From, func(folded string) bool { return taken[folded] })
			add(name, c.There.Content, c.There.Size, c.There.Executable)
		}
	}
	w.Progress.Start("Writing", size)
	defer w.Progress.Done()
	if err := w.way().Stream(ctx, assets, to); err != nil {
		return err
	}
	return to.Close()
}
