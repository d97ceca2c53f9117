package pinpoint

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// opOf returns the operation of which bursts are of a kind.
var opOf = map[record.Op]Kind{record.Put: Writes, record.Patch: Updates, record.Delete: Deletes}

// worth reports whether a segment may hold something to be found, by its summary.
func (s *search) worth(h *journal.Header) bool {
	if !h.Summarized() {
		return h.Gap == ""
	}
	if h.Unknown > 0 {
		return true
	}
	for _, t := range h.Summary {
		if !s.chosen(t.Namespace) && !s.shared(t.Namespace) {
			continue
		}
		for op := record.Put; op <= record.Command; op++ {
			c := t.By.Of(op.String())
			switch {
			case c.Changes == 0 || op == record.Create || op == record.Command:
			case !op.Record():
				return true
			case c.Busiest >= s.threshold(t.Namespace, op, h.Last.Wall):
				return true
			}
		}
	}
	return false
}

// shared reports whether entries logged under a name may concern what is looked at.
func (s *search) shared(name string) bool {
	x, ok := s.model.(engine.CrossNamespace)
	return ok && x.CrossesNamespaces(name)
}

// threshold is from how many changes within [journal.Window] on they are a burst.
func (s *search) threshold(namespace string, op record.Op, at time.Time) int64 {
	return max(s.opt.Least, s.opt.Factor*s.usual.Of(namespace, op, at))
}

// chain looks through one shard's log.
func (s *search) chain(ctx context.Context, shard string) error {
	segs := s.cov.Chains[shard].Segments
	take := make([]bool, len(segs))
	for i := range segs {
		h := &segs[i]
		if h.Gap != "" || !s.within(h.After.Wall, h.Last.Wall) {
			continue
		}
		take[i] = h.Changes > 0 && s.worth(h)
	}
	r := &reader{search: s, shard: shard, runs: map[runKey]*burst{}}
	r.shaper, _ = s.model.(engine.Shaper)
	for i := range segs {
		// A burst may have begun in the segment before.
		before := i+1 < len(segs) && take[i+1] && !take[i] && s.runsInto(&segs[i], &segs[i+1])
		if !take[i] && !before {
			r.endAll()
			continue
		}
		s.out.Read += segs[i].Size
		r.begin(&segs[i])
		if err := s.Store.ReadSegment(ctx, segs[i], r.change); err != nil {
			if ctx.Err() != nil || !unreadable(err) {
				return err
			}
			s.Emit(run.Warning, "a stretch of the log cannot be read and is left out: %v", err)
		}
	}
	r.endAll()
	return nil
}

func unreadable(err error) bool {
	return errors.Is(err, journal.ErrDamaged) || errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrMissing)
}

// runsInto reports whether a segment that is not worth reading may hold the beginning of a
// burst of the next one.
func (s *search) runsInto(h, next *journal.Header) bool {
	if h.Gap != "" || h.Changes == 0 || next.First.Wall.Sub(h.Last.Wall) > longestPause {
		return false
	}
	for _, t := range next.Summary {
		by, known := h.Tally(t.Namespace)
		for op := range opOf {
			if by.Of(op.String()).Changes == 0 && known {
				continue
			}
			if t.By.Of(op.String()).Busiest >= s.threshold(t.Namespace, op, next.Last.Wall) {
				return true
			}
		}
	}
	return false
}

// reader goes through the changes of a shard's segments.
type reader struct {
	*search
	shard    string
	shaper   engine.Shaper // may be nil
	seg      *journal.Header
	at, prev record.Position // of this entry, and the one before it
	runs     map[runKey]*burst
	// touched: what keys of each namespace this segment has changed so far.
	touched map[string]map[string]bool
}

type runKey struct {
	namespace string
	op        record.Op
	shape     string
}

// maxRuns is how many runs go on before those that have ended are looked for.
const maxRuns = 4096

// burst is a run of changes of one kind with short pauses between them.
type burst struct {
	Finding
	last  int64 // wall time of the last change, in milliseconds
	pause int64 // the longest that does not end it
	some  []record.Change
	fresh []bool // of some: the key was not changed before since the point
}

// longestPause ends a run of changes where nothing else is usual.
const longestPause = 2 * time.Second

func (r *reader) begin(h *journal.Header) {
	r.seg, r.at = h, h.After.Position
	r.touched = map[string]map[string]bool{}
}

func (r *reader) change(c *record.Change) error {
	if c.At != r.at {
		r.prev, r.at = r.at, c.At
	}
	if !r.concerns(c) {
		return nil
	}
	op := c.Op
	if of := engine.EffectOf(r.model); of != nil {
		op = of(c)
	}
	if _, ok := opOf[op]; ok {
		r.record(c, op)
		return nil
	}
	r.event(c, op)
	return nil
}

// concerns reports whether a change is of what is looked at.
func (r *reader) concerns(c *record.Change) bool {
	if c.Op.Record() && c.To == record.Moved {
		return false
	}
	if !r.within(c.Time(), c.Time()) {
		return false
	}
	return r.chosen(c.Namespace) || c.Op == record.Rename && r.chosen(c.To) || r.shared(c.Namespace) ||
		c.Op == record.Unknown && len(c.Key) > 0
}

// finding begins a finding at the change at hand.
func (r *reader) finding(kind Kind, c *record.Change) Finding {
	f := Finding{Kind: kind, Namespace: c.Namespace, Started: c.Time(), Finished: c.Time(),
		when: r.before(r.shard, r.prev, r.at), position: r.at}
	if len(r.cov.Chains) > 1 {
		f.Shards = []string{r.shard}
	}
	return f
}

// event takes a change of a namespace as a whole.
func (r *reader) event(c *record.Change, op record.Op) {
	staged := r.model.Staged(c.Namespace)
	var f Finding
	switch op {
	case record.Drop:
		f = r.finding(Dropped, c)
	case record.Unknown:
		f = r.finding(Unknown, c)
		f.Detail = []string{string(c.Value)}
	case record.Empty:
		f = r.finding(Emptied, c)
		if r.shared(c.Namespace) {
			f.Namespace, f.Detail = r.sharedName(c.Namespace), []string{r.model.Render(c.Value)}
		}
	case record.Alter:
		f = r.finding(Altered, c)
		var known bool
		if f.Detail, known = r.altered(c); known && len(f.Detail) == 0 {
			return // such as an index build that begins
		}
	case record.Rename:
		f = r.finding(Renamed, c)
		f.To = c.To
		if staged {
			f.Kind, f.Namespace, f.To = Restored, c.To, ""
			staged = false
			r.replaced(&f)
		} else if r.model.Staged(c.To) {
			return
		}
	default:
		return
	}
	if !staged {
		r.out.Findings = append(r.out.Findings, f)
	}
}

// replaced takes the drop of what a restore has replaced for a part of the restore.
func (r *reader) replaced(f *Finding) {
	const apart = 2 * time.Second
	list := r.out.Findings
	for i := len(list) - 1; i >= 0; i-- {
		if o := &list[i]; o.Kind == Dropped && o.Namespace == f.Namespace && f.Started.Sub(o.Started) < apart {
			f.when, f.position = o.when, o.position
			r.out.Findings = slices.Delete(list, i, i+1)
			return
		}
	}
}

// sharedName is the pattern of the namespaces that an entry for several concerns.
func (r *reader) sharedName(name string) string {
	if r.model.Kind(name).IsContent() && strings.HasPrefix(name, "db") {
		return name + "*"
	}
	return ""
}

// altered returns what a change of a definition did, and whether that is known.
func (r *reader) altered(c *record.Change) (detail []string, known bool) {
	for i := len(r.cov.Points) - 1; i >= 0; i-- {
		for _, ns := range r.cov.Points[i].Namespaces {
			if ns.Name != c.Namespace || r.cov.Points[i].Time.After(c.Time()) {
				continue
			}
			def, err := r.model.Alter(ns.Definition, c)
			if err != nil {
				continue
			}
			return definitionChange(r.model, ns.Definition, def), true
		}
	}
	return nil, false
}

// record takes a change of a record.
func (r *reader) record(c *record.Change, op record.Op) {
	if r.model.Staged(c.Namespace) {
		return
	}
	k := runKey{namespace: c.Namespace, op: op}
	if r.shaper != nil {
		k.shape = r.shaper.Shape(c)
	}
	b := r.runs[k]
	if b != nil && c.Wall-b.last > b.pause {
		r.end(k)
		b = nil
	}
	keys := r.touched[c.Namespace]
	if keys == nil {
		keys = map[string]bool{}
		r.touched[c.Namespace] = keys
	}
	if b == nil {
		usual := r.usual.Of(c.Namespace, op, c.Time())
		pause := min(longestPause, max(50*time.Millisecond, journal.Window/time.Duration(1+2*usual)))
		b = &burst{Finding: r.finding(opOf[op], c), pause: pause.Milliseconds()}
		b.Usual, b.Of = usual, k.shape
		if len(r.runs) >= maxRuns {
			r.sweep(c.Wall)
		}
		r.runs[k] = b
	}
	b.Changes++
	b.last = c.Wall
	if len(b.some) < r.opt.Keys {
		b.some = append(b.some, c.Clone())
		b.fresh = append(b.fresh, !keys[string(c.Key)])
	}
	if len(keys) < 1<<16 {
		keys[string(c.Key)] = true
	}
}

// sweep ends the runs that have ended by a time, and all where they are too many still.
func (r *reader) sweep(wall int64) {
	for k, b := range r.runs {
		if wall-b.last > b.pause {
			r.end(k)
		}
	}
	if len(r.runs) >= maxRuns {
		r.endAll()
	}
}

func (r *reader) endAll() {
	for k := range r.runs {
		r.end(k)
	}
}

// end ends a run, which is a finding where there was more than usual.
func (r *reader) end(k runKey) {
	b := r.runs[k]
	delete(r.runs, k)
	b.Finished = time.UnixMilli(b.last)
	windows := 1 + int64(b.Finished.Sub(b.Started)/journal.Window)
	if b.Changes < max(r.opt.Least, r.opt.Factor*b.Usual*windows) {
		return
	}
	r.name(b)
	if k.namespace != "" && r.shared(k.namespace) && !r.chosen(k.namespace) {
		b.Namespace = r.sharedName(k.namespace)
	}
	r.out.Findings = append(r.out.Findings, b.Finding)
}
