package api

import (
	"context"
	"errors"
	"log/slog"
	"net/http"

	"github.com/labstack/echo/v5"

	"kettletarn/internal/core/model"
)

// problems lists the types of problem with their status and title.
var problems = map[string]struct {
	status int
	title  string
}{
	model.BadRequest:      {http.StatusBadRequest, "The request is not one"},
	model.NotSignedIn:     {http.StatusUnauthorized, "Not signed in"},
	model.SignInExpired:   {http.StatusUnauthorized, "The sign-in has ended"},
	model.WrongPassphrase: {http.StatusUnauthorized, "Wrong handle or passphrase"},
	model.Restored:        {http.StatusConflict, "The service was restored from a backup"},
	model.Archived:        {http.StatusConflict, "The project is archived"},
	model.InvitationOver:  {http.StatusConflict, "The invitation is over"},
	model.NotAllowed:      {http.StatusForbidden, "Not allowed"},
	model.NotFound:        {http.StatusNotFound, "Not found"},
	model.Taken:           {http.StatusConflict, "Taken"},
	model.RefusedType:     {http.StatusConflict, "Refused"},
	model.TooLarge:        {http.StatusRequestEntityTooLarge, "Too large"},
	model.TooMany:         {http.StatusTooManyRequests, "Too many requests"},
	model.DigestMismatch:  {http.StatusUnprocessableEntity, "Content and digest do not agree"},
	model.ChunksMissing:   {http.StatusUnprocessableEntity, "Content is missing"},
	model.MovedOn:         {http.StatusConflict, "It has moved on"},
	model.KeyReused:       {http.StatusUnprocessableEntity, "The key was used before"},
	model.KeyClosed:       {http.StatusConflict, "The send was given up"},
	model.DiskFull:        {http.StatusInsufficientStorage, "The disk is full"},
	model.LimitReached:    {http.StatusInsufficientStorage, "The project's storage limit is reached"},
	model.Damaged:         {http.StatusInternalServerError, "Stored content is damaged"},
	model.Unavailable:     {http.StatusServiceUnavailable, "Not available"},
	model.Internal:        {http.StatusInternalServerError, "A fault of the service"},
}

// details turns any error into a problem. A fault of ours is logged with the request's id and answered without its inside.
func details(err error, request string, log *slog.Logger) model.ProblemDetails {
	kind, d := model.Internal, model.ProblemDetails{Request: request}
	var problem *model.Problem
	var refused *model.Refused
	var tooLarge *http.MaxBytesError
	var status echo.HTTPStatusCoder
	switch {
	case errors.As(err, &problem):
		kind, d.Detail, d.Remedy, d.Missing = problem.Type, problem.Detail, problem.Remedy, problem.Missing
	case errors.As(err, &refused):
		kind, d.Detail, d.Refusals = model.RefusedType, "nothing was done, for the reasons listed", refused.Refusals
	case errors.As(err, &tooLarge):
		kind, d.Detail = model.TooLarge, "the request is larger than the service takes"
	case errors.As(err, &status) && status.StatusCode() < 500:
		kind = model.BadRequest
		switch status.StatusCode() {
		case http.StatusNotFound, http.StatusMethodNotAllowed:
			kind, d.Detail = model.NotFound, "there is nothing at this address"
		case http.StatusTooManyRequests:
			kind, d.Detail, d.Remedy = model.TooMany, "too many attempts", "wait a minute, then try again"
		default:
			d.Detail = "the service does not understand the request"
		}
	case errors.Is(err, context.Canceled):
		kind, d.Detail = model.BadRequest, "the request was given up"
	default:
		log.Error("a request failed", "request", request, "error", err)
		d.Detail, d.Remedy = "something went wrong in the service", "try again; if it stays, tell whoever runs it the request id "+request
	}
	p := problems[kind]
	d.Type, d.Title, d.Status = model.ProblemPrefix+kind, p.title, p.status
	return d
}
