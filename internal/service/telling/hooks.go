package telling

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"net/url"
	"slices"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// MaxHooks is how many hooks a project may have.
const MaxHooks = 20

// AddHook makes a hook; its secret is returned this once.
func (s *Room) AddHook(ctx context.Context, actor ground.Actor, key string, q model.HookRequest) (h model.Hook, err error) {
	if s.Courier == nil || len(s.Courier.Hosts()) == 0 {
		return h, model.NewProblem(model.NotAllowed, "ask whoever runs it to set --hook-hosts", "this service sends no web hooks")
	}
	u, err := url.Parse(q.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || len(q.URL) > 2000 || u.String() != q.URL {
		return h, model.NewProblem(model.BadRequest, "take for example: https://chat.example/hooks/art", "%q is not the address of a web hook",
			ground.Printable(q.URL))
	}
	if !slices.Contains(s.Courier.Hosts(), u.Host) {
		return h, model.NewProblem(model.NotAllowed, "ask whoever runs the service to add it to --hook-hosts",
			"web hooks may go to %s, and not to %s", strings.Join(s.Courier.Hosts(), ", "), ground.Printable(u.Host))
	}
	if len(q.Kinds) == 0 {
		return h, model.NewProblem(model.BadRequest, "", "name at least one kind of news")
	}
	for _, k := range q.Kinds {
		if _, known := news.Find(k); !known {
			return h, model.NewProblem(model.BadRequest, "", "%q is no kind of news", ground.Printable(k))
		}
	}
	var random [32]byte
	_, _ = rand.Read(random[:])
	secret := "whsec_" + base64.StdEncoding.EncodeToString(random[:])
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		list, err := tx.Hooks(ctx, p.ID)
		if err != nil {
			return err
		}
		if len(list) >= MaxHooks {
			return model.NewProblem(model.TooMany, "remove one first", "a project has at most %d web hooks", MaxHooks)
		}
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		id, err := tx.AddHook(ctx, p.ID, actor.ID, q.URL, secret, q.Kinds)
		h = model.Hook{ID: id, URL: q.URL, Kinds: q.Kinds, Person: actor.Handle, Made: now, Secret: secret}
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.HookAdded, map[string]any{"url": q.URL, "kinds": q.Kinds})
	})
	return h, err
}

// RemoveHook ends a hook, with what was still to go to it.
func (s *Room) RemoveHook(ctx context.Context, actor ground.Actor, key string, id int64) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		there, err := tx.RemoveHook(ctx, p.ID, id)
		if err != nil {
			return err
		}
		if !there {
			return model.NewProblem(model.NotFound, "", "there is no such web hook")
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.HookRemoved, map[string]any{"hook": id})
	})
}

// Hooks lists a project's hooks, and where they may go.
func (s *Room) Hooks(ctx context.Context, actor ground.Actor, key string) (out model.Hooks, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		out.Hooks, err = tx.Hooks(ctx, p.ID)
		return err
	})
	out.Hosts = []string{}
	if s.Courier != nil {
		out.Hosts = append(out.Hosts, s.Courier.Hosts()...)
	}
	return out, err
}
