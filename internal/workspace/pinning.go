package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pin"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/disk"
)

// ReadPin reads the pin in a folder. Where there is none, the error wraps fs.ErrNotExist; one that a merge left in conflict is a
// *model.Problem with the way out, like any that can't be read.
func ReadPin(dir string) (p pin.Pin, err error) {
	text, err := disk.ReadSmall(filepath.Join(dir, rules.Pin), pin.MaxSize)
	if err != nil {
		return p, err
	}
	p, err = pin.Parse(text)
	if errors.Is(err, pin.ErrConflict) {
		return p, conflictOf(text)
	}
	if err != nil {
		return p, model.NewProblem(model.BadRequest, "take the file as it was in an earlier commit, or write it anew with tarn pin",
			"tarn.pin: %s", assetpath.Printable(err.Error()))
	}
	return p, nil
}

// conflictOf says what a merge left in a pin.
func conflictOf(text []byte) error {
	ours, theirs, err := pin.Sides(text)
	if err != nil {
		return model.NewProblem(model.BadRequest, "take one of the sides with git, or write it anew with tarn pin",
			"tarn.pin: a merge left it in conflict, and %s", assetpath.Printable(err.Error()))
	}
	return model.NewProblem(model.BadRequest, "tarn pin --newer takes the newer one; tarn pin writes what is in this workspace",
		"tarn.pin: a merge left two pins in it: h%d of your side, and h%d of the side that was merged", ours.Handoff, theirs.Handoff)
}

// noPin is the problem of a workspace without a pin.
func noPin(dir string) error {
	return model.NewProblem(model.NotFound, "tarn pin writes one", "there is no tarn.pin in %s", dir)
}

// CheckPin asks a service whether a pin of a project names a handoff that exists and whose digest agrees.
func CheckPin(ctx context.Context, c *client.Client, project string, p pin.Pin) error {
	if p.Project != project {
		return model.NewProblem(model.BadRequest, "go to a workspace of "+p.Project, "the pin names the project %s, and this is %s", p.Project,
			project)
	}
	h, err := handoffAt(ctx, c, project, p.Handoff)
	switch {
	case err != nil:
		return err
	case h == nil:
		return model.NewProblem(model.NotFound, "somebody pinned a handoff that this service does not have, or the service was set back: ask "+
			"whoever made the commit", "the pin names h%d of %s, and there is no such handoff", p.Handoff, project)
	case h.Digest != p.Digest || h.Branch != p.Branch:
		return model.NewProblem(model.DigestMismatch, "do not trust it: take the pin of an earlier commit, and ask whoever made this one",
			"the pin says that h%d is %s…, and at the service it is %s…: they are of two histories", p.Handoff, p.Digest[:12], h.Digest[:12])
	}
	return nil
}

// handoffAt is a handoff without its assets, nil where there is none.
func handoffAt(ctx context.Context, c *client.Client, project string, number int) (*model.Handoff, error) {
	list, err := c.Handoffs(ctx, project, client.HandoffQuery{Before: number + 1, Limit: 1})
	if err != nil || len(list.Handoffs) == 0 || list.Handoffs[0].Number != number {
		return nil, err
	}
	return &list.Handoffs[0], nil
}

// followPin makes the workspace follow the file tarn.pin, and go to what it says now.
func (w *Workspace) followPin(ctx context.Context) error {
	p, err := w.checkedPin(ctx)
	if err != nil {
		return err
	}
	return w.follow(ctx, p.Handoff, true)
}

// checkedPin is the workspace's pin, which names what the service has.
func (w *Workspace) checkedPin(ctx context.Context) (p pin.Pin, err error) {
	if p, err = ReadPin(w.Root); errors.Is(err, fs.ErrNotExist) {
		err = noPin(w.Root)
	}
	if err == nil {
		err = CheckPin(ctx, w.Client, w.Marker.Project, p)
	}
	return p, err
}

// UnsentHere lists what has changes in the workspace that were not sent.
func (w *Workspace) UnsentHere(ctx context.Context) ([]model.Asset, error) {
	s, err := w.Status(ctx, Question{})
	if err != nil {
		return nil, err
	}
	list := []model.Asset{}
	_, err = os.Lstat(filepath.Join(w.Root, rules.File))
	for _, a := range s.Assets {
		// Which files are new is not known before the rules are here.
		if Changed(a) && (err == nil || a.State != model.New) {
			list = append(list, a)
		}
	}
	return list, nil
}

// PinWritten is what WritePin did. Newest is the newest handoff that there is; Before the pin that stood there.
type PinWritten struct {
	Pin    pin.Pin       `json:"pin"`
	Before *pin.Pin      `json:"before,omitempty"`
	Newest int           `json:"newest"`
	Left   []model.Asset `json:"unsent"`
}

// WritePin writes into tarn.pin which handoff the workspace has. That has to be one handoff, without unsent changes unless leave is set:
// those are not in it then.
func (w *Workspace) WritePin(ctx context.Context, leave bool) (*PinWritten, error) {
	s, err := w.Status(ctx, Question{})
	if err != nil {
		return nil, err
	}
	out := &PinWritten{Left: []model.Asset{}}
	var refusals []model.Refusal
	behind := 0
	for _, a := range s.Assets {
		switch {
		case a.State == model.Behind || a.State == model.Clash:
			behind++
		case !Changed(a):
		case leave:
			out.Left = append(out.Left, a)
		default:
			refusals = append(refusals, model.Refusal{Path: a.Path, Reason: a.State,
				Message: fmt.Sprintf("%s: it has changes here that were not sent (%s), and no pin can name those", a.Path, a.State),
				Remedy:  "send it first; tarn pin --leave-unsent pins what is at the service without it"})
		}
	}
	if behind > 0 {
		refusals = append(refusals, model.Refusal{Path: w.Root, Reason: model.Behind,
			Message: fmt.Sprintf("%d of the assets are older here than the service said last: this is not one handoff", behind),
			Remedy:  "tarn update brings them"})
	}
	if len(refusals) > 0 {
		return nil, &model.Refused{Refusals: refusals}
	}
	number, err := w.standing(ctx, s, out)
	if err != nil {
		return nil, err
	}
	h, err := handoffAt(ctx, w.Client, w.Marker.Project, number)
	if err != nil {
		return nil, err
	}
	if h == nil {
		return nil, model.NewProblem(model.NotFound, "send something first", "the project has no handoff yet")
	}
	if before, err := ReadPin(w.Root); err == nil {
		out.Before = &before
	}
	out.Pin = pin.Pin{Service: w.Marker.Service, Project: w.Marker.Project, Branch: h.Branch, Handoff: h.Number, Digest: h.Digest}
	if out.Before != nil && *out.Before == out.Pin {
		return out, nil
	}
	return out, w.putPin(out.Pin)
}

// standing finds the handoff that the workspace has: the newest, or, where others have sent since, the one that it was updated to.
func (w *Workspace) standing(ctx context.Context, s *Status, out *PinWritten) (number int, err error) {
	differs := func(since, at int) (found bool, page model.Assets, err error) {
		err = w.Client.Changes(ctx, w.Marker.Project, model.ChangesQuery{Since: since, At: state(at), Scope: s.Scope},
			func(p model.Assets) error {
				if page.At, page.Newest = p.At, p.Newest; found {
					return nil
				}
				for _, a := range p.Assets {
					t := s.entry(a.Path)
					had := t != nil && t.Had
					found = found || a.Gone == had || had && t.Base.Version != a.Newest
				}
				return nil
			})
		return found, page, err
	}
	more, page, err := differs(s.At, 0)
	if out.Newest = page.Newest; err != nil || !more {
		return page.At, err
	}
	if more, _, err = differs(page.At, s.At); err != nil || !more {
		return s.At, err
	}
	return 0, model.NewProblem(model.Taken, "tarn update brings the rest of the newest; then pin that",
		"this workspace has h%d and something that was sent from here since, but not what others sent between: this is not one handoff", s.At)
}

func (w *Workspace) putPin(p pin.Pin) error {
	part := filepath.Join(w.Root, assetpath.ReservedPrefix+"pin-new")
	if err := os.WriteFile(part, p.Encode(), 0o644); err != nil {
		return fmt.Errorf("the pin can't be written: %w", err)
	}
	return os.Rename(part, filepath.Join(w.Root, rules.Pin))
}

// NewerPin settles a pin that a merge left in conflict: the newer of the two sides stays, if the service has both.
func (w *Workspace) NewerPin(ctx context.Context) (newer, older pin.Pin, err error) {
	text, err := disk.ReadSmall(filepath.Join(w.Root, rules.Pin), pin.MaxSize)
	if errors.Is(err, fs.ErrNotExist) {
		return newer, older, noPin(w.Root)
	}
	if err != nil {
		return newer, older, err
	}
	ours, theirs, err := pin.Sides(text)
	if err == nil {
		newer, err = pin.Newer(ours, theirs)
	}
	if err != nil {
		return newer, older, model.NewProblem(model.BadRequest, "take one of the sides with git, or write it anew with tarn pin", "tarn.pin: %s",
			assetpath.Printable(err.Error()))
	}
	if older = ours; newer == ours {
		older = theirs
	}
	for _, side := range []pin.Pin{newer, older} {
		if err := CheckPin(ctx, w.Client, w.Marker.Project, side); err != nil {
			return newer, older, err
		}
	}
	return newer, older, w.putPin(newer)
}

// PinChecked is what CheckHere found: the pin is true. Differing are the files here that are not what it names.
type PinChecked struct {
	Pin       pin.Pin       `json:"pin"`
	Assets    int           `json:"assets,omitempty"`
	Differing []model.Asset `json:"differing"`
}

// CheckHere checks the workspace's pin at the service, and, with files, whether the files here are exactly what it names.
func (w *Workspace) CheckHere(ctx context.Context, files bool) (*PinChecked, error) {
	p, err := w.checkedPin(ctx)
	out := &PinChecked{Pin: p, Differing: []model.Asset{}}
	if err != nil || !files {
		return out, err
	}
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return out, err
	}
	named := map[string]bool{}
	if err := w.Client.Changes(ctx, w.Marker.Project, model.ChangesQuery{At: state(p.Handoff), Scope: s.Scope}, func(page model.Assets) error {
		for _, a := range page.Assets {
			named[a.Path] = true
			out.Assets++
			if t := s.entry(a.Path); t == nil || !t.Here {
				a.State = model.Gone
			} else if !t.Had || t.Base.Content.String() != a.Content {
				a.State = model.Edited
			} else {
				continue
			}
			out.Differing = append(out.Differing, a)
		}
		return nil
	}); err != nil {
		return out, err
	}
	listed := map[string]bool{}
	for _, a := range out.Differing {
		listed[a.Path] = true
	}
	for _, a := range s.Assets {
		_, there := s.file(a.Path)
		if there && a.State != model.Outside && !listed[a.Path] && (Changed(a) || !named[a.Path]) {
			out.Differing = append(out.Differing, a)
		}
	}
	return out, nil
}

// Following tells whether the workspace follows the pin, and at which handoff it is.
func (w *Workspace) Following() (pinned bool, at int, err error) {
	view, err := w.view()
	return view.Pinned, view.At, err
}

// HandoffsBetween lists the handoffs above from, up to to, the newest first, without their assets.
func (w *Workspace) HandoffsBetween(ctx context.Context, from, to int) ([]model.Handoff, error) {
	out := []model.Handoff{}
	for before := to + 1; before > from+1; {
		page, err := w.Client.Handoffs(ctx, w.Marker.Project, client.HandoffQuery{Before: before, Limit: min(before-from-1, 1000)})
		if err != nil || len(page.Handoffs) == 0 {
			return out, err
		}
		out = append(out, page.Handoffs...)
		before = page.Handoffs[len(page.Handoffs)-1].Number
	}
	return out, nil
}

// TellPins tells the service which commits moved the pin, and returns of how many it knows now.
func (w *Workspace) TellPins(ctx context.Context, commits []model.PinnedCommit) (int, error) {
	known, err := w.Client.TellPins(ctx, w.Marker.Project, model.PinnedCommits{Commits: commits})
	return len(known.Commits), err
}
