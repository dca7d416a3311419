package api

import (
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"time"

	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/looking"
)

// state is a query parameter that names a state.
func (c *call) state(name string) string { return stateOf(c.QueryParam(name)) }

// stateOf lets a bare number stand for a handoff.
func stateOf(text string) string {
	n, err := strconv.Atoi(text)
	switch {
	case err != nil:
		return text
	case n == 0:
		return ""
	}
	return fmt.Sprintf("h%d", n)
}

func (s *Server) describeWorkspace(c *call) error {
	var q model.WorkspaceTold
	if err := c.decode(&q); err != nil {
		return err
	}
	if err := s.service.DescribeWorkspace(c.Request().Context(), c.actor, c.project(), c.Param("workspace"), q); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) assetsAt(c *call) error {
	var q model.Paths
	if err := c.decode(&q); err != nil {
		return err
	}
	out, err := s.service.AssetsAt(c.Request().Context(), c.actor, c.project(), q.Paths)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) lines(c *call) error {
	number, err := c.number("version")
	if err != nil {
		return err
	}
	out, err := s.service.Lines(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"), number)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) archive(c *call) error {
	if err := c.Request().ParseForm(); err != nil {
		return model.NewProblem(model.BadRequest, "", "the form can't be read: %v", err)
	}
	asked := c.Request().Form
	form := cmp.Or(asked.Get("form"), bundle.Zip)
	paths := slices.DeleteFunc(asked["path"], func(p string) bool { return p == "" })
	if form != bundle.Zip && form != bundle.Tar {
		return model.NewProblem(model.BadRequest, "take zip or tar", "%q is no form that an archive has", form)
	}
	a, err := s.service.OpenArchive(c.Request().Context(), c.actor, c.project(), stateOf(asked.Get("at")), paths...)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%s-h%d", c.project(), a.Handoff)
	if len(paths) == 1 {
		name += "-" + path.Base(paths[0])
	}
	h := c.Response().Header()
	h.Set("Content-Type", binary)
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name + "." + form}))
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	c.Response().WriteHeader(http.StatusOK)
	buffered := bufio.NewWriterSize(c.Response(), 1<<20)
	out, err := bundle.New(form, buffered)
	if err != nil {
		return err
	}
	if err := a.Write(c.Request().Context(), out); err != nil {
		return err
	}
	return buffered.Flush()
}

func (s *Server) between(c *call) error {
	limit, err := c.number("limit")
	if err != nil {
		return err
	}
	out, err := s.service.Between(c.Request().Context(), c.actor, c.project(), c.state("from"), c.state("to"), c.QueryParam("after"), limit)
	for rest := out; err == nil && c.all(limit) && rest.Next != ""; out.Assets = append(out.Assets, rest.Assets...) {
		rest, err = s.service.Between(c.Request().Context(), c.actor, c.project(), stateOf(strconv.Itoa(out.From.Number)),
			stateOf(strconv.Itoa(out.To.Number)), rest.Next, limit)
	}
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) milestones(c *call) error {
	page, err := c.page()
	if err != nil {
		return err
	}
	list, err := s.service.MilestonePage(c.Request().Context(), c.actor, c.project(), page)
	if err != nil {
		return err
	}
	return c.answer(list)
}

func (s *Server) addMilestone(c *call) error {
	var q model.MilestoneRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	q.At = stateOf(q.At)
	m, err := s.service.AddMilestone(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(m)
}

func (s *Server) views(c *call) error {
	list, err := s.service.Views(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Views{Views: append([]model.View{}, list...)})
}

func (s *Server) keepView(c *call) error {
	var q model.ViewRequest
	if err := c.decode(&q); err != nil {
		return err
	}
	v, err := s.service.KeepView(c.Request().Context(), c.actor, c.project(), c.named("view"), q)
	if err != nil {
		return err
	}
	return c.answer(v)
}

func (s *Server) removeView(c *call) error {
	if err := s.service.RemoveView(c.Request().Context(), c.actor, c.project(), c.named("view"), c.QueryParam("team") == "true"); err != nil {
		return err
	}
	return c.answer(nil)
}

// named is a name in the path, as it is spelled.
func (c *call) named(param string) string {
	name, err := url.PathUnescape(c.Param(param))
	if err != nil {
		return c.Param(param)
	}
	return name
}

func (s *Server) removeMilestone(c *call) error {
	name := c.named("milestone")
	if err := s.service.RemoveMilestone(c.Request().Context(), c.actor, c.project(), name); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) look(c *call) error {
	number, err := c.number("version")
	if err != nil {
		return err
	}
	r, err := s.service.Look(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"), number)
	if err != nil {
		return err
	}
	return c.answer(r)
}

func (s *Server) drawing(c *call) error {
	number, err := c.number("version")
	if err != nil {
		return err
	}
	data, err := s.service.Drawing(c.Request().Context(), c.actor, c.project(), c.QueryParam("path"), number, c.QueryParam("name"))
	return c.drawn(data, err, number > 0)
}

// sides reads which two versions are compared.
func (c *call) sides() (q looking.Sides, err error) {
	before, err1 := c.number("a")
	after, err2 := c.number("b")
	return looking.Sides{Path: c.QueryParam("path"), With: c.QueryParam("with"), Before: before, After: after}, firstError(err1, err2)
}

func (s *Server) compare(c *call) error {
	q, err := c.sides()
	if err != nil {
		return err
	}
	out, err := s.service.Compare(c.Request().Context(), c.actor, c.project(), q)
	if err != nil {
		return err
	}
	return c.answer(out)
}

func (s *Server) comparedDrawing(c *call) error {
	q, err := c.sides()
	if err != nil {
		return err
	}
	data, err := s.service.ComparedDrawing(c.Request().Context(), c.actor, c.project(), q, c.QueryParam("name"))
	return c.drawn(data, err, q.Before > 0 && q.After > 0)
}

// drawn answers with a file that was made here, of what a user sent. fixed says that it never changes.
func (c *call) drawn(data []byte, err error, fixed bool) error {
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	if fixed {
		h.Set("Cache-Control", "private, max-age=604800, immutable")
	}
	h.Set("Content-Type", map[string]string{".png": png, ".wav": "audio/wav"}[path.Ext(c.QueryParam("name"))])
	if h.Get("Content-Type") == "" {
		h.Set("Content-Type", binary)
	}
	http.ServeContent(c.Response(), c.Request(), "", time.Time{}, bytes.NewReader(data))
	return nil
}
