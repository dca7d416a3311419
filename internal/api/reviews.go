package api

import (
	"context"
	"strconv"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
)

func (s *Server) reviews(c *call) error {
	list, err := s.service.Reviews(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Reviews{Reviews: append([]model.Review{}, list...)})
}

func (s *Server) openReview(c *call) error {
	var q model.ReviewRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	r, err := s.service.OpenReview(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(r)
}

// reviewNumber is the one in the path: 4 or r4. What is no number is the review 0, which is nowhere.
func (c *call) reviewNumber() int {
	n, _ := strconv.Atoi(strings.TrimPrefix(c.Param("review"), "r"))
	return n
}

func (s *Server) review(c *call) error {
	r, err := s.service.Review(c.Request().Context(), c.actor, c.project(), c.reviewNumber())
	if err != nil {
		return err
	}
	return c.answer(r)
}

func (s *Server) spots(c *call) error {
	version, err := c.number("version")
	if err != nil {
		return err
	}
	list, err := s.service.Spots(c.Request().Context(), c.actor, c.project(), c.reviewNumber(), c.QueryParam("path"), version)
	if err != nil {
		return err
	}
	return c.answer(model.RemarkSpots{Spots: list})
}

// inReview reads a request about one review, and answers with the review as it is then.
func inReview[T any](c *call, do func(ctx context.Context, actor ground.Actor, key string, number int, q T) (model.Review, error)) error {
	var q T
	if err := c.decode(&q); err != nil {
		return err
	}
	r, err := do(c.Request().Context(), c.actor, c.project(), c.reviewNumber(), q)
	if err != nil {
		return err
	}
	return c.answer(r)
}

func (s *Server) sayInReview(c *call) error  { return inReview(c, s.service.Say) }
func (s *Server) settleRemark(c *call) error { return inReview(c, s.service.Settle) }
func (s *Server) answerReview(c *call) error { return inReview(c, s.service.AnswerReview) }

func (s *Server) closeReview(c *call) error {
	r, err := s.service.CloseReview(c.Request().Context(), c.actor, c.project(), c.reviewNumber())
	if err != nil {
		return err
	}
	return c.answer(r)
}
