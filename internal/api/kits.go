package api

import (
	"strconv"

	"kettletarn/internal/core/model"
)

func (s *Server) kits(c *call) error {
	out, err := s.service.Kits(c.Request().Context(), c.actor, c.project(), c.QueryParam("branch"))
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) releaseKit(c *call) error {
	var q model.KitReleaseRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.ReleaseKit(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) kitState(c *call) error {
	number := 0
	if text := c.Param("number"); text != "newest" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			return model.NewProblem(model.NotFound, "name its number, or newest", "%q is no release", text)
		}
		number = n
	}
	since, err := c.number("since")
	if err != nil {
		return err
	}
	out, err := s.service.KitState(c.Request().Context(), c.actor, c.project(), c.Param("kit"), number, since)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) changeKit(c *call) error {
	var q model.KitRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.ChangeKit(c.Request().Context(), c.actor, c.project(), q, c.Request().Header.Get("Idempotency-Key"))
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) kitUsers(c *call) error {
	out, err := s.service.KitUsers(c.Request().Context(), c.actor, c.project(), c.Param("kit"))
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) offerKit(c *call) error {
	var q model.KitOfferRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.OfferKit(c.Request().Context(), c.actor, c.project(), q, c.Request().Header.Get("Idempotency-Key"))
	if err != nil {
		return err
	}
	return c.answer(out)
}
