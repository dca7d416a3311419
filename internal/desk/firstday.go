package desk

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/signins"
	"kettletarn/internal/workspace"
)

// Before there is a workspace: who one is, what there is to join, and where.

func (d *Desk) about(context.Context) (About, error) {
	out := About{Version: d.o.Version, Edition: Edition, Machine: workspace.Machine()}
	if access, err := signins.For(""); err == nil {
		out.Service, out.Handle = access.URL, access.Handle
	}
	return out, nil
}

// client is one for the service that is signed in to.
func (d *Desk) client() (*client.Client, error) {
	access, err := signins.For("")
	if err != nil {
		return nil, err
	}
	return client.New(access.URL, access.Token, nil), nil
}

// signInTo is the address of a service that somebody wants to sign in to, with the secret of an invitation where it is the link of one.
func signInTo(typed string, plain bool) (address, secret string, err error) {
	address, secret, invited := client.ParseInvitation(typed)
	if !invited {
		if address, err = client.CheckURL(strings.TrimSpace(typed)); err != nil {
			return "", "", model.NewProblem(model.BadRequest, "your lead knows it; it looks like https://tarn.example", "%v", err)
		}
	}
	if !client.Safe(address) && !plain {
		return "", "", signins.Unsafe(address)
	}
	return address, secret, nil
}

func (d *Desk) signIn(ctx context.Context, q SignIn) (out About, err error) {
	address, secret, err := signInTo(q.Service, q.Plain)
	if err != nil {
		return out, err
	}
	invited := secret != ""
	from := "the desk on " + workspace.Machine()
	var answer model.SignIn
	switch {
	case q.Secret != "":
		every := model.Elsewhere{Secret: q.Secret, Every: q.Every, Until: time.Now().Add(10 * time.Minute)}
		if answer, err = client.New(address, "", nil).WaitElsewhere(ctx, every); err != nil {
			return out, err
		}
	case invited && q.New:
		joined, err := client.New(address, "", nil).JoinAsNew(ctx, model.InvitedJoin{Secret: secret, Handle: q.Handle, Passphrase: q.Passphrase,
			From: from})
		if err != nil {
			return out, err
		}
		answer = *joined.SignIn
	default:
		if answer, err = client.New(address, "", nil).SignIn(ctx,
			model.SignInRequest{Handle: q.Handle, Passphrase: q.Passphrase, From: from}); err != nil {
			return out, err
		}
	}
	if invited && !(q.New && q.Secret == "") {
		if _, err := client.New(address, answer.Token, nil).JoinInvited(ctx, secret); err != nil {
			return out, err
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	kept, err := signins.Read()
	if err != nil {
		return out, err
	}
	kept.Current = address
	kept.Services[address] = signins.SignIn{Handle: answer.Handle, Token: answer.Token, Plain: !client.Safe(address)}
	if err := kept.Write(); err != nil {
		return out, err
	}
	// The watches go on with the new credential.
	for _, w := range d.watched {
		w.again()
	}
	d.stir()
	return d.about(ctx)
}

// signInElsewhere begins a sign-in that one says yes to on a page of the service, with a passkey or by the sign-on of the house: sign_in
// with its secret waits for that.
func (d *Desk) signInElsewhere(ctx context.Context, q SignInAt) (out Elsewhere, err error) {
	address, _, err := signInTo(q.Service, q.Plain)
	if err != nil {
		return out, err
	}
	e, err := client.New(address, "", nil).BeginElsewhere(ctx, "the desk on "+workspace.Machine())
	return Elsewhere{Address: address + e.Path, Code: e.Code, Secret: e.Secret, Every: e.Every}, err
}

func (d *Desk) invited(ctx context.Context, q InvitationLink) (model.Invited, error) {
	address, secret, ok := client.ParseInvitation(q.Link)
	if !ok {
		return model.Invited{}, model.NewProblem(model.BadRequest, "copy it whole", "that is no link of an invitation")
	}
	return client.New(address, "", nil).Invited(ctx, secret)
}

func (d *Desk) signOut(ctx context.Context, _ Nothing) (out About, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	kept, err := signins.Read()
	if err != nil {
		return out, err
	}
	address := kept.Current
	was, ok := kept.Services[address]
	if !ok {
		return d.about(ctx)
	}
	delete(kept.Services, address)
	kept.Current = ""
	if err := kept.Write(); err != nil {
		return out, err
	}
	// Here it is forgotten; where the service can't be told, it ends there by itself.
	go func() { _ = client.New(address, was.Token, nil).SignOut(context.WithoutCancel(ctx)) }()
	return d.about(ctx)
}

func (d *Desk) projects(ctx context.Context, _ Nothing) (out model.Projects, err error) {
	c, err := d.client()
	if err != nil {
		return out, err
	}
	return c.Projects(ctx)
}

// maxFolders is how many folders of a folder are listed.
const maxFolders = 2000

func (d *Desk) folders(_ context.Context, q InFolder) (out Folders, err error) {
	if q.Folder == "" {
		if q.Folder, err = os.UserHomeDir(); err != nil {
			return out, err
		}
	}
	if out.Folder, err = filepath.Abs(q.Folder); err != nil {
		return out, err
	}
	entries, err := os.ReadDir(out.Folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return out, model.NewProblem(model.NotFound, "choose another", "there is no folder %s", out.Folder)
	case errors.Is(err, fs.ErrPermission):
		return out, model.NewProblem(model.NotAllowed, "choose another", "the folder %s is not yours to look into", out.Folder)
	case err != nil:
		return out, err
	}
	out.Folders = []string{}
	for _, e := range entries {
		switch {
		case strings.HasPrefix(e.Name(), "."):
		case e.IsDir() && len(out.Folders) < maxFolders:
			out.Folders = append(out.Folders, e.Name())
		case !e.IsDir():
			out.Files++
		}
	}
	slices.SortFunc(out.Folders, func(a, b string) int { return strings.Compare(strings.ToLower(a), strings.ToLower(b)) })
	if up := filepath.Dir(out.Folder); up != out.Folder {
		out.Up = up
	}
	if root, err := workspace.Find(out.Folder); err == nil && root != "" {
		if m, err := workspace.ReadMarker(root); err == nil {
			out.Workspace = m.Project
		}
	}
	return out, nil
}

// whole checks that a folder is named as a whole.
func whole(folder string) error {
	if !filepath.IsAbs(folder) {
		return model.NewProblem(model.BadRequest, "choose one with folders", "%q is not a whole path of a folder", folder)
	}
	return nil
}

func (s *speaker) join(ctx context.Context, q Join) (out Joined, err error) {
	if err := whole(q.Folder); err != nil {
		return out, err
	}
	c, err := s.desk.client()
	if err != nil {
		return out, err
	}
	if q.Branch != "" {
		if _, err := c.Branch(ctx, q.Project, q.Branch); err != nil {
			return out, err // before a folder is made for it
		}
	}
	w, err := workspace.Join(ctx, filepath.Clean(q.Folder), q.Project, q.Here, c, s.progress(q.Long))
	if err != nil {
		return out, err
	}
	defer w.Close()
	out = Joined{Workspace: w.Marker.Workspace, Refusals: []model.Refusal{}}
	defer s.desk.stir()
	release, err := taken(ctx, w)
	if err != nil {
		return out, err
	}
	defer release()
	if q.Branch != "" {
		if err := w.StartOn(ctx, q.Branch); err != nil {
			return out, err
		}
	}
	if q.Here {
		out.Adopted, err = w.Adopt(ctx)
		return out, err
	}
	if fresh, err := w.Fresh(); err != nil {
		return out, err
	} else if fresh && len(q.Scope) > 0 {
		if err := w.SetScope(q.Scope); err != nil {
			return out, err
		}
	}
	u, err := w.Update(ctx, workspace.UpdateOptions{})
	if u != nil {
		out.Brought, out.Refusals = len(u.Brought), append(out.Refusals, u.Refusals...)
	}
	return out, err
}

func (d *Desk) wouldStart(ctx context.Context, q WouldStart) (*workspace.Preview, error) {
	if err := whole(q.Folder); err != nil {
		return nil, err
	}
	return workspace.PreviewStart(ctx, filepath.Clean(q.Folder), q.Presets)
}

func (s *speaker) start(ctx context.Context, q Start) (out Started, err error) {
	if err := whole(q.Folder); err != nil {
		return out, err
	}
	c, err := s.desk.client()
	if err != nil {
		return out, err
	}
	dir := filepath.Clean(q.Folder)
	again, err := workspace.MayStart(ctx, dir, q.Project, c)
	if err != nil {
		return out, err
	}
	text := ""
	if !again {
		preview, err := workspace.PreviewStart(ctx, dir, q.Presets)
		if err != nil {
			return out, err
		}
		text = preview.Rules
	}
	w, err := workspace.Start(ctx, dir, q.Project, text, c, s.progress(q.Long))
	if err != nil {
		return out, err
	}
	defer w.Close()
	defer s.desk.stir()
	out.Workspace = w.Marker.Workspace
	release, err := taken(ctx, w)
	if err != nil {
		return out, err
	}
	defer release()
	note := q.Note
	if strings.TrimSpace(note) == "" {
		note = "Baseline: everything as it stands"
	}
	sent, err := w.Send(ctx, workspace.SendOptions{About: model.About{Note: note}})
	if err != nil {
		return out, err
	}
	if out.Handoff = sent.Handoff; out.Handoff == nil {
		out.Handoff = sent.Earlier
	}
	return out, w.Refresh(ctx)
}
