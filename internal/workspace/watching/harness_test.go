//go:build linux

// These tests run against a PostgreSQL of Debian's packages.

package watching_test

import (
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/adrg/xdg"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const key = "brinelight"

// pair is two people's workspaces of one project.
type pair struct {
	t            *testing.T
	odile, rurik *workspace.Workspace
	url          string
	tokens       map[string]string
	service      *testbed.Service
}

func newPair(t *testing.T) *pair {
	t.Helper()
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	xdg.Reload()
	s := testbed.NewService(t, nil)
	actor, odile := s.Person(t, "odile")
	_, rurik := s.Person(t, "rurik")
	server := s.Serve(t)
	if _, err := s.StartProject(t.Context(), actor, key); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SetMember(t.Context(), actor, key, "rurik", model.Artist); err != nil {
		t.Fatal(err)
	}
	p := &pair{t: t, service: s, url: server.URL, tokens: map[string]string{"odile": odile, "rurik": rurik}}
	p.odile, p.rurik = p.join("odile"), p.join("rurik")
	return p
}

func (p *pair) join(handle string) *workspace.Workspace {
	p.t.Helper()
	w, err := workspace.Join(p.t.Context(), filepath.Join(p.t.TempDir(), key), key, false, testbed.Client(p.t, p.url, p.tokens[handle]), nil)
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = w.Close() })
	return w
}

func write(t *testing.T, w *workspace.Workspace, path, text string) {
	t.Helper()
	full := filepath.Join(w.Root, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func has(t *testing.T, w *workspace.Workspace, path, text string) {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(w.Root, filepath.FromSlash(path)))
	if err != nil || string(data) != text {
		t.Errorf("%s is %q, %v; want %q", path, data, err, text)
	}
}

func send(t *testing.T, w *workspace.Workspace, o workspace.SendOptions) *workspace.Sent {
	t.Helper()
	if o.Note == "" {
		o.Note = "a pass"
	}
	sent, err := w.Send(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	return sent
}

func update(t *testing.T, w *workspace.Workspace) *workspace.Updated {
	t.Helper()
	u, err := w.Update(t.Context(), workspace.UpdateOptions{})
	if err != nil {
		t.Fatal(err)
	}
	return u
}

func locked(t *testing.T, w *workspace.Workspace, paths ...string) {
	t.Helper()
	if _, err := w.Lock(t.Context(), paths, workspace.LockOptions{}); err != nil {
		t.Fatal(err)
	}
}

// states is "path state, path state …" of all that is not the same.
func states(t *testing.T, w *workspace.Workspace) string {
	t.Helper()
	s, err := w.Status(t.Context(), workspace.Question{All: true})
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, a := range s.Assets {
		if a.State != model.Same {
			out = append(out, a.Path+" "+a.State)
		}
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}

func rename(t *testing.T, w *workspace.Workspace, from, to string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(filepath.Join(w.Root, to)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(w.Root, from), filepath.Join(w.Root, to)); err != nil {
		t.Fatal(err)
	}
}
