package workspace

import (
	"context"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
)

// Kits are those that the project makes, and those that it uses on the branch that one is on.
func (w *Workspace) Kits(ctx context.Context) (model.Kits, error) {
	view, err := w.view()
	if err != nil {
		return model.Kits{}, err
	}
	return w.Client.Kits(ctx, w.Marker.Project, view.On())
}

// ChangeKit uses a kit, brings a use to another release, or detaches it, as a handoff on the branch that one is on, and brings that here;
// or says, with Preview, what it would do. The service refuses over what it knows to be unsent, and is told first.
func (w *Workspace) ChangeKit(ctx context.Context, q model.KitRequest) (*model.KitAnswer, *Updated, error) {
	if err := w.Refresh(ctx); err != nil {
		return nil, nil, err
	}
	s, err := w.Status(ctx, Question{})
	if err != nil {
		return nil, nil, err
	}
	w.Tell(ctx, s)
	q.Workspace, q.Branch = w.Marker.Workspace, s.View.On()
	answer, err := w.Client.ChangeKit(ctx, w.Marker.Project, uuid.NewString(), q)
	if err != nil {
		return nil, nil, err
	}
	if q.Preview {
		return &answer, newUpdated(), nil
	}
	u, err := w.Update(ctx, UpdateOptions{Paths: []string{q.Dir}})
	if u != nil {
		u.Refusals = withoutUnknown(u.Refusals)
	}
	return &answer, u, err
}
