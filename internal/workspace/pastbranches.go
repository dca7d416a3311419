package workspace

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/mainline"
)

// branches brings the repository's other branches in, each made where its line leaves one that is here already. Repeated, it goes on.
func (b *pastBringer) branches(ctx context.Context) error {
	list, err := b.repo.Branches(ctx)
	if err != nil {
		return err
	}
	here := map[string]bool{} // commits on a line that came in
	line := func(revision string) (ids []string, err error) {
		err = b.repo.Line(ctx, revision, func(id string) error {
			ids = append(ids, id)
			return nil
		})
		return ids, err
	}
	first, err := line("HEAD")
	if err != nil {
		return err
	}
	for _, id := range first {
		here[id] = true
	}
	taken := map[string]bool{point.Fold(model.FirstBranch): true}
	for _, git := range list {
		ids, err := line(git.Commit)
		if err != nil {
			return err
		}
		name := branchName(git.Name, taken)
		if err := b.branchOff(ctx, git, name, ids, here); err != nil {
			return err
		}
		for _, id := range ids {
			here[id] = true
		}
	}
	return nil
}

// branchOff brings one branch in, whose commits are ids, the oldest first.
func (b *pastBringer) branchOff(ctx context.Context, git mainline.Branch, name string, ids []string, here map[string]bool) error {
	fork := len(ids)
	for fork > 0 && !here[ids[fork-1]] {
		fork--
	}
	at, err := b.handoffOf(ctx, ids[:fork])
	if err != nil {
		return err
	}
	if at == 0 {
		b.out.Apart = append(b.out.Apart, assetpath.Printable(git.Name))
		return nil
	}
	why := "The branch " + assetpath.Printable(git.Name) + " of the git history"
	_, err = b.w.Client.AddBranch(ctx, b.w.Marker.Project, model.BranchRequest{Name: name, At: fmt.Sprintf("h%d", at), Why: why})
	var problem *model.Problem
	if err != nil && !(errors.As(err, &problem) && problem.Type == model.Taken) {
		return err
	}
	since, before := ids[fork-1], b.out.Handoffs
	if known, err := b.w.Client.Past(ctx, b.w.Marker.Project, name); err != nil {
		return err
	} else if known.Commit != "" {
		since = known.Commit
	}
	b.onto(name, git.Commit)
	err = b.history(ctx, since)
	if settled := b.settle(); err == nil {
		err = settled
	}
	b.out.Branches = append(b.out.Branches, BroughtBranch{Git: assetpath.Printable(git.Name), Branch: name, At: at,
		Handoffs: b.out.Handoffs - before})
	return err
}

// handoffOf is the handoff that stands for the last of some commits that has one, 0 where none has.
func (b *pastBringer) handoffOf(ctx context.Context, ids []string) (int, error) {
	for end := len(ids); end > 0; {
		begin := max(0, end-client.MostCommits)
		known, err := b.w.Client.OfCommits(ctx, b.w.Marker.Project, ids[begin:end])
		if err != nil {
			return 0, err
		}
		for i := end; i > begin; i-- {
			if number := known[ids[i-1]]; number > 0 {
				return number, nil
			}
		}
		end = begin
	}
	return 0, nil
}

// branchName is what a branch of git's is called here, where names have fewer characters and differ in more than case.
func branchName(git string, taken map[string]bool) string {
	var parts []string
	for part := range strings.SplitSeq(git, "/") {
		part = strings.Map(func(c rune) rune {
			if unicode.IsLetter(c) || unicode.IsDigit(c) || unicode.IsMark(c) || strings.ContainsRune("-_.", c) {
				return c
			}
			return '-'
		}, strings.ToValidUTF8(part, "-"))
		if part = strings.TrimLeft(part, "-."); part != "" {
			parts = append(parts, part)
		}
	}
	name := strings.Join(parts, "/")
	if len(name) > point.MaxName-4 {
		name = strings.ToValidUTF8(name[:point.MaxName-4], "")
	}
	for n, base := 2, name; point.CheckBranch(name) != nil || taken[point.Fold(name)]; n++ {
		if name = fmt.Sprintf("%s-%d", base, n); n > 50 {
			name = fmt.Sprintf("branch-%d", n-49)
		}
	}
	taken[point.Fold(name)] = true
	return name
}
