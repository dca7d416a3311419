package ground

import (
	"context"
	"errors"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// Outside is what the link of a showing shows. An actor who looks by it belongs to no project: what asks for a role refuses them, and what
// may be seen from outside asks here.
type Outside struct {
	Project records.Project
	Showing model.Showing
}

// ShowsNothing is what is said of a link that holds no longer as of one that never did.
var ShowsNothing = model.NewProblem(model.NotFound, "ask whoever gave it to you for another one",
	"this link shows nothing any more, or never did")

// AdmitOutside finds what a link shows, by its secret.
func (s *Ground) AdmitOutside(ctx context.Context, secret string) (actor Actor, err error) {
	var o Outside
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		o.Showing, o.Project, err = tx.ShowingBySecret(ctx, chunk.Sum([]byte(secret)))
		return err
	})
	if errors.Is(err, records.ErrNotFound) || err == nil && !o.Showing.Holds {
		err = ShowsNothing
	}
	return Actor{Within: o.Project.Key, Outside: &o}, err
}

// Handoff is as of which handoff a version of a path is looked up, number 0 being the one that is shown; ok is false where it is not shown.
// What is found has to have that number.
func (o *Outside) Handoff(path string, number int) (handoff int, ok bool) {
	s, folded := o.Showing, assetpath.Fold(path)
	switch {
	case s.Path == "":
		return s.Handoff, true
	case folded == assetpath.Fold(s.Path) && (number == 0 || number == s.Version):
		return s.Handoff, true
	case s.With != "" && folded == assetpath.Fold(s.With) && (number == 0 || number == s.WithVersion):
		return s.WithHandoff, true
	}
	return 0, false
}

// Told is what somebody outside is told of a version: the thing, not who made it, why, or where.
func (o *Outside) Told(v model.Version) model.Version {
	return model.Version{Version: v.Version, Path: v.Path, Size: v.Size, At: v.At, Content: v.Content, Digest: v.Digest,
		About: model.About{Tasks: []string{}}, Parents: []int{}}
}
