package main

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"wladder/core/ladder"
	"wladder/engine"
	"wladder/store"
)

// metrics are what this server counts, in the Prometheus text format; docs/metrics.md lists them.
type metrics struct {
	registry *prometheus.Registry
	steps    *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
}

func newMetrics() *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		steps:    prometheus.NewCounterVec(prometheus.CounterOpts{Name: "wladder_steps_total", Help: "Steps of host runs that this server took, by step and how they ended."}, []string{"step", "outcome"}),
		seconds:  prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "wladder_step_seconds", Help: "How long steps of host runs took on this server, in seconds.", Buckets: prometheus.ExponentialBuckets(0.01, 3, 10)}, []string{"step"}),
	}
	m.registry.MustRegister(m.steps, m.seconds, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// step counts one step; it is the engine's Observe.
func (m *metrics) step(step ladder.Step, outcome ladder.Outcome, took time.Duration) {
	m.steps.WithLabelValues(string(step), string(outcome)).Inc()
	m.seconds.WithLabelValues(string(step)).Observe(took.Seconds())
}

// serving gives the handler, once there is something to be asked.
func (m *metrics) serving(st *store.Store, e *engine.Engine) http.Handler {
	m.registry.MustRegister(&shared{st, e})
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// shared is what all servers on a database tell alike, read as it is asked for, and how this one
// stands.
type shared struct {
	store  *store.Store
	engine *engine.Engine
}

var (
	runsGauge      = prometheus.NewDesc("wladder_host_runs", "Host runs of climbs that have not ended, by state.", []string{"state"}, nil)
	climbsGauge    = prometheus.NewDesc("wladder_climbs", "Climbs that have not ended, by state.", []string{"state"}, nil)
	serversGauge   = prometheus.NewDesc("wladder_servers", "Servers that share the database and are there.", nil, nil)
	entriesGauge   = prometheus.NewDesc("wladder_record_entries", "Entries in the chain of the record.", nil, nil)
	waitingGauge   = prometheus.NewDesc("wladder_record_waiting", "Entries that happened and are not chained yet.", nil, nil)
	receiversGauge = prometheus.NewDesc("wladder_receiver_waiting", "Notices that wait for a receiver.", []string{"receiver"}, nil)
	haltsGauge     = prometheus.NewDesc("wladder_halts", "Halts that hold.", nil, nil)
	soundGauge     = prometheus.NewDesc("wladder_record_sound", "1 where the record holds, 0 where this server found it altered and does nothing any more.", nil, nil)
	heldGauge      = prometheus.NewDesc("wladder_leases_held", "Host runs that this server works on.", nil, nil)
	lateGauge      = prometheus.NewDesc("wladder_late_seconds", "By how much this server was late itself at most in the last five minutes, in seconds.", nil, nil)
	upGauge        = prometheus.NewDesc("wladder_database_up", "1 where the database answered this request, 0 where it did not.", nil, nil)
)

func (s *shared) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{runsGauge, climbsGauge, serversGauge, entriesGauge, waitingGauge, receiversGauge, haltsGauge, soundGauge, heldGauge, lateGauge, upGauge} {
		to <- d
	}
}

func (s *shared) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	held, late := s.engine.Load()
	gauge(heldGauge, float64(held))
	gauge(lateGauge, late.Seconds())
	sound := 1.0
	if s.store.Sound() != nil {
		sound = 0
	}
	gauge(soundGauge, sound)
	m, err := s.store.Measures(ctx)
	if err != nil {
		gauge(upGauge, 0)
		return
	}
	gauge(upGauge, 1)
	for state, n := range m.Runs {
		gauge(runsGauge, float64(n), state)
	}
	for state, n := range m.Climbs {
		gauge(climbsGauge, float64(n), state)
	}
	for name, n := range m.Receivers {
		gauge(receiversGauge, float64(n), name)
	}
	gauge(serversGauge, float64(m.Servers))
	gauge(entriesGauge, float64(m.Entries))
	gauge(waitingGauge, float64(m.Waiting))
	gauge(haltsGauge, float64(m.Halts))
}
