package daemon

import (
	"runtime"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/notify"
	"dexamen/internal/workers"
)

// metrics is what can be scraped: what is known of clusters and stores, computed from the status
// when it is asked for, and counts of what this process did.
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

// What is labelled by an assignment, and by a kind of work of it.
var (
	byWard = []string{"policy", "cluster", "store"}
	byWork = []string{"policy", "cluster", "store", "kind"}
)

var (
	descBuild = describe("build_info", "1, with the version and what it was built with.", "version", "goversion")
	descKnown = describe("known_timestamp_seconds",
		"When the store was read for what is said of a cluster; zero where it was not yet.", byWard...)
	descMoment = describe("newest_moment_timestamp_seconds",
		"The newest moment that can be restored; zero where there is none.", byWard...)
	descPromised = describe("promised_age_seconds",
		"How old the newest moment may be by the policy; zero where it promises nothing.", byWard...)
	descPoint = describe("newest_point_timestamp_seconds", "The newest restore point; zero where there is none.",
		byWard...)
	descRecords = describe("newest_point_records", "Records in the newest restore point.", byWard...)
	descBytes   = describe("newest_point_bytes", "Bytes of the records in the newest restore point.", byWard...)
	descPoints  = describe("points", "Restore points in the store.", byWard...)
	descGaps    = describe("log_gaps", "Stretches of the log of which nothing is known.", byWard...)
	descProof   = describe("last_proof_timestamp_seconds", "Up to when the log was last compared with the cluster.",
		byWard...)
	descDrill = describe("last_good_drill_timestamp_seconds",
		"When a restore was last rehearsed with success, of the last few drills; zero where none was.", byWard...)
	descRecovery = describe("last_good_drill_recovery_seconds",
		"After how long all was there in that drill, proven equal.", byWard...)
	descProofOK = describe("last_proof_success", "0 where that comparison found a difference.", byWard...)
	descMirror  = describe("mirror_newest_moment_timestamp_seconds",
		"The newest moment that the second store holds; zero where it holds none.", "policy", "cluster", "store",
		"mirror")
	descCapture = describe("capture_running", "1 where somebody follows the log right now.", byWard...)
	descAlerts  = describe("alerts", "Alerts that go on, by what they are about.", "policy", "cluster", "store",
		"about")
	descRunning = describe("run_in_progress", "1 where a run of a kind is going on.", byWork...)
	descResult  = describe("last_run_success", "0 where the last run of a kind did not do what it was for.", byWork...)
	descTook    = describe("last_run_duration_seconds", "How long the last run of a kind took.", byWork...)
	descEnded   = describe("last_run_end_timestamp_seconds",
		"When the last run of a kind ended; zero where there was none.", byWork...)
	descGood = describe("last_good_run_timestamp_seconds",
		"When the last run of a kind that did what it was for ended, of the last few.", byWork...)
	descNext = describe("next_due_timestamp_seconds",
		"When a kind of work is due next; zero where it goes on or is not asked for.", byWork...)
	descStored = describe("last_run_stored_bytes", "What the last run of a kind added to the store.", byWork...)
	descHeld   = describe("last_run_held_seconds",
		"For how long the last run of a kind held something of the cluster still.", byWork...)
	descUp       = describe("store_up", "1 where the store takes a small write.", "store")
	descUsed     = describe("store_used_bytes", "What the store held when it was measured.", "store")
	descMeasured = describe("store_measured_timestamp_seconds", "When what the store holds was measured.", "store")
	descFree     = describe("store_free_bytes", "What the store has room for; -1 where that is not known.", "store")
	descFreeAt   = describe("store_free_read_timestamp_seconds", "When the room left in the store was read.", "store")
	descDays     = describe("store_until_full_seconds",
		"For how long the store has room, growing as in the last seven days; +Inf where it does not grow.", "store")
	descScrub = describe("store_last_scrub_timestamp_seconds",
		"When all of the store was last read and found well; zero where it never was.", "store")
	descNotices = describe("notices_total", "Alerts that a channel has taken.", "channel")
	descUntaken = describe("notice_failures_total", "Attempts to deliver an alert that failed.", "channel")
	descDropped = describe("notices_dropped_total", "Alerts that were given up, as too many waited.", "channel")
	descWaiting = describe("notices_waiting", "Alerts that wait for a channel.", "channel")
	descTasks   = describe("worker_tasks_total", "Tasks of shared work that this process has done, by how they ended.",
		"outcome")
	descTasking = describe("worker_tasks_in_progress", "Tasks of shared work that this process is at.")
	descSeesTo  = describe("worker_clusters", "Clusters that this daemon sees to, where daemons divide them.")
	descJoined  = describe("worker_connected", "1 where this process is a worker and reaches the servers by which "+
		"work is shared.")
	descConfig = describe("config_last_reload_success", "0 where a newer configuration was refused.")
)

func newMetrics(d *Daemon) *metrics {
	m := &metrics{d: d, registry: prometheus.NewRegistry(),
		runs: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "dexamen_runs_total", Help: "Runs of this process that have ended, by result."},
			[]string{"policy", "cluster", "kind", "result"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "dexamen_run_duration_seconds", Help: "How long runs of this process took.",
			Buckets: prometheus.ExponentialBuckets(0.1, 4, 10)}, []string{"kind"}),
		stored: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "dexamen_stored_bytes_total", Help: "What runs of this process added to stores."},
			[]string{"policy", "cluster", "kind"}),
	}
	for _, w := range Assignments(d.Config) {
		for _, kind := range taskKinds {
			for _, result := range []string{store.RunDone, store.RunFailed} {
				m.runs.WithLabelValues(w.Policy, w.Cluster, kind, result)
			}
			m.stored.WithLabelValues(w.Policy, w.Cluster, kind)
		}
	}
	m.registry.MustRegister(m, m.runs, m.seconds, m.stored, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
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
		descBuild, descKnown, descMoment, descPromised, descPoint, descRecords, descBytes, descPoints, descGaps,
		descProof, descProofOK, descDrill, descRecovery, descMirror, descCapture, descAlerts, descRunning, descResult,
		descTook, descEnded,
		descGood,
		descNext, descStored, descHeld, descUp, descUsed, descMeasured, descFree, descFreeAt, descDays, descScrub,
		descNotices, descUntaken, descDropped, descWaiting, descTasks, descTasking, descSeesTo, descJoined,
		descConfig} {
		out <- d
	}
}

// stamp returns a time as metrics have it; zero where it is not known.
func stamp(t time.Time) float64 {
	if t.IsZero() {
		return 0
	}
	return float64(t.UnixMilli()) / 1000
}

func number(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// Collect implements prometheus.Collector.
func (m *metrics) Collect(out chan<- prometheus.Metric) {
	put := func(desc *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(desc, prometheus.GaugeValue, v, labels...)
	}
	count := func(desc *prometheus.Desc, v int64, labels ...string) {
		out <- prometheus.MustNewConstMetric(desc, prometheus.CounterValue, float64(v), labels...)
	}
	s := m.d.Status()
	put(descBuild, 1, m.d.Version, runtime.Version())
	for i := range s.Clusters {
		collectCluster(put, &s.Clusters[i])
	}
	alerts := func(list []notify.Alert, policy, cluster, storeName string) {
		n := map[string]int{}
		for _, a := range list {
			n[a.About]++
		}
		for _, about := range config.About {
			put(descAlerts, float64(n[about]), policy, cluster, storeName, about)
		}
	}
	for _, c := range s.Clusters {
		list := c.Alerts
		if c.Error != "" {
			list = append(list, notify.Alert{About: "failure"})
		}
		alerts(list, c.Policy, c.Cluster, c.Store)
	}
	for _, st := range s.Stores {
		list := st.Alerts
		if !st.Up {
			list = append(list, notify.Alert{About: "failure"})
		}
		for _, a := range s.Alerts {
			if a.Store == st.Store {
				list = append(list, a)
			}
		}
		alerts(list, "", "", st.Store)
		put(descUp, number(st.Up), st.Store)
		put(descUsed, float64(st.Used), st.Store)
		put(descMeasured, stamp(st.Measured), st.Store)
		put(descFree, float64(st.Free), st.Store)
		put(descFreeAt, stamp(st.freeAt), st.Store)
		put(descDays, st.daysLeft()*24*3600, st.Store)
		put(descScrub, stamp(st.Scrub), st.Store)
	}
	var own []notify.Alert
	for _, a := range s.Alerts {
		if a.Store == "" {
			own = append(own, a)
		}
	}
	alerts(own, "", "", "")
	for channel, c := range m.d.outbox.Counts() {
		count(descNotices, c.Sent, channel)
		count(descUntaken, c.Failed, channel)
		count(descDropped, c.Dropped, channel)
		put(descWaiting, float64(c.Waiting), channel)
	}
	m.d.mu.Lock()
	defer m.d.mu.Unlock()
	if m.d.Config.Workers != nil {
		var i workers.Info
		if m.d.worker != nil {
			i = m.d.worker.Info()
		}
		count(descTasks, i.Done, "done")
		count(descTasks, i.Failed, "failed")
		put(descTasking, float64(len(i.Doing)))
		put(descSeesTo, float64(i.Clusters))
		put(descJoined, number(m.d.worker != nil && m.d.worker.Engine.Connected()))
	}
	put(descConfig, number(m.d.broken == ""))
}

func collectCluster(put func(*prometheus.Desc, float64, ...string), c *ClusterStatus) {
	ward := []string{c.Policy, c.Cluster, c.Store}
	put(descKnown, stamp(c.Known), ward...)
	put(descMoment, stamp(c.Newest), ward...)
	put(descPromised, c.Promised, ward...)
	put(descPoint, stamp(c.PointTime), ward...)
	put(descRecords, float64(c.Records), ward...)
	put(descBytes, float64(c.Bytes), ward...)
	put(descPoints, float64(c.Points), ward...)
	put(descGaps, float64(c.Gaps), ward...)
	put(descProof, stamp(c.Proof), ward...)
	put(descProofOK, number(c.Proof.IsZero() || c.ProofGood), ward...)
	if c.Drill != nil {
		put(descDrill, stamp(c.Drill.Finished), ward...)
		put(descRecovery, c.Drill.Recovery.D().Seconds(), ward...)
	} else {
		put(descDrill, 0, ward...)
	}
	put(descCapture, number(c.Capturing), ward...)
	if c.Mirror != "" {
		put(descMirror, stamp(c.Mirrored), c.Policy, c.Cluster, c.Store, c.Mirror)
	}
	for _, t := range c.Runs {
		work := []string{c.Policy, c.Cluster, c.Store, t.Kind}
		r := t.last
		if r == nil {
			r = &store.Run{Result: store.RunDone}
		}
		put(descRunning, number(t.Going), work...)
		put(descResult, number(r.Good() || r.Result == store.RunInterrupted), work...)
		put(descTook, r.Took().Seconds(), work...)
		put(descEnded, stamp(t.Ended), work...)
		put(descGood, stamp(t.LastGood), work...)
		put(descNext, stamp(t.Next), work...)
		put(descStored, float64(r.Stored), work...)
		put(descHeld, r.Held.D().Seconds(), work...)
	}
}
