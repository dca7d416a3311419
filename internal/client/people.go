package client

import (
	"context"
	"errors"
	"net/url"
	"strconv"
	"strings"
	"time"

	"kettletarn/internal/core/model"
)

// SetLimit sets the most bytes that a project may take at the service, 0 for no limit.
func (c *Client) SetLimit(ctx context.Context, key string, limit int64) (v model.Project, err error) {
	return v, c.json(ctx, request{method: "PUT", path: in(key, "/limit"), body: model.LimitRequest{StorageLimit: limit}}, &v)
}

// Service asks what runs there.
func (c *Client) Service(ctx context.Context) (v model.ServiceInfo, err error) {
	err = c.get(ctx, "/service", nil, &v)
	if err == nil && v.Service != "Kettle Tarn" {
		err = &Unreachable{URL: c.base, Cause: "something answers there, and it is not Kettle Tarn"}
	}
	return v, err
}

// SignIn gets a token.
func (c *Client) SignIn(ctx context.Context, q model.SignInRequest) (v model.SignIn, err error) {
	return v, c.post(ctx, "/sign-in", q, &v)
}

// BeginElsewhere begins a sign-in that somebody says yes to with a browser.
func (c *Client) BeginElsewhere(ctx context.Context, from string) (v model.Elsewhere, err error) {
	return v, c.json(ctx, request{method: "POST", path: "/sign-in/elsewhere", body: model.ElsewhereBegin{From: from}, once: true}, &v)
}

// AskElsewhere asks whether somebody said yes.
func (c *Client) AskElsewhere(ctx context.Context, secret string) (v model.ElsewhereAnswer, err error) {
	return v, c.json(ctx, request{method: "POST", path: "/sign-in/elsewhere/ask", body: model.ElsewhereAsk{Secret: secret}, once: true}, &v)
}

// WaitElsewhere asks until somebody said yes or no, or its time is over; a service that is away for a moment is asked again.
func (c *Client) WaitElsewhere(ctx context.Context, e model.Elsewhere) (model.SignIn, error) {
	every := time.Duration(max(e.Every, 1)) * time.Second
	for {
		select {
		case <-ctx.Done():
			return model.SignIn{}, ctx.Err()
		case <-time.After(every):
		}
		answer, err := c.AskElsewhere(ctx, e.Secret)
		var problem *model.Problem
		switch {
		case err == nil && answer.SignIn != nil:
			return *answer.SignIn, nil
		case errors.As(err, &problem) && problem.Type != model.TooMany && problem.Type != model.Unavailable:
			return model.SignIn{}, err
		case err != nil && time.Now().After(e.Until):
			return model.SignIn{}, err
		}
	}
}

// SignOut ends the client's token.
func (c *Client) SignOut(ctx context.Context) error { return c.post(ctx, "/sign-out", nil, nil) }

// Whoami tells whose token it is.
func (c *Client) Whoami(ctx context.Context) (v model.Person, err error) {
	return v, c.get(ctx, "/whoami", nil, &v)
}

// NewsSettings is how one hears of news.
func (c *Client) NewsSettings(ctx context.Context) (v model.NewsSettings, err error) {
	return v, c.get(ctx, "/me/news", nil, &v)
}

// SetNewsSettings changes one's mail address, and how one hears of the kinds that are named.
func (c *Client) SetNewsSettings(ctx context.Context, q model.NewsSettings) (v model.NewsSettings, err error) {
	return v, c.json(ctx, request{method: "PUT", path: "/me/news", body: q}, &v)
}

// ConfirmMail shows with the code of a letter that a mail address is one's own.
func (c *Client) ConfirmMail(ctx context.Context, code string) (v model.NewsSettings, err error) {
	return v, c.json(ctx, request{method: "PUT", path: "/me/news/address", body: model.MailCode{Code: code}}, &v)
}

// Latest is a page of what happened that concerns one, the newest first, below an item (0 for from the newest on), in one project where
// that is named.
func (c *Client) Latest(ctx context.Context, project string, before int64, limit int) (v model.News, err error) {
	return v, c.get(ctx, "/me/news/latest", url.Values{"project": {project}, "before": {strconv.FormatInt(before, 10)},
		"limit": {strconv.Itoa(limit)}}, &v)
}

// ReadNews notes up to which item one has read.
func (c *Client) ReadNews(ctx context.Context, upTo int64) error {
	return c.json(ctx, request{method: "PUT", path: "/me/news/latest", body: model.NewsRead{UpTo: upTo}}, nil)
}

// ChangePassphrase changes one's own, and tells how many other sign-ins ended.
func (c *Client) ChangePassphrase(ctx context.Context, old, fresh string) (v model.PassphraseChanged, err error) {
	return v, c.json(ctx, request{method: "PUT", path: "/me/passphrase", body: model.PassphraseRequest{Old: old, New: fresh}, once: true}, &v)
}

// SignIns lists one's own.
func (c *Client) SignIns(ctx context.Context) (v model.SignIns, err error) {
	return v, c.get(ctx, "/me/sign-ins", nil, &v)
}

// EndSignIn ends one of them; "others" all but the one that asks.
func (c *Client) EndSignIn(ctx context.Context, id string) (v model.PassphraseChanged, err error) {
	return v, c.json(ctx, request{method: "DELETE", path: "/me/sign-ins/" + url.PathEscape(id)}, &v)
}

// AddHook sends a project's news to an address from now on.
func (c *Client) AddHook(ctx context.Context, key string, q model.HookRequest) (v model.Hook, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/hooks"), body: q, once: true}, &v)
}

// Hooks lists where a project's news goes.
func (c *Client) Hooks(ctx context.Context, key string) (v model.Hooks, err error) {
	return v, c.get(ctx, in(key, "/hooks"), nil, &v)
}

// Projects lists one's projects.
func (c *Client) Projects(ctx context.Context) (v model.Projects, err error) {
	return v, c.get(ctx, "/projects", nil, &v)
}

// Start makes a project.
func (c *Client) Start(ctx context.Context, key string) (v model.Project, err error) {
	return v, c.json(ctx, request{method: "POST", path: "/projects", body: model.StartRequest{Key: key}, once: true}, &v)
}

// Project shows one.
func (c *Client) Project(ctx context.Context, key string) (v model.Project, err error) {
	return v, c.get(ctx, in(key, ""), nil, &v)
}

// Members lists a project's people.
func (c *Client) Members(ctx context.Context, key string) (v model.Members, err error) {
	return v, c.get(ctx, in(key, "/members"), nil, &v)
}

// SetMember adds a person or changes their role.
func (c *Client) SetMember(ctx context.Context, key, handle, role string) (v model.Member, err error) {
	return v, c.json(ctx, request{method: "PUT", path: in(key, "/members/"+url.PathEscape(handle)), body: model.RoleRequest{Role: role}}, &v)
}

// RemoveMember takes a person out.
func (c *Client) RemoveMember(ctx context.Context, key, handle string) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, "/members/"+url.PathEscape(handle))}, nil)
}

// NewToken makes a token for one project.
func (c *Client) NewToken(ctx context.Context, key string, q model.TokenRequest) (v model.Token, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/tokens"), body: q, once: true}, &v)
}

// Tokens lists a project's tokens.
func (c *Client) Tokens(ctx context.Context, key string) (v model.Tokens, err error) {
	return v, c.get(ctx, in(key, "/tokens"), nil, &v)
}

// EndToken makes a token unusable.
func (c *Client) EndToken(ctx context.Context, key string, id int64) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, "/tokens/"+strconv.FormatInt(id, 10))}, nil)
}

// AddWorkspace makes a workspace.
func (c *Client) AddWorkspace(ctx context.Context, key, name string) (v model.Workspace, err error) {
	return v, c.post(ctx, in(key, "/workspaces"), model.WorkspaceRequest{Name: name}, &v)
}

// Workspaces lists one's own workspaces.
func (c *Client) Workspaces(ctx context.Context, key string) (v model.Workspaces, err error) {
	return v, c.get(ctx, in(key, "/workspaces"), nil, &v)
}

// DescribeWorkspace tells what a workspace is.
func (c *Client) DescribeWorkspace(ctx context.Context, key, id string, d model.WorkspaceTold) error {
	return c.json(ctx, request{method: "PUT", path: in(key, "/workspaces/"+url.PathEscape(id)), body: d}, nil)
}

// Leaving says what it would touch that somebody leaves a project; "" is oneself.
func (c *Client) Leaving(ctx context.Context, key, handle string) (v model.Leaving, err error) {
	path := in(key, "/membership")
	if handle != "" {
		path = in(key, "/members/"+url.PathEscape(handle)+"/leaving")
	}
	return v, c.get(ctx, path, nil, &v)
}

// Leave leaves a project.
func (c *Client) Leave(ctx context.Context, key string) error {
	return c.json(ctx, request{method: "POST", path: in(key, "/leave"), body: model.DeleteRequest{Key: key}}, nil)
}

// AddInvitation makes a link by which people join a project. Its address, from the root of the service, is told this once.
func (c *Client) AddInvitation(ctx context.Context, key string, q model.InvitationRequest) (v model.Invitation, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/invitations"), body: q, once: true}, &v)
}

// Invitations lists those of a project.
func (c *Client) Invitations(ctx context.Context, key string) (v model.Invitations, err error) {
	return v, c.get(ctx, in(key, "/invitations"), nil, &v)
}

// EndInvitation makes one let nobody in any more.
func (c *Client) EndInvitation(ctx context.Context, key string, number int) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, "/invitations/"+strconv.Itoa(number))}, nil)
}

// Invited says what an invitation offers.
func (c *Client) Invited(ctx context.Context, secret string) (v model.Invited, err error) {
	return v, c.post(ctx, "/invited", model.InvitedLook{Secret: secret}, &v)
}

// JoinAsNew takes an invitation as somebody new, who is signed in with that.
func (c *Client) JoinAsNew(ctx context.Context, q model.InvitedJoin) (v model.Joined, err error) {
	return v, c.json(ctx, request{method: "POST", path: "/invited/new", body: q, once: true}, &v)
}

// JoinInvited takes an invitation as oneself.
func (c *Client) JoinInvited(ctx context.Context, secret string) (v model.Joined, err error) {
	return v, c.json(ctx, request{method: "POST", path: "/invited/join", body: model.InvitedLook{Secret: secret}}, &v)
}

// Archive makes a project one that is only looked at, or brings it back.
func (c *Client) Archive(ctx context.Context, key string, archived bool) (v model.Project, err error) {
	return v, c.json(ctx, request{method: "PUT", path: in(key, "/archived"), body: model.ArchiveRequest{Archived: archived}}, &v)
}

// DeleteProject deletes a project; typed is its key once more.
func (c *Client) DeleteProject(ctx context.Context, key, typed string) (v model.DeletedProject, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/delete"), body: model.DeleteRequest{Key: typed}, once: true}, &v)
}

// RestoreProject brings a deleted project back.
func (c *Client) RestoreProject(ctx context.Context, key string) (v model.Project, err error) {
	return v, c.json(ctx, request{method: "POST", path: "/restore", body: model.DeleteRequest{Key: key}, once: true}, &v)
}

// Deeds is a page of the record of a project, or, with key "", of the whole service.
func (c *Client) Deeds(ctx context.Context, key string, query url.Values) (v model.Deeds, err error) {
	path := "/record"
	if key != "" {
		path = in(key, "/record")
	}
	return v, c.get(ctx, path, query, &v)
}

// Usage is what a project, or, with key "", all of them together, took over so many days.
func (c *Client) Usage(ctx context.Context, key string, days int) (v model.Usage, err error) {
	path := "/usage"
	if key != "" {
		path = in(key, "/usage")
	}
	return v, c.get(ctx, path, url.Values{"days": {strconv.Itoa(days)}}, &v)
}

// ParseInvitation reads the link of an invitation: the address of its service, and its secret; ok is false for anything else.
func ParseInvitation(link string) (address, secret string, ok bool) {
	before, secret, found := strings.Cut(strings.TrimSpace(link), "#")
	address, is := strings.CutSuffix(before, model.InvitedPath)
	if !found || !is || secret == "" {
		return "", "", false
	}
	address, err := CheckURL(address)
	return address, secret, err == nil
}
