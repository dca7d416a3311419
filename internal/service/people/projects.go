package people

import (
	"context"
	"errors"
	"strings"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// StartProject makes a project; the actor becomes its owner.
func (s *Room) StartProject(ctx context.Context, actor ground.Actor, key string) (model.Project, error) {
	if !model.ValidKey(key) {
		return model.Project{}, model.NewProblem(model.BadRequest, "take for example: brinelight",
			"%q can't be a project's key: it has 2 to 40 small letters, digits and dashes, and starts with a letter", ground.Printable(key))
	}
	if err := actor.Whole(); err != nil {
		return model.Project{}, err
	}
	err := s.Write(ctx, func(tx *records.Tx) error {
		id, err := tx.AddProject(ctx, key, actor.ID)
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, id, actor.ID, news.ProjectStarted, map[string]any{"key": key})
	})
	if records.Duplicate(err) {
		return model.Project{}, model.NewProblem(model.Taken, "choose another key, or join that one with tarn join",
			"there is a project %s already", key)
	}
	return model.Project{Key: key, Role: model.Owner, Members: 1}, err
}

// Projects lists the actor's projects, and all of them for a steward.
func (s *Room) Projects(ctx context.Context, actor ground.Actor) (list []model.Project, err error) {
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.Projects(ctx, actor.ID, actor.Steward, actor.Within)
		for i := range list {
			list[i].Role = actor.Role(list[i].Key, list[i].Role)
		}
		return err
	})
	return list, err
}

// Project shows one project.
func (s *Room) Project(ctx context.Context, actor ground.Actor, key string) (p model.Project, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		if _, err := ground.Project(ctx, tx, actor, key, model.Viewer); err != nil {
			return err
		}
		now, err := tx.EventsNow(ctx)
		if err != nil {
			return err
		}
		list, err := tx.Projects(ctx, actor.ID, false, key)
		if err == nil && len(list) == 1 {
			p = list[0]
			p.Role, p.News = actor.Role(key, p.Role), now.String()
		}
		return err
	})
	return p, err
}

// SetLimit sets the most bytes that a project may take in the store, 0 for no limit. It takes a steward.
func (s *Room) SetLimit(ctx context.Context, actor ground.Actor, key string, limit int64) (p model.Project, err error) {
	if limit < 0 {
		return p, model.NewProblem(model.BadRequest, "take for example: 500GB", "a limit is not negative")
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		found, err := ground.Project(ctx, tx, actor, key, ground.LeadOrSteward)
		if err != nil {
			return err
		}
		if !actor.Steward {
			return model.NewProblem(model.NotAllowed, "ask whoever runs the service", "only a steward sets the storage limit of a project")
		}
		if err := tx.SetLimit(ctx, found.ID, limit); err != nil {
			return err
		}
		if err := tx.AddEvent(ctx, found.ID, actor.ID, news.ProjectLimit, map[string]any{"before": found.Limit, "limit": limit}); err != nil {
			return err
		}
		list, err := tx.Projects(ctx, actor.ID, true, key)
		if err == nil && len(list) == 1 {
			p = list[0]
		}
		return err
	})
	return p, err
}

// Wanted lists content that the service lost, up to MaxWanted chunks of it.
func (s *Room) Wanted(ctx context.Context, actor ground.Actor, key string) (list []chunk.Digest, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		list, err = tx.Damaged(ctx, p.ID, ground.MaxWanted)
		return err
	})
	return list, err
}

// Members lists a project's people.
func (s *Room) Members(ctx context.Context, actor ground.Actor, key string) (list []model.Member, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Members(ctx, p.ID)
		return err
	})
	return list, err
}

// SetMember adds a person or changes their role. A lead gives roles up to lead; only an owner makes or unmakes owners.
func (s *Room) SetMember(ctx context.Context, actor ground.Actor, key, handle, role string) (m model.Member, err error) {
	if !model.ValidRole(role) {
		return m, model.NewProblem(model.BadRequest, "take viewer, artist, lead or owner", "%q is not a role", ground.Printable(role))
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, person, had, err := s.member(ctx, tx, actor, key, handle)
		if err != nil {
			return err
		}
		if err := ownersOnly(ctx, tx, actor, p, handle, had, role); err != nil {
			return err
		}
		m = model.Member{Handle: handle, Role: role}
		if had == role {
			return nil
		}
		if err := tx.SetMember(ctx, p.ID, person.ID, role); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.MemberSet, map[string]any{"handle": handle, "role": role, "before": had})
	})
	return m, err
}

// RemoveMember takes a person out of a project, or lets them leave. Their locks there are given back: nobody else could, and nobody may be
// kept waiting. Their tokens for the project end; what they did stays under their name.
func (s *Room) RemoveMember(ctx context.Context, actor ground.Actor, key, handle string) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, who, had, err := s.leaver(ctx, tx, actor, key, handle)
		if err != nil {
			return err
		}
		if err := tx.Gate(ctx, p.ID, true); err != nil {
			return err
		}
		if handle != actor.Handle || had != model.Owner {
			err = ownersOnly(ctx, tx, actor, p, handle, had, "")
		} else {
			err = anotherOwner(ctx, tx, p, handle)
		}
		if err != nil {
			return err
		}
		_, err = s.takeOut(ctx, tx, actor, p, who)
		return err
	})
}

// takeOut takes a person out of a project, behind its gate, and tells how many locks that gave back.
func (s *Room) takeOut(ctx context.Context, tx *records.Tx, actor ground.Actor, p records.Project, who records.Person) (released int,
	err error) {
	if _, err := tx.RemoveMember(ctx, p.ID, who.ID); err != nil {
		return 0, err
	}
	return s.letGo(ctx, tx, actor, p, who)
}

// letGo gives back all that a person has in a project.
func (s *Room) letGo(ctx context.Context, tx *records.Tx, actor ground.Actor, p records.Project, who records.Person) (released int,
	err error) {
	if released, err = s.ReleaseAll(ctx, tx, actor, p, who.Handle); err != nil {
		return 0, err
	}
	if err := tx.ForgetHeadsUps(ctx, p.ID, who.ID); err != nil {
		return 0, err
	}
	tokens, err := tx.EndTokensFor(ctx, p.ID, who.ID)
	if err != nil {
		return 0, err
	}
	return released, tx.AddEvent(ctx, p.ID, actor.ID, news.MemberRemoved,
		map[string]any{"handle": who.Handle, "unlocked": released, "tokens": tokens})
}

// member reads what setting a role needs, behind the exclusive gate: no send or lock of that person runs beside it.
func (s *Room) member(ctx context.Context, tx *records.Tx, actor ground.Actor, key,
	handle string) (p records.Project, person records.Person, role string, err error) {
	if p, err = ground.Project(ctx, tx, actor, key, ground.LeadOrSteward); err != nil {
		return p, person, "", err
	}
	if err = tx.Gate(ctx, p.ID, true); err != nil {
		return p, person, "", err
	}
	if person, err = tx.PersonByHandle(ctx, handle); err != nil {
		if errors.Is(err, records.ErrNotFound) {
			err = model.NewProblem(model.NotFound, "whoever runs the service makes people with tarnd person add", "there is no person %q",
				ground.Printable(handle))
		}
		return p, person, "", err
	}
	of, err := tx.ProjectFor(ctx, key, person.ID)
	return p, person, of.Role, err
}

func ownersOnly(ctx context.Context, tx *records.Tx, actor ground.Actor, p records.Project, handle, had, role string) error {
	if had != model.Owner && role != model.Owner || had == role {
		return nil
	}
	if err := actor.Whole(); err != nil {
		return err
	}
	if p.Role != model.Owner && !actor.Steward {
		return model.NewProblem(model.NotAllowed, "ask an owner of the project", "only an owner makes somebody an owner, or takes that back")
	}
	if had != model.Owner {
		return nil
	}
	return anotherOwner(ctx, tx, p, handle)
}

// anotherOwner refuses where somebody is the only owner of a project.
func anotherOwner(ctx context.Context, tx *records.Tx, p records.Project, handle string) error {
	members, err := tx.Members(ctx, p.ID)
	if err != nil {
		return err
	}
	for _, m := range members {
		if m.Role == model.Owner && m.Handle != handle {
			return nil
		}
	}
	return model.NewProblem(model.NotAllowed, "make somebody else an owner first", "%s is the only owner of %s", handle, p.Key)
}

// AddWorkspace makes a workspace for the actor.
func (s *Room) AddWorkspace(ctx context.Context, actor ground.Actor, key, name string) (w model.Workspace, err error) {
	name = strings.TrimSpace(name)
	if name == "" {
		return w, model.NewProblem(model.BadRequest, "take for example: tamsin-pc brinelight", "a workspace's name is not empty")
	}
	if err := ground.Written("a workspace's name", name, 200, false); err != nil {
		return w, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		w = model.Workspace{ID: ground.NewID(), Name: name, Kind: model.KindFolder, Owner: actor.Handle, Project: key, Seen: now}
		if err := tx.AddWorkspace(ctx, w.ID, p.ID, actor.ID, name, w.Kind); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.WorkspaceAdded, map[string]any{"workspace": w.ID, "name": name})
	})
	return w, err
}

// Workspaces lists the actor's workspaces in a project.
func (s *Room) Workspaces(ctx context.Context, actor ground.Actor, key string) (list []model.Workspace, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Workspaces(ctx, p.ID, actor.ID)
		return err
	})
	return list, err
}
