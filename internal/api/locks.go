package api

import (
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/locks"
)

func (s *Server) locks(c *call) error {
	page, err := c.page()
	if err != nil {
		return err
	}
	each, err := c.number("each")
	if err != nil {
		return err
	}
	list, tally, err := s.service.LocksPage(c.Request().Context(), c.actor, c.project(), locks.LocksWanted{Path: c.QueryParam("path"),
		Only: c.QueryParam("only"), By: c.QueryParam("by"), Each: each, Page: page})
	if err != nil {
		return err
	}
	return c.answer(model.Locks{Locks: list, Tally: &tally})
}

func (s *Server) takeLocks(c *call) error {
	var q model.LockRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	wish := locks.Wish{Workspace: q.Workspace, Branch: q.Branch, Note: q.Note, WillUpdate: q.WillUpdate, Any: q.Any, Wait: q.Wait,
		Diverge: q.Diverge,
		Bring:   q.Bring, Reserve: q.Reserve, Wants: make([]locks.Want, len(q.Assets))}
	for i, a := range q.Assets {
		wish.Wants[i] = locks.Want(a)
	}
	g, err := s.service.TakeLocks(c.Request().Context(), c.actor, c.project(), wish)
	if err != nil {
		return err
	}
	return c.answer(model.Locks{Locks: g.Locks, Waiting: g.Waiting, Refusals: g.Refusals, Assets: g.Assets})
}

func (s *Server) releaseLocks(c *call) error {
	var q model.UnlockRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.Unlock(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) leaveLines(c *call) error {
	var q model.LeaveRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.service.LeaveLines(c.Request().Context(), c.actor, c.project(), q.Paths); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) ask(c *call) error {
	var q model.AskRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	w, err := s.service.Ask(c.Request().Context(), c.actor, c.project(), q.Workspace, q.Path, q.Reason)
	if err != nil {
		return err
	}
	return c.answer(w)
}

func (s *Server) answerAsk(c *call) error {
	var q model.AskAnswer
	if err := c.decode(&q); err != nil {
		return err
	}
	answer := locks.Answer{Path: q.Path, Give: q.Give, To: q.To, Word: q.Word}
	if q.Until != nil {
		answer.Until = *q.Until
	}
	if err := s.service.AnswerAsk(c.Request().Context(), c.actor, c.project(), answer); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) recordOf(c *call) ([]model.Hold, int, error) {
	page, err1 := c.page()
	since, err2 := c.day("since")
	until, err3 := c.day("until")
	if err := firstError(err1, err2, err3); err != nil {
		return nil, 0, err
	}
	return s.service.Record(c.Request().Context(), c.actor, c.project(),
		locks.RecordQuery{Person: c.QueryParam("person"), Path: c.QueryParam("path"),
			Ending: c.QueryParam("ending"), Since: since, Until: until, Skip: page.Skip, Limit: page.Limit})
}

// day reads a day or a time from the query; the zero time where it is left out.
func (c *call) day(name string) (time.Time, error) {
	text := c.QueryParam(name)
	if text == "" {
		return time.Time{}, nil
	}
	for _, form := range []string{time.DateOnly, time.RFC3339} {
		if t, err := time.Parse(form, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, model.NewProblem(model.BadRequest, "take for example: 2026-03-02", "%s is a day or a time, not %q", name, text)
}

func (s *Server) record(c *call) error {
	list, total, err := s.recordOf(c)
	if err != nil {
		return err
	}
	return c.answer(model.Record{Holds: append([]model.Hold{}, list...), Total: total})
}

func (s *Server) contested(c *call) error {
	weeks, err := c.number("weeks")
	if err != nil {
		return err
	}
	if weeks == 0 {
		weeks = 12
	}
	list, err := s.service.Contested(c.Request().Context(), c.actor, c.project(), weeks)
	if err != nil {
		return err
	}
	return c.answer(model.ContestedWeeks{Contested: append([]model.Contested{}, list...)})
}
