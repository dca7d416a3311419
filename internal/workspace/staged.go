package workspace

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/mainline"
	"kettletarn/internal/workspace/scan"
)

// JudgeStaged says which files that the next commit would add do not belong into the main history: those that the rules in the folder call
// assets, and large binaries that no rule covers.
func JudgeStaged(ctx context.Context, repo *mainline.Repo) (refusals []model.Refusal, err error) {
	s, err := scan.New(repo.Dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(filepath.Join(repo.Dir, rules.File)); err != nil {
		return nil, nil // without rules nobody has said yet what an asset is
	}
	staged, err := repo.Staged(ctx, s.Rules.PointOut)
	if err != nil {
		return nil, err
	}
	for _, f := range staged {
		shown := assetpath.Printable(f.Path)
		out := "take it out of the commit with git restore --staged (git rm --cached before the first commit)"
		switch d := s.Rules.Decide(f.Path); {
		case strings.HasPrefix(f.Path, assetpath.ReservedPrefix):
			refusals = append(refusals, model.Refusal{Path: shown, Reason: "not-code", Message: shown +
				": it is the workspace's own, and means nothing to others", Remedy: out})
		case d.Kind == rules.Asset:
			refusals = append(refusals, model.Refusal{Path: shown, Reason: "not-code",
				Message: fmt.Sprintf("%s: the rules call it an asset: %s", shown, d.KindBy), Remedy: out +
					" and hand it off with tarn send; or make a rule with kind = \"code\" for it"})
		case d.Kind == rules.Code && !d.Covered && f.Binary && f.Size >= s.Rules.PointOut:
			refusals = append(refusals, model.Refusal{Path: shown, Reason: "large",
				Message: fmt.Sprintf("%s: it is a binary of %s, and no rule covers it; once in the main history it stays there", shown,
					megabytes(f.Size)),
				Remedy: out + "; a rule in tarn.toml makes it an asset, or says kind = \"code\" if it shall be there"})
		}
	}
	return refusals, nil
}

func megabytes(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }
