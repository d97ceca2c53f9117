package daemon

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// fakeCluster is a cluster in this process: one namespace of keys and values, read as
// of one position, with a log that it keeps for a while. It needs no network, so
// that a year of it passes in seconds on a clock that is not real.
type fakeCluster struct {
	mu   sync.Mutex
	name string
	data map[string]string
	log  []entry
	last uint64
	// keep is how long the log is kept; down makes every call fail; blind has
	// the log lose what is written.
	keep  time.Duration
	down  bool
	blind bool
}

type entry struct {
	at         uint64
	wall       time.Time
	key, value string
	op         record.Op // zero: nothing happened
}

var errDown = errors.New("the field is under water")

func newFakeCluster(name string) *fakeCluster {
	f := &fakeCluster{name: name, data: map[string]string{}, keep: 48 * time.Hour}
	f.idle()
	return f
}

func (f *fakeCluster) append(e entry) {
	f.last++
	e.at, e.wall = f.last, time.Now().Truncate(time.Millisecond)
	f.log = append(f.log, e)
	n := 0
	for n < len(f.log)-1 && time.Since(f.log[n].wall) > f.keep {
		n++
	}
	f.log = f.log[n:]
}

func (f *fakeCluster) idle() { f.append(entry{}) }

// put writes a key, or takes it away where the value is empty.
func (f *fakeCluster) put(key, value string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.putLocked(key, value)
}

func (f *fakeCluster) putLocked(key, value string) {
	op := record.Put
	if value == "" {
		if _, ok := f.data[key]; !ok {
			return
		}
		op = record.Delete
		delete(f.data, key)
	} else {
		f.data[key] = value
	}
	if !f.blind {
		f.append(entry{key: key, value: value, op: op})
	}
}

// state returns all there is, at a moment that the log knows.
func (f *fakeCluster) state() (map[string]string, time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.idle()
	return maps.Clone(f.data), f.log[len(f.log)-1].wall
}

func (f *fakeCluster) setDown(down bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.down = down
}

func (f *fakeCluster) alive() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.down {
		return fmt.Errorf("cluster %s: %w: %w", f.name, engine.ErrUnreachable, errDown)
	}
	return nil
}

func position(n uint64) record.Position {
	return record.Position(binary.BigEndian.AppendUint64(nil, n))
}

func (e *entry) mark() record.Mark { return record.Mark{Position: position(e.at), Wall: e.wall} }

// fakeConnection is a view of a field: the live one, or as of one position.
type fakeConnection struct {
	*fakeCluster
	frozen map[string]string
}

func (p fakeConnection) Engine() string { return "field" }

func (p fakeConnection) Topology(context.Context) (*engine.Topology, error) {
	if err := p.alive(); err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	m := engine.Member{Address: "field:1", Role: "primary", Healthy: true}
	return &engine.Topology{Engine: "field", Kind: "field", Identity: p.name, Version: "1", Exact: true,
		Shards: []engine.Shard{{Name: p.name, Members: []engine.Member{m},
			Log: &engine.LogWindow{First: p.log[0].mark(), Last: p.log[len(p.log)-1].mark()}}}}, nil
}

func (p fakeConnection) Choose(context.Context, string) (engine.Choice, error) {
	return engine.Choice{Shard: p.name, Member: engine.Member{Address: "field:1", Role: "primary"},
		Reason: "the only one"}, p.alive()
}

func (p fakeConnection) Namespaces(context.Context) ([]engine.Namespace, error) {
	return []engine.Namespace{{Namespace: record.Namespace{Name: "hives", Kind: "collection"},
		Shard: p.name}}, p.alive()
}

func (p fakeConnection) Partitions(context.Context, engine.Namespace, int) ([]engine.Partition, error) {
	return []engine.Partition{{}}, nil
}

func (p fakeConnection) Scan(_ context.Context, _ engine.Namespace, _ engine.Partition,
	fn func(record.Record) error) error {
	for _, k := range slices.Sorted(maps.Keys(p.frozen)) {
		if err := fn(record.Record{Key: []byte(k), Value: []byte(p.frozen[k])}); err != nil {
			return err
		}
	}
	return p.alive()
}

var _ engine.Pinned = fakeConnection{}

func (p fakeConnection) Pin(context.Context, func(string) bool) (*engine.PinnedView, error) {
	if err := p.alive(); err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.idle()
	return &engine.PinnedView{Cluster: fakeConnection{p.fakeCluster, maps.Clone(p.data)},
		Mark: p.log[len(p.log)-1].mark(), Exact: true}, nil
}

func (p fakeConnection) LogEnd(context.Context, string) (record.Mark, error) {
	if err := p.alive(); err != nil {
		return record.Mark{}, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.idle()
	return p.log[len(p.log)-1].mark(), nil
}

func (p fakeConnection) LogStart(ctx context.Context, shard string) (record.Mark, error) {
	return p.LogEnd(ctx, shard)
}
func (p fakeConnection) LogMember(string) string { return "field:1" }

func (p fakeConnection) Follow(ctx context.Context, _ string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	from := binary.BigEndian.Uint64([]byte(after))
	for {
		if err := p.alive(); err != nil {
			return err
		}
		p.mu.Lock()
		p.idle()
		if p.log[0].at > from+1 {
			p.mu.Unlock()
			return fmt.Errorf("%w: it begins at %s", engine.ErrLogLost, p.log[0].wall)
		}
		var changes []record.Change
		var end record.Mark
		for _, e := range p.log {
			if e.at > from && e.op != 0 {
				changes = append(changes,
					record.Change{Op: e.op, Namespace: "hives", Key: []byte(e.key), Value: []byte(e.value),
						At: position(e.at), Wall: e.wall.UnixMilli()})
			}
			end = e.mark()
		}
		from = p.last
		p.mu.Unlock()
		if err := fn(changes, engine.Progress{Mark: end, AtEnd: true}); err != nil {
			if errors.Is(err, engine.ErrStopFollowing) {
				return nil
			}
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Second):
		}
	}
}

func (p fakeConnection) Writer(context.Context) (engine.Writer, error) {
	return nil, errors.New("not in a field")
}
func (p fakeConnection) Close() error { return nil }

type fakeModel struct{}

func (fakeModel) Apply([]byte, *record.Change, bool) ([]byte, error) {
	return nil, errors.New("no patches")
}
func (fakeModel) Alter(def []byte, _ *record.Change) ([]byte, error) { return def, nil }
func (fakeModel) Implied(string) (record.Kind, []byte)               { return "collection", nil }
func (fakeModel) Traits() engine.Traits                              { return engine.Traits{} }
func (fakeModel) CheckChange(*record.Change) error                   { return nil }

func (fakeModel) Staged(string) bool { return false }

func (fakeModel) Kind(string) record.Kind                 { return "collection" }
func (fakeModel) CheckName(string) error                  { return nil }
func (fakeModel) Label(v []byte) string                   { return string(v) }
func (fakeModel) Render(v []byte) string                  { return string(v) }
func (fakeModel) Changes(a, b []byte) []string            { return []string{string(a) + " → " + string(b)} }
func (fakeModel) Describe([]byte) []string                { return nil }
func (fakeModel) Portable(def []byte) []byte              { return def }
func (fakeModel) FormatPosition(p record.Position) string { return p.Hex() }
func (fakeModel) ParsePosition(s string) (p record.Position, err error) {
	return p, p.UnmarshalText([]byte(s))
}

type fakeDriver struct{}

// fakeClusters are the clusters there are, by name.
var fakeClusters sync.Map

func (fakeDriver) Open(_ context.Context, t engine.Target) (engine.Cluster, error) {
	f, ok := fakeClusters.Load(strings.TrimPrefix(t.Address, "field://"))
	if !ok {
		return nil, engine.ErrUnreachable
	}
	return fakeConnection{fakeCluster: f.(*fakeCluster)}, f.(*fakeCluster).alive()
}

func (fakeDriver) Model() engine.Model { return fakeModel{} }

func init() { engine.Register("field", fakeDriver{}, "field") }
