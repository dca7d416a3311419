package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"kettletarn/internal/apart"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
)

// state names a handoff, or, with 0, the newest.
func state(handoff int) string {
	if handoff == 0 {
		return ""
	}
	return fmt.Sprintf("h%d", handoff)
}

// RollbackOptions say what goes back: the assets and folders of Paths to Version (of one asset) or to To (a handoff, a time or a
// milestone), with the rest of their Set; All to To; or all but the handoff Without.
type RollbackOptions struct {
	Paths   []string
	Version int
	To      string
	All     bool
	Without int
	Set     bool
	Note    string
	Preview bool
}

// Rollback makes a handoff that brings an old state back, and brings it here; or says what that would do. It is refused where assets that
// would change have unsent changes here.
func (w *Workspace) Rollback(ctx context.Context, o RollbackOptions) (*model.RollbackAnswer, *Updated, error) {
	if err := w.Refresh(ctx); err != nil {
		return nil, nil, err
	}
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, nil, err
	}
	w.Tell(ctx, s) // the service refuses over what it knows to be unsent
	q := model.RollbackRequest{Workspace: w.Marker.Workspace, Branch: s.View.On(), Paths: o.Paths, Version: o.Version, To: o.To, All: o.All,
		Without: o.Without,
		Note:    strings.TrimSpace(o.Note), Preview: true}
	if o.Set {
		q.Paths = s.Together(o.Paths)
		if o.Version > 0 && len(q.Paths) > 1 {
			// The set goes back to how it was in the handoff that made that version.
			h, err := w.Client.Asset(ctx, w.Marker.Project, s.View.On(), o.Paths[0])
			if err != nil {
				return nil, nil, err
			}
			for _, v := range h.Versions {
				if v.Version == o.Version {
					q.Version, q.To = 0, state(v.Handoff)
				}
			}
		}
	}
	plan, err := w.Client.Rollback(ctx, w.Marker.Project, uuid.NewString(), q)
	if err != nil {
		return nil, nil, err
	}
	touched := map[string]bool{}
	paths := make([]string, 0, len(plan.Changes))
	for _, c := range plan.Changes {
		for _, p := range []string{c.Path, c.MovedFrom} {
			if p != "" && !touched[assetpath.Fold(p)] {
				touched[assetpath.Fold(p)] = true
				paths = append(paths, p)
			}
		}
	}
	for _, r := range plan.Refusals {
		delete(touched, assetpath.Fold(r.Path)) // one reason for one path is enough
	}
	for _, a := range s.Assets {
		if Changed(a) && a.State != model.Gone && (touched[assetpath.Fold(a.Path)] || a.MovedFrom != "" && touched[assetpath.Fold(a.MovedFrom)]) {
			plan.Refusals = append(plan.Refusals, model.Refusal{Path: a.Path, Reason: "edited", Message: a.Path +
				": it has changes here that were not sent", Remedy: "send them, or put them away with tarn discard, then roll back"})
		}
	}
	if o.Preview {
		return &plan, newUpdated(), nil
	}
	if len(plan.Refusals) > 0 {
		return nil, nil, &model.Refused{Refusals: plan.Refusals}
	}
	q.Preview, q.Seen = false, plan.Seen
	done, err := w.Client.Rollback(ctx, w.Marker.Project, uuid.NewString(), q)
	if err != nil {
		return nil, nil, err
	}
	if len(paths) > 1000 {
		paths = nil // naming so many would take longer than looking at all
	}
	u, err := w.Update(ctx, UpdateOptions{Paths: paths})
	if u != nil {
		// What the old state does not have is neither here nor there any more.
		u.Refusals = withoutUnknown(u.Refusals)
	}
	return &done, u, err
}

func withoutUnknown(list []model.Refusal) []model.Refusal {
	kept := []model.Refusal{}
	for _, r := range list {
		if r.Reason != "unknown" {
			kept = append(kept, r)
		}
	}
	return kept
}

// told is what this workspace says of itself, so that it can be made again elsewhere.
func (w *Workspace) told(view index.View) model.WorkspaceTold {
	return model.WorkspaceTold{Machine: Machine(), Folder: w.Root, Branch: view.On(), Scope: append([]string{}, view.Scope...),
		Follows: view.Follows, Pinned: view.Pinned}
}

// Describe tells the service what this workspace is, where it is not as it was told last. That it could not is no reason to stop: it is
// told again.
func (w *Workspace) Describe(ctx context.Context) {
	view, err := w.view()
	if err != nil {
		return
	}
	now := w.told(view)
	before := ""
	text := fmt.Sprintf("%q", []any{now.Machine, now.Folder, now.Branch, now.Scope, now.Follows, now.Pinned})
	if err := w.look(func(t index.Tx) error {
		before = string(t.Told(aboutItself))
		return nil
	}); err != nil || before == text {
		return
	}
	if w.Client.DescribeWorkspace(ctx, w.Marker.Project, w.Marker.Workspace, now) == nil {
		_ = w.update(func(t index.Tx) error { return t.SetTold(aboutItself, []byte(text)) })
	}
}

// Fresh tells whether nothing has come down to this workspace yet.
func (w *Workspace) Fresh() (bool, error) {
	view, err := w.view()
	return view.At == 0 && len(view.Scope) == 0, err
}

// Stands tells whether a folder on this machine is a workspace.
func Stands(dir string) bool {
	_, err := ReadMarker(dir)
	return err == nil
}

// Take makes this new workspace like another one: with its scope, and at what it follows.
func (w *Workspace) Take(other model.Workspace) error {
	return w.update(func(t index.Tx) error {
		view, err := t.View()
		if err != nil {
			return err
		}
		view.Scope, view.Follows, view.Branch = other.Scope, other.Follows, other.Branch
		if other.Pinned {
			view.Follows = 0 // whoever joins beside the code follows its pin by join --pinned
		}
		return t.SetView(view)
	})
}

// Has tells whether there is a file of that path here.
func (w *Workspace) Has(path string) bool {
	info, err := w.folder.Disk.Lstat(filepath.FromSlash(path))
	return err == nil && info.Mode().IsRegular()
}

// Unsent is a file here beside the version that it was made from: Path and Version name that one.
type Unsent struct {
	media.Comparison
	Path    string `json:"-"`
	Version int    `json:"-"`
	// Drawn is what was drawn of both.
	Drawn map[string][]byte `json:"-"`
}

// CompareUnsent compares a file here with the version that it was made from. It is read on this machine, since nobody else has it yet, in
// a process of its own. Version is 0 where there is none.
func (w *Workspace) CompareUnsent(ctx context.Context, path string) (out *Unsent, err error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	out = &Unsent{Path: path}
	for _, a := range s.Assets {
		if a.Path == path && a.MovedFrom != "" {
			out.Path = a.MovedFrom
		}
	}
	var base index.Base
	var refs index.Refs
	if err := w.look(func(t index.Tx) (err error) {
		base, _, err = t.Base(out.Path)
		refs = t.Refs(out.Path)
		return err
	}); err != nil || base.Version == 0 {
		return out, err
	}
	out.Version = base.Version
	cut, _, err := w.read(ctx, path, refs)
	if err != nil {
		return nil, fmt.Errorf("%s can't be read: %s", path, disk.Cause(err))
	}
	if limit := media.Limit(path); base.Size > limit || cut.Size > limit {
		out.Comparison = media.UnreadPair(out.Path, base.Size, path, cut.Size,
			fmt.Sprintf("it is larger than what is looked into (%d MiB)", limit>>20))
	} else if err := w.compareWith(ctx, path, out); err != nil {
		return nil, err
	}
	out.Strip = media.StripOf(pieces(refs), pieces(cut.Refs))
	return out, nil
}

// compareWith brings the version and compares.
func (w *Workspace) compareWith(ctx context.Context, path string, out *Unsent) error {
	was, err := os.CreateTemp("", "tarn-compare-")
	if err != nil {
		return err
	}
	defer os.Remove(was.Name())
	defer was.Close()
	if err := w.Client.CopyFile(ctx, w.Marker.Project, out.Path, out.Version, was); err != nil {
		return err
	}
	before, err := was.Stat()
	if err != nil {
		return err
	}
	after, err := w.folder.Disk.Lstat(filepath.FromSlash(path))
	if err != nil {
		return fmt.Errorf("%s can't be read: %s", path, disk.Cause(err))
	}
	out.Drawn = map[string][]byte{}
	err = apart.Compare(ctx, apart.Content{Name: out.Path, File: was.Name()},
		apart.Content{Name: path, File: w.folder.Full(filepath.FromSlash(path))}, true, func(name string, content io.Reader) error {
			data, err := io.ReadAll(content)
			if err == nil && name == apart.Report {
				return json.Unmarshal(data, &out.Comparison)
			}
			out.Drawn[name] = data
			return err
		})
	if errors.Is(err, apart.ErrFailed) {
		out.Comparison, err = media.UnreadPair(out.Path, before.Size(), path, after.Size(), "reading it failed"), nil
	}
	return err
}

func pieces(refs index.Refs) (list []media.Piece[chunk.Digest]) {
	for _, r := range refs.List() {
		list = append(list, media.Piece[chunk.Digest]{ID: r.Digest, Size: int64(r.Size)})
	}
	return list
}
