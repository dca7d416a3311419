package api

import (
	"strconv"

	"kettletarn/internal/core/model"
)

func (s *Server) tokens(c *call) error {
	list, err := s.service.Tokens(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Tokens{Tokens: list})
}

func (s *Server) myTokens(c *call) error {
	list, err := s.service.MyTokens(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(model.Tokens{Tokens: append([]model.Token{}, list...)})
}

func (s *Server) newToken(c *call) error {
	var q model.TokenRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	t, err := s.service.NewToken(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(t)
}

func (s *Server) endToken(c *call) error {
	id, err := strconv.ParseInt(c.Param("token"), 10, 64)
	if err != nil {
		return model.NewProblem(model.NotFound, "tarn token list shows those that there are", "there is no such token")
	}
	if err := s.service.EndToken(c.Request().Context(), c.actor, c.project(), id); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) pins(c *call) error {
	handoff, err := c.number("handoff")
	if err != nil {
		return err
	}
	list, err := s.service.Pins(c.Request().Context(), c.actor, c.project(), handoff)
	if err != nil {
		return err
	}
	return c.answer(model.PinnedCommits{Commits: list})
}

func (s *Server) tellPins(c *call) error {
	var q model.PinnedCommits
	if err := c.decode(&q); err != nil {
		return err
	}
	known, err := s.service.TellPins(c.Request().Context(), c.actor, c.project(), q.Commits)
	if err != nil {
		return err
	}
	return c.answer(model.PinnedCommits{Commits: known})
}

func (s *Server) past(c *call) error {
	past, err := s.service.Past(c.Request().Context(), c.actor, c.project(), c.QueryParam("branch"))
	if err != nil {
		return err
	}
	return c.answer(past)
}

func (s *Server) pastKnown(c *call) error {
	var q model.PastKnown
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.OfCommits(c.Request().Context(), c.actor, c.project(), q.Commits)
	if err != nil {
		return err
	}
	return c.answer(model.PastReceipt{Handoffs: out})
}

func (s *Server) bringPast(c *call) error {
	var q model.PastRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.BringPast(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(model.PastReceipt{Handoffs: out})
}
