package workspace

import (
	"context"
	"path"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// placed are the paths whose files are known to have been moved elsewhere.
func (s *Status) placed() map[string]bool {
	out := map[string]bool{}
	for to, from := range s.moves {
		if t := s.entry(to); t != nil && t.Here {
			out[from] = true
		}
	}
	return out
}

// source is the path under which the index keeps the base of what is at a path.
func (s *Status) source(path string) string {
	if from, moved := s.moves[path]; moved {
		return from
	}
	return path
}

// findMoves matches new files with those that are gone: the same file by its looks, or else the same content. One of a kind is needed on
// the side that is gone.
func (s *Status) findMoves(look []*scan.Entry, gone map[int64][]*scan.Entry, digests map[string]chunk.Digest) map[string]string {
	found := map[string]string{}
	used := map[string]bool{}
	for _, t := range look {
		if t.Had || t.Known && !t.Theirs.Gone || !t.Here || s.moves[t.Path] != "" {
			continue
		}
		var hit *scan.Entry
		for _, g := range gone[t.File.Stamp.Size] {
			digest, read := digests[t.Path]
			if used[g.Path] || !g.Base.Stamp.Fits(t.File.Stamp) && !(read && digest == g.Base.Content) || g.Base.Size == 0 {
				continue
			}
			if hit == nil || baseName(g.Path) == baseName(t.Path) {
				hit = g
			}
		}
		if hit != nil {
			used[hit.Path], found[t.Path] = true, hit.Path
		}
	}
	return found
}

func baseName(path string) string { return path[len(path)-len(lastPart(path)):] }

func lastPart(path string) string {
	for i := len(path) - 1; i >= 0; i-- {
		if path[i] == '/' {
			return path[i+1:]
		}
	}
	return path
}

// dropStale takes out the moves that are none any more: the file is back, or gone from its new place. It names them.
func (s *Status) dropStale() (stale []string) {
	for to, from := range s.moves {
		t, g := s.entry(to), s.entry(from)
		if len(s.scan.Within) > 0 && !s.scan.WantsFile(to) {
			delete(s.moves, to)
			continue
		}
		if t == nil || !t.Here || t.Had || g == nil || !g.Had || g.Here {
			delete(s.moves, to)
			stale = append(stale, to)
		}
	}
	return stale
}

func (s *Status) addMoves(found map[string]string) {
	s.places = map[string]string{}
	for to, from := range found {
		s.moves[to] = from
	}
	for to, from := range s.moves {
		s.places[from] = to
	}
}

// withMoves adds to the paths of a look the other ends of moves.
func withMoves(within []string, moves map[string]string) []string {
	if len(within) == 0 {
		return nil
	}
	s := scan.Scan{Within: within}
	out := within[:len(within):len(within)]
	for to, from := range moves {
		if a, b := s.WantsFile(to), s.WantsFile(from); a != b {
			out = append(out, to, from)
		}
	}
	return out
}

// Moved is one file that was moved.
type Moved struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Move moves a file, or all files of a folder, here, so that the assets keep their identity; the next send hands the moves off.
func (w *Workspace) Move(ctx context.Context, from, to string) ([]Moved, error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	var list []Moved
	for _, a := range s.Assets {
		if here(s, a.Path) && assetpath.Below(a.Path, from) && from != "" {
			list = append(list, Moved{a.Path, to + a.Path[len(from):]})
		}
	}
	if len(list) == 0 {
		return nil, model.NewProblem(model.NotFound, "check the spelling", "there is no file at %s here that is tracked",
			assetpath.Printable(from))
	}
	var refusals []model.Refusal
	refuse := func(m Moved, reason, message, remedy string) {
		refusals = append(refusals, model.Refusal{Path: m.From, Reason: reason, Message: message, Remedy: remedy})
	}
	respells := assetpath.Fold(from) == assetpath.Fold(to)
	for _, m := range list {
		bad := assetpath.Check(m.To)
		t := s.entry(m.To)
		switch {
		case m.From == rules.File:
			refuse(m, "move", "the rules stay at the root of the project", "leave tarn.toml where it is")
		case bad != nil:
			refuse(m, bad.Reason, m.To+": "+bad.Message, bad.Remedy)
		case respells && from != to && path.Dir(from) != path.Dir(to):
			refuse(m, "move", "the folder of "+m.From+" is spelled "+path.Dir(from), "move that folder to spell it otherwise")
		case assetpath.Below(to, from):
			refuse(m, "move", to+" lies in "+from, "choose a place outside it")
		case !w.free(m.To) && !w.folder.Respelled(m.From, m.To):
			refuse(m, "taken", "there is a file "+m.To+" already", "choose another name, or put that one away first with tarn discard")
		case t != nil && t.Known && !t.Theirs.Gone && s.places[m.To] == "":
			refuse(m, "taken", m.To+" is an asset of the project, and gone here", "choose another name")
		}
	}
	if len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	for _, m := range list {
		if err := w.moveOne(s, m); err != nil {
			return nil, err
		}
	}
	return list, nil
}

func (w *Workspace) moveOne(s *Status, m Moved) error {
	source := s.source(m.From)
	if _, had := s.base(m.From); had {
		// Written down first: a move that is known and did not happen is dropped at the next look.
		if err := w.update(func(t index.Tx) error {
			if err := t.DropMove(m.From); err != nil || source == m.To {
				return err
			}
			return t.SetMove(m.To, source)
		}); err != nil {
			return err
		}
	}
	return w.folder.Rename(m.From, m.To)
}
