package metrics_test

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"

	"kettletarn/internal/api"
	"kettletarn/internal/metrics"
	"kettletarn/internal/testbed"
	"kettletarn/web"
)

func TestMain(m *testing.M) { testbed.Main(m) }

func TestWhatIsTold(t *testing.T) {
	s := testbed.NewService(t, nil)
	m := metrics.New(s.Service, "1.2.3")
	handler := api.New(s.Service, web.Files(), "1.2.3", slog.New(slog.DiscardHandler))
	handler.Observe = m.Observe
	served := httptest.NewServer(handler)
	defer served.Close()
	told := httptest.NewServer(m.Handler(slog.New(slog.DiscardHandler)))
	defer told.Close()
	ask := func() string {
		t.Helper()
		answer, err := http.Get(told.URL)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil || answer.StatusCode != http.StatusOK {
			t.Fatalf("%s, %v: %s", answer.Status, err, text)
		}
		return string(text)
	}

	odile, token := s.Person(t, "odile")
	if _, err := s.StartProject(t.Context(), odile, "brinelight"); err != nil {
		t.Fatal(err)
	}
	c := testbed.Client(t, served.URL, token)
	for range 3 {
		if _, err := c.Project(t.Context(), "brinelight"); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := c.Project(t.Context(), "saltpan"); err == nil {
		t.Fatal("there is another project")
	}
	text := ask()
	for _, want := range []string{`tarnd_info{version="1.2.3"} 1`, "tarnd_database_up 1", "tarnd_people 1", "tarnd_locks_held 0",
		`tarnd_project_handoffs_total{project="brinelight"} 0`, `tarnd_project_stored_bytes{project="brinelight"} `, "tarnd_store_free_bytes ",
		`tarnd_requests_total{method="GET",route="/api/v1/projects/:project",status="200"} 3`,
		`tarnd_requests_total{method="GET",route="/api/v1/projects/:project",status="404"} 1`,
		`tarnd_request_seconds_count{route="/api/v1/projects/:project"} 4`, "go_goroutines ", "process_open_fds "} {
		if !strings.Contains(text, "\n"+want) {
			t.Errorf("%s is not told", want)
		}
	}
	if strings.Contains(text, "odile") || strings.Contains(text, "saltpan") {
		t.Error("somebody, or a path that somebody asked for, is named")
	}
	problems, err := promlint.New(strings.NewReader(text)).Lint()
	if err != nil || len(problems) > 0 {
		t.Errorf("%+v, %v", problems, err)
	}

	// Without a database it says that, and what it knows.
	s.DB.Close()
	start := time.Now()
	if text = ask(); !strings.Contains(text, "tarnd_database_up 0") || strings.Contains(text, "tarnd_people ") {
		t.Errorf("without its database it says %.400s", text)
	}
	if took := time.Since(start); took > 20*time.Second {
		t.Errorf("that took %s", took)
	}
}
