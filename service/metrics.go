package service

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"ironweir/store"
)

// records counts what lies in the database when somebody asks for the metrics.
type records struct{ store *store.Store }

var (
	databaseUp = prometheus.NewDesc("ironweir_database_up", "1 while the database answers.", nil, nil)
	runsNow    = prometheus.NewDesc("ironweir_runs", "Runs by state.", []string{"state"}, nil)
	partsNow   = prometheus.NewDesc(
		"ironweir_run_parts",
		"Parts of runs that have not ended, by state.",
		[]string{"state"},
		nil,
	)
	oldestPart = prometheus.NewDesc(
		"ironweir_oldest_queued_run_seconds",
		"Age of the oldest run of which no part has been taken.",
		nil,
		nil,
	)
	workersNow = prometheus.NewDesc("ironweir_workers", "Workers that live.", nil, nil)
	slotsNow   = prometheus.NewDesc(
		"ironweir_worker_slots",
		"Parts that all workers together work on at once.",
		nil,
		nil,
	)
	bytesNow = prometheus.NewDesc("ironweir_database_bytes", "Size of the database.", nil, nil)
)

// Describe names the metrics.
func (r records) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{databaseUp, runsNow, partsNow, oldestPart, workersNow, slotsNow, bytesNow} {
		to <- d
	}
}

// Collect counts; while the database is away, only that is told.
func (r records) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	n, err := r.store.Counts(ctx)
	if err != nil {
		gauge(databaseUp, 0)
		return
	}
	gauge(databaseUp, 1)
	for state, count := range n.Runs {
		gauge(runsNow, float64(count), state)
	}
	for state, count := range n.Parts {
		gauge(partsNow, float64(count), state)
	}
	gauge(oldestPart, n.OldestQueued)
	gauge(workersNow, float64(n.Workers))
	gauge(slotsNow, float64(n.Slots))
	gauge(bytesNow, float64(n.Bytes))
}
