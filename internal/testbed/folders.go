package testbed

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/adrg/xdg"

	"kettletarn/internal/core/model"
)

// Project is the key of the project that Team makes.
const Project = "brinelight"

// Team makes a project of a service, with odile, its owner, and rurik, an artist: where it is served, and the tokens of both.
func (s *Service) Team(t testing.TB) (url, odile, rurik string) {
	t.Helper()
	actor, odile := s.Person(t, "odile")
	_, rurik = s.Person(t, "rurik")
	if _, err := s.StartProject(t.Context(), actor, Project); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SetMember(t.Context(), actor, Project, "rurik", model.Artist); err != nil {
		t.Fatal(err)
	}
	return s.Serve(t).URL, odile, rurik
}

// Home gives a test a state and a settings folder of its own.
func Home(t *testing.T) {
	t.Helper()
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	xdg.Reload()
}

// Write writes a file in a folder, by its path with slashes, and the folders that it lies in.
func Write(t testing.TB, folder, path, text string) {
	t.Helper()
	full := filepath.Join(folder, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// Has fails a test where a file in a folder has another text.
func Has(t testing.TB, folder, path, text string) {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(folder, filepath.FromSlash(path)))
	if err != nil || string(data) != text {
		t.Errorf("%s is %q, %v; want %q", path, data, err, text)
	}
}

// Rename moves a file in a folder.
func Rename(t testing.TB, folder, from, to string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(filepath.Join(folder, to)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(folder, from), filepath.Join(folder, to)); err != nil {
		t.Fatal(err)
	}
}
