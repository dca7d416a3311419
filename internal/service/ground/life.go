package ground

import (
	"context"

	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// Life is which life of the service it is; "" where the database does not say just now.
func (s *Ground) Life(ctx context.Context) string {
	if id := s.life.Load(); id != nil {
		return *id
	}
	var id string
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		id, err = tx.Incarnation(ctx)
		return err
	}); err != nil {
		return ""
	}
	s.life.Store(&id)
	return id
}

// SameLife refuses what somebody means for a former life of the service; "" is from somebody who knows of none.
func (s *Ground) SameLife(ctx context.Context, known string) error {
	if now := s.Life(ctx); known == "" || now == "" || known == now {
		return nil
	}
	return model.NewProblem(model.Restored,
		"run tarn join KEY --here in this folder: it overwrites nothing; what came after the backup is listed "+
			"as changed here then, and tarn send hands it off again", "the service was restored from a backup, and may know less than this folder")
}
