//go:build linux

// These tests run against a PostgreSQL of Debian's packages.

package watching_test

import (
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const key = testbed.Project

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
	testbed.Home(t)
	s := testbed.NewService(t, nil)
	url, odile, rurik := s.Team(t)
	p := &pair{t: t, service: s, url: url, tokens: map[string]string{"odile": odile, "rurik": rurik}}
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
	testbed.Write(t, w.Root, path, text)
}

func has(t *testing.T, w *workspace.Workspace, path, text string) {
	t.Helper()
	testbed.Has(t, w.Root, path, text)
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
	testbed.Rename(t, w.Root, from, to)
}
