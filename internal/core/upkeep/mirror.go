package upkeep

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/sealed"
)

// MirrorOptions say what to mirror.
type MirrorOptions struct {
	// Clusters, where given, are all that is mirrored; Since leaves out points
	// that are older, and the log before them. With either, content files that none of
	// the points needs are left out.
	Clusters []string
	Since    time.Time
	// Parallel is how many objects are copied at once (default 4).
	Parallel int
	Emit     func(object string, objects int, bytes int64)
	// Others, where set, has other processes copy content files ([Upkeep.CopyFiles]), and calls done with what came
	// of some of them, one at a time. What they leave out is copied here.
	Others func(ctx context.Context, files []string, done func(of []string, r *FilesCopied)) error
}

// Mirrored describes what a mirroring did.
type Mirrored struct {
	Points   int   `json:"points"`   // that the mirror has now
	Copied   int   `json:"copied"`   // objects
	Bytes    int64 `json:"bytes"`    // of them
	There    int   `json:"there"`    // objects that were there already
	Replaced int   `json:"replaced"` // that were there, but damaged
	// Damaged objects of this store were not copied.
	Damaged []string `json:"damaged,omitempty"`
}

// ErrOtherStore is returned when the place holds another store.
var ErrOtherStore = errors.New("it holds another store")

// Mirror copies what another place does not have yet of this store, checking
// each object. The other place is then a full store, opened by the same keys.
// It can be ended at any time and begun again: points are copied last, when all
// they need is there. What was retired here stays there.
func (s *Upkeep) Mirror(ctx context.Context, to blob.Backend, o MirrorOptions) (*Mirrored, error) {
	if o.Parallel <= 0 {
		o.Parallel = 4
	}
	if s.WriteOnly() {
		return nil, fmt.Errorf("mirror: %w, so it cannot see whether what it copies is right", sealed.ErrWriteOnly)
	}
	d, err := sealed.ReadDescriptor(ctx, to)
	fresh := errors.Is(err, blob.ErrNotFound)
	switch {
	case err == nil && !s.SameDescriptor(d):
		return nil, fmt.Errorf("%s: %w (%s)", to, ErrOtherStore, d.ID)
	case err != nil && !fresh:
		return nil, fmt.Errorf("%s: %w", to, err)
	case fresh:
		// The descriptor is the last of the first stage.
		err := to.List(ctx, "", func(i blob.Info) error {
			name := strings.TrimPrefix(i.Name, sealed.ParityPrefix)
			if sealed.HasSecondCopy(name) {
				return nil // of a mirroring that was ended
			}
			return fmt.Errorf("%s: %w: %s", to, sealed.ErrStoreExists, i.Name)
		})
		if err != nil {
			return nil, err
		}
	}
	// While this counts as a writer nothing is removed that it has yet to copy.
	if err := s.Enlist(ctx, s.Refresh); err != nil {
		return nil, err
	}
	m := &mirror{s: s, to: to, o: o, out: &Mirrored{}, sizes: map[string]int64{}, begins: map[string]journal.Header{}}
	err = to.List(ctx, "", func(i blob.Info) error { m.sizes[i.Name] = i.Size; return nil })
	if err != nil {
		return nil, err
	}
	// points first, then what they need: what comes later is for the next time.
	points, others, files, err := m.choose(ctx)
	if err != nil {
		return nil, err
	}
	if points, err = m.restorable(ctx, points, files); err != nil {
		return nil, err
	}
	// Points come when all they need is there, and what names them after them.
	// That a log begins where it does for a reason is said before it is there.
	var keys, marks, logs, records []string
	for _, n := range others {
		switch kind, _, _ := strings.Cut(n, "/"); kind {
		case "holders", "datakeys", "refused":
			keys = append(keys, n)
		case "marks":
			if strings.Contains(n, "/trim-") {
				marks = append(marks, n)
			}
		case "listings", "journal", "scrubs", "retired":
			logs = append(logs, n)
		case "runs", "holds", "proofs", "heads", "evidence":
			records = append(records, n)
		}
	}
	for _, stage := range []func() error{
		func() error { return m.copyAll(ctx, keys) },
		func() error { return m.copyAll(ctx, []string{sealed.DescriptorName}) },
		func() error { return m.copyAll(ctx, marks) },
		func() error { return m.putBegins(ctx) },
		func() error { return m.copyFiles(ctx, files) },
		func() error { return m.copyAll(ctx, logs) },
		func() error { return m.copyAll(ctx, points) },
		func() error { return m.copyAll(ctx, records) },
	} {
		if err := stage(); err != nil {
			return m.out, err
		}
	}
	m.out.Points = len(points)
	slices.Sort(m.out.Damaged)
	return m.out, nil
}

// putBegins records of logs that are copied in part only that they begin there for
// a reason.
func (m *mirror) putBegins(ctx context.Context) error {
	s := m.s
	for _, h := range m.begins {
		name := s.MarkName(h.Cluster, s.trimMark(trimPrefix, h.Shard, h.After.Position))
		data, err := sealed.EncodeManifest(s.ListKey(), name, trimmed{h.Shard, h.After.Position, time.Now().UTC()})
		if err == nil {
			err = m.to.Create(ctx, name, data)
		}
		if err != nil && !errors.Is(err, blob.ErrExists) {
			return err
		}
	}
	return nil
}

// restorable leaves points out of which something is missing: a point in the
// mirror says that all of it is there.
func (m *mirror) restorable(ctx context.Context, points, files []string) (out []string, err error) {
	s := m.s
	if err := s.Refresh(ctx); err != nil {
		return nil, err
	}
	listed := map[string]bool{}
	for _, p := range files {
		listed[p] = true
	}
	seen := s.Index.NewNodeSet()
	for _, n := range points {
		p := new(catalog.Point)
		err := s.GetObject(ctx, n, p)
		need := map[string]bool{}
		if err == nil {
			// A tree that was gone through for another point is not looked at again.
			err = s.FilesOf(ctx, p, seen, need)
		}
		for file := range need {
			if !listed[file] && err == nil {
				err = fmt.Errorf("%s: %w", file, sealed.ErrMissing)
			}
		}
		switch {
		case err == nil:
			out = append(out, n)
		case errors.Is(err, blob.ErrNotFound):
		case errors.Is(err, sealed.ErrDamaged), errors.Is(err, sealed.ErrMissing):
			m.out.Damaged = append(m.out.Damaged, fmt.Sprintf("%s: %v", n, err))
			seen = s.Index.NewNodeSet() // what was seen of it was not all gone through
		default:
			return nil, err
		}
	}
	return out, nil
}

type mirror struct {
	s     *Upkeep
	to    blob.Backend
	o     MirrorOptions
	sizes map[string]int64 // of what is there

	// begins are the first segments of logs of which earlier ones are left out.
	begins map[string]journal.Header

	mu  sync.Mutex
	out *Mirrored
}

// selection is what of a store is copied.
type selection struct {
	all             bool
	points          []string
	files           map[string]bool      // content files that the points need; of no meaning with all
	journals        map[string]bool      // folders of logs
	since           map[string]time.Time // by such a folder, the time of the first point that is copied
	others, content []string
}

// choose names what is to be there.
func (m *mirror) choose(ctx context.Context) (points, others, files []string, err error) {
	sel := &selection{all: len(m.o.Clusters) == 0 && m.o.Since.IsZero(),
		files: map[string]bool{}, journals: map[string]bool{}, since: map[string]time.Time{}}
	if sel.all {
		err = m.chooseAll(ctx, sel)
	} else {
		err = m.choosePoints(ctx, sel)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	// Listed after the points, so that all they need is in it.
	sizes := map[string]int64{}
	chosen := map[string]bool{}
	for _, p := range sel.points {
		chosen[p[len(sealed.PointsPrefix):]] = true
	}
	err = m.s.Blob.List(ctx, "", func(i blob.Info) error {
		sizes[i.Name] = i.Size
		sel.add(i.Name, chosen)
		return nil
	})
	if err == nil && !m.o.Since.IsZero() {
		m.youngLogs(ctx, sel, sizes)
	}
	return sel.points, sel.others, sel.content, err
}

// chooseAll chooses all points, and tells of those that are missing.
func (m *mirror) chooseAll(ctx context.Context, sel *selection) error {
	err := m.s.Blob.List(ctx, sealed.PointsPrefix,
		func(i blob.Info) error { sel.points = append(sel.points, i.Name); return nil })
	if err != nil {
		return err
	}
	lost, err := m.s.Missing(ctx)
	for _, l := range lost {
		m.out.Damaged = append(m.out.Damaged, l.String())
	}
	return err
}

// choosePoints chooses the points of some clusters, or from a time on, and what they
// need.
func (m *mirror) choosePoints(ctx context.Context, sel *selection) error {
	list, unreadable, err := m.s.Points(ctx, "")
	if err == nil {
		err = m.s.Refresh(ctx)
	}
	if err != nil {
		return err
	}
	for _, u := range unreadable {
		m.out.Damaged = append(m.out.Damaged, u.Error())
	}
	seen := m.s.Index.NewNodeSet()
	for _, p := range list {
		if len(m.o.Clusters) > 0 && !slices.Contains(m.o.Clusters, p.Cluster) {
			continue
		}
		folder := m.s.JournalFolder(p.Cluster)
		sel.journals[folder] = true
		if p.Time.Before(m.o.Since) {
			continue
		}
		if _, ok := sel.since[folder]; !ok {
			sel.since[folder] = p.Time
		}
		sel.points = append(sel.points, m.s.PointName(p.Cluster, p.ID))
		if err := m.s.FilesOf(ctx, p, seen, sel.files); err != nil {
			return fmt.Errorf("point %s of %s: %w", p.ID, p.Cluster, err)
		}
	}
	return nil
}

// add takes an object in, where it belongs to what is copied.
func (sel *selection) add(name string, chosen map[string]bool) {
	switch kind := sealed.KindOf(name).Prefix; kind {
	case sealed.ContentPrefix:
		if sel.all || sel.files[name] {
			sel.content = append(sel.content, name)
		}
	case sealed.JournalPrefix:
		if sel.all || sel.journals[journalFolderOf(name)] {
			sel.others = append(sel.others, name)
		}
	case sealed.RunsPrefix, sealed.HeadsPrefix, sealed.RetiredPrefix:
		// They name points that are not copied.
		if sel.all {
			sel.others = append(sel.others, name)
		}
	case sealed.HoldsPrefix, sealed.ProofsPrefix:
		_, of, _ := strings.Cut(name, "/")
		if cut := strings.LastIndexByte(of, '-'); kind == sealed.HoldsPrefix && cut > 0 {
			of = of[:cut]
		}
		if sel.all || chosen[of] {
			sel.others = append(sel.others, name)
		}
	case sealed.PointsPrefix:
	default:
		sel.others = append(sel.others, name)
	}
}

// journalFolderOf returns the folder of a cluster's log, from a segment's name.
func journalFolderOf(name string) string {
	return strings.Join(strings.SplitAfterN(name, "/", 3)[:2], "")
}

// youngLogs leaves out segments that end before the first point that is copied, and
// notes where each log begins then.
func (m *mirror) youngLogs(ctx context.Context, sel *selection, sizes map[string]int64) {
	sel.others = slices.DeleteFunc(sel.others, func(n string) bool {
		if !strings.HasPrefix(n, sealed.JournalPrefix) {
			return false
		}
		from, ok := sel.since[journalFolderOf(n)]
		if !ok {
			return true // no point of that cluster is young enough
		}
		h, err := m.s.SegmentHeader(ctx, blob.Info{Name: n, Size: sizes[n]})
		if err != nil {
			return false // copied, and found out there
		}
		if h.Last.Wall.Before(from) {
			return true
		}
		if at, ok := m.begins[h.Cluster+"/"+h.Shard]; !ok || h.After.Position < at.After.Position {
			m.begins[h.Cluster+"/"+h.Shard] = h
		}
		return false
	})
}

func (m *mirror) copyAll(ctx context.Context, names []string) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(m.o.Parallel)
	for _, n := range names {
		g.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return m.copy(ctx, n)
		})
	}
	return g.Wait()
}

// copy brings one object over, with its parity before it.
func (m *mirror) copy(ctx context.Context, name string) error {
	s := m.s
	if _, there := m.sizes[name]; there && name != sealed.DescriptorName {
		m.mu.Lock()
		m.out.There++
		m.mu.Unlock()
		return nil
	}
	data, err := s.Blob.Read(ctx, name)
	if errors.Is(err, blob.ErrNotFound) {
		return nil // removed meanwhile; what needs it would have kept it
	}
	if err != nil {
		return err
	}
	if !s.right(ctx, name, data) {
		whole, rerr := s.RebuildObject(ctx, name)
		if rerr != nil || !s.right(ctx, name, whole) {
			m.mu.Lock()
			defer m.mu.Unlock()
			m.out.Damaged = append(m.out.Damaged, name)
			return nil
		}
		data = whole
	}
	if k, n := s.ParityOf(name); n > 0 {
		more, err := sealed.EncodeParity(name, data, k, n)
		if err == nil {
			err = m.to.Create(ctx, sealed.ParityPrefix+name, more)
		}
		if err != nil && !errors.Is(err, blob.ErrExists) {
			return err
		}
	}
	err = m.to.Create(ctx, name, data)
	if errors.Is(err, blob.ErrExists) {
		// There since, or made by who mirrors at the same time: then it is the same.
		was, rerr := m.to.Read(ctx, name)
		if rerr != nil {
			return rerr
		}
		if !bytes.Equal(was, data) {
			return fmt.Errorf("%s has another %s than %s; one of the two was written to by itself", m.to, name, s.Blob)
		}
		err = nil
	}
	if err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.out.Copied++
	m.out.Bytes += int64(len(data))
	if m.o.Emit != nil {
		m.o.Emit(name, m.out.Copied, m.out.Bytes)
	}
	return nil
}
