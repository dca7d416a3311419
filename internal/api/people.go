package api

import (
	"errors"
	"net/http"
	"strconv"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/people"
)

// member is who a call is about: the one that it names, or the one who asks.
func (c *call) member() string {
	if handle := c.Param("handle"); handle != "" {
		return handle
	}
	return c.actor.Handle
}

func (s *Server) leaving(c *call) error {
	out, err := s.service.Leaving(c.Request().Context(), c.actor, c.project(), c.member())
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) leave(c *call) error {
	var q model.DeleteRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	if q.Key != c.project() {
		return model.NewProblem(model.BadRequest, "name the project that you leave", "%q is not the key of %s", ground.Printable(q.Key),
			c.project())
	}
	return s.removeMember(c)
}

func (s *Server) invitations(c *call) error {
	out, err := s.service.Invitations(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) addInvitation(c *call) error {
	var q model.InvitationRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.AddInvitation(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) endInvitation(c *call) error {
	number, err := strconv.Atoi(c.Param("invitation"))
	if err != nil {
		return model.NewProblem(model.BadRequest, "", "an invitation has a number")
	}
	if err := s.service.EndInvitation(c.Request().Context(), c.actor, c.project(), number); err != nil {
		return err
	}
	return c.answer(nil)
}

// guessed counts a secret that is none, and refuses an address that keeps bringing them.
func (s *Server) guessed(c *call, err error) error {
	if errors.Is(err, people.NoInvitation) || errors.Is(err, people.NoWayIn) {
		if many := s.gate.Stray(c.address); many != nil {
			return many
		}
	}
	return err
}

func (s *Server) invited(c *call) error {
	var q model.InvitedLook
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.LookAtInvitation(c.Request().Context(), q.Secret)
	if err != nil {
		return s.guessed(c, err)
	}
	return c.answer(out)
}

func (s *Server) joinInvited(c *call) error {
	var q model.InvitedLook
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.Join(c.Request().Context(), c.actor, q.Secret)
	if err != nil {
		return s.guessed(c, err)
	}
	return c.answer(out)
}

func (s *Server) joinAsNew(c *call) error {
	var q model.InvitedJoin
	if err := c.decode(&q); err != nil {
		return err
	}
	done, err := s.gate.SignIn(c.address, q.Handle)
	if err != nil {
		return err
	}
	out, err := s.service.JoinAsNew(c.Request().Context(), q)
	done(err == nil, errors.Is(err, people.NoInvitation))
	if err != nil {
		return s.guessed(c, err)
	}
	if q.Console {
		s.console(c, out.SignIn)
	}
	return c.answer(out)
}

// console gives a sign-in to a browser, which keeps it where no page gets at it.
func (s *Server) console(c *call, in *model.SignIn) {
	http.SetCookie(c.Response(), &http.Cookie{Name: cookie, Value: in.Token, Path: "/", Expires: in.Expires,
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: c.IsTLS() || c.Request().Header.Get("X-Forwarded-Proto") == "https"})
	in.Token = ""
}

func (s *Server) archiveProject(c *call) error {
	var q model.ArchiveRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.Archive(c.Request().Context(), c.actor, c.project(), q.Archived)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) deleteProject(c *call) error {
	var q model.DeleteRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.DeleteProject(c.Request().Context(), c.actor, c.project(), q.Key)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) restoreProject(c *call) error {
	var q model.DeleteRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.RestoreProject(c.Request().Context(), c.actor, q.Key)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) deeds(c *call) error {
	since, err1 := c.day("since")
	until, err2 := c.day("until")
	before, err3 := c.number("before")
	limit, err4 := c.number("limit")
	if err := firstError(err1, err2, err3, err4); err != nil {
		return err
	}
	out, err := s.service.Deeds(c.Request().Context(), c.actor, c.project(), people.DeedQuery{Person: c.QueryParam("person"),
		Path: c.QueryParam("path"), About: c.QueryParam("about"), Since: since, Until: until, Before: int64(before), Limit: limit})
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) usage(c *call) error {
	days, err := c.number("days")
	if err != nil {
		return err
	}
	if days == 0 {
		days = 30
	}
	out, err := s.service.Usage(c.Request().Context(), c.actor, c.project(), days)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) forgot(c *call) error {
	var q model.Forgotten
	if err := c.decode(&q); err != nil {
		return err
	}
	if many := s.gate.Stray(c.address); many != nil {
		return many
	}
	if err := s.service.Forgot(c.Request().Context(), q.Handle); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) lookAtWayIn(c *call) error {
	var q model.InvitedLook
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.LookAtWayIn(c.Request().Context(), q.Secret)
	if err != nil {
		return s.guessed(c, err)
	}
	return c.answer(out)
}

func (s *Server) takeWayIn(c *call) error {
	var q model.WayInTaken
	if err := c.decode(&q); err != nil {
		return err
	}
	done, err := s.gate.SignIn(c.address, "")
	if err != nil {
		return err
	}
	out, err := s.service.TakeWayIn(c.Request().Context(), q)
	done(err == nil, errors.Is(err, people.NoWayIn))
	if err != nil {
		return s.guessed(c, err)
	}
	if q.Console {
		s.console(c, &out)
	}
	return c.answer(out)
}

func (s *Server) setName(c *call) error {
	var q model.NameRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.SetName(c.Request().Context(), c.actor, q.Name)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) everybody(c *call) error {
	list, err := s.service.People(c.Request().Context())
	if err != nil {
		return err
	}
	return c.answer(model.People{People: append([]model.PersonRow{}, list...)})
}

func (s *Server) newPerson(c *call) error {
	var q model.PersonNew
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.NewPerson(c.Request().Context(), c.actor, q.Handle, q.Steward)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) wayIn(c *call) error {
	out, err := s.service.WayIn(c.Request().Context(), c.actor, c.Param("handle"))
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) setSteward(c *call) error {
	var q model.StewardRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.service.SetSteward(c.Request().Context(), c.actor, c.Param("handle"), q.Steward); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) endPerson(c *call) error {
	var q model.Forgotten
	if err := c.decode(&q); err != nil {
		return err
	}
	if q.Handle != c.Param("handle") {
		return model.NewProblem(model.BadRequest, "name who goes", "%q is not %s", ground.Printable(q.Handle), c.Param("handle"))
	}
	if q.Handle == c.actor.Handle {
		return model.NewProblem(model.NotAllowed, "ask another steward", "nobody lets themselves go")
	}
	out, err := s.service.EndPerson(c.Request().Context(), q.Handle)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) health(c *call) error {
	out, err := s.service.Health(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	out.Version = s.version
	return c.answer(out)
}

func (s *Server) collecting(c *call) error {
	out, err := s.service.Collecting(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) collect(c *call) error {
	if err := s.service.CollectNow(c.Request().Context(), c.actor); err != nil {
		return err
	}
	return c.answer(nil)
}
