package looking

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/finding"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// How many assets have their words gathered at once, and after how long it is looked whether some have not, where nothing was heard.
const (
	gatheredAtOnce = 2000
	gatherPoll     = time.Minute
	gatherGap      = time.Second
)

// Gathering gathers the words that assets are found by, behind what people wait for. rung is closed when something happened.
func (s *Room) Gathering(ctx context.Context, rung func() <-chan struct{}) {
	for ctx.Err() == nil {
		happened := rung()
		n, err := s.gather(ctx)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("what assets are found by can't be gathered", "error", err)
		}
		if n > 0 && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-s.unread: // somebody looks for it
		case <-time.After(gatherPoll):
		case <-happened:
			select { // what comes together is gathered together
			case <-ctx.Done():
			case <-s.unread:
			case <-time.After(gatherGap):
			}
		}
	}
}

func (s *Room) gather(ctx context.Context) (n int, err error) {
	var ahead []records.Unread
	err = s.Write(ctx, func(tx *records.Tx) error {
		list, err := tx.Unread(ctx, gatheredAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		n, ahead = len(list), nil
		ids, words := make([]int64, n), make([][]string, n)
		for i, row := range list {
			ids[i] = row.Asset
			words[i] = finding.Words(row.Path, row.Author, strings.Join(row.Tasks, " "), row.Said, ground.FirstLine(row.Note),
				media.KindOf(row.Path))
			if !row.Known {
				ahead = append(ahead, row)
			}
		}
		return tx.SetWords(ctx, ids, words)
	})
	if err == nil {
		for _, row := range ahead {
			s.lookAhead(preview{row.Project, row.Path, row.Content, row.Size})
		}
	}
	return n, err
}

// say keeps what was read of a content, in words. What is of no known kind says nothing of a content that another name may tell more of.
func (s *Room) say(ctx context.Context, project int64, content string, r *media.Report) error {
	if r.Kind == media.Other {
		return nil
	}
	known := false
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		known, err = tx.HasFacts(ctx, project, content)
		return err
	}); err != nil || known {
		return err
	}
	if err := s.Write(ctx, func(tx *records.Tx) error { return tx.SetFacts(ctx, project, content, factsOf(r)) }); err != nil {
		return err
	}
	select {
	case s.unread <- struct{}{}:
	default:
	}
	return nil
}

// factsOf is what is kept of a report.
func factsOf(r *media.Report) records.Facts {
	f := records.Facts{Said: Said(r)}
	if print, ok := media.PrintOf(r.Print); ok {
		f.Print, f.PrintOf = print, r.Kind
	}
	return f
}

// maxSaid is the most bytes that are kept of what was read of a content.
const maxSaid = 8000

// Said is a report in words: its facts, its parts and its nets.
func Said(r *media.Report) string {
	var out strings.Builder
	add := func(format string, args ...any) {
		if out.Len() < maxSaid {
			if out.Len() > 0 {
				out.WriteString("; ")
			}
			fmt.Fprintf(&out, format, args...)
		}
	}
	for _, f := range r.Facts {
		if hertz, ok := strings.CutSuffix(f.Value, ",000 Hz"); ok {
			add("%s %s,000 Hz, %s kHz", f.Name, hertz, hertz)
			continue
		}
		add("%s %s", f.Name, f.Value)
	}
	for _, p := range r.Parts {
		add("%s", p.Name)
	}
	for _, n := range r.Nets {
		add("net %s", n.Name)
	}
	text := strings.ToValidUTF8(strings.ReplaceAll(out.String(), "\x00", ""), "")
	for len(text) > maxSaid {
		_, size := utf8.DecodeLastRuneInString(text)
		text = text[:len(text)-size]
	}
	return text
}

// maxFound is how many of each kind are found at most.
const maxFound = 100

// Find finds what a project has by words: in names, notes, tasks, people, and what was read of the files; the best first, limit of each.
func (s *Room) Find(ctx context.Context, actor ground.Actor, key, text string, limit int) (out model.Found, err error) {
	if limit <= 0 || limit > maxFound {
		limit = 20
	}
	out = model.Found{Assets: []model.FoundAsset{}, Handoffs: []model.Handoff{}, Milestones: []model.Milestone{}, People: []string{},
		Branches: []string{}}
	words := finding.Asked(text)
	if len(words) == 0 {
		return out, nil
	}
	// A part of a path may be in the middle of a word; where none has three characters, no index finds that.
	inPaths := slices.ContainsFunc(words, func(w string) bool { return utf8.RuneCountInString(w) >= 3 })
	err = s.AtHead(ctx, actor, key, func(tx *records.Tx, p records.Project, branch records.Branch) (err error) {
		hits, err := tx.FindPresent(ctx, p.ID, words, inPaths, limit)
		if err != nil {
			return err
		}
		ids := make([]int64, len(hits))
		for i, h := range hits {
			ids[i] = h.Asset
		}
		found, err := tx.AssetsByID(ctx, p.ID, ids, branch.Head)
		if err != nil {
			return err
		}
		for _, h := range hits {
			if a, ok := found[h.Asset]; ok {
				out.Assets = append(out.Assets, model.FoundAsset{Asset: a, Why: why(h.Said, a.Path, words)})
			}
		}
		if out.Handoffs, err = tx.FindHandoffs(ctx, p.ID, words, limit); err != nil {
			return err
		}
		return s.findNames(ctx, tx, p, words, &out)
	})
	return out, err
}

// findNames finds milestones, people and branches by their names, and what is said of them.
func (s *Room) findNames(ctx context.Context, tx *records.Tx, p records.Project, words []string, out *model.Found) error {
	has := func(texts ...string) bool {
		all := assetpath.Fold(strings.Join(texts, " "))
		return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(all, w) })
	}
	milestones, err := tx.Milestones(ctx, p.ID, "")
	if err != nil {
		return err
	}
	for _, m := range milestones {
		if has(m.Name, m.Note) {
			out.Milestones = append(out.Milestones, m)
		}
	}
	members, err := tx.Members(ctx, p.ID)
	if err != nil {
		return err
	}
	for _, m := range members {
		if has(m.Handle) {
			out.People = append(out.People, m.Handle)
		}
	}
	branches, err := tx.Branches(ctx, p.ID)
	if err != nil {
		return err
	}
	for _, b := range branches {
		if b.Name != model.FirstBranch && has(b.Name) {
			out.Branches = append(out.Branches, b.Name)
		}
	}
	return nil
}

// why is what of the facts of an asset fits words that its path has not; "" where the path has all.
func why(said, path string, words []string) string {
	folded := assetpath.Fold(path)
	var fits []string
	for _, w := range words {
		if strings.Contains(folded, w) {
			continue
		}
		for fact := range strings.SplitSeq(said, "; ") {
			if slices.ContainsFunc(finding.Words(fact), func(is string) bool { return strings.HasPrefix(is, w) }) && !slices.Contains(fits, fact) {
				fits = append(fits, fact)
				break
			}
		}
	}
	return strings.Join(fits, ", ")
}
