// Package metrics says how a service does, in the text form that Prometheus servers read
// (https://prometheus.io/docs/instrumenting/exposition_formats/). It knows no person and no path: what it tells is counts, sizes and times.
package metrics

import (
	"context"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kettletarn/internal/records"
	"kettletarn/internal/service"
)

// patience is how long the database is asked when somebody wants to know.
const patience = 10 * time.Second

// Metrics are those of one service. Safe for concurrent use.
type Metrics struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
}

// New makes those of a service.
func New(svc *service.Service, version string) *Metrics {
	m := &Metrics{registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "tarnd_requests_total", Help: "Requests, by method, route and status."},
			[]string{"method", "route", "status"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "tarnd_request_seconds", Help: "How long requests took, by route.",
			Buckets: []float64{.002, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 10, 60}}, []string{"route"})}
	about := prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "tarnd_info", Help: "The version that runs."}, []string{"version"})
	about.WithLabelValues(version).Set(1)
	m.registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), about, m.requests,
		m.seconds, &house{svc})
	return m
}

// Observe counts a request. route is the path with its parts named, not filled in.
func (m *Metrics) Observe(method, route string, status int, took time.Duration) {
	switch method { // anybody can make one up
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
	default:
		method = "other"
	}
	m.requests.WithLabelValues(method, route, strconv.Itoa(status)).Inc()
	m.seconds.WithLabelValues(route).Observe(took.Seconds())
}

// Handler answers whoever wants to know.
func (m *Metrics) Handler(log *slog.Logger) http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
		ErrorHandling: promhttp.ContinueOnError, MaxRequestsInFlight: 2})
}

// house asks database and store when somebody wants to know.
type house struct{ *service.Service }

func about(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc(name, help, labels, nil)
}

var (
	up         = about("tarnd_database_up", "Whether the database answered.")
	used       = about("tarnd_connections_used", "Connections to the database that are in use.")
	open       = about("tarnd_connections_open", "Connections to the database.")
	most       = about("tarnd_connections_max", "The most connections to the database that there may be.")
	free       = about("tarnd_store_free_bytes", "Room that is left where the content lies; not told where that is not known.")
	people     = about("tarnd_people", "People who may sign in.")
	locks      = about("tarnd_locks_held", "Locks that are held.")
	waiting    = about("tarnd_locks_waiting", "Places in lines for locks.")
	unsealed   = about("tarnd_contents_unchecked", "Contents that were not read through yet.")
	deliveries = about("tarnd_deliveries_waiting", "Letters and calls of web hooks on their way.")
	failing    = about("tarnd_deliveries_failing", "Of those, the ones that failed and are tried again.")
	damaged    = about("tarnd_chunks_damaged", "Chunks that can't be read.")
	stored     = about("tarnd_project_stored_bytes", "What a project takes in the store.", "project")
	present    = about("tarnd_project_files_bytes", "The newest files of a project, as people have them.", "project")
	limit      = about("tarnd_project_limit_bytes", "The most that a project may take; not told where there is no limit.", "project")
	handoffs   = about("tarnd_project_handoffs_total", "Handoffs of a project.", "project")
)

// Describe tells of all of them.
func (h *house) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{up, used, open, most, free, people, locks, waiting, unsealed, deliveries, failing, damaged, stored,
		present, limit, handoffs} {
		to <- d
	}
}

// Collect asks.
func (h *house) Collect(to chan<- prometheus.Metric) {
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	inUse, all, top := h.DB.Connections()
	gauge(used, float64(inUse))
	gauge(open, float64(all))
	gauge(most, float64(top))
	if room, err := h.Store.Free(ctx); err == nil && room >= 0 {
		gauge(free, float64(room))
	}
	err := h.Use(ctx, func(tx *records.Tx) error {
		g, err := tx.Gauges(ctx)
		if err != nil {
			return err
		}
		projects, err := tx.Projects(ctx, 0, true, "")
		if err != nil {
			return err
		}
		for d, n := range map[*prometheus.Desc]int64{people: g.People, locks: g.Locks, waiting: g.Waiting, unsealed: g.Contents,
			deliveries: g.Deliveries, failing: g.Failing, damaged: g.Damaged} {
			gauge(d, float64(n))
		}
		for _, p := range projects {
			gauge(stored, float64(p.Stored), p.Key)
			gauge(present, float64(p.Size), p.Key)
			if p.Limit > 0 {
				gauge(limit, float64(p.Limit), p.Key)
			}
			to <- prometheus.MustNewConstMetric(handoffs, prometheus.CounterValue, float64(p.Handoffs), p.Key)
		}
		return nil
	})
	if err != nil {
		gauge(up, 0)
		return
	}
	gauge(up, 1)
}
