package daemon

import (
	"context"
	"regexp"
	"slices"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// Cost is what protecting a cluster takes: now, and in a year as its runs of late go on. Bytes are
// those in the store.
type Cost struct {
	Cluster string     `json:"cluster"`
	Now     int64      `json:"now_bytes"`
	Rules   []RuleCost `json:"rules"`
	Day     int64      `json:"added_bytes_a_day"`
	InAYear int64      `json:"in_a_year_bytes"`
	// Of a month: requests that write and that read, about, and bytes that are sent to the store.
	Writes int64 `json:"write_requests_a_month"`
	Reads  int64 `json:"read_requests_a_month"`
	Sent   int64 `json:"sent_bytes_a_month"`
	// Days is of how many days the runs are that this is worked out from.
	Days float64 `json:"days_seen"`
	// Price is of a month, where the store has prices.
	Price *Price `json:"price,omitempty"`
}

// RuleCost is what is kept for a reason.
type RuleCost struct {
	Reason string `json:"reason"`
	Points int    `json:"points"`
	Bytes  int64  `json:"new_bytes"` // that were new with those points
}

// Price is what a month costs, in the currency of the configuration.
type Price struct {
	Currency string  `json:"currency"`
	Storage  float64 `json:"storage"`
	Requests float64 `json:"requests"`
	Sent     float64 `json:"sent"`
	Month    float64 `json:"month"`
	// InAYear is what a month costs then.
	InAYear float64 `json:"month_in_a_year"`
}

const (
	costDays = 7
	// About how many requests a run makes beside those for what it stores, and how large an object
	// of content is at most.
	runWrites, runReads = 6, 12
	contentBytes        = 16 << 20
	// What a daemon that looks after a store makes in a month: a small write and its removal every
	// half minute, and a look at what is there.
	watchWrites, watchReads = 2 * 2 * 60 * 24 * 30, 4 * 12 * 24 * 30
)

var lengths = regexp.MustCompile(`\d[\d:.-]*`)

// CostOf works out what protecting a cluster takes. Share is what of the store is the cluster's, and
// steady how many points there are once the policy has been kept to for years.
func CostOf(ctx context.Context, e *run.Runner, w Assignment, s *State, share *store.Share, steady int,
	prices *config.Prices) (*Cost, error) {
	now := time.Now()
	c := &Cost{Cluster: w.Cluster, Rules: []RuleCost{}}
	if share != nil {
		c.Now = share.Stored + share.Log
	}
	news := map[string]int64{}
	for _, p := range s.Points {
		news[p.ID] = p.Stats.Stored
	}
	for _, v := range s.Plan(w, now).Verdicts {
		reason := lengths.ReplaceAllString(v.Reason, "…")
		if !v.Keep {
			reason = "goes: " + reason
		}
		i := slices.IndexFunc(c.Rules, func(r RuleCost) bool { return r.Reason == reason })
		if i < 0 {
			c.Rules, i = append(c.Rules, RuleCost{Reason: reason}), len(c.Rules)
		}
		c.Rules[i].Points++
		c.Rules[i].Bytes += news[v.Point.ID]
	}
	if len(s.Points) == 0 || share == nil {
		return c, nil
	}
	since := now.Add(-costDays * 24 * time.Hour)
	if first := s.Points[0].Started; first.After(since) {
		since = first
	}
	c.Days = max(now.Sub(since).Hours()/24, 1.0/24)
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Cluster: w.Cluster, Since: since})
	if err != nil {
		return c, err
	}
	// What a point that is the first of all stores is not what the next ones will.
	var snapshots, objects, n int64
	for _, r := range runs {
		objects += runWrites
		if r.Kind == store.RunSnapshot && r.Good() && r.Point != s.Points[0].ID {
			snapshots, n = snapshots+r.Stored, n+1
			objects += r.Stored / contentBytes
		}
	}
	log := int64(0)
	for _, chain := range s.Chains {
		for _, seg := range chain.Segments {
			if seg.Last.Wall.After(since) {
				log, objects = log+seg.Size, objects+1
			}
		}
	}
	c.Day = int64(float64(snapshots+log) / c.Days)
	c.Sent = 30 * c.Day
	c.Writes = int64(float64(objects)/c.Days*30) + watchWrites
	c.Reads = int64(float64(len(runs))/c.Days*30)*runReads + watchReads
	// Either it grows on as it does, or it comes to what the rules keep.
	perPoint := float64(snapshots) / float64(max(n, 1))
	kept := s.Points[0].Stats.Stored + int64(perPoint*float64(steady)) +
		int64(float64(log)/c.Days*time.Duration(w.Config.Keep.EveryMoment).Hours()/24)
	c.InAYear = c.Now + 365*c.Day
	if k := w.Config.Keep; k.EveryMoment > 0 || len(k.Thin) > 0 || k.NeverMore > 0 {
		c.InAYear = max(c.Now, min(c.InAYear, kept))
	}
	if prices != nil {
		gib := func(n int64) float64 { return float64(n) / (1 << 30) }
		p := &Price{Currency: prices.Currency, Storage: gib(c.Now) * prices.StoredGiB,
			Requests: float64(c.Writes)/1000*prices.Write1000 + float64(c.Reads)/1000*prices.Read1000,
			Sent:     gib(c.Sent) * prices.SentGiB}
		p.Month = p.Storage + p.Requests + p.Sent
		p.InAYear = gib(c.InAYear)*prices.StoredGiB + p.Requests + p.Sent
		c.Price = p
	}
	return c, nil
}
