package api

import (
	"strconv"

	"kettletarn/internal/core/model"
)

func (s *Server) newsSettings(c *call) error {
	out, err := s.service.NewsSettings(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) setNewsSettings(c *call) error {
	var q model.NewsSettings
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.SetNewsSettings(c.Request().Context(), c.actor, q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) hooks(c *call) error {
	out, err := s.service.Hooks(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Hooks{Hooks: append([]model.Hook{}, out.Hooks...), Hosts: out.Hosts})
}

func (s *Server) addHook(c *call) error {
	var q model.HookRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.AddHook(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) removeHook(c *call) error {
	id, err := strconv.ParseInt(c.Param("hook"), 10, 64)
	if err != nil {
		return model.NewProblem(model.NotFound, "", "%q is not the number of a web hook", c.Param("hook"))
	}
	if err := s.service.RemoveHook(c.Request().Context(), c.actor, c.project(), id); err != nil {
		return err
	}
	return c.answer(nil)
}
