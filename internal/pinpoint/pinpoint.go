// Package pinpoint finds out what happened to a cluster, and when: from the summaries of
// log segments it tells which are worth reading, and reads those.
//
//	pinpoint.go  Find: what was dropped, renamed, emptied, changed or spoiled
//	usual.go     what is usual for a namespace at an hour
//	segments.go  one segment's changes: events and runs
//	points.go    what only points tell, where there is no log
//	naming.go    records and definitions by name
//	history.go   History: the versions of one record
//	fitting.go   Fitting: when records fitted a condition
package pinpoint

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Kind describes what was found.
type Kind string

// The kinds of findings.
const (
	Dropped  Kind = "dropped"
	Renamed  Kind = "renamed"
	Emptied  Kind = "emptied"
	Altered  Kind = "altered"  // indexes or options
	Restored Kind = "restored" // a restore of Dexamen's put it there
	Deletes  Kind = "deletes"  // a burst of them
	Updates  Kind = "updates"
	Writes   Kind = "writes" // records written whole: new, or in the place of others
	Gone     Kind = "gone"   // between two points, without a log that tells
	Remade   Kind = "made anew"
	Fewer    Kind = "fewer records"
	Unknown  Kind = "not understood" // an entry of the log
)

// Finding is something that happened.
type Finding struct {
	Kind      Kind      `json:"kind"`
	Namespace string    `json:"namespace"`
	To        string    `json:"to,omitempty"` // the new name of what was renamed
	Started   time.Time `json:"started"`
	Finished  time.Time `json:"finished"`
	// Changes counts the changes of a burst; Usual is how many of them there are within
	// [journal.Window] at a busy time.
	Changes int64 `json:"changes,omitempty"`
	Usual   int64 `json:"usual,omitempty"`
	// Of is what of the records they touch, or by which command.
	Of string `json:"of,omitempty"`
	// Was and Is are numbers of records: of what is gone, in the point before it.
	Was int64 `json:"was,omitempty"`
	Is  int64 `json:"is,omitempty"`
	// Keys names some of the records, with what changed where that is known.
	Keys []string `json:"keys,omitempty"`
	// Detail says what changed of a definition.
	Detail []string `json:"detail,omitempty"`
	// Before is the address of what was there just before. It is empty where that cannot
	// be had, which Cannot explains.
	Before string `json:"before,omitempty"`
	Cannot string `json:"cannot,omitempty"`
	// Shards names the shards it happened on, where there are several.
	Shards []string `json:"shards,omitempty"`

	when     address.When
	position record.Position
}

// Options say where to look and what counts.
type Options struct {
	// Pattern chooses namespaces; empty means all.
	Pattern string
	// Since and Until bound the time; zero is as far as there is anything.
	Since, Until time.Time
	// Least is from how many changes within [journal.Window] a burst begins (default 20),
	// Factor how many times the usual it must be (default 8).
	Least, Factor int64
	// Keys is how many records are named of a burst (default 3).
	Keys int
}

// Report is what was found.
type Report struct {
	Cluster  string    `json:"cluster"`
	Findings []Finding `json:"findings"`
	// From and To bound what the store tells of.
	From time.Time     `json:"from"`
	To   time.Time     `json:"to"`
	Gaps []journal.Gap `json:"gaps,omitempty"`
	// Changes counts those of the log that was looked at; Read is how much of it, in bytes
	// of the store, was read, Size how much there is.
	Changes int64 `json:"changes"`
	Read    int64 `json:"read"`
	Size    int64 `json:"size"`
	// Logged: there is a log.
	Logged bool `json:"logged"`
}

// search is a search that goes on.
type search struct {
	*run.Runner
	cluster string
	opt     Options
	cov     *moment.Coverage
	model   engine.Model
	usual   *Usual
	out     *Report
}

// Find looks for what was done to a cluster that somebody may regret. What is found is in
// order of time; every address in it has been tried.
func Find(ctx context.Context, e *run.Runner, cluster string, opt Options) (*Report, error) {
	s, err := begin(ctx, e, cluster, opt)
	if err != nil {
		return nil, err
	}
	for _, shard := range s.shards() {
		if err := s.chain(ctx, shard); err != nil {
			return nil, err
		}
	}
	s.points()
	s.join()
	slices.SortStableFunc(s.out.Findings, func(a, b Finding) int { return a.Started.Compare(b.Started) })
	for i := range s.out.Findings {
		if err := s.resolve(ctx, &s.out.Findings[i]); err != nil {
			return nil, err
		}
	}
	return s.out, nil
}

func begin(ctx context.Context, e *run.Runner, cluster string, opt Options) (*search, error) {
	if opt.Least <= 0 {
		opt.Least = 20
	}
	if opt.Factor <= 0 {
		opt.Factor = 8
	}
	if opt.Keys <= 0 {
		opt.Keys = 3
	}
	// It says what there is where there is nothing of the cluster.
	m, err := moment.Resolve(ctx, e, cluster, moment.Latest, nil)
	if err != nil {
		return nil, err
	}
	cov, err := moment.Cover(ctx, e, cluster)
	if err != nil {
		return nil, err
	}
	s := &search{Runner: e, cluster: cluster, opt: opt, cov: cov[0], model: m.Model,
		out: &Report{Cluster: cluster, From: cov[0].Points[0].Time, To: cov[0].Latest}}
	s.usual = NewUsual()
	for _, c := range s.cov.Chains {
		for i := range c.Segments {
			s.usual.Add(&c.Segments[i])
		}
	}
	for _, g := range s.cov.Gaps {
		if s.within(g.From.Wall, g.To.Wall) {
			s.out.Gaps = append(s.out.Gaps, g)
		}
	}
	for _, c := range s.cov.Chains {
		for i := range c.Segments {
			if h := &c.Segments[i]; h.Gap == "" && s.within(h.After.Wall, h.Last.Wall) {
				s.out.Logged = true
				s.out.Changes, s.out.Size = s.out.Changes+h.Changes, s.out.Size+h.Size
			}
		}
	}
	return s, nil
}

// shards returns the names of the shards that have a log, in order.
func (s *search) shards() []string {
	var out []string
	for name := range s.cov.Chains {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// within reports whether a stretch of time is looked at.
func (s *search) within(from, to time.Time) bool {
	return !to.Before(s.opt.Since) && (s.opt.Until.IsZero() || !from.After(s.opt.Until))
}

// chosen reports whether a namespace is looked at.
func (s *search) chosen(name string) bool {
	kind := s.model.Kind(name)
	return kind.IsContent() && address.Match(s.opt.Pattern, name)
}

// ownClocks reports whether positions of the cluster's shards have no common clock.
func (s *search) ownClocks() bool { return len(s.cov.Chains) > 1 && s.model.Traits().ShardClocks }

// before returns the moment just before a change of a shard's log; prev is the position of
// the entry before it.
func (s *search) before(shard string, prev, at record.Position) address.When {
	if s.model.Traits().ShardClocks {
		text := s.model.FormatPosition(prev)
		if s.ownClocks() {
			text = moment.ShardPlace(shard, text)
		}
		return address.When{Kind: address.Place, Text: text}
	}
	return address.When{Kind: address.Place, Text: s.model.FormatPosition(at.Prev())}
}

// join puts together what happened on several shards at once, or one right after another.
func (s *search) join() {
	const apart = 10 * time.Second
	list := s.out.Findings
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Namespace, b.Namespace), cmp.Compare(a.Kind, b.Kind), a.Started.Compare(b.Started))
	})
	var out []Finding
	for _, f := range list {
		if n := len(out) - 1; n >= 0 {
			o := &out[n]
			same := o.Namespace == f.Namespace && o.Of == f.Of && o.Kind == f.Kind && o.To == f.To &&
				slices.Equal(o.Detail, f.Detail)
			other := len(o.Shards) > 0 && len(f.Shards) > 0 && !slices.Contains(o.Shards, f.Shards[0])
			if same && other && !s.ownClocks() && f.Started.Sub(o.Finished) < apart {
				if f.position < o.position {
					o.position, o.when = f.position, f.when
				}
				if f.Finished.After(o.Finished) {
					o.Finished = f.Finished
				}
				o.Changes, o.Was = o.Changes+f.Changes, max(o.Was, f.Was)
				o.Keys = append(o.Keys, f.Keys...)
				o.Keys = o.Keys[:min(len(o.Keys), s.opt.Keys)]
				o.Shards = append(o.Shards, f.Shards...)
				continue
			}
		}
		out = append(out, f)
	}
	s.out.Findings = out
}

// resolve tries the address just before a finding.
func (s *search) resolve(ctx context.Context, f *Finding) error {
	m, err := moment.Resolve(ctx, s.Runner, s.cluster, f.when, nil)
	if err == nil && len(f.Shards) > 0 && (f.Kind == Dropped || f.Kind == Renamed) && !s.ownClocks() {
		m, err = s.placed(ctx, f, m)
	}
	if err != nil {
		f.Cannot = s.Text(err)
		return ctx.Err()
	}
	if f.Kind == Restored {
		names, err := m.Names(ctx)
		if err != nil || !slices.Contains(names, f.Namespace) {
			f.Cannot = "nothing of this name was there"
			return ctx.Err()
		}
	}
	f.Before = address.Address{Cluster: s.cluster, When: f.when, Given: true, Pattern: f.Namespace}.String()
	f.Was = cmp.Or(f.Was, recordsAt(m.Point, f))
	return nil
}

// recordsAt returns how many records a point has of what a finding says is gone.
func recordsAt(p *store.Point, f *Finding) int64 {
	if f.Kind != Dropped && f.Kind != Emptied && f.Kind != Gone {
		return 0
	}
	for _, ns := range p.Parts() {
		if ns.Name == f.Namespace {
			return ns.Root.Records
		}
	}
	return 0
}

// Names returns the namespaces that any point of a cluster or the log between them names.
func Names(ctx context.Context, e *run.Runner, cluster string) ([]string, error) {
	s, err := begin(ctx, e, cluster, Options{})
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, p := range s.cov.Points {
		for _, ns := range p.Parts() {
			seen[ns.Name] = seen[ns.Name] || ns.Kind.IsContent()
		}
	}
	for _, c := range s.cov.Chains {
		for _, h := range c.Segments {
			for _, t := range h.Summary {
				seen[t.Namespace] = seen[t.Namespace] || s.chosen(t.Namespace) && !s.shared(t.Namespace)
			}
		}
	}
	var out []string
	for n, content := range seen {
		if content && n != "" && !s.model.Staged(n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out, nil
}

// placed returns the last moment before a finding at which a sharded cluster knew where its
// namespace is: what says so may go before the content does.
func (s *search) placed(ctx context.Context, f *Finding, m *moment.Moment) (*moment.Moment, error) {
	const longest, most = time.Minute, 50
	there := func() (bool, error) {
		names, err := m.Names(ctx)
		return slices.Contains(names, f.Namespace), err
	}
	ok, err := there()
	if ok || err != nil {
		return m, err
	}
	var changed []record.Position
	for _, c := range s.cov.Chains {
		for _, h := range c.Segments {
			if h.Gap != "" || h.After.Position >= f.position || h.Last.Wall.Before(f.Started.Add(-longest)) {
				continue
			}
			err := s.Store.ReadSegment(ctx, h, func(c *record.Change) error {
				if s.model.Kind(c.Namespace) == record.KindLayout && c.At < f.position &&
					c.Time().After(f.Started.Add(-longest)) {
					changed = append(changed, c.At)
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
		}
	}
	slices.Sort(changed)
	changed = slices.Compact(changed)
	slices.Reverse(changed)
	for _, at := range changed[:min(most, len(changed))] {
		when := s.before("", "", at)
		if m, err = moment.Resolve(ctx, s.Runner, s.cluster, when, nil); err != nil {
			return nil, err
		}
		if ok, err = there(); ok || err != nil {
			f.when = when
			return m, err
		}
	}
	return nil, fmt.Errorf("where %s was is not known in the minute before", f.Namespace)
}
