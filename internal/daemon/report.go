package daemon

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
	"dexamen/internal/report"
	"dexamen/internal/run"
)

// Report gathers what a report of a time shows. What cannot be read is said in it. Statements, where not nil,
// returns the evidence of a store in that time, and what is wrong with it.
func Report(ctx context.Context, w Deps, from, to time.Time,
	statements func(ctx context.Context, name string, e *run.Runner) ([]report.Statement, []string,
		error)) *report.Data {
	status := Look(ctx, w)
	out := &report.Data{From: from, To: to, Well: status.Well, Left: []report.Left{}, Alerts: []report.Alert{},
		Clusters: []*report.Cluster{}, Stores: []*report.Store{}, Evidence: []report.Statement{}}
	for i := range status.Clusters {
		c := clusterOf(&status.Clusters[i])
		if c.Error == "" {
			if err := w.reportOf(ctx, &status.Clusters[i], c, out); err != nil {
				c.Error = explain.Error(err)
			}
		}
		if c.Error != "" {
			out.Well = false
			out.Alerts = append(out.Alerts, report.Alert{Since: to, About: "failure", Text: c.Name + ": " + c.Error})
		}
		out.Clusters = append(out.Clusters, c)
	}
	finish(status, out)
	out.From = beginning(out)
	out.Left = append(out.Left, w.notProtected()...)
	if statements == nil {
		return out
	}
	for _, name := range config.Names(w.Config.Stores) {
		var faults []string
		e, err := w.env(ctx, name, "")
		if err == nil {
			var list []report.Statement
			list, faults, err = statements(ctx, name, e)
			out.Evidence = append(out.Evidence, list...)
			e.Store.Close()
		}
		if err != nil {
			faults = append(faults, explain.Error(err))
		}
		for _, f := range faults {
			out.Faults = append(out.Faults, name+": "+f)
		}
	}
	slices.SortStableFunc(out.Evidence, func(a, b report.Statement) int { return b.Ended.Compare(a.Ended) })
	return out
}

// beginning returns when what a report shows begins: not long before the first point.
func beginning(d *report.Data) time.Time {
	first := d.To
	for _, c := range d.Clusters {
		for _, t := range c.Times {
			if t.Before(first) {
				first = t
			}
		}
	}
	first = first.Add(-d.To.Sub(first) / 20)
	if hour := d.To.Add(-time.Hour); first.After(hour) {
		first = hour
	}
	if first.Before(d.From) {
		return d.From
	}
	return first
}

// finish notes what a status says of stores, and all alerts.
func finish(status *Status, out *report.Data) {
	alerts := func(list []notify.Alert) {
		for _, a := range list {
			out.Alerts = append(out.Alerts, report.Alert{Since: a.Since, About: a.About, Text: a.Text, Do: a.Do})
		}
	}
	for i := range status.Clusters {
		alerts(status.Clusters[i].Alerts)
	}
	for _, s := range status.Stores {
		out.Stores = append(out.Stores, &report.Store{Name: s.Store, Error: s.Error, Used: s.Used, Free: s.Free,
			Days: s.Days, Scrub: s.Scrub})
		alerts(s.Alerts)
	}
	alerts(status.Alerts)
	if out.Host == "" {
		out.Host, _ = os.Hostname()
	}
}

// clusterOf returns of a cluster what its status says.
func clusterOf(s *ClusterStatus) *report.Cluster {
	c := &report.Cluster{Name: s.Cluster, Policy: s.Policy, Store: s.Store, Error: s.Error, Newest: s.Newest,
		Point: s.PointTime, Points: s.Points, Records: s.Records, Bytes: s.Bytes, Promised: s.Promised,
		Proof: s.Proof, ProofGood: s.ProofGood, Alerts: len(s.Alerts)}
	if s.Drill != nil {
		c.Drill = &report.Drill{Time: s.Drill.Finished, FirstAnswer: s.Drill.FirstAnswer.D().Seconds(),
			Recovery: s.Drill.Recovery.D().Seconds(), Age: s.Drill.Age.D().Seconds()}
	}
	return c
}

// reportOf notes what is known of a cluster, and reads from the store what was over the time.
func (w Deps) reportOf(ctx context.Context, s *ClusterStatus, c *report.Cluster, out *report.Data) error {
	e, err := w.env(ctx, c.Store, c.Name)
	if err != nil {
		return err
	}
	defer e.Store.Close()
	fillCluster(s.ward, s.state, c, out)
	return w.history(ctx, e, s.ward, s.state, c, out)
}

// fillCluster notes what is known of a cluster without reading more.
func fillCluster(a Assignment, s *State, c *report.Cluster, out *report.Data) {
	for _, st := range s.Stretches {
		c.Stretches = append(c.Stretches, [2]time.Time{st.From, st.To})
	}
	for _, g := range s.Gaps {
		if !g.To.Wall.Before(out.From) {
			c.Gaps = append(c.Gaps, report.Gap{From: g.From.Wall, To: g.To.Wall, Reason: g.Reason})
		}
	}
	for _, p := range s.Points {
		c.Times = append(c.Times, p.Time)
	}
	if n := s.Newest(); n != nil {
		for _, k := range n.Skipped {
			out.Left = append(out.Left, report.Left{What: a.Cluster + ": " + k.Name, Reason: k.Reason})
		}
	}
	if len(a.Config.Namespaces) > 0 {
		out.Left = append(out.Left, report.Left{What: a.Cluster + ": namespaces that do not fit [" +
			strings.Join(a.Config.Namespaces, ", ") + "]", Reason: "policy " + a.Policy + " does not choose them"})
	}
	count := map[string]int{}
	for _, v := range s.Plan(a, out.To).Verdicts {
		if v.Keep {
			count[v.Reason]++
		}
	}
	for text, n := range count {
		c.Kept = append(c.Kept, report.Reason{Text: text, Points: n})
	}
	slices.SortFunc(c.Kept, func(x, y report.Reason) int {
		return cmp.Or(cmp.Compare(y.Points, x.Points), strings.Compare(x.Text, y.Text))
	})
	c.Kept = c.Kept[:min(len(c.Kept), 12)]
	if r := s.last(store.RunDrill); r != nil && !r.Good() && r.Result != store.RunInterrupted {
		c.DrillFailed = "the last one: " + r.Result
	}
}

// history reads what runs of the time did, and what the promise came to.
func (w Deps) history(ctx context.Context, e *run.Runner, a Assignment, s *State, c *report.Cluster,
	out *report.Data) error {
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Cluster: a.Cluster, Since: out.From,
		Kinds: []string{store.RunSnapshot, store.RunCapture, store.RunRetention}})
	if err != nil {
		return err
	}
	grown := map[time.Time]float64{}
	day := func(t time.Time) time.Time {
		y, m, d := t.Local().Date()
		return time.Date(y, m, d, 0, 0, 0, 0, time.Local)
	}
	until := out.From
	for _, r := range runs {
		switch {
		case r.Kind == store.RunRetention && r.Promise != nil:
			c.Known += r.Promise.To.Sub(r.Promise.From).Seconds()
			c.Broken += r.Promise.Broken.D().Seconds()
			if r.Promise.To.After(until) {
				until = r.Promise.To
			}
		case r.Kind == store.RunSnapshot && !r.To.IsZero():
			c.Durations = append(c.Durations, report.Sample{Time: r.Finished, Value: r.Took().Seconds()})
			grown[day(r.Finished)] += float64(r.Stored)
		}
		if r.Kind != store.RunRetention && !r.To.IsZero() && !r.Finished.IsZero() {
			c.Lag = append(c.Lag, report.Sample{Time: r.Finished, Value: max(0, r.Finished.Sub(r.To).Seconds())})
		}
	}
	// Captures that went well are forgotten before the log that they stored.
	for _, chain := range s.Chains {
		for i := range chain.Segments {
			if h := &chain.Segments[i]; h.Gap == "" && h.Last.Wall.After(out.From) {
				grown[day(h.Last.Wall)] += float64(h.Size)
			}
		}
	}
	for d, n := range grown {
		if at := d.Add(24 * time.Hour); n > 0 {
			if at.After(out.To) {
				at = out.To
			}
			c.Grown = append(c.Grown, report.Sample{Time: at, Value: n})
		}
	}
	slices.SortFunc(c.Grown, func(x, y report.Sample) int { return x.Time.Compare(y.Time) })
	if since := out.To.Add(-promiseReach); until.Before(since) {
		until = since
	}
	p, err := promiseSince(ctx, e, a, s, until, out.To)
	if err == nil && p != nil {
		c.Known += p.To.Sub(p.From).Seconds()
		c.Broken += p.Broken.D().Seconds()
	}
	return err
}

// notProtected lists what of a configuration nothing protects, or not as it should be.
func (w Deps) notProtected() (out []report.Left) {
	for _, u := range w.Config.Unprotected() {
		what := "cluster " + u.Cluster
		if u.Cluster == "" {
			what = "policy " + u.Policy
		}
		out = append(out, report.Left{What: what, Reason: u.Text})
	}
	chosen := map[string]bool{}
	for _, a := range Assignments(w.Config) {
		chosen[a.Cluster] = true
	}
	for _, name := range config.Names(w.Config.Clusters) {
		if w.Config.Clusters[name].Unprotected && !chosen[name] {
			out = append(out, report.Left{What: "cluster " + name, Reason: "the configuration says that this is meant"})
		}
		if !chosen[name] {
			continue
		}
		// Of those that need not be held still there is no reason.
		if how, why, err := w.Config.QuiesceFor(name); err == nil && how == "" && why != "" {
			out = append(out, report.Left{What: "cluster " + name + ": what is written while it is copied",
				Reason: "it is not held still: " + why})
		}
	}
	if len(w.Config.Policies) == 0 && len(out) == 0 {
		out = append(out, report.Left{What: "everything", Reason: fmt.Sprintf("%s has no policies", w.Config.Path)})
	}
	return out
}
