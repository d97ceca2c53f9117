package daemon

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"dexamen/internal/core/store"
)

// metrics is what can be scraped. What is known of clusters is computed when it
// is asked for; what runs did is counted as they end.
type metrics struct {
	d        *Daemon
	registry *prometheus.Registry
	runs     *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	stored   *prometheus.CounterVec
}

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("dexamen_"+name, help, labels, nil)
}

var (
	descMoment = describe("newest_moment_age_seconds", "How old the newest moment is that can be restored.", "policy",
		"cluster", "store")
	descPoint = describe("newest_point_age_seconds", "How old the newest restore point is.", "policy", "cluster",
		"store")
	descPoints = describe("points", "Restore points in the store.", "policy", "cluster", "store")
	descGaps   = describe("log_gaps", "Stretches of the log of which nothing is known.", "policy", "cluster", "store")
	descAlert  = describe("alert", "1 for each thing that somebody has been told of and that goes on.", "policy",
		"cluster", "store", "about")
	descResult = describe("last_run_success", "1 where the last run of a kind did what it was for.", "policy",
		"cluster", "store", "kind")
	descTook = describe("last_run_seconds", "How long the last run of a kind took.", "policy", "cluster", "store",
		"kind")
	descEnded = describe("last_run_ended_timestamp_seconds", "When the last run of a kind ended.", "policy",
		"cluster", "store", "kind")
	descBytes = describe("last_run_stored_bytes", "What the last run of a kind added to the store.", "policy",
		"cluster", "store", "kind")
	descHeld = describe("last_run_held_seconds",
		"For how long the last run of a kind held something of the cluster still.", "policy", "cluster", "store",
		"kind")
	descGoing = describe("running_seconds", "For how long a run has been going on.", "policy", "cluster", "store",
		"kind")
	descUsed = describe("store_used_bytes", "What the store holds.", "store")
	descFree = describe("store_free_bytes", "What the store has room for.", "store")
	descDays = describe("store_days_until_full",
		"For how many days the store has room, growing as in the last seven days.", "store")
	descConfig = describe("configuration_success", "0 where a newer configuration was refused.")
)

func newMetrics(d *Daemon) *metrics {
	m := &metrics{d: d, registry: prometheus.NewRegistry(),
		runs: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "dexamen_runs_total", Help: "Runs that have ended, by result."},
			[]string{"policy", "cluster", "kind", "result"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "dexamen_run_seconds", Help: "How long runs took.", Buckets: prometheus.ExponentialBuckets(0.1, 4,
				10)}, []string{"kind"}),
		stored: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "dexamen_stored_bytes_total", Help: "What runs added to stores."},
			[]string{"policy", "cluster", "kind"}),
	}
	m.registry.MustRegister(m, m.runs, m.seconds, m.stored)
	return m
}

func (m *metrics) ran(r *store.Run) {
	if r == nil {
		return
	}
	m.runs.WithLabelValues(r.Policy, r.Cluster, r.Kind, r.Result).Inc()
	m.seconds.WithLabelValues(r.Kind).Observe(r.Took().Seconds())
	m.stored.WithLabelValues(r.Policy, r.Cluster, r.Kind).Add(float64(r.Stored))
}

// Describe implements prometheus.Collector.
func (m *metrics) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		descMoment, descPoint, descPoints, descGaps, descAlert, descResult, descTook, descEnded, descBytes, descHeld,
		descGoing, descUsed, descFree, descDays, descConfig} {
		out <- d
	}
}

// Collect implements prometheus.Collector.
func (m *metrics) Collect(out chan<- prometheus.Metric) {
	d := m.d
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	put := func(desc *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(desc, prometheus.GaugeValue, v, labels...)
	}
	for _, x := range d.wards {
		w, s := x.ward, x.state
		if s == nil {
			continue
		}
		put(descPoints, float64(len(s.Points)), w.Policy, w.Cluster, w.Store)
		put(descGaps, float64(len(s.Gaps)), w.Policy, w.Cluster, w.Store)
		if p := s.Newest(); p != nil {
			put(descMoment, now.Sub(x.latest()).Seconds(), w.Policy, w.Cluster, w.Store)
			put(descPoint, now.Sub(p.Time).Seconds(), w.Policy, w.Cluster, w.Store)
		}
		about := map[string]int{}
		seen := *s
		seen.Latest = x.latest()
		for _, t := range Alerts(w, &seen, now) {
			about[t.About]++
		}
		for a, n := range about {
			put(descAlert, float64(n), w.Policy, w.Cluster, w.Store, a)
		}
		for _, kind := range []string{store.RunSnapshot, store.RunCapture, store.RunRetention} {
			r := store.Newest(s.Runs, w.Policy, kind)
			if r == nil {
				continue
			}
			good := 0.0
			if r.Good() || r.Result == store.RunInterrupted {
				good = 1
			}
			put(descResult, good, w.Policy, w.Cluster, w.Store, kind)
			put(descTook, r.Took().Seconds(), w.Policy, w.Cluster, w.Store, kind)
			put(descEnded, float64(r.Finished.UnixMilli())/1000, w.Policy, w.Cluster, w.Store, kind)
			if r.Held > 0 {
				put(descHeld, r.Held.Seconds(), w.Policy, w.Cluster, w.Store, kind)
			}
			put(descBytes, float64(r.Stored), w.Policy, w.Cluster, w.Store, kind)
		}
	}
	for _, g := range d.going {
		put(descGoing, now.Sub(g.begun).Seconds(), g.ward.Policy, g.ward.Cluster, g.ward.Store, g.kind)
	}
	for name, r := range d.rooms {
		put(descUsed, float64(r.Used), name)
		if r.Free >= 0 {
			put(descFree, float64(r.Free), name)
		}
		if days, ok := r.Days(); ok {
			put(descDays, days, name)
		}
	}
	good := 1.0
	if d.broken != "" {
		good = 0
	}
	put(descConfig, good)
}
