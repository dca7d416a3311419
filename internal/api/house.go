package api

import (
	"errors"
	"strconv"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/people"
)

func (s *Server) houseWay(c *call) error {
	out, err := s.service.HouseWay(c.Request().Context())
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) houseArrived(c *call) error {
	var q model.HouseAnswer
	if err := c.decode(&q); err != nil {
		return err
	}
	var out model.HouseSignIn
	if err := s.tries(c, "", func() (err error) {
		out, err = s.service.HouseArrived(c.Request().Context(), q)
		return err
	}); err != nil {
		return err
	}
	if q.Console && out.SignIn != nil {
		s.console(c, out.SignIn)
	}
	return c.answer(out)
}

func (s *Server) houseTie(c *call) error {
	var q model.HouseTie
	if err := c.decode(&q); err != nil {
		return err
	}
	var out model.SignIn
	if err := s.tries(c, q.Handle, func() (err error) {
		out, err = s.service.TieByPassphrase(c.Request().Context(), q)
		return err
	}); err != nil {
		return err
	}
	if q.Console {
		s.console(c, &out)
	}
	return c.answer(out)
}

func (s *Server) houseNew(c *call) error {
	var q model.HouseNew
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.ComeAsNew(c.Request().Context(), q)
	if err != nil {
		return err
	}
	if q.Console {
		s.console(c, &out)
	}
	return c.answer(out)
}

func (s *Server) ties(c *call) error {
	out, err := s.service.Ties(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) tieMine(c *call) error {
	var q model.HouseTie
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.tries(c, c.actor.Handle, func() error { return s.service.TieMine(c.Request().Context(), c.actor, q) }); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) untie(c *call) error {
	n, err := strconv.ParseInt(c.Param("tie"), 10, 64)
	if err != nil {
		return model.NewProblem(model.NotFound, "", "%q is not the number of a tie", c.Param("tie"))
	}
	if err := s.service.Untie(c.Request().Context(), c.actor, n); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) beginElsewhere(c *call) error {
	var q model.ElsewhereBegin
	if err := c.decode(&q); err != nil {
		return err
	}
	// Each is kept for a while: an address that begins many is one that guesses.
	if many := s.gate.Stray(c.address); many != nil {
		return many
	}
	out, err := s.service.BeginElsewhere(c.Request().Context(), q.From, c.address.String())
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) askElsewhere(c *call) error {
	var q model.ElsewhereAsk
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.AskElsewhere(c.Request().Context(), q.Secret)
	if err != nil {
		return err
	}
	return c.answer(out)
}

// coded counts a code that is none, and refuses an address that keeps typing them.
func (s *Server) coded(c *call, err error) error {
	if errors.Is(err, people.NoSuchCode) {
		if many := s.gate.Stray(c.address); many != nil {
			return many
		}
	}
	return err
}

func (s *Server) lookElsewhere(c *call) error {
	var q model.ElsewhereCode
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.LookElsewhere(c.Request().Context(), c.actor, q.Code)
	if err != nil {
		return s.coded(c, err)
	}
	return c.answer(out)
}

func (s *Server) answerElsewhere(c *call) error {
	var q model.ElsewhereCode
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.service.AnswerElsewhere(c.Request().Context(), c.actor, q.Code, q.Yes); err != nil {
		return s.coded(c, err)
	}
	return c.answer(nil)
}
