package workspace

import (
	"context"
	"path"
	"strings"

	"github.com/google/uuid"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/model"
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

// Merge brings a branch into another one, and brings what came of it here, where that is the branch that the workspace is on; or says
// what it
// would do. It is refused where assets that would change have unsent changes here.
func (w *Workspace) Merge(ctx context.Context, o MergeOptions) (*model.MergeAnswer, *Updated, error) {
	on, err := w.Branch()
	if err != nil {
		return nil, nil, err
	}
	if o.Into == "" {
		o.Into = on
	}
	q := model.MergeRequest{Workspace: w.Marker.Workspace, From: o.From, Into: o.Into, Decide: o.Decide, Note: strings.TrimSpace(o.Note),
		Preview: true}
	plan, err := w.Client.Merge(ctx, w.Marker.Project, "", q)
	if err != nil {
		return nil, nil, err
	}
	here := !w.IsAway() && assetpath.Fold(plan.Into) == assetpath.Fold(on)
	if here {
		s, err := w.Status(ctx, Question{})
		if err != nil {
			return nil, nil, err
		}
		plan.Refusals = append(plan.Refusals, unsentAmong(s, &plan)...)
	}
	if o.To != nil {
		return &plan, newUpdated(), w.writeMerged(ctx, &plan, o.To)
	}
	if o.Preview {
		return &plan, newUpdated(), nil
	}
	if len(plan.Refusals) > 0 && here {
		if own := unsentOnly(plan.Refusals); len(own) > 0 && plan.Open == 0 {
			return nil, nil, &model.Refused{Refusals: plan.Refusals}
		}
	}
	q.Preview, q.Seen, q.SeenFrom = false, plan.At, plan.AtFrom
	done, err := w.Client.Merge(ctx, w.Marker.Project, uuid.NewString(), q)
	if err != nil || !here {
		return &done, newUpdated(), err
	}
	u, err := w.Update(ctx, UpdateOptions{})
	return &done, u, err
}

// unsent is the reason of refusals over changes here that were not sent.
const unsent = "edited"

// unsentAmong are the refusals over unsent changes to what a merge changes.
func unsentAmong(s *Status, plan *model.MergeAnswer) (refusals []model.Refusal) {
	touched := map[string]bool{}
	for _, c := range plan.Comes {
		touched[assetpath.Fold(c.Path)], touched[assetpath.Fold(c.MovedFrom)] = true, true
	}
	delete(touched, "")
	for _, a := range s.Assets {
		if Changed(a) && (touched[assetpath.Fold(a.Path)] || touched[assetpath.Fold(s.source(a.Path))]) {
			refusals = append(refusals, model.Refusal{Path: a.Path, Reason: unsent, Message: a.Path + ": it has changes here that were not sent",
				Remedy: "send them, or put them away with tarn discard, then merge"})
		}
	}
	return refusals
}

func unsentOnly(list []model.Refusal) (out []model.Refusal) {
	for _, r := range list {
		if r.Reason == unsent {
			out = append(out, r)
		}
	}
	return out
}

// writeMerged writes what a merge would change, as it would be; of what nobody has decided, both sides, the one that comes under a name
// that
// says its branch.
func (w *Workspace) writeMerged(ctx context.Context, plan *model.MergeAnswer, to bundle.Writer) error {
	var assets []model.Asset
	size := int64(0)
	add := func(path, content string, n int64, executable bool) {
		assets = append(assets, model.Asset{Path: path, Content: content, Size: n, Executable: executable})
		size += n
	}
	for _, c := range plan.Comes {
		if c.Change != "gone" {
			add(c.Path, c.Content, c.Size, c.Executable)
		}
	}
	branch := strings.ReplaceAll(plan.From, "/", "-")
	for _, c := range plan.Undecided {
		if c.Here != nil {
			add(c.Here.Path, c.Here.Content, c.Here.Size, false)
		}
		if c.There != nil {
			ext := path.Ext(c.There.Path)
			add(strings.TrimSuffix(c.There.Path, ext)+" ("+branch+")"+ext, c.There.Content, c.There.Size, false)
		}
	}
	w.Progress.Start("Writing", size)
	defer w.Progress.Done()
	if err := w.way().Stream(ctx, assets, to); err != nil {
		return err
	}
	return to.Close()
}
