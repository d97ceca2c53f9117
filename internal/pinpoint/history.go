package pinpoint

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// The kinds of findings about records.
const (
	Began  Kind = "began to fit"
	Ceased Kind = "ceased to fit"
)

// Version is a state that a record had, or what happened to its namespace.
type Version struct {
	// Time is since when; After, where set, the time before which it is not known that it was
	// so already.
	Time  time.Time `json:"time"`
	After time.Time `json:"after,omitzero"`
	// Op is the change: put, patch, delete, drop, rename, empty, command; "point" where a
	// point tells it and no log.
	Op string `json:"op"`
	// Value is the record as text; empty where there is none any more.
	Value string `json:"value,omitempty"`
	// Changed says what differs from the version before.
	Changed []string `json:"changed,omitempty"`
	// Before is the address of what was there just before.
	Before string `json:"before,omitempty"`
	Shard  string `json:"shard,omitempty"`

	at record.Position
}

// stretch is a point with the log after it, as far as it is known.
type stretch struct {
	m     *moment.Moment
	point *store.Point
}

// stretches returns points with the logs after them that together tell as much as there
// is: the first at or before the time asked for, each other the first that the log of the
// one before does not lead to.
func (s *search) stretches() (out []stretch, err error) {
	points := s.cov.Points
	first := 0
	for i, p := range points {
		if !s.opt.Since.IsZero() && !p.Time.After(s.opt.Since) {
			first = i
		}
	}
	for i := first; i < len(points); i++ {
		p := points[i]
		if n := len(out) - 1; n >= 0 && s.joined(out[n].point, p) && !s.model.Traits().Commands && !p.Unlogged {
			continue
		}
		m, err := s.cov.Reaching(s.Runner, i)
		if err != nil {
			return nil, err
		}
		if s.model.Traits().Commands {
			m = m.AtPoint()
		}
		out = append(out, stretch{m, p})
	}
	return out, nil
}

// inspector returns what the engine knows of its records' names and fields.
func (s *search) inspector() (engine.Inspector, error) {
	ins, ok := s.model.(engine.Inspector)
	if !ok {
		return nil, fmt.Errorf("%w: records of clusters of this kind cannot be asked for", run.ErrRefused)
	}
	return ins, nil
}

// History returns the versions of one record, in order of time. Key is a text that names it
// in a namespace; a segment of the log that says nothing of the namespace is not read.
func History(ctx context.Context, e *run.Runner, cluster, namespace, key string, opt Options) ([]Version, error) {
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
	h := &history{search: s, ns: namespace, keys: ins.KeysNamed(namespace, key)}
	for _, st := range list {
		if err := h.stretch(ctx, st); err != nil {
			return nil, err
		}
	}
	if !h.known {
		return nil, fmt.Errorf("no record %s was ever in %s of cluster %s, as far as the store tells (from %s to %s)",
			key, namespace, cluster, run.FormatTime(s.out.From), run.FormatTime(s.out.To))
	}
	return h.out, nil
}

type history struct {
	*search
	ns    string
	keys  [][]byte
	out   []Version
	value []byte // of the last version; nil: none
	known bool   // there was a version
	until time.Time
}

func (h *history) named(key []byte) bool {
	return slices.ContainsFunc(h.keys, func(k []byte) bool { return engine.Named(h.model, key, k) })
}

// stretch adds the versions of a point and the log after it.
func (h *history) stretch(ctx context.Context, st stretch) error {
	at, err := h.atPoint(ctx, st.point)
	if err != nil {
		return err
	}
	if !bytes.Equal(at, h.value) || (at == nil) != (h.value == nil) {
		v := Version{Time: st.point.Time, After: h.until, Op: "point", Changed: h.changes(h.value, at)}
		if at != nil {
			v.Value = h.model.Render(at)
		}
		if h.known {
			v.Before = h.address(address.When{Kind: address.Time, Text: stamp(h.until)})
		}
		h.add(v, at)
	}
	h.until = st.m.Time
	from := len(h.out)
	if h.model.Traits().Commands {
		err = h.commands(ctx, st)
	} else {
		for _, sh := range st.point.Shards {
			if err = h.changesOf(ctx, st, sh.Name); err != nil {
				break
			}
		}
	}
	slices.SortStableFunc(h.out[from:], func(a, b Version) int { return a.Time.Compare(b.Time) })
	return err
}

func (h *history) add(v Version, value []byte) {
	h.out = append(h.out, v)
	h.value, h.known = value, true
}

func (h *history) changes(a, b []byte) []string {
	if a == nil || b == nil {
		return nil
	}
	return h.model.Changes(a, b)
}

func (h *history) address(w address.When) string {
	return address.Address{Cluster: h.cluster, When: w, Given: true, Pattern: h.ns}.String()
}

// stamp writes a time as addresses have it.
func stamp(t time.Time) string { return t.Local().Format("2006-01-02T15:04:05.000Z07:00") }

// atPoint returns the record as a point has it; nil where it has none.
func (h *history) atPoint(ctx context.Context, p *store.Point) ([]byte, error) {
	for _, ns := range p.Namespaces {
		if ns.Name != h.ns || ns.Root.Hash.IsZero() {
			continue
		}
		for _, k := range h.keys {
			for r, err := range tree.RecordsFrom(ctx, h.Store, ns.Root, k) {
				if err != nil {
					return nil, err
				}
				if !engine.Named(h.model, r.Key, k) {
					break
				}
				return append([]byte{}, r.Value...), nil
			}
		}
	}
	return nil, nil
}

// changesOf adds what a shard's log tells.
func (h *history) changesOf(ctx context.Context, st stretch, shard string) error {
	choose := func(name string) bool { return name == h.ns }
	err := st.m.Versions(ctx, shard, choose, h.named, func(_ string, v fold.Version) error {
		if v.Moved || !h.within(time.UnixMilli(v.Wall), time.UnixMilli(v.Wall)) {
			h.value = v.New
			return nil
		}
		out := Version{Time: time.UnixMilli(v.Wall), Op: v.Op.String(), Changed: h.changes(v.Old, v.New), at: v.At,
			Before: h.address(h.before(shard, v.At.Prev(), v.At))}
		if v.New != nil {
			out.Value = h.model.Render(v.New)
		}
		if len(st.point.Shards) > 1 {
			out.Shard = shard
		}
		h.add(out, v.New)
		return nil
	})
	if err != nil {
		return err
	}
	// What happened to the namespace as a whole belongs to the record's history.
	for _, seg := range st.m.Segments[shard] {
		by, known := seg.Tally(h.ns)
		if known && by.Of(record.Drop.String()).Changes+by.Of(record.Rename.String()).Changes+
			by.Of(record.Empty.String()).Changes+seg.Unknown == 0 {
			continue
		}
		err := h.Store.ReadSegment(ctx, seg, func(c *record.Change) error {
			if c.Op.Record() || c.Op == record.Create || c.Op == record.Alter ||
				c.Namespace != h.ns && (c.Op != record.Rename || c.To != h.ns) && !concernsMany(c, h.ns) {
				return nil
			}
			if mark, _ := st.point.Shard(shard); c.At <= mark.Mark.Position {
				return nil
			}
			v := Version{Time: c.Time(), Op: c.Op.String(), Before: h.address(h.before(shard, c.At.Prev(), c.At))}
			switch {
			case c.Op == record.Rename && h.model.Staged(c.Namespace):
				v.Op = "restore"
				if n := len(h.out) - 1; n >= 0 && h.out[n].Op == record.Drop.String() &&
					v.Time.Sub(h.out[n].Time) < time.Second {
					v.Before = h.out[n].Before
					h.out = h.out[:n] // of what was replaced
				}
			case c.Op == record.Unknown:
				v.Changed = []string{"not understood: " + string(c.Value)}
			case c.Op == record.Rename:
				v.Changed = []string{c.Namespace + " was renamed to " + c.To}
			}
			h.value = nil
			if c.To == h.ns {
				if h.value, err = h.at(ctx, c.At); err != nil {
					return err
				}
			}
			if h.value != nil {
				v.Value = h.model.Render(h.value)
			}
			h.out = append(h.out, v)
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// concernsMany reports whether a change is of many namespaces, of which one is this.
func concernsMany(c *record.Change, namespace string) bool {
	return c.Op == record.Unknown && len(c.Key) > 0 && strings.HasPrefix(namespace, string(c.Key))
}

// at returns the record just after a position; nil where it is not there.
func (h *history) at(ctx context.Context, pos record.Position) ([]byte, error) {
	m, err := moment.Resolve(ctx, h.Runner, h.cluster,
		address.When{Kind: address.Place, Text: h.model.FormatPosition(pos)}, nil)
	if err != nil {
		return nil, err
	}
	x, err := h.Store.NewScratch(h.Temp)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	list, _, err := m.Trees(ctx, x, x, func(name string) bool { return name == h.ns })
	if err != nil || len(list) == 0 {
		return nil, err
	}
	for _, k := range h.keys {
		if v, ok, err := tree.Get(ctx, x, list[0].Root, k); ok || err != nil {
			return append([]byte{}, v...), err
		}
	}
	return nil, nil
}

// commands adds the commands of a log that name the key.
func (h *history) commands(ctx context.Context, st stretch) error {
	tell, _ := h.model.(engine.CommandTeller)
	wide, _ := h.model.(engine.CrossNamespace)
	for _, sh := range st.point.Shards {
		c := h.cov.Chains[sh.Name]
		if c == nil {
			continue
		}
		for i := range c.Segments {
			seg := &c.Segments[i]
			if seg.Gap != "" || seg.Last.Position <= sh.Mark.Position {
				continue
			}
			if next := h.pointAfter(st.point); next != nil {
				if m, _ := next.Shard(sh.Name); seg.After.Position >= m.Mark.Position {
					break
				}
			}
			prev := seg.After.Position
			err := h.Store.ReadSegment(ctx, *seg, func(ch *record.Change) error {
				was := prev
				prev = ch.At
				if ch.At <= sh.Mark.Position || !h.within(ch.Time(), ch.Time()) {
					return nil
				}
				if next := h.pointAfter(st.point); next != nil {
					if m, _ := next.Shard(sh.Name); ch.At > m.Mark.Position {
						return nil
					}
				}
				emptied := tell != nil && tell.Effect(ch) == record.Empty && wide != nil &&
					wide.CrossesNamespaces(ch.Namespace)
				if !emptied && (tell == nil || !slices.ContainsFunc(h.keys, func(k []byte) bool {
					return tell.Concerns(ch, h.ns, k)
				})) {
					return nil
				}
				h.out = append(h.out, Version{
					Time: ch.Time(), Op: record.Command.String(), Value: h.model.Render(ch.Value),
					Before: h.address(h.before(sh.Name, was, ch.At))})
				return nil
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// pointAfter returns the point that follows one; nil where there is none.
func (h *history) pointAfter(p *store.Point) *store.Point {
	i := slices.Index(h.cov.Points, p)
	if i < 0 || i+1 >= len(h.cov.Points) {
		return nil
	}
	return h.cov.Points[i+1]
}
