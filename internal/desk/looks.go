package desk

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"sync"

	"kettletarn/internal/apart"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

// looks keeps what was drawn last of files that were not sent: a page asks for it piece by piece.
type looks struct {
	mu     sync.Mutex
	reader apart.Reader
	order  []string
	kept   map[string]any
}

// maxLooks is how many are kept.
const maxLooks = 200

func (l *looks) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.reader.Close()
}

// of is what is kept under a name, or what make makes. One is made at a time: they take much memory.
func of[T any](l *looks, name string, make func() (T, error)) (T, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if v, ok := l.kept[name].(T); ok {
		return v, nil
	}
	v, err := make()
	if err != nil {
		return v, err
	}
	if l.kept == nil {
		l.kept = map[string]any{}
	}
	if l.order = append(l.order, name); len(l.order) > maxLooks {
		delete(l.kept, l.order[0])
		l.order = l.order[1:]
	}
	l.kept[name] = v
	return v, nil
}

// unsent is a file here beside the version that it was made from.
func (d *Desk) unsent(ctx context.Context, q One) (out *workspace.Unsent, err error) {
	err = d.looking(q.Workspace, func(w *workspace.Workspace) error {
		list, err := named(w, []string{q.Path})
		if err != nil {
			return err
		}
		stamp, err := w.StampOf(list[0])
		if err != nil {
			return err
		}
		out, err = of(&d.looks, strings.Join([]string{"compare", q.Workspace, list[0], stamp}, "\x00"), func() (*workspace.Unsent, error) {
			return w.CompareUnsent(ctx, list[0])
		})
		if err == nil && out.Version == 0 {
			return model.NewProblem(model.NotFound, "send it when it is ready", "%s is new here: there is no version of it yet", list[0])
		}
		return err
	})
	return out, err
}

// picture answers with a small picture of a file as it is here.
func (d *Desk) picture(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	var data []byte
	err := d.looking(q.Get("workspace"), func(ws *workspace.Workspace) error {
		list, err := named(ws, []string{q.Get("path")})
		if err != nil {
			return err
		}
		stamp, err := ws.StampOf(list[0])
		if err != nil {
			return err
		}
		drawn, err := of(&d.looks, strings.Join([]string{"look", q.Get("workspace"), list[0], stamp}, "\x00"), func() (map[string][]byte, error) {
			return ws.LookHere(r.Context(), list[0], &d.looks.reader)
		})
		if data = drawn["thumb-"+q.Get("edge")+".png"]; err == nil && data == nil {
			return model.NewProblem(model.NotFound, "", "there is nothing to draw of %s", list[0])
		}
		return err
	})
	if err != nil {
		failWith(w, err)
		return
	}
	picture(w, data)
}

func picture(w http.ResponseWriter, data []byte) {
	h := w.Header()
	h.Set("Content-Type", "image/png")
	h.Set("Cache-Control", "private, no-cache")
	h.Set("Content-Security-Policy", "default-src 'none'; sandbox")
	_, _ = w.Write(data)
}

func failWith(w http.ResponseWriter, err error) {
	r := reasons("", err)[0]
	status := http.StatusUnprocessableEntity
	if r.Reason == model.NotFound {
		status = http.StatusNotFound
	}
	fail(w, status, r.Reason, r.Message, r.Remedy)
}

// compared answers with the comparison of a file here and the version that it was made from.
func (d *Desk) compared(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	u, err := d.unsent(r.Context(), One{In: In{q.Get("workspace")}, Path: q.Get("path")})
	if err != nil {
		failWith(w, err)
		return
	}
	answerJSON(w, http.StatusOK, Compared{Path: u.Path, Version: u.Version, Comparison: u.Comparison})
}

// comparedFile answers with what was drawn of it: of the version (before), of the file (after), or of both.
func (d *Desk) comparedFile(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	u, err := d.unsent(r.Context(), One{In: In{q.Get("workspace")}, Path: q.Get("path")})
	if err != nil {
		failWith(w, err)
		return
	}
	name := q.Get("name")
	if side := q.Get("side"); slices.Contains([]string{"before", "after"}, side) {
		name = side + "-" + name
	}
	data, ok := u.Drawn[name]
	if !ok {
		fail(w, http.StatusNotFound, model.NotFound, "nothing of that name was drawn", "")
		return
	}
	if strings.HasSuffix(name, ".png") {
		picture(w, data)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Cache-Control", "private, no-cache")
	_, _ = w.Write(data)
}
