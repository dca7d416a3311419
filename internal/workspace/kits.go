package workspace

import (
	"context"
	"fmt"
	"net/url"
	"path"
	"path/filepath"

	"github.com/google/uuid"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/kit"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
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

// OfferKit puts what was sent of changes in a use to the project that made the kit.
func (w *Workspace) OfferKit(ctx context.Context, dir, why string) (model.KitOffer, error) {
	view, err := w.view()
	if err != nil {
		return model.KitOffer{}, err
	}
	return w.Client.OfferKit(ctx, w.Marker.Project, uuid.NewString(), model.KitOfferRequest{Dir: dir, Why: why, Branch: view.On()})
}

// KitEverywhere is a use in another project that was brought to another release, or what stands in the way.
type KitEverywhere struct {
	Project string           `json:"project"`
	Dir     string           `json:"dir"`
	Answer  *model.KitAnswer `json:"answer,omitempty"`
	Trouble string           `json:"trouble,omitempty"`
}

// UpdateKitsElsewhere brings the uses that are behind in all other projects of one's own, on their first branches, to the latest release,
// or says with preview what that would do. said hears of each as it is done.
func (w *Workspace) UpdateKitsElsewhere(ctx context.Context, note string, preview bool, said func(KitEverywhere)) error {
	projects, err := w.Client.Projects(ctx)
	if err != nil {
		return err
	}
	for _, p := range projects.Projects {
		if p.Key == w.Marker.Project || !model.AtLeast(p.Role, model.Artist) {
			continue
		}
		list, err := w.Client.Kits(ctx, p.Key, "")
		if err != nil {
			return err
		}
		for _, u := range list.Uses {
			if u.Newest <= u.Release || u.Stay {
				continue
			}
			one := KitEverywhere{Project: p.Key, Dir: u.Dir}
			answer, err := w.Client.ChangeKit(ctx, p.Key, uuid.NewString(), model.KitRequest{Dir: u.Dir, Note: note, Preview: preview,
				Workspace: model.KindConsole})
			if one.Answer = &answer; err != nil {
				one.Answer, one.Trouble = nil, err.Error()
			}
			said(one)
		}
	}
	return nil
}

// DeskLink is the link by which a desk opens the page of an asset (package desk reads it).
func DeskLink(service, project, path string) string {
	page := (&url.URL{Path: "/p/" + project + "/asset/" + path}).EscapedPath()
	return "tarn:open?" + url.Values{"service": {service}, "page": {page}}.Encode()
}

// FromKits says of assets that came from kits that they did, and what the ways are of changing them: a sentence for each folder. It reads
// what stands here, and asks nobody.
func (w *Workspace) FromKits(paths []string) (said []string) {
	uses, told := map[string]*kit.Use{}, map[string]bool{}
	for _, p := range paths {
		for dir := path.Dir(p); dir != "." && dir != "/"; dir = path.Dir(dir) {
			u, looked := uses[dir]
			if !looked {
				if text, err := disk.ReadSmall(filepath.Join(w.Root, filepath.FromSlash(dir), kit.File), kit.MaxSize); err == nil {
					u, _ = kit.Parse(text)
				}
				uses[dir] = u
			}
			if u == nil {
				continue
			}
			below := p[len(dir)+1:]
			if _, came := u.Content(below); came && !told[dir] {
				told[dir] = true
				said = append(said, fmt.Sprintf("%s comes from the kit %s@%d: changed here, it stays as you make it, and updates of the kit leave "+
					"it so. To change it for all, change %s in %s (%s), or send it here and then tarn kit offer %s; to have it on its own for "+
					"good, tarn kit detach %s.", assetpath.Printable(p), u.Name(), u.Release, assetpath.Printable(below), u.Project,
					DeskLink(w.Marker.Service, u.Project, below), assetpath.Printable(dir), assetpath.Printable(dir)))
			}
			break
		}
	}
	return said
}
