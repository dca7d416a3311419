package api

import (
	"strconv"

	"kettletarn/internal/core/model"
)

func (s *Server) showings(c *call) error {
	page, err := c.page()
	if err != nil {
		return err
	}
	out, err := s.service.Showings(c.Request().Context(), c.actor, c.project(), page)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) addShowing(c *call) error {
	var q model.ShowingRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.AddShowing(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) switchShowings(c *call) error {
	var q model.ShowingsOff
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.service.SwitchShowings(c.Request().Context(), c.actor, c.project(), q.Off); err != nil {
		return err
	}
	return s.showings(c)
}

func (s *Server) endShowing(c *call) error {
	number, err := strconv.Atoi(c.Param("showing"))
	if err != nil {
		return model.NewProblem(model.BadRequest, "", "a showing has a number")
	}
	if err := s.service.EndShowing(c.Request().Context(), c.actor, c.project(), number); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) exhibit(c *call) error {
	out, err := s.service.Exhibit(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) exhibits(c *call) error {
	limit, err := c.number("limit")
	if err != nil {
		return err
	}
	out, err := s.service.Exhibits(c.Request().Context(), c.actor, c.QueryParam("after"), c.QueryParam("search"), limit)
	if err != nil {
		return err
	}
	return c.answer(out)
}
