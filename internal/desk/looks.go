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
	kept   []look // the one made first comes first
	weight int64
}

// look is what was drawn of a file, or of a file and its version, and how many bytes that is.
type look struct {
	name   string
	what   any
	weight int64
}

// maxLooks is how many bytes are kept; the last look is, whatever it weighs.
const maxLooks = 64 << 20

func (l *looks) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.reader.Close()
}

// of is what is kept under a name, or what make makes. One is made at a time: they take much memory.
func of[T any](l *looks, name string, make func() (T, map[string][]byte, error)) (T, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, k := range l.kept {
		if v, ok := k.what.(T); ok && k.name == name {
			return v, nil
		}
	}
	v, drawn, err := make()
	if err != nil {
		return v, err
	}
	k := look{name: name, what: v}
	for _, data := range drawn {
		k.weight += int64(len(data))
	}
	l.kept, l.weight = append(l.kept, k), l.weight+k.weight
	for l.weight > maxLooks && len(l.kept) > 1 {
		l.weight -= l.kept[0].weight
		l.kept = l.kept[1:]
	}
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
		out, err = of(&d.looks, strings.Join([]string{"compare", q.Workspace, list[0], stamp}, "\x00"), func() (*workspace.Unsent,
			map[string][]byte, error) {
			u, err := w.CompareUnsent(ctx, list[0])
			if err != nil {
				return nil, nil, err
			}
			return u, u.Drawn, nil
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
		drawn, err := of(&d.looks, strings.Join([]string{"look", q.Get("workspace"), list[0], stamp}, "\x00"), func() (map[string][]byte,
			map[string][]byte, error) {
			drawn, err := ws.LookHere(r.Context(), list[0], &d.looks.reader)
			return drawn, drawn, err
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
