package client

import (
	"context"
	"io"
	"net/url"
	"strconv"

	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
)

// Folder lists what is right in one folder, a page behind after.
func (c *Client) Folder(ctx context.Context, key, folder string, skip, limit int) (v model.FolderPage, err error) {
	return v, c.get(ctx, in(key, "/folder"), url.Values{"path": {folder}, "skip": {strconv.Itoa(skip)}, "limit": {strconv.Itoa(limit)}}, &v)
}

// Search lists the assets of the newest state that have text in their paths, a page from position skip on.
func (c *Client) Search(ctx context.Context, key, text string, skip, limit int) (v model.FolderPage, err error) {
	return v, c.get(ctx, in(key, "/folder"), url.Values{"search": {text}, "skip": {strconv.Itoa(skip)}, "limit": {strconv.Itoa(limit)}}, &v)
}

// Find is what a project has that fits words, limit of each kind at most.
func (c *Client) Find(ctx context.Context, key, text string, limit int) (v model.Found, err error) {
	return v, c.get(ctx, in(key, "/find"), url.Values{"text": {text}, "limit": {strconv.Itoa(limit)}}, &v)
}

// Twice is what a project has more than once, byte for byte; with a path, what else has the content that stands there.
func (c *Client) Twice(ctx context.Context, key, path string, limit int) (v model.Twice, err error) {
	return v, c.get(ctx, in(key, "/twice"), url.Values{"path": {path}, "limit": {strconv.Itoa(limit)}}, &v)
}

// Alike is what looks or sounds like the asset at a path.
func (c *Client) Alike(ctx context.Context, key, path string, limit int) (v model.Alike, err error) {
	return v, c.get(ctx, in(key, "/alike"), url.Values{"path": {path}, "limit": {strconv.Itoa(limit)}}, &v)
}

// StateAt is the number of the handoff that a time or a milestone means, 0 where there is none yet.
func (c *Client) StateAt(ctx context.Context, key, at string) (int, error) {
	var page model.FolderPage
	err := c.get(ctx, in(key, "/folder"), url.Values{"at": {at}, "limit": {"1"}}, &page)
	return page.At, err
}

// Asset shows one asset with its versions.
func (c *Client) Asset(ctx context.Context, key, branch, path string) (v model.AssetHistory, err error) {
	query := url.Values{"path": {path}}
	if branch != "" {
		query.Set("branch", branch)
	}
	return v, c.get(ctx, in(key, "/asset"), query, &v)
}

// HandoffQuery filters handoffs; zero values filter nothing. Path is an asset, a folder or a pattern; Since and Until are days or times.
// Assets is how many of its assets each comes with.
type HandoffQuery struct {
	Before, Limit, Assets int
	Branch                string
	Author, Path, Kind    string
	Since, Until          string
	Task, Stage, Text     string
}

// Handoffs lists handoffs, the newest first.
func (c *Client) Handoffs(ctx context.Context, key string, q HandoffQuery) (v model.Handoffs, err error) {
	query := url.Values{"before": {strconv.Itoa(q.Before)}, "limit": {strconv.Itoa(q.Limit)}, "assets": {strconv.Itoa(q.Assets)}}
	for name, value := range map[string]string{"branch": q.Branch, "author": q.Author, "path": q.Path, "kind": q.Kind, "since": q.Since,
		"until": q.Until,
		"task":  q.Task, "stage": q.Stage, "text": q.Text} {
		if value != "" {
			query.Set(name, value)
		}
	}
	return v, c.get(ctx, in(key, "/handoffs"), query, &v)
}

// Handoff shows one with its assets, by how a state is named: h40, a time, a milestone.
func (c *Client) Handoff(ctx context.Context, key, at string) (v model.Handoff, err error) {
	return v, c.get(ctx, in(key, "/handoffs/"+url.PathEscape(at)), nil, &v)
}

// Between compares two states: a page of what is different behind after.
func (c *Client) Between(ctx context.Context, key, from, to, after string) (v model.Between, err error) {
	return v, c.get(ctx, in(key, "/between"), url.Values{"from": {from}, "to": {to}, "after": {after}}, &v)
}

// Lines tells which version of a text asset (0 for the newest) changed each line last.
func (c *Client) Lines(ctx context.Context, key, path string, version int) (v model.LineOrigins, err error) {
	return v, c.get(ctx, in(key, "/lines"), url.Values{"path": {path}, "version": {strconv.Itoa(version)}}, &v)
}

// Milestones lists a project's.
func (c *Client) Milestones(ctx context.Context, key string) (v model.Milestones, err error) {
	return v, c.get(ctx, in(key, "/milestones"), nil, &v)
}

// AddMilestone names a handoff.
func (c *Client) AddMilestone(ctx context.Context, key string, q model.MilestoneRequest) (v model.Milestone, err error) {
	return v, c.post(ctx, in(key, "/milestones"), q, &v)
}

// RemoveMilestone takes a name away.
func (c *Client) RemoveMilestone(ctx context.Context, key, name string) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, "/milestones/"+url.PathEscape(name))}, nil)
}

// Compare says what is different between a version of an asset and one of the same or another asset; 0 is the newest.
func (c *Client) Compare(ctx context.Context, key, path string, before int, with string, after int) (v Compared, err error) {
	return v, c.get(ctx, in(key, "/compare"), sides(path, before, with, after), &v)
}

// ComparedDrawing gets a file that was drawn of the two.
func (c *Client) ComparedDrawing(ctx context.Context, key, path string, before int, with string, after int, name string) ([]byte, error) {
	query := sides(path, before, with, after)
	query.Set("name", name)
	return c.bytes(ctx, in(key, "/compare/file"), query, 1<<30)
}

// Look says what a version is.
func (c *Client) Look(ctx context.Context, key, path string, version int) (v media.Report, err error) {
	return v, c.get(ctx, in(key, "/look"), url.Values{"path": {path}, "version": {strconv.Itoa(version)}}, &v)
}

// Drawing gets a file that was drawn of a version.
func (c *Client) Drawing(ctx context.Context, key, path string, version int, name string) ([]byte, error) {
	return c.bytes(ctx, in(key, "/look/file"), url.Values{"path": {path}, "version": {strconv.Itoa(version)}, "name": {name}}, 1<<30)
}

// CopyFile writes the content of a version.
func (c *Client) CopyFile(ctx context.Context, key, path string, version int, to io.Writer) error {
	return c.do(ctx, request{method: "GET", path: in(key, "/file"), query: url.Values{"path": {path}, "version": {strconv.Itoa(version)}}},
		func(r io.Reader) error {
			if _, err := io.Copy(to, r); err != nil {
				return &brokenAnswer{err}
			}
			return nil
		})
}

func (c *Client) bytes(ctx context.Context, path string, query url.Values, limit int64) (data []byte, err error) {
	return data, c.do(ctx, request{method: "GET", path: path, query: query}, func(r io.Reader) error {
		data, err = io.ReadAll(io.LimitReader(r, limit))
		if err != nil {
			return &brokenAnswer{err}
		}
		return nil
	})
}
