package contest

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"kettletarn/internal/client"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// Prepare makes a project with a number of small assets, in which each of the people, who are there already, has so many workspaces. The
// first of them owns it, the second leads.
func Prepare(ctx context.Context, url, project, passphrase string, handles []string, workspaces, assets int) (*Contest, error) {
	c := &Contest{URLs: []string{url}, Project: project}
	var owner *client.Client
	for i, handle := range handles {
		signed, err := client.New(url, "", nil).SignIn(ctx, model.SignInRequest{Handle: handle, Passphrase: passphrase, From: "a contest"})
		if err != nil {
			return nil, err
		}
		k := client.New(url, signed.Token, nil)
		role := model.Artist
		switch i {
		case 0:
			owner = k
			if _, err := k.Start(ctx, project); err != nil {
				return nil, err
			}
		case 1:
			role = model.Lead
		}
		if i > 0 {
			if _, err := owner.SetMember(ctx, project, handle, role); err != nil {
				return nil, err
			}
		}
		for n := range workspaces {
			w, err := k.AddWorkspace(ctx, project, fmt.Sprintf("%s-%d", handle, n))
			if err != nil {
				return nil, err
			}
			c.Clients = append(c.Clients, Client{Token: signed.Token, Lead: i < 2,
				Place: lock.Place{Handle: handle, WorkspaceID: w.ID, Workspace: w.Name}})
		}
	}
	return c, c.fill(ctx, owner, assets)
}

// Apart makes the branches: before that, all goes on the first one.
func (c *Contest) Apart(ctx context.Context) error {
	owner := client.New(c.URLs[0], c.Clients[0].Token, nil)
	for i, path := range c.Assets {
		if _, err := owner.AddBranch(ctx, c.Project, model.BranchRequest{Name: Branch(i), Why: "something is tried with " + path}); err != nil {
			return err
		}
	}
	c.apart = true
	return nil
}

// fill sends the assets.
func (c *Contest) fill(ctx context.Context, owner *client.Client, assets int) error {
	data := []byte(c.Project + ": what everybody sends")
	ref := chunk.Ref{Digest: chunk.Sum(data), Size: len(data)}
	body := pack.AppendEncoded(nil, pack.Chunk, ref.Digest, data)
	for _, node := range manifest.Build([]chunk.Ref{ref}) {
		body = pack.AppendEncoded(body, pack.Manifest, node.Digest, node.Data)
		c.Content = node.Digest
	}
	c.Size = int64(len(data))
	if err := owner.StoreRecords(ctx, c.Project, body); err != nil {
		return err
	}
	send := model.SendRequest{Workspace: c.Clients[0].Place.WorkspaceID, About: model.About{Note: "what is fought for"}}
	for i := range assets {
		c.Assets = append(c.Assets, fmt.Sprintf("d%03d/asset%06d.bin", i/500, i))
		send.Changes = append(send.Changes, model.SendChange{Path: c.Assets[i], Content: c.Content, Size: c.Size})
	}
	_, err := owner.Send(ctx, c.Project, uuid.NewString(), send)
	return err
}
