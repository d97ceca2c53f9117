package catalog

import (
	"cmp"
	"context"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"fmt"
	"iter"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// Point is a restore point: the content of a whole cluster at one moment.
type Point struct {
	ID      string `json:"id"`
	Cluster string `json:"cluster"`
	Engine  string `json:"engine"`
	// Identity is the cluster's own name for itself; a point of one cluster
	// is never continued with another's log.
	Identity string `json:"identity"`
	// ClusterID is what the cluster was given when it was made; empty where it did
	// not tell. One that was made anew under the same name has another.
	ClusterID string `json:"cluster_id,omitempty"`
	Version   string `json:"version"`
	// Time is the moment the content is of, by the servers' clocks.
	Time     time.Time    `json:"time"`
	Started  time.Time    `json:"started"`
	Finished time.Time    `json:"finished"`
	Shards   []PointShard `json:"shards"`
	// Made is "scan", "fold" or "changes"; From is the point that one of the latter two
	// began with.
	Made       string           `json:"made"`
	From       string           `json:"from,omitempty"`
	Namespaces []PointNamespace `json:"namespaces"`
	// Skipped names what was left out, and why.
	Skipped []Skipped `json:"skipped,omitempty"`
	// Caveats say what is not guaranteed about this point.
	Caveats []string `json:"caveats,omitempty"`
	// Scope, where set, is which namespaces were asked for, dates filled in;
	// of the log after the point only what concerns them counts.
	Scope []string `json:"scope,omitempty"`
	// Shrunk names namespaces that hold much less than in the point before.
	Shrunk []Shrunk `json:"shrunk,omitempty"`
	// Settings: what is set for the whole cluster (users and roles, templates) is in it.
	Settings bool `json:"settings,omitempty"`
	// Unlogged: the server does not log that namespaces come and go, or it is not
	// known whether it does.
	Unlogged bool `json:"unlogged,omitempty"`
	// Exact says that all content is of one moment of the cluster.
	Exact bool `json:"exact"`
	// Held is for how long something of the cluster was held still for it.
	Held  record.Seconds `json:"held_seconds,omitempty"`
	Stats PointStats     `json:"stats"`
	Tool  string         `json:"tool"`
}

// PointShard describes where in a shard's log the point lies, and who was read.
type PointShard struct {
	Name   string      `json:"name"`
	Mark   record.Mark `json:"mark"` // without position where the shard has no log
	Member string      `json:"member,omitempty"`
	Reason string      `json:"reason,omitempty"` // why this member
}

// PointNamespace is a namespace and its content.
type PointNamespace struct {
	record.Namespace
	// Shard holds this part of the namespace; empty in clusters of one shard.
	Shard string    `json:"shard,omitempty"`
	Root  tree.Root `json:"root"`
	// Cursor says up to where it was read, in the engine's own form; only what is
	// newer need be read for the next point. Empty where that cannot be told.
	Cursor []byte `json:"cursor,omitempty"`
	// Notes is what was noted of what was read, a record each under a key of the
	// engine's own, by which it is told the next time what has changed. It is no content.
	Notes *tree.Root `json:"notes,omitempty"`
	// NotesOfAll says that each thing in the content has a note: what is gone the next time
	// is found by them only then.
	NotesOfAll bool `json:"notes_of_all,omitempty"`
}

// Trees returns all trees that a point needs, each with the namespace it is of: its
// content and its notes.
func (p *Point) Trees() iter.Seq2[*PointNamespace, tree.Root] {
	return func(yield func(*PointNamespace, tree.Root) bool) {
		for i := range p.Namespaces {
			ns := &p.Namespaces[i]
			if !yield(ns, ns.Root) || ns.Notes != nil && !yield(ns, *ns.Notes) {
				return
			}
		}
	}
}

// Shrunk is a namespace that has lost most of its records since a point.
type Shrunk struct {
	Name  string `json:"name"`
	Was   int64  `json:"was"` // records in the point before
	Is    int64  `json:"is"`
	Since string `json:"since"` // the point before
}

// Skipped is something a point does not hold.
type Skipped struct {
	Name   string `json:"name"`
	Reason string `json:"reason"`
}

// PointStats describes what making the point took.
type PointStats struct {
	Records int64 `json:"records"`
	Bytes   int64 `json:"bytes"`  // logical: keys and values
	Stored  int64 `json:"stored"` // new bytes in the store
	New     int64 `json:"new"`    // new nodes
	Known   int64 `json:"known"`  // nodes that were there already
	Patched int64 `json:"patched"`
	Changes int64 `json:"changes"` // log changes folded in
}

// HasLog reports whether the cluster keeps a log, which can be followed from the point
// on.
func (p *Point) HasLog() bool {
	return slices.ContainsFunc(p.Shards, func(s PointShard) bool { return s.Mark.Position != "" })
}

// Shard returns the mark of one shard.
func (p *Point) Shard(name string) (PointShard, bool) {
	for _, s := range p.Shards {
		if s.Name == name {
			return s, true
		}
	}
	return PointShard{}, false
}

// NewPointID makes an id that sorts by time and cannot be had twice.
func NewPointID(t time.Time) string {
	tail, _ := hex.DecodeString(sealed.NewID(3))
	return t.UTC().Format("20060102-150405-") + strings.ToLower(
		base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(tail))[:4]
}

// Whole is a namespace of a point over all its shards.
type Whole struct {
	PointNamespace
	Shards []string // that hold it, where there are several in the cluster
}

// Parts returns the point's namespaces by name, without those that only say where
// content is: of one on several shards the sums, which count twice what a
// migration has copied and not yet deleted.
func (p *Point) Parts() []Whole {
	var out []Whole
	for _, ns := range p.Namespaces {
		if ns.Kind == "layout" {
			continue
		}
		i := len(out) - 1
		if i < 0 || out[i].Name != ns.Name {
			out = append(out, Whole{PointNamespace: ns})
			i++
		} else {
			out[i].Root.Records += ns.Root.Records
			out[i].Root.Bytes += ns.Root.Bytes
		}
		if ns.Shard != "" {
			out[i].Shards = append(out[i].Shards, ns.Shard)
		}
	}
	return out
}

func (s *Catalog) PointName(cluster, id string) string { return s.pointFolder(cluster) + id }

func (s *Catalog) pointFolder(cluster string) string {
	return sealed.PointsPrefix + s.NamePart("cluster", cluster) + "/"
}

// ErrNoPoint is returned when there is no point of that id.
var ErrNoPoint = errors.New("no such point")

// PutPoint makes a point exist. All its nodes must have been flushed.
func (s *Catalog) PutPoint(ctx context.Context, p *Point) error {
	if err := sealed.CheckClusterName(p.Cluster); err != nil {
		return err
	}
	s.SessionMu.Lock()
	defer s.SessionMu.Unlock()
	if s.Session != nil {
		if err := s.relies(ctx, p); err != nil {
			return err
		}
	}
	if err := s.lockPoint(ctx, p); err != nil {
		return err
	}
	if s.Session != nil {
		if err := s.Session.Confirm(ctx); err != nil {
			return err
		}
	}
	if err := s.PutObject(ctx, s.ListKey(), s.PointName(p.Cluster, p.ID), p); err != nil {
		return err
	}
	if s.Session != nil {
		// What it relies on may have gone while this process stood still just
		// before: then it never was.
		if err := s.Session.Confirm(ctx); err != nil {
			return errors.Join(err, s.RemoveObject(context.WithoutCancel(ctx), s.PointName(p.Cluster, p.ID)))
		}
	}
	s.advance(ctx, p.Cluster, func(h *Head) {
		if !p.Time.Before(h.Time) {
			h.Point, h.Time = p.ID, p.Time
		}
	})
	return nil
}

// Points returns the points of a cluster (all clusters when empty), oldest
// first. Manifests that cannot be read are given as errors beside the rest.
func (s *Catalog) Points(ctx context.Context, cluster string) (points []*Point, unreadable []error, err error) {
	prefix := sealed.PointsPrefix
	if cluster != "" {
		prefix = s.pointFolder(cluster)
	}
	var names []string
	if err := s.Blob.List(ctx, prefix, func(i blob.Info) error {
		names = append(names, i.Name)
		return nil
	}); err != nil {
		return nil, nil, err
	}
	for _, n := range names {
		p, err := sealed.Recall(s.Limits.Memo, n, func(p *Point) error { return s.GetObject(ctx, n, p) },
			(*Point).weight)
		if err == nil && n != s.PointName(p.Cluster, p.ID) {
			err = fmt.Errorf("%s: %w: it is point %s of %s", n, sealed.ErrDamaged, p.ID, p.Cluster)
		}
		switch {
		case err == nil:
			points = append(points, p)
		case errors.Is(err, sealed.ErrDamaged):
			unreadable = append(unreadable, err)
		case errors.Is(err, blob.ErrNotFound):
		default:
			return nil, nil, err
		}
	}
	slices.SortStableFunc(points, func(a, b *Point) int {
		return cmp.Or(a.Time.Compare(b.Time), a.Finished.Compare(b.Finished))
	})
	return points, unreadable, nil
}

// PutSegment writes a log segment. That two captures cannot write the same
// stretch is in its name: the second one gets [blob.ErrExists].
func (s *Catalog) PutSegment(ctx context.Context, h journal.Header, data []byte) error {
	if err := sealed.CheckClusterName(h.Cluster); err != nil {
		return err
	}
	if err := s.CreateObject(ctx, s.SegmentName(h), data); err != nil {
		return err
	}
	s.advance(ctx, h.Cluster, func(n *Head) {
		if h.Last.Position > n.Logs[h.Shard].Position {
			n.Logs[h.Shard] = h.Last
		}
	})
	return nil
}

// PutNextSegment is PutSegment at the end of a log that was seen. Where this process may have stood still
// since, it looks again: what followed then may have been put together with others, and its name be free
// again. [blob.ErrExists]: the log ends elsewhere by now.
func (s *Catalog) PutNextSegment(ctx context.Context, h journal.Header, data []byte, seen sealed.Sight) error {
	if s.Stale(seen) {
		chains, _, err := s.Chains(ctx, h.Cluster)
		if err != nil {
			return err
		}
		var prev tree.Hash
		end := h.After
		if c := chains[h.Shard]; c != nil && len(c.Segments) > 0 {
			end, prev, _ = c.End()
		}
		if end.Position != h.After.Position || prev != h.Prev {
			return fmt.Errorf("the log of %s ends at %s: %w", h.Shard, end.Position.Hex(), blob.ErrExists)
		}
	}
	return s.PutSegment(ctx, h, data)
}

func (s *Catalog) SegmentName(h journal.Header) string {
	shard := h.Shard
	if s.Keyring == nil {
		shard = ShardFolder(shard)
	}
	folder := s.JournalFolder(h.Cluster) + s.NamePart("shard", shard)
	if h.Joined > 0 {
		return folder + "/j" + h.After.Position.Hex() + "-" + hex.EncodeToString(h.Tail[:8])
	}
	return folder + "/p" + h.After.Position.Hex()
}

// BeginOf returns, from a segment's name, the position after which it begins.
func BeginOf(name string) string {
	at, _, _ := strings.Cut(name[strings.LastIndexByte(name, '/')+2:], "-")
	return at
}

func (s *Catalog) JournalFolder(cluster string) string {
	return sealed.JournalPrefix + s.NamePart("cluster", cluster) + "/"
}

// ShardFolder keeps shard names that an object name could not hold apart.
func ShardFolder(shard string) string {
	if blob.CheckName(shard) == nil && !strings.Contains(shard, "/") && !strings.HasPrefix(shard, "=") {
		return shard
	}
	return "=" + hex.EncodeToString([]byte(shard))
}

// chainLooks is how often a log is looked at that changes meanwhile.
const chainLooks = 5

// Chains returns the log of each shard of a cluster. Segments whose header
// cannot be read are missing from the chains and given as errors. Where segments are put together with
// others while they are looked at it looks again: parts that were listed have gone, and what took their
// place was not there yet.
func (s *Catalog) Chains(ctx context.Context,
	cluster string) (chains map[string]*journal.Chain, unreadable []error, err error) {
	return s.chains(ctx, cluster, func(chains map[string]*journal.Chain) bool {
		for _, c := range chains {
			for _, g := range c.Gaps() {
				if g.Reason != journal.Beginning && !slices.ContainsFunc(c.Segments,
					func(h journal.Header) bool { return h.Gap == g.Reason }) {
					return true
				}
			}
		}
		return false
	})
}

// SettledChains is Chains for who removes segments: what is listed is the same before and after.
func (s *Catalog) SettledChains(ctx context.Context,
	cluster string) (chains map[string]*journal.Chain, unreadable []error, err error) {
	return s.chains(ctx, cluster, func(map[string]*journal.Chain) bool { return true })
}

// chains reads a log, again where that is doubted and other segments are listed by then.
func (s *Catalog) chains(ctx context.Context, cluster string, doubted func(map[string]*journal.Chain) bool) (
	chains map[string]*journal.Chain, unreadable []error, err error) {
	// Of a million segments there is room for the names once, and not beside their headers.
	list := func() (infos []blob.Info, listed tree.Hash, err error) {
		sum := blake3.New()
		err = s.Blob.List(ctx, s.JournalFolder(cluster), func(i blob.Info) error {
			infos = append(infos, i)
			_, _ = sum.WriteString(i.Name + "\n")
			return nil
		})
		return infos, tree.Hash(sum.Sum(nil)), err
	}
	infos, listed, err := list()
	for look := 1; err == nil; look++ {
		var whole bool
		if chains, unreadable, whole, err = s.chainsOf(ctx, infos); err != nil {
			return nil, nil, err
		}
		if look == chainLooks || whole && !doubted(chains) {
			return chains, unreadable, nil
		}
		was := listed
		if infos, listed, err = list(); err == nil && whole && was == listed {
			return chains, unreadable, nil
		}
	}
	return nil, nil, err
}

// chainsOf reads the headers of segments; whole reports that all of them were there. It forgets the
// segments as it reads them.
func (s *Catalog) chainsOf(ctx context.Context, infos []blob.Info) (chains map[string]*journal.Chain,
	unreadable []error, whole bool, err error) {
	inFolder := map[string]int{}
	for i := range infos {
		inFolder[path.Dir(infos[i].Name)]++
	}
	byShard := map[string][]journal.Header{}
	whole = true
	// Headers are small, and a store may be far away.
	const atOnce, most = 16, 1024
	heads, errs := make([]journal.Header, most), make([]error, most)
	for part := range slices.Chunk(infos, len(heads)) {
		g, gctx := errgroup.WithContext(ctx)
		for first := range atOnce {
			g.Go(func() error {
				for n := first; n < len(part); n += atOnce {
					heads[n], errs[n] = s.namedHeader(gctx, part[n])
					if err := errs[n]; err != nil && !isDamaged(err) && !errors.Is(err, blob.ErrNotFound) {
						return err
					}
				}
				return nil
			})
		}
		if err := g.Wait(); err != nil {
			return nil, nil, false, err
		}
		for n, i := range part {
			h := &heads[n]
			switch {
			case isDamaged(errs[n]):
				unreadable = append(unreadable, fmt.Errorf("%s: %w", i.Name, errs[n]))
			case errs[n] != nil:
				whole = false
			case byShard[h.Shard] == nil:
				byShard[h.Shard] = append(make([]journal.Header, 0, inFolder[path.Dir(i.Name)]), *h)
			default:
				byShard[h.Shard] = append(byShard[h.Shard], *h)
			}
		}
		clear(part)
	}
	chains = map[string]*journal.Chain{}
	for shard, hs := range byShard {
		chains[shard] = journal.NewChain(shard, hs)
	}
	return chains, unreadable, whole, nil
}

// namedHeader is SegmentHeader of a segment that must bear the name which its header gives it.
func (s *Catalog) namedHeader(ctx context.Context, i blob.Info) (journal.Header, error) {
	h, err := s.SegmentHeader(ctx, i)
	if name := s.SegmentName(h); err == nil && i.Name != name {
		err = fmt.Errorf("%w: it is %s", journal.ErrDamaged, name)
	}
	return h, err
}

func isDamaged(err error) bool {
	return errors.Is(err, journal.ErrDamaged) || errors.Is(err, sealed.ErrDamaged)
}

func (s *Catalog) SegmentHeader(ctx context.Context, i blob.Info) (journal.Header, error) {
	h, err := sealed.Recall(s.Limits.Memo, i.Name,
		func(h *journal.Header) (err error) { *h, err = s.readSegmentHeader(ctx, i); return err },
		(*journal.Header).Weight)
	if err != nil {
		return journal.Header{}, err
	}
	return *h, nil
}

func (s *Catalog) readSegmentHeader(ctx context.Context, i blob.Info) (h journal.Header, err error) {
	h, err = s.frontHeader(ctx, i)
	if isDamaged(err) {
		if whole, rerr := s.RebuildObject(ctx, i.Name); rerr == nil {
			h, _, err = journal.ReadHeader(s.Ring(ctx), whole)
			h.Size = i.Size
		}
	}
	if err == nil && h.DoubtedBy(s.Doubts) {
		err = fmt.Errorf("%w: it says that it was put together of others, and nobody did that who can read them",
			journal.ErrDamaged)
	}
	return h, err
}

// frontHeader reads a segment's header from its first bytes.
func (s *Catalog) frontHeader(ctx context.Context, i blob.Info) (h journal.Header, err error) {
	front, err := s.Blob.ReadAt(ctx, i.Name, 0, int(min(i.Size, journal.HeadSize)))
	if err != nil {
		return h, err
	}
	n, err := journal.HeaderLength(front)
	if err != nil {
		return h, err
	}
	if n > len(front) {
		if int64(n) > i.Size {
			return h, fmt.Errorf("%w: cut short", journal.ErrDamaged)
		}
		if front, err = s.Blob.ReadAt(ctx, i.Name, 0, n); err != nil {
			return h, err
		}
	}
	h, _, err = journal.ReadHeader(s.Ring(ctx), front)
	h.Size = i.Size
	return h, err
}

// ReadSegment checks a segment and calls fn with each of its changes.
func (s *Catalog) ReadSegment(ctx context.Context, h journal.Header, fn func(*record.Change) error) error {
	name := s.SegmentName(h)
	data, err := s.Blob.Read(ctx, name)
	if err != nil {
		return err
	}
	got, err := journal.Read(ctx, s.Ring(ctx), data, func(*record.Change) error { return nil })
	if errors.Is(err, journal.ErrDamaged) {
		if whole, rerr := s.RebuildObject(ctx, name); rerr == nil {
			data = whole
		}
	}
	if err == nil || errors.Is(err, journal.ErrDamaged) {
		got, err = journal.Read(ctx, s.Ring(ctx), data, fn)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if got.ID != h.ID {
		return fmt.Errorf("%s: %w: another segment than before", name, journal.ErrDamaged)
	}
	return nil
}

// CheckPoint reads everything a point is made of and builds its trees anew:
// when it returns nil, every record is there and is what it was. progress is
// called with the namespace and its records and bytes read so far.
func (s *Catalog) CheckPoint(ctx context.Context, p *Point, progress func(ns string, records, bytes int64)) error {
	for i := range p.Namespaces {
		if err := s.CheckNamespace(ctx, &p.Namespaces[i], progress); err != nil {
			return err
		}
	}
	return nil
}

// CheckNamespace is CheckPoint of one namespace.
func (s *Catalog) CheckNamespace(ctx context.Context, ns *PointNamespace,
	progress func(ns string, records, bytes int64)) error {
	if !ns.Kind.HasRecords() {
		return nil
	}
	b := tree.NewBuilder(tree.Nowhere(s.Cuts()))
	var n, size int64
	err := tree.Walk(ctx, s, ns.Root, func(r record.Record) error {
		n++
		size += int64(len(r.Key) + len(r.Value))
		if n%4096 == 0 {
			progress(ns.Name, n, size)
			if err := ctx.Err(); err != nil {
				return err
			}
		}
		return b.Add(ctx, r)
	})
	if err != nil {
		return fmt.Errorf("%s: %w", ns.Name, err)
	}
	root, err := b.Finish(ctx)
	if err != nil {
		return fmt.Errorf("%s: %w", ns.Name, err)
	}
	if root != ns.Root {
		return fmt.Errorf("%s: %w: builds to root %s with %d records, the point says %s with %d",
			ns.Name, sealed.ErrDamaged, root.Hash.Short(), root.Records, ns.Root.Hash.Short(), ns.Root.Records)
	}
	progress(ns.Name, n, size)
	return nil
}
