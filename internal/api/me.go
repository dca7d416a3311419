package api

import (
	"errors"
	"strconv"

	"kettletarn/internal/core/model"
)

func (s *Server) changePassphrase(c *call) error {
	var q model.PassphraseRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	// Who has found somebody signed in guesses no faster than anybody else.
	var ended int64
	if err := s.tries(c, c.actor.Handle, func() (err error) {
		ended, err = s.service.ChangePassphrase(c.Request().Context(), c.actor, q.Old, q.New)
		return err
	}); err != nil {
		return err
	}
	return c.answer(model.PassphraseChanged{Ended: ended})
}

func (s *Server) signIns(c *call) error {
	list, err := s.service.SignIns(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(model.SignIns{SignIns: append([]model.SignedIn{}, list...)})
}

func (s *Server) endSignIn(c *call) error {
	id := int64(0)
	if name := c.Param("signin"); name != "others" {
		n, err := strconv.ParseInt(name, 10, 64)
		if err != nil || n < 1 {
			return model.NewProblem(model.NotFound, "", "%q is not the number of a sign-in", name)
		}
		id = n
	}
	ended, err := s.service.EndSignIn(c.Request().Context(), c.actor, id)
	if err != nil {
		return err
	}
	return c.answer(model.PassphraseChanged{Ended: ended})
}

func (s *Server) confirmMail(c *call) error {
	var q model.MailCode
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.ConfirmMail(c.Request().Context(), c.actor, q.Code)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) latest(c *call) error {
	before, err1 := c.number("before")
	limit, err2 := c.number("limit")
	if err := firstError(err1, err2); err != nil {
		return err
	}
	out, err := s.service.Latest(c.Request().Context(), c.actor, c.QueryParam("project"), int64(before), limit)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) readNews(c *call) error {
	var q model.NewsRead
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.service.ReadNews(c.Request().Context(), c.actor, q.UpTo); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) beginPasskey(c *call) error {
	var q model.PasskeyBegin
	if err := c.decode(&q); err != nil {
		return err
	}
	var out model.Ceremony
	if err := s.tries(c, c.actor.Handle, func() (err error) {
		out, err = s.service.BeginPasskey(c.Request().Context(), c.actor, q.Passphrase)
		return err
	}); err != nil {
		return err
	}
	return c.answer(out)
}

// tries is one try to get in, or to show who one is, as a handle ("" where that is not known yet): who tries in vain waits longer each
// time.
func (s *Server) tries(c *call, handle string, way func() error) error {
	done, err := s.gate.SignIn(c.address, handle)
	if err != nil {
		return err
	}
	err = way()
	done(err == nil, wrongPassphrase(err))
	return err
}

// wrongPassphrase says that somebody tried, and did not get in.
func wrongPassphrase(err error) bool {
	var problem *model.Problem
	return errors.As(err, &problem) && problem.Type == model.WrongPassphrase
}

func (s *Server) addPasskey(c *call) error {
	var q model.PasskeyNew
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.AddPasskey(c.Request().Context(), c.actor, q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) passkeys(c *call) error {
	list, err := s.service.Passkeys(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(model.Passkeys{Passkeys: list})
}

func (s *Server) removePasskey(c *call) error {
	n, err := strconv.ParseInt(c.Param("passkey"), 10, 64)
	if err != nil {
		return model.NewProblem(model.NotFound, "", "%q is not the number of a passkey", c.Param("passkey"))
	}
	if err := s.service.RemovePasskey(c.Request().Context(), c.actor, n); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) beginPasskeySignIn(c *call) error {
	out, err := s.service.BeginPasskeySignIn(c.Request().Context())
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) passkeySignIn(c *call) error {
	var q model.PasskeySignIn
	if err := c.decode(&q); err != nil {
		return err
	}
	var out model.SignIn
	if err := s.tries(c, "", func() (err error) {
		out, err = s.service.SignInByPasskey(c.Request().Context(), q)
		return err
	}); err != nil {
		return err
	}
	if q.Console {
		s.console(c, &out)
	}
	return c.answer(out)
}
