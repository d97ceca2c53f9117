package pinpoint

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/condition"
	"dexamen/internal/core/extsort"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Fitting finds when records began or ceased to fit a condition.
func Fitting(ctx context.Context, e *run.Runner, cluster string, cond *condition.Condition,
	opt Options) (*Report, error) {
	s, err := begin(ctx, e, cluster, opt)
	if err != nil {
		return nil, err
	}
	ins, err := s.inspector()
	if err != nil {
		return nil, err
	}
	list, err := s.stretches()
	if err != nil {
		return nil, err
	}
	f := &fitting{search: s, ins: ins, cond: cond, sorter: extsort.New(e.TempDir(), e.SortMemory()),
		places: map[string]int{}}
	defer f.sorter.Close()
	for i, st := range list {
		if i > 0 {
			if err := f.between(ctx, list[i-1], st); err != nil {
				return nil, err
			}
		}
		if s.model.Traits().Commands {
			continue
		}
		for _, sh := range st.point.Shards {
			err := st.m.Versions(ctx, sh.Name, s.chosen, nil, func(ns string, v fold.Version) error {
				return f.version(ctx, sh.Name, ns, v)
			})
			if err != nil {
				return nil, err
			}
		}
	}
	if err := f.gather(); err != nil {
		return nil, err
	}
	if err := cond.Check(); err != nil {
		return nil, err
	}
	s.join()
	slices.SortStableFunc(s.out.Findings, func(a, b Finding) int { return a.Started.Compare(b.Started) })
	for i := range s.out.Findings {
		if err := s.resolve(ctx, &s.out.Findings[i]); err != nil {
			return nil, err
		}
	}
	return s.out, nil
}

type fitting struct {
	*search
	ins    engine.Inspector
	cond   *condition.Condition
	sorter *extsort.Sorter
	places map[string]int
	list   []place
}

// place is where records begin or cease to fit.
type place struct {
	kind      Kind
	ns, shard string
}

// transition is a record's beginning or ceasing to fit.
type transition struct {
	Position string    `json:"p"`
	Label    string    `json:"l"`
	Finished time.Time `json:"e,omitzero"` // where only points tell
	Point    string    `json:"i,omitempty"`
}

func (f *fitting) fits(value []byte) (bool, error) {
	if value == nil {
		return false, nil
	}
	fields, ok, err := f.ins.Fields(value)
	if err != nil || !ok {
		return false, err
	}
	return f.cond.Fits(fields), nil
}

func (f *fitting) version(_ context.Context, shard, ns string, v fold.Version) error {
	if v.Moved || !f.within(time.UnixMilli(v.Wall), time.UnixMilli(v.Wall)) || f.model.Staged(ns) {
		return nil
	}
	return f.compare(shard, ns, v.Old, v.New, v.Wall, transition{Position: v.At.Hex()})
}

// compare keeps what one change of a record means for the condition.
func (f *fitting) compare(shard, ns string, old, now []byte, wall int64, t transition) error {
	was, err := f.fits(old)
	if err != nil {
		return err
	}
	is, err := f.fits(now)
	if err != nil || was == is {
		return err
	}
	p, value := place{Began, ns, shard}, now
	if was {
		p.kind, value = Ceased, old
	}
	t.Label = f.model.Label(value)
	if old != nil && now != nil {
		if c := f.model.Changes(old, now); len(c) > 0 {
			t.Label += " (" + strings.Join(c[:min(3, len(c))], "; ") + ")"
		}
	}
	id := string(p.kind) + "\x00" + ns + "\x00" + shard
	n, ok := f.places[id]
	if !ok {
		n = len(f.list)
		f.places[id], f.list = n, append(f.list, p)
	}
	raw, err := json.Marshal(t)
	if err != nil {
		return err
	}
	key := binary.BigEndian.AppendUint64(nil, uint64(wall))
	return f.sorter.AddTo(n, append(key, t.Position...), raw)
}

// between compares the end of one stretch with the point of the next, which no log leads to.
func (f *fitting) between(ctx context.Context, a, b stretch) error {
	if !f.within(a.m.Time, b.point.Time) {
		return nil
	}
	x, err := f.Store.NewScratch(f.Temp)
	if err != nil {
		return err
	}
	defer x.Close()
	was, _, err := a.m.Trees(ctx, x, x, f.chosen)
	if err != nil {
		return err
	}
	now, _, err := b.m.AtPoint().Trees(ctx, x, x, f.chosen)
	if err != nil {
		return err
	}
	end := stamp(a.m.Time)
	t := transition{Finished: b.point.Time, Point: end}
	if a.m.Exact() {
		t.Point = a.point.ID
	}
	for _, n := range now {
		i := slices.IndexFunc(was, func(w moment.NamespaceState) bool { return w.Name == n.Name })
		root := tree.Root{}
		if i >= 0 {
			root = was[i].Root
		}
		err := tree.Diff(ctx, tree.Side{Source: x, Root: root}, tree.Side{Source: x, Root: n.Root},
			func(d tree.Difference) error {
				return f.compare("", n.Name, d.A, d.B, a.m.Time.UnixMilli(), t)
			})
		if err != nil {
			return err
		}
	}
	return nil
}

// gather makes findings of transitions that follow each other closely.
func (f *fitting) gather() error {
	items, err := f.sorter.Sorted()
	if err != nil {
		return err
	}
	defer items.Close()
	var open *Finding
	last := -1
	end := func() {
		if open != nil {
			f.out.Findings = append(f.out.Findings, *open)
		}
		open = nil
	}
	for {
		k, raw, ok, err := items.Next()
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		id, key := extsort.SplitGroup(k)
		at := time.UnixMilli(int64(binary.BigEndian.Uint64(key)))
		var t transition
		if err := json.Unmarshal(raw, &t); err != nil {
			return err
		}
		p := f.list[id]
		if open != nil && (id != last || at.Sub(open.Finished) > longestPause && t.Point == "") {
			end()
		}
		if last = id; open == nil {
			open = &Finding{Kind: p.kind, Namespace: p.ns, Started: at, Finished: at}
			if p.shard != "" && len(f.cov.Chains) > 1 {
				open.Shards = []string{p.shard}
			}
			var pos record.Position
			if err := pos.UnmarshalText([]byte(t.Position)); err != nil {
				return err
			}
			open.position = pos
			switch {
			case t.Point == "":
				open.when = f.before(p.shard, pos.Prev(), pos)
			default:
				if open.when, err = address.ParseWhen(t.Point, time.Now()); err != nil {
					return err
				}
			}
		}
		open.Changes++
		open.Finished = at
		if !t.Finished.IsZero() {
			open.Finished = t.Finished
		}
		if len(open.Keys) < f.opt.Keys {
			open.Keys = append(open.Keys, t.Label)
		}
	}
	end()
	return nil
}
