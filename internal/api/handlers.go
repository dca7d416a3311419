package api

import (
	"cmp"
	"encoding/json"
	"fmt"
	"mime"
	"net/http"
	"path"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/text"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/looking"
	"kettletarn/internal/service/telling"
)

func (s *Server) signIn(c *call) error {
	var q model.SignInRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	done, err := s.gate.SignIn(c.address, q.Handle)
	if err != nil {
		s.log.Warn("a sign-in was not looked at", "request", requestID(c.Context), "address", c.address.String(), "handle", q.Handle, "reason",
			"too many wrong ones before")
		return err
	}
	answer, err := s.service.SignIn(c.Request().Context(), q.Handle, q.Passphrase, q.From, q.Console)
	wrong := wrongPassphrase(err)
	done(err == nil, wrong)
	if wrong {
		s.log.Warn("a sign-in failed", "request", requestID(c.Context), "address", c.address.String(), "handle", q.Handle)
	}
	if err != nil {
		return err
	}
	if q.Console {
		s.console(c, &answer)
	}
	return c.answer(answer)
}

func (s *Server) signOut(c *call) error {
	if err := s.service.SignOut(c.Request().Context(), c.actor, c.token); err != nil {
		return err
	}
	http.SetCookie(c.Response(), &http.Cookie{Name: cookie, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode})
	return c.answer(nil)
}

func (s *Server) whoami(c *call) error {
	out, err := s.service.Whoami(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) projects(c *call) error {
	list, err := s.service.Projects(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	deleted, err := s.service.Deleted(c.Request().Context(), c.actor)
	if err != nil {
		return err
	}
	return c.answer(model.Projects{Projects: list, Deleted: append([]model.DeletedProject{}, deleted...)})
}

func (s *Server) startProject(c *call) error {
	var q model.StartRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	p, err := s.service.StartProject(c.Request().Context(), c.actor, q.Key)
	if err != nil {
		return err
	}
	return c.answer(p)
}

func (s *Server) project(c *call) error {
	p, err := s.service.Project(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(p)
}

func (s *Server) setLimit(c *call) error {
	var q model.LimitRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	p, err := s.service.SetLimit(c.Request().Context(), c.actor, c.project(), q.StorageLimit)
	if err != nil {
		return err
	}
	return c.answer(p)
}

func (s *Server) members(c *call) error {
	list, err := s.service.Members(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Members{Members: list})
}

func (s *Server) setMember(c *call) error {
	var q model.RoleRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	m, err := s.service.SetMember(c.Request().Context(), c.actor, c.project(), c.Param("handle"), q.Role)
	if err != nil {
		return err
	}
	return c.answer(m)
}

func (s *Server) removeMember(c *call) error {
	if err := s.service.RemoveMember(c.Request().Context(), c.actor, c.project(), c.member()); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) workspaces(c *call) error {
	list, err := s.service.Workspaces(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Workspaces{Workspaces: list})
}

func (s *Server) addWorkspace(c *call) error {
	var q model.WorkspaceRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	w, err := s.service.AddWorkspace(c.Request().Context(), c.actor, c.project(), q.Name)
	if err != nil {
		return err
	}
	return c.answer(w)
}

func (s *Server) assets(c *call) error {
	since, err1 := c.number("since")
	limit, err2 := c.number("limit")
	if err := firstError(err1, err2); err != nil {
		return err
	}
	q := history.Changes{Since: since, At: c.state("at"), Branch: c.QueryParam("branch"), After: c.QueryParam("after"), Limit: limit,
		WithLocks: c.QueryParam("locks") == "true", Scope: c.QueryParams()["scope"]}
	page, err := s.service.Changes(c.Request().Context(), c.actor, c.project(), q)
	for rest := page; err == nil && c.all(limit) && rest.Next != ""; page.Assets = append(page.Assets, rest.Assets...) {
		q.At, q.After = stateOf(strconv.Itoa(page.At)), rest.Next
		rest, err = s.service.Changes(c.Request().Context(), c.actor, c.project(), q)
	}
	if err != nil {
		return err
	}
	return c.answer(page)
}

// all tells whether a table has to have everything: it has no next page. A limit that was asked for stays.
func (c *call) all(limit int) bool { return c.route.answerType == csvType && limit == 0 }

// page reads which part of a list is wanted: all of it where there is no limit.
func (c *call) page() (p ground.Page, err error) {
	skip, err1 := c.number("skip")
	limit, err2 := c.number("limit")
	return ground.Page{Skip: max(skip, 0), Limit: min(max(limit, 0), ground.MaxRows)}, firstError(err1, err2)
}

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// reviewOf is what of the reviews a listing asks for; "remarked" stands for itself where an older page asks.
func reviewOf(c *call) string {
	if review := c.QueryParam("review"); review != "" || c.QueryParam("remarked") != "true" {
		return review
	}
	return model.ReviewRemarked
}

func (s *Server) folder(c *call) error {
	limit, err1 := c.number("limit")
	skip, err2 := c.number("skip")
	least, err3 := c.number("least")
	most, err4 := c.number("most")
	if err := firstError(err1, err2, err3, err4); err != nil {
		return err
	}
	page, err := s.service.Folder(c.Request().Context(), c.actor, c.project(), history.Listing{Folder: c.QueryParam("path"),
		Below: c.QueryParam("below") == "true", At: c.state("at"), Text: c.QueryParam("search"), Kind: c.QueryParam("kind"),
		Author: c.QueryParam("author"), Since: c.QueryParam("since"), Until: c.QueryParam("until"), Least: int64(least), Most: int64(most),
		Lock: c.QueryParam("lock"), Review: reviewOf(c), Order: c.QueryParam("order"),
		Down: c.QueryParam("down") == "true", Skip: skip, Limit: limit})
	if err != nil {
		return err
	}
	return c.answer(page)
}

func (s *Server) find(c *call) error {
	limit, err := c.number("limit")
	if err != nil {
		return err
	}
	out, err := s.service.Find(c.Request().Context(), c.actor, c.project(), c.QueryParam("text"), limit)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) twice(c *call) error {
	limit, err := c.number("limit")
	if err != nil {
		return err
	}
	out, err := s.service.Twice(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"), limit)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) alike(c *call) error {
	limit, err := c.number("limit")
	if err != nil {
		return err
	}
	out, err := s.service.Alike(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"), limit)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) asset(c *call) error {
	page, err := c.page()
	if err != nil {
		return err
	}
	out, err := s.service.HistoryPage(c.Request().Context(), c.actor, c.project(), c.QueryParam("branch"), c.QueryParam("path"), page)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) file(c *call) error {
	number, err := c.number("version")
	if err != nil {
		return err
	}
	v, content, err := s.service.OpenVersion(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"), number)
	if err != nil {
		return err
	}
	defer content.Close()
	h := c.Response().Header()
	h.Set("Content-Type", binary)
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": path.Base(v.Path)}))
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Cache-Control", "private, no-cache")
	h.Set("ETag", strconv.Quote(v.Content))
	http.ServeContent(c.Response(), c.Request(), "", time.Time{}, content)
	return nil
}

func (s *Server) thumbnail(c *call) error {
	number, err1 := c.number("version")
	edge, err2 := c.number("edge")
	if err := firstError(err1, err2); err != nil {
		return err
	}
	if edge == 0 {
		edge = slices.Min(looking.ThumbnailEdges)
	}
	if !slices.Contains(looking.ThumbnailEdges, edge) {
		return model.NewProblem(model.BadRequest, "", "edge is one of %v", looking.ThumbnailEdges)
	}
	data, err := s.service.Thumbnail(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"), number, edge)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Security-Policy", "sandbox; default-src 'none'")
	if number > 0 { // a version never changes
		c.Response().Header().Set("Cache-Control", "private, max-age=604800, immutable")
	}
	return c.Blob(http.StatusOK, png, data)
}

func (s *Server) unsent(c *call) error {
	list, err := s.service.HeadsUps(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.HeadsUps{HeadsUps: append([]model.HeadsUp{}, list...)})
}

func (s *Server) setHeadsUps(c *call) error {
	var q model.UnsentChanges
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.service.SetHeadsUps(c.Request().Context(), c.actor, c.project(), c.Param("workspace"), q.Changes); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) rules(c *call) error {
	out, err := s.service.Rules(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) tryRules(c *call) error {
	var q model.RulesText
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.TryRules(c.Request().Context(), c.actor, c.project(), q.Text)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) proposeRules(c *call) error {
	var q model.RulesQuestion
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.ProposeRules(q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) testRules(c *call) error {
	out, err := s.service.TestRules(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"))
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) askForRule(c *call) error {
	var q model.RuleRequestNew
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.AskForRule(c.Request().Context(), c.actor, c.project(), q.Path, q.Reason)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) answerRuleRequest(c *call) error {
	var q model.RuleAnswer
	if err := c.decode(&q); err != nil {
		return err
	}
	id, err := strconv.ParseInt(c.Param("request"), 10, 64)
	if err != nil {
		return model.NewProblem(model.NotFound, "", "%q is not the number of a request", c.Param("request"))
	}
	if err := s.service.AnswerRuleRequest(c.Request().Context(), c.actor, c.project(), id, q.Accept, q.Word); err != nil {
		return err
	}
	return c.answer(nil)
}

// sendOf makes the service's send of a request.
func sendOf(q model.SendRequest, key string) handoffs.Send {
	send := handoffs.Send{Key: key, Workspace: q.Workspace, Branch: q.Branch, About: q.About, KeepLocks: q.KeepLocks,
		TakeFree: q.TakeFree, Older: q.Older}
	for _, c := range q.Changes {
		send.Changes = append(send.Changes, handoffs.Change{Path: c.Path, MovedFrom: c.MovedFrom, Base: c.Base, Gone: c.Gone, Content: c.Content,
			Digest: c.Digest, Size: c.Size, Executable: c.Executable, Fence: c.Fence})
	}
	return send
}

func (s *Server) checkSend(c *call) error {
	var q model.SendQuestion
	if err := c.decode(&q); err != nil {
		return err
	}
	question := handoffs.Question{Send: sendOf(q.Send, ""), Chunks: q.Chunks, Coming: q.Coming}
	if q.Rules != nil {
		question.Rules = []byte(*q.Rules)
	}
	check, err := s.service.CheckSend(c.Request().Context(), c.actor, c.project(), question)
	if err != nil {
		return err
	}
	return c.answer(model.SendCheck{Missing: append([]chunk.Digest{}, check.Missing...), Chunks: append([]chunk.Digest{}, check.Chunks...),
		Wanted: check.Wanted})
}

func (s *Server) send(c *call) error {
	q, bring, err := s.sendBody(c)
	if err != nil {
		return err
	}
	receipt, err := s.service.Send(c.Request().Context(), c.actor, c.project(), sendOf(q, c.Request().Header.Get("Idempotency-Key")), bring)
	return c.receipt(receipt, err)
}

func (c *call) receipt(r handoffs.Receipt, err error) error {
	if err != nil {
		return err
	}
	return c.answer(model.SendReceipt{Handoff: r.Handoff, Locks: append([]model.Lock{}, r.Locks...)})
}

func (s *Server) closeSend(c *call) error {
	h, err := s.service.CloseSend(c.Request().Context(), c.actor, c.project(), c.Param("send"))
	if err != nil {
		return err
	}
	return c.answer(model.SendClosed{Handoff: h})
}

func (s *Server) handoffs(c *call) error {
	before, err1 := c.number("before")
	limit, err2 := c.number("limit")
	assets, err3 := c.number("assets")
	skip, err4 := c.number("skip")
	if err := firstError(err1, err2, err3, err4); err != nil {
		return err
	}
	q := history.HandoffFilter{Before: before, Skip: skip, Limit: limit, Assets: assets,
		Branch: c.QueryParam("branch"), Author: c.QueryParam("author"), Path: c.QueryParam("path"), Kind: c.QueryParam("kind"),
		Since: c.QueryParam("since"),
		Until: c.QueryParam("until"),
		Task:  c.QueryParam("task"), Stage: c.QueryParam("stage"), Text: c.QueryParam("text")}
	list, total, err := s.service.Handoffs(c.Request().Context(), c.actor, c.project(), q)
	for rest := list; err == nil && c.all(limit) && len(rest) == ground.MaxRows; list = append(list, rest...) {
		q.Before = rest[len(rest)-1].Number
		rest, _, err = s.service.Handoffs(c.Request().Context(), c.actor, c.project(), q)
	}
	if err != nil {
		return err
	}
	return c.answer(model.Handoffs{Handoffs: list, Total: total})
}

func (s *Server) handoff(c *call) error {
	page, err := c.page()
	if err != nil {
		return err
	}
	h, err := s.service.HandoffPage(c.Request().Context(), c.actor, c.project(), stateOf(c.Param("number")), page)
	if err != nil {
		return err
	}
	return c.answer(h)
}

func (s *Server) rollback(c *call) error {
	var q model.RollbackRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.Rollback(c.Request().Context(), c.actor, c.project(), q, c.Request().Header.Get("Idempotency-Key"))
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) drop(c *call) error {
	base, err := c.number("base")
	if err != nil {
		return err
	}
	key := c.Request().Header.Get("Idempotency-Key")
	if uuid.Validate(key) != nil {
		return model.NewProblem(model.BadRequest, "", "the key of a send is a UUID")
	}
	send := handoffs.Send{Key: key, Workspace: model.KindConsole, About: model.About{Note: c.QueryParam("note")},
		KeepLocks: c.QueryParam("keep_lock") == "true", TakeFree: true,
		Older:   c.QueryParam("older") == "true",
		Changes: []handoffs.Change{{Path: c.QueryParam("path"), Base: base}}}
	receipt, err := s.service.Drop(c.Request().Context(), c.actor, c.project(), send, c.Request().Body)
	return c.receipt(receipt, err)
}

// newsPiece is about how many bytes of news are written at once: what came in a row reaches whoever listens in a piece, and wakes them
// once.
const newsPiece = 64 << 10

func (s *Server) news(c *call) error {
	flush := http.NewResponseController(c.Response()).Flush
	started := false
	start := func() {
		if !started {
			started = true
			h := c.Response().Header()
			h.Set("Content-Type", eventStream)
			h.Set("X-Accel-Buffering", "no")
			c.Response().WriteHeader(http.StatusOK)
		}
	}
	var piece []byte
	write := func() error {
		start()
		_, err := c.Response().Write(piece)
		piece = piece[:0]
		return err
	}
	last := cmp.Or(c.Request().Header.Get("Last-Event-ID"), c.QueryParam("after"))
	err := s.service.Hear(c.Request().Context(), c.actor, c.project(), last,
		func(h telling.Heard) error {
			data, err := h.Encoded(func(e model.Event) ([]byte, error) {
				data, err := json.Marshal(e)
				return fmt.Appendf(nil, "id: %s\nevent: news\ndata: %s\n\n", e.ID, text.JSON(data)), err
			})
			if piece = append(piece, data...); err == nil && len(piece) >= newsPiece {
				err = write()
			}
			return err
		},
		func(quiet bool) error {
			if quiet {
				piece = append(piece, ": here\n\n"...)
			}
			if err := write(); err != nil {
				return err
			}
			return flush()
		})
	if c.Request().Context().Err() != nil {
		return nil
	}
	return err
}

func (s *Server) serviceInfo(c *call) error {
	return c.answer(model.ServiceInfo{Service: "Kettle Tarn", Version: s.version, Ready: s.service.Ready(c.Request().Context()) == nil,
		House: s.service.HouseName()})
}
