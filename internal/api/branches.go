package api

import (
	"kettletarn/internal/core/model"
)

func (s *Server) branches(c *call) error {
	list, err := s.service.Branches(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Branches{Branches: list})
}

func (s *Server) branch(c *call) error {
	b, err := s.service.Branch(c.Request().Context(), c.actor, c.project(), c.named("branch"))
	if err != nil {
		return err
	}
	return c.answer(b)
}

func (s *Server) addBranch(c *call) error {
	var q model.BranchRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	if q.At != "" {
		q.At = stateOf(q.At)
	}
	b, err := s.service.AddBranch(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(b)
}

func (s *Server) setBranchState(c *call) error {
	var q model.BranchStateRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	b, err := s.service.SetBranchState(c.Request().Context(), c.actor, c.project(), c.named("branch"), q.State)
	if err != nil {
		return err
	}
	return c.answer(b)
}

// merge brings a branch into another one.
func (s *Server) merge(c *call) error {
	var q model.MergeRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.Merge(c.Request().Context(), c.actor, c.project(), q, c.Request().Header.Get("Idempotency-Key"))
	if err != nil {
		return err
	}
	return c.answer(out)
}
