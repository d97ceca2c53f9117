package workers

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"dexamen/internal/core/wait"
)

// Info is what a worker says of itself.
type Info struct {
	Name     string            `json:"name"`
	Instance string            `json:"instance"`
	Host     string            `json:"host"`
	Process  int               `json:"process"`
	Version  string            `json:"version"`
	Protocol int               `json:"protocol"`
	Labels   map[string]string `json:"labels,omitempty"`
	Parallel int               `json:"parallel"`
	Since    time.Time         `json:"since"`
	Seen     time.Time         `json:"seen"` // when it said so last, by the servers' clock
	// For is the one job that it takes part in: it is the process that has it done.
	For string `json:"for,omitempty"`
	// Plans: it has policies carried out, of its share of the clusters.
	Plans bool `json:"plans,omitempty"`
	// Clusters is how many it sees to, where it plans.
	Clusters int     `json:"clusters,omitempty"`
	Draining bool    `json:"draining,omitempty"`
	Doing    []Doing `json:"doing,omitempty"`
	Done     int64   `json:"done"`
	Failed   int64   `json:"failed"`
	// Reaches and Cannot are the stores and clusters that were tried ("store NAME", "cluster NAME"), and why
	// they cannot be reached.
	Reaches []string          `json:"reaches,omitempty"`
	Cannot  map[string]string `json:"cannot,omitempty"`
}

// Doing is a task that is being worked on.
type Doing struct {
	Job   string    `json:"job"`
	Of    string    `json:"of"` // the cluster, or the store
	What  string    `json:"what"`
	Begun time.Time `json:"started"`
}

// refuses returns why a worker takes no part in a job; empty where it does.
func (i *Info) refuses(job *JobInfo) string {
	if i.Protocol != job.Protocol {
		return fmt.Sprintf("it is of version %s and speaks form %d of what workers tell each other, not %d as version "+
			"%s does", i.Version, i.Protocol, job.Protocol, job.Version)
	}
	for _, k := range slices.Sorted(maps.Keys(job.Only)) {
		if i.Labels[k] != job.Only[k] {
			return fmt.Sprintf("it has no label %s: %s", k, job.Only[k])
		}
	}
	for _, what := range job.needs() {
		if why := i.Cannot[what]; why != "" {
			return "it does not reach " + what + ": " + why
		}
	}
	return ""
}

// Workers returns who is there, by name.
func (e *Engine) Workers(ctx context.Context) ([]Info, error) {
	var out []Info
	err := each(ctx, e.present, func(x jetstream.KeyValueEntry) error {
		var i Info
		if err := json.Unmarshal(x.Value(), &i); err != nil {
			return fmt.Errorf("what a worker says of itself: %w", err)
		}
		i.Seen = x.Created()
		out = append(out, i)
		return nil
	})
	slices.SortFunc(out, func(a, b Info) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Instance, b.Instance))
	})
	return out, err
}

// Jobs returns the jobs that are open, the oldest first.
func (e *Engine) Jobs(ctx context.Context) ([]JobInfo, error) {
	var out []JobInfo
	err := each(ctx, e.jobs, func(x jetstream.KeyValueEntry) error {
		var i JobInfo
		if err := json.Unmarshal(x.Value(), &i); err != nil {
			return fmt.Errorf("what a job says of itself: %w", err)
		}
		out = append(out, i)
		return nil
	})
	slices.SortFunc(out, func(a, b JobInfo) int { return a.Begun.Compare(b.Begun) })
	return out, err
}

// JobState is a job and how it stands with its tasks.
type JobState struct {
	JobInfo
	Waiting int `json:"waiting"` // tasks that nobody has taken
	Working int `json:"working"` // tasks that somebody has
	// Oldest is since when the oldest task that is not done lies there; the zero time where all are.
	Oldest time.Time `json:"oldest,omitzero"`
}

// Overview is who is there, what they do, and how full limits are.
type Overview struct {
	Workers []Info     `json:"workers"`
	Jobs    []JobState `json:"jobs"`
	// Limits are those of open jobs, with how many of their places are taken.
	Limits []LimitState `json:"limits,omitempty"`
}

// LimitState is how full a limit is.
type LimitState struct {
	Limit
	Taken int `json:"taken"`
}

// Overview returns how all is.
func (e *Engine) Overview(ctx context.Context) (*Overview, error) {
	list, err := e.Workers(ctx)
	if err != nil {
		return nil, err
	}
	jobs, err := e.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	taken, err := e.Slots(ctx)
	if err != nil {
		return nil, err
	}
	out := &Overview{Workers: append([]Info{}, list...), Jobs: []JobState{}}
	for _, j := range jobs {
		s := JobState{JobInfo: j}
		c, err := e.tasks.Consumer(ctx, j.ID)
		if err == nil {
			var now *jetstream.ConsumerInfo
			if now, err = c.Info(ctx); err == nil {
				s.Waiting, s.Working = int(now.NumPending), now.NumAckPending
			}
		}
		if err == nil && s.Waiting+s.Working > 0 {
			var m *jetstream.RawStreamMsg
			if m, err = e.tasks.GetMsg(ctx, 1, jetstream.WithGetMsgSubject(taskSubjects+j.ID+".*")); err == nil {
				s.Oldest = m.Time
			}
		}
		if err != nil && !errors.Is(err, jetstream.ErrConsumerNotFound) && !errors.Is(err, jetstream.ErrMsgNotFound) {
			return nil, err // else it has just ended
		}
		out.Jobs = append(out.Jobs, s)
		for _, l := range j.Limits {
			if !slices.ContainsFunc(out.Limits, func(x LimitState) bool { return x.Name == l.Name }) {
				out.Limits = append(out.Limits, LimitState{l, taken[l.Name]})
			}
		}
	}
	slices.SortFunc(out.Limits, func(a, b LimitState) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

// pulse says when it is time to say something again: every beat, and soon after there is news.
type pulse struct {
	beat time.Duration
	last time.Time
}

func newPulse(beat time.Duration) *pulse { return &pulse{beat, time.Now()} }

// next waits for that; false where the context has ended.
func (p *pulse) next(ctx context.Context, news <-chan struct{}) bool {
	select {
	case <-time.After(time.Until(p.last.Add(p.beat))):
	case <-news:
		if wait.For(ctx, time.Until(p.last.Add(p.beat/5))) != nil {
			return false
		}
	case <-ctx.Done():
		return false
	}
	p.last = time.Now()
	return true
}

// each calls fn with all that a bucket holds.
func each(ctx context.Context, kv jetstream.KeyValue, fn func(jetstream.KeyValueEntry) error) error {
	w, err := kv.WatchAll(ctx, jetstream.IgnoreDeletes())
	if err != nil {
		return err
	}
	defer func() { _ = w.Stop() }()
	for {
		select {
		case x, ok := <-w.Updates():
			if !ok {
				return errors.New("the workers' servers broke off")
			}
			if x == nil { // all there is
				return nil
			}
			if err := fn(x); err != nil {
				return err
			}
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}
