package service

import (
	"context"
	"fmt"

	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// older refuses changes whose content an older version of their asset has: a folder from a backup, or a program that saved an old copy, would undo
// what others did since, and nobody would see it. Who means it says so.
func (st *staged) older(ctx context.Context, tx *records.Tx, send Send) (refusals []model.Refusal, err error) {
	if send.Older {
		return nil, nil
	}
	var assets, contents []int64
	for i, c := range st.changes {
		if a := st.assets[i]; a.Newest > 1 && !a.Gone && !c.Gone {
			if content, known := st.contents[c.Content]; known {
				assets, contents = append(assets, a.ID), append(contents, content.ID)
			}
		}
	}
	if len(assets) == 0 {
		return nil, nil
	}
	found, err := tx.OlderVersions(ctx, assets, contents)
	if err != nil {
		return nil, err
	}
	for i, c := range st.changes {
		if v, ok := found[st.assets[i].ID]; ok {
			refusals = append(refusals, model.Refusal{Path: c.Path, Reason: model.OlderVersion,
				Message: fmt.Sprintf("%s: it is the same as version %d by %s of %s, and would undo what came since (version %d)", c.Path, v.Number, v.Author, v.At.UTC().Format("2 January 2006"), st.assets[i].Newest),
				Remedy:  fmt.Sprintf("bring the newest with tarn discard; if going back is meant, tarn rollback --to v%d says so in the history, and tarn send --older sends it as it is", v.Number)})
		}
	}
	return refusals, nil
}
