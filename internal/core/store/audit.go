package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// AuditOptions say how to audit.
type AuditOptions struct {
	// Parts and Part read only the packs whose turn it is, the Part-th (from 0)
	// of Parts; all else is read always. A Part below zero is the one after the
	// last audit's.
	Parts, Part int
	// Mend heals what can be healed.
	Mend bool
	// From is another place that holds the same store, to heal from.
	From blob.Backend
	// Emit hears how far it is.
	Emit func(object string, objects int, bytes int64)
}

// Audit is the result of one.
type Audit struct {
	When    time.Time `json:"when"`
	Took    float64   `json:"seconds"`
	Part    int       `json:"part"`
	Parts   int       `json:"parts"`
	Objects int       `json:"objects"` // read
	Bytes   int64     `json:"bytes"`
	// Damaged objects, in order of names; Mended of them are whole again.
	Damaged []Damage `json:"damaged,omitempty"`
	// Points that cannot be restored whole, and log that cannot be read.
	Points []HurtPoint `json:"points,omitempty"`
	Log    []HurtLog   `json:"log,omitempty"`
	// Whole counts the points of each cluster of which everything is there.
	Whole map[string]int `json:"whole"`
}

// Damage is what is wrong with one object.
type Damage struct {
	Object string `json:"object"`
	What   string `json:"what"`
	// Nodes that cannot be read from it; of a pack.
	Nodes  int    `json:"nodes,omitempty"`
	Mended string `json:"mended,omitempty"` // from what; empty where it is not
	Harm   bool   `json:"harm"`             // something that was protected is lost by it
}

// HurtPoint is a point that lacks something.
type HurtPoint struct {
	Cluster    string          `json:"cluster"`
	ID         string          `json:"id"`
	Time       time.Time       `json:"time"`
	Namespaces []HurtNamespace `json:"namespaces"`
}

// HurtNamespace is a namespace of a point that lacks records. Where an inner
// node is lost, all below it counts as lost.
type HurtNamespace struct {
	Name  string `json:"name"`
	Shard string `json:"shard,omitempty"`
	Lost  int64  `json:"lost"`  // records that cannot be read
	Of    int64  `json:"of"`    // records
	Where string `json:"where"` // the first object at fault
}

// HurtLog is a stretch of a log that cannot be read.
type HurtLog struct {
	Cluster string    `json:"cluster,omitempty"` // empty where not even that can be read
	Shard   string    `json:"shard,omitempty"`
	From    time.Time `json:"from,omitzero"`
	To      time.Time `json:"to,omitzero"`
	Object  string    `json:"object"`
}

// Sound says that nothing is wrong, or that all that was is mended.
func (a *Audit) Sound() bool {
	for _, d := range a.Damaged {
		if d.Mended == "" {
			return false
		}
	}
	return len(a.Points) == 0 && len(a.Log) == 0
}

const (
	auditPrefix  = "audits/"
	mendedPrefix = "mended/"
)

type auditor struct {
	s   *Store
	o   AuditOptions
	out *Audit
	bad map[tree.Hash]string // nodes that cannot be read, and where they should be
}

// Audit reads everything, or a part of it, and says what is wrong and what that
// means.
func (s *Store) Audit(ctx context.Context, o AuditOptions) (*Audit, error) {
	if s.WriteOnly() {
		return nil, fmt.Errorf("audit: %w", ErrWriteOnly)
	}
	if o.Parts < 1 {
		o.Parts = 1
	}
	if o.Emit == nil {
		o.Emit = func(string, int, int64) {}
	}
	if o.Part < 0 {
		o.Part = 0
		if last, _ := s.LastAudit(ctx); last != nil && last.Parts == o.Parts {
			o.Part = (last.Part + 1) % o.Parts
		}
	}
	if o.Mend {
		l, err := s.Acquire(ctx, reclaimLease) // nothing may be removed meanwhile
		if err != nil {
			return nil, err
		}
		defer l.Release(context.WithoutCancel(ctx))
		if err := s.finishMending(ctx); err != nil {
			return nil, err
		}
	}
	began := time.Now()
	a := &auditor{s: s, o: o, bad: map[tree.Hash]string{},
		out: &Audit{When: began.UTC().Truncate(time.Second), Part: o.Part % o.Parts, Parts: o.Parts, Whole: map[string]int{}}}
	if err := a.readAll(ctx); err != nil {
		return nil, err
	}
	// What the content files say of themselves counts from here on.
	s.ownLists.Store(true)
	defer s.ownLists.Store(false)
	if err := s.Refresh(ctx); err != nil {
		return nil, err
	}
	if err := a.fetchMissing(ctx); err != nil {
		return nil, err
	}
	if err := a.listings(ctx); err != nil {
		return nil, err
	}
	if err := a.meaning(ctx); err != nil {
		return nil, err
	}
	if err := a.missing(ctx); err != nil {
		return nil, err
	}
	slices.SortFunc(a.out.Damaged, func(x, y Damage) int { return strings.Compare(x.Object, y.Object) })
	var hurt []string
	for _, d := range a.out.Damaged {
		if strings.HasPrefix(d.Object, "packs/") && d.Mended == "" {
			hurt = append(hurt, d.Object)
		}
	}
	if err := s.suspect(ctx, hurt); err != nil {
		return nil, err
	}
	a.out.Took = time.Since(began).Seconds()
	name := auditPrefix + began.UTC().Format("20060102T150405.000") + "-" + newID(4)
	return a.out, s.put(ctx, s.listKey(), name, a.out)
}

// LastAudit gives the newest audit that was kept, or nil.
func (s *Store) LastAudit(ctx context.Context) (*Audit, error) {
	last := ""
	err := s.blob.List(ctx, auditPrefix, func(i blob.Info) error { last = max(last, i.Name); return nil })
	if err != nil || last == "" {
		return nil, err
	}
	a := new(Audit)
	if err := s.get(ctx, last, a); err != nil {
		return nil, err
	}
	return a, nil
}

// theirTurn says whether a pack is of the part to be read.
func (a *auditor) theirTurn(name string) bool {
	h := fnv.New32a()
	_, _ = h.Write([]byte(name))
	return int(h.Sum32()%uint32(a.o.Parts)) == a.o.Part
}

// readAll reads and checks objects one by one, and mends them where asked.
func (a *auditor) readAll(ctx context.Context) error {
	s := a.s
	if err := a.hidden(ctx); err != nil {
		return err
	}
	var infos []blob.Info
	if err := s.blob.List(ctx, "", func(i blob.Info) error { infos = append(infos, i); return nil }); err != nil {
		return err
	}
	there := map[string]bool{}
	for _, i := range infos {
		there[i.Name] = true
	}
	if !there[descriptorName] && !there[parityPrefix+descriptorName] {
		return fmt.Errorf("%s: %w: what is listed there does not show the store that was opened (%d objects); nothing was checked", s.blob, ErrMissing, len(infos))
	}
	if err := a.secondCopies(ctx, infos, there); err != nil {
		return err
	}
	for _, i := range infos {
		if err := ctx.Err(); err != nil {
			return err
		}
		pack := strings.HasPrefix(strings.TrimPrefix(i.Name, parityPrefix), "packs/")
		if pack && !a.theirTurn(strings.TrimPrefix(i.Name, parityPrefix)) || strings.HasPrefix(i.Name, "probe/") {
			continue
		}
		data, err := s.blob.Read(ctx, i.Name)
		if errors.Is(err, blob.ErrNotFound) {
			continue // removed meanwhile
		}
		var what error
		nodes := 0
		if err != nil {
			if ctx.Err() != nil {
				return err
			}
			what = fmt.Errorf("it cannot be read: %w", err)
		} else {
			nodes, what = a.check(i.Name, data)
		}
		a.out.Objects++
		a.out.Bytes += int64(len(data))
		a.o.Emit(i.Name, a.out.Objects, a.out.Bytes)
		if what == nil {
			if _, more := s.parityOf(i.Name); more > 0 && !there[parityPrefix+i.Name] {
				what = errors.New("its parity is missing")
			} else {
				continue
			}
		}
		d := Damage{Object: i.Name, What: strings.TrimPrefix(plainly(what), i.Name+": "), Nodes: nodes}
		if a.o.Mend {
			d.Mended, err = a.mend(ctx, i.Name, data)
			if err != nil {
				return err
			}
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	return nil
}

// secondCopies finds objects of which only the second copy is there.
func (a *auditor) secondCopies(ctx context.Context, infos []blob.Info, there map[string]bool) error {
	for _, i := range infos {
		name, ok := strings.CutPrefix(i.Name, parityPrefix)
		if !ok || !always(name) || there[name] {
			continue
		}
		if _, err := a.s.blob.ReadAt(ctx, name, 0, 1); err == nil {
			continue // made since it was listed
		}
		d := Damage{Object: name, What: "it is missing; its second copy is there"}
		if a.o.Mend {
			whole, err := rescueFrom(ctx, a.s.blob, name)
			if err == nil && a.s.right(name, whole) {
				err := a.s.blob.Create(ctx, name, whole)
				if errors.Is(err, blob.ErrExists) {
					d.What += "; something else lies in its place: move that away"
				} else if err != nil {
					return err
				} else {
					d.Mended = "its second copy"
				}
			}
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	return nil
}

// listings compares the copies of content files' lists with the files' own.
func (a *auditor) listings(ctx context.Context) error {
	s := a.s
	wrong := map[string]string{}
	own := map[string][]byte{}
	var names []string
	if err := s.blob.List(ctx, "index/", func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil {
		return err
	}
	for _, n := range names {
		data, err := s.blob.Read(ctx, n)
		if err != nil {
			continue // told, or gone meanwhile
		}
		lists, err := decodeIndex(s.ring(), data)
		if err != nil {
			continue
		}
		for _, l := range lists {
			if _, known := own[l.name]; !known {
				footer, err := s.readPackFooter(ctx, l.name)
				if err != nil {
					footer = nil // gone, or told
				}
				own[l.name] = footer
			}
			if f := own[l.name]; f != nil && !bytes.Equal(f, l.footer) {
				wrong[n] = l.name
			}
		}
	}
	for n, pack := range wrong {
		d := Damage{Object: n, What: "it does not list what " + pack + " holds"}
		if a.o.Mend {
			if _, _, _, err := s.RebuildIndex(ctx); err != nil {
				return err
			}
			d.Mended = "the packs' own lists"
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	return nil
}

// fetchMissing brings back what another place has of what is needed and not
// there.
func (a *auditor) fetchMissing(ctx context.Context) error {
	s, from := a.s, a.o.From
	if !a.o.Mend || from == nil {
		return nil
	}
	// Points first: what they need is then looked for.
	lost, err := s.Missing(ctx)
	if err != nil {
		return err
	}
	for _, l := range lost {
		if l.Point != "" {
			if err := a.fetch(ctx, s.pointName(l.Cluster, l.Point)); err != nil {
				return err
			}
		}
	}
	there := map[string]bool{}
	if err := s.blob.List(ctx, "", func(i blob.Info) error { there[i.Name] = true; return nil }); err != nil {
		return err
	}
	var keys, packs, logs []string
	err = from.List(ctx, "", func(i blob.Info) error {
		switch kind, _, _ := strings.Cut(i.Name, "/"); {
		case kind == "packs":
			packs = append(packs, i.Name)
		case there[i.Name]:
		case kind == "datakeys":
			keys = append(keys, i.Name)
		case kind == "journal" && a.fills(ctx, i.Name):
			logs = append(logs, i.Name)
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	for _, n := range append(keys, logs...) {
		if err := a.fetch(ctx, n); err != nil {
			return err
		}
	}
	return a.fetchNodes(ctx, packs)
}

// fetch copies one object from the other place, if it is right there. A content
// file gets another name: its own may be taken.
func (a *auditor) fetch(ctx context.Context, name string) error {
	whole, err := a.o.From.Read(ctx, name)
	if err != nil || !a.s.right(name, whole) {
		return nil
	}
	to := name
	if strings.HasPrefix(name, "packs/") {
		to = packName(newID(16))
	}
	if err := a.s.create(ctx, to, whole); errors.Is(err, blob.ErrExists) {
		return nil
	} else if err != nil {
		return err
	}
	a.out.Damaged = append(a.out.Damaged, Damage{Object: name, What: "it is missing, or what it held", Mended: a.o.From.String()})
	return nil
}

// fetchNodes brings content files with nodes that points need and that are not
// here. Below a node that was missing there may be others.
func (a *auditor) fetchNodes(ctx context.Context, packs []string) error {
	s := a.s
	var lists map[string][]object
	for {
		want, err := a.absent(ctx)
		if err != nil || len(want) == 0 {
			return err
		}
		if lists == nil {
			lists = map[string][]object{}
			for _, n := range packs {
				footer, err := s.footerAt(n, func(off int64, size int) ([]byte, error) { return a.o.From.ReadAt(ctx, n, off, size) })
				if err == nil {
					lists[n], err = readFooter(footer)
				}
				if err != nil {
					continue // damaged there
				}
			}
		}
		found := false
		for n, objects := range lists {
			if slices.ContainsFunc(objects, func(o object) bool { return want[o.name] }) {
				before := len(a.out.Damaged)
				if err := a.fetch(ctx, n); err != nil {
					return err
				}
				found = found || len(a.out.Damaged) > before
				delete(lists, n)
			}
		}
		if !found {
			return nil
		}
		s.cache.clear()
		s.ahead.clear()
		if err := s.Refresh(ctx); err != nil {
			return err
		}
	}
}

// absent gives the nodes that points need and no content file lists.
func (a *auditor) absent(ctx context.Context) (map[tree.Hash]bool, error) {
	s := a.s
	points, _, err := s.Points(ctx, "")
	if err != nil {
		return nil, err
	}
	want, seen := map[tree.Hash]bool{}, map[tree.Hash]bool{}
	for _, p := range points {
		for i := range p.Namespaces {
			err := tree.Nodes(ctx, s, p.Namespaces[i].Root, func(n tree.NodeInfo) (bool, error) {
				if seen[n.Hash] {
					return false, nil
				}
				seen[n.Hash] = true
				pl, _, ok := s.index.find(n.Hash)
				if !ok {
					want[n.Hash] = true
					return false, nil
				}
				if pl.patch {
					base := s.index.baseOf(n.Hash)
					if _, _, ok := s.index.find(base); !ok {
						want[base] = true
						return false, nil
					}
				}
				if n.Level <= 0 && !pl.pieces {
					return false, nil
				}
				_, err := s.Node(ctx, n.Hash)
				return err == nil, ctx.Err()
			})
			if err != nil && ctx.Err() != nil {
				return nil, err
			}
		}
	}
	return want, nil
}

// fills tells whether a log segment of the other place is of a stretch that is
// not here.
func (a *auditor) fills(ctx context.Context, name string) bool {
	data, err := a.o.From.Read(ctx, name)
	if err != nil {
		return false
	}
	h, _, err := journal.ReadHeader(a.s.ring(), data)
	if err != nil {
		return false
	}
	chains, _, err := a.s.Chains(ctx, h.Cluster)
	if err != nil {
		return false
	}
	c := chains[h.Shard]
	if c == nil || len(c.Segments) == 0 {
		return true
	}
	if h.Last.Position <= c.Segments[0].After.Position {
		trimmed, err := a.s.Begins(ctx, h.Cluster, c)
		return err == nil && !trimmed
	}
	for _, seg := range c.Segments {
		if seg.After.Position <= h.After.Position && h.Last.Position <= seg.Last.Position {
			return false
		}
	}
	return true
}

// hidden finds what somebody deleted although it was locked, and its lock has
// kept; mending brings it back.
func (a *auditor) hidden(ctx context.Context) error {
	v, ok := a.s.blob.(blob.Versioned)
	if !ok || a.s.KeepLocked == 0 {
		return nil
	}
	var names []string
	keep := time.Duration(a.s.KeepLocked) * time.Second
	err := v.Hidden(ctx, "", func(name string, made, until time.Time) error {
		// What retention and reclaim removed is no longer locked.
		locked := time.Now().Before(until) || time.Since(made) < keep
		if lockable(name) && locked {
			names = append(names, name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range names {
		d := Damage{Object: n, What: "it was deleted, though it was locked"}
		if a.o.Mend {
			if err := v.Unhide(ctx, n); err != nil {
				return err
			}
			d.Mended = "a version that its lock has kept"
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	if a.o.Mend && len(names) > 0 {
		return a.s.Refresh(ctx)
	}
	return nil
}

// older gives the newest right version below what is there, or nil.
func (a *auditor) older(ctx context.Context, v blob.Versioned, name string) (whole []byte, err error) {
	err = v.Older(ctx, name, func(b []byte) bool {
		if a.s.right(name, b) {
			whole = b
		}
		return whole != nil
	})
	return whole, err
}

// plainly says what is wrong without saying of each error that it is one.
func plainly(err error) string {
	text := strings.ReplaceAll(err.Error(), "\n", "; ")
	for _, e := range []error{ErrDamaged, frame.ErrDamaged, journal.ErrDamaged} {
		text = strings.ReplaceAll(text, e.Error()+": ", "")
	}
	return text
}

// right says whether these are an object's right bytes.
func (s *Store) right(name string, data []byte) bool {
	a := &auditor{s: s, out: &Audit{}, bad: map[tree.Hash]string{}}
	_, err := a.check(name, data)
	return err == nil
}

// check sees that an object's bytes are what was written; of a pack it also
// notes each node that is not.
func (a *auditor) check(name string, data []byte) (nodes int, err error) {
	s := a.s
	kind, _, _ := strings.Cut(name, "/")
	switch kind {
	case "packs":
		return a.checkPack(name, data)
	case "index":
		_, err = decodeIndex(s.ring(), data)
	case "journal":
		var h journal.Header
		if h, err = journal.Read(context.Background(), s.ring(), data, func(*record.Change) error { return nil }); err == nil {
			err = named(name, s.segmentName(h))
		}
	case "parity":
		err = checkParity(strings.TrimPrefix(name, parityPrefix), data, nil)
	case descriptorName:
		var d Descriptor
		if err = decodeManifest(nil, data, name, &d); err == nil && d.ID != s.ID {
			err = fmt.Errorf("%w: it is of store %s", ErrDamaged, d.ID)
		}
	case "slots":
		var slot Slot
		if err = decodeManifest(nil, data, name, &slot); err == nil {
			err = named(name, slotPrefix+slot.ID)
		}
	case "datakeys":
		var d dataKey
		if err = decodeManifest(nil, data, name, &d); err == nil && s.keys != nil {
			_, _, err = s.keys.openData(name, &d)
		}
		if err == nil && !strings.HasSuffix(name, "-"+d.ID) {
			err = fmt.Errorf("%w: it is key %s", ErrDamaged, d.ID)
		}
	case "points":
		p := new(Point)
		if err = decodeManifest(s.ring(), data, name, p); err == nil {
			err = named(name, s.pointName(p.Cluster, p.ID))
		}
	case "runs", "running":
		r := new(Run)
		if err = decodeManifest(s.ring(), data, name, r); err == nil {
			err = named(name, s.runFolder(kind+"/", r.Cluster, r.Kind)+r.ID)
		}
	case "holds":
		h := new(Hold)
		if err = decodeManifest(s.ring(), data, name, h); err == nil {
			err = named(name, s.holdFolder(h.Cluster)+h.ID)
		}
	case "proofs":
		m := new(ProofMark)
		if err = decodeManifest(s.ring(), data, name, m); err == nil {
			err = named(name, s.proofFolder(m.Cluster)+m.Point)
		}
	case "heads":
		h := new(head)
		if err = decodeManifest(s.ring(), data, name, h); err == nil {
			err = named(name, fmt.Sprintf("%s%010d", s.headFolder(h.Cluster), h.Number))
		}
	case "leases":
		e := new(leaseEntry)
		if err = decodeManifest(s.ring(), data, name, e); err == nil {
			err = named(name, e.Name)
		}
	case "marks", "condemned", "witness", "suspect", "audits", "retired":
		var v json.RawMessage
		err = decodeManifest(s.ring(), data, name, &v)
	case "mended":
		return 0, errors.New("left by a mending that was interrupted; --repair ends it")
	default:
		return 0, errors.New("it is nothing that belongs into a store")
	}
	return 0, err
}

// named returns damage where an object says that it is another one.
func named(name, own string) error {
	if name != own {
		return fmt.Errorf("%w: it is a copy of %s", ErrDamaged, own)
	}
	return nil
}

func (a *auditor) checkPack(name string, data []byte) (bad int, err error) {
	objects, err := a.s.packObjects(name, data)
	if err != nil {
		return 0, err
	}
	if string(data[:min(len(data), len(packMagic))]) != packMagic {
		err = fmt.Errorf("%w: does not begin as a pack", ErrDamaged)
	}
	// Every byte belongs to a frame.
	end := uint64(len(packMagic))
	frames := map[uint32][]byte{}
	for i := range objects {
		o := &objects[i]
		raw, ok := frames[o.frameOff]
		if !ok {
			if uint64(o.frameOff) != end {
				err = errors.Join(err, fmt.Errorf("%w: a hole before byte %d", ErrDamaged, o.frameOff))
			}
			end = uint64(o.frameOff) + uint64(o.frameLen)
			if end <= uint64(len(data)) {
				var ferr error
				if raw, ferr = a.s.openNodes(data[o.frameOff:end]); ferr != nil {
					err = errors.Join(err, fmt.Errorf("frame at byte %d: %w", o.frameOff, ferr))
				}
			}
			frames = map[uint32][]byte{o.frameOff: raw} // objects of a frame follow each other
		}
		if raw == nil || uint64(o.off)+uint64(o.len) > uint64(len(raw)) {
			a.bad[o.name] = name
			bad++
			continue
		}
		if o.base.IsZero() && tree.HashOf(raw[o.off:o.off+o.len]) != o.name {
			err = errors.Join(err, fmt.Errorf("%w: node %s is not what its name says", ErrDamaged, o.name.Short()))
			a.bad[o.name] = name
			bad++
		}
	}
	if ferr := a.checkTail(data, end); ferr != nil {
		err = errors.Join(err, ferr)
	}
	return bad, err
}

// checkTail sees that the footer's frame is between the last frame and the
// trailer.
func (a *auditor) checkTail(data []byte, end uint64) error {
	at, n, err := readTrailer(data[len(data)-trailerSize:])
	if err == nil && (uint64(at) != end || int(at)+n+trailerSize != len(data)) {
		err = fmt.Errorf("%w: bytes that belong to nothing", ErrDamaged)
	}
	return err
}

// packObjects reads the list at the end of a pack's bytes.
func (s *Store) packObjects(name string, data []byte) ([]object, error) {
	footer, err := s.footerOf(name, data)
	if err != nil {
		return nil, err
	}
	return readFooter(footer)
}

// missing notes points and ends of logs that were there and are not.
func (a *auditor) missing(ctx context.Context) error {
	lost, err := a.s.Missing(ctx)
	if err != nil {
		return err
	}
	for _, l := range lost {
		if l.Point != "" {
			a.out.Points = append(a.out.Points, HurtPoint{Cluster: l.Cluster, ID: l.Point, Namespaces: []HurtNamespace{{Name: "all", Where: "the point itself, which " + l.By + " names, is missing"}}})
			continue
		}
		from := time.Time{}
		if chains, _, err := a.s.Chains(ctx, l.Cluster); err == nil && chains[l.Shard] != nil {
			end, _, _ := chains[l.Shard].End()
			from = end.Wall
		}
		a.out.Log = append(a.out.Log, HurtLog{Cluster: l.Cluster, Shard: l.Shard, From: from, To: l.To.Wall, Object: "the newest segment, which " + l.By + " tells of, is missing"})
	}
	return nil
}

// meaning finds out what the damage does to points and logs.
func (a *auditor) meaning(ctx context.Context) error {
	s := a.s
	names := []string{}
	if err := s.blob.List(ctx, "points/", func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil {
		return err
	}
	// What is not mended, and lies in a part that is not read, is found when it
	// is that part's turn; inner nodes are read always.
	clusters := map[string]bool{}
	for _, n := range names {
		p := new(Point)
		err := s.get(ctx, n, p)
		if err == nil {
			err = named(n, s.pointName(p.Cluster, p.ID))
		}
		if errors.Is(err, ErrDamaged) {
			a.harm(n)
			a.out.Points = append(a.out.Points, HurtPoint{ID: n[strings.LastIndex(n, "/")+1:], Namespaces: []HurtNamespace{{Name: "all", Where: n}}})
			continue
		} else if errors.Is(err, blob.ErrNotFound) {
			continue
		} else if err != nil {
			return err
		}
		clusters[p.Cluster] = true
		hurt := HurtPoint{Cluster: p.Cluster, ID: p.ID, Time: p.Time}
		for i := range p.Namespaces {
			h, err := a.namespace(ctx, &p.Namespaces[i])
			if err != nil {
				return err
			}
			if h != nil {
				hurt.Namespaces = append(hurt.Namespaces, *h)
			}
		}
		if len(hurt.Namespaces) > 0 {
			a.out.Points = append(a.out.Points, hurt)
		} else {
			a.out.Whole[p.Cluster]++
		}
	}
	return a.logs(ctx)
}

// namespace walks a tree without its leaves, and tells what cannot be read.
func (a *auditor) namespace(ctx context.Context, ns *PointNamespace) (*HurtNamespace, error) {
	h := &HurtNamespace{Name: ns.Name, Shard: ns.Shard, Of: ns.Root.Records}
	lose := func(n tree.NodeInfo, where string) {
		h.Lost += n.Records
		if n.Level < 0 {
			h.Lost++
		}
		if h.Where == "" {
			h.Where = where
		}
		a.harm(where)
	}
	err := tree.Nodes(ctx, a.s, ns.Root, func(n tree.NodeInfo) (bool, error) {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		pl, pack, ok := a.s.index.find(n.Hash)
		switch {
		case !ok:
			lose(n, a.lacking(n.Hash))
			return false, nil
		case a.isBad(n.Hash, pack):
			lose(n, pack.name)
			return false, nil
		case pl.patch && a.isBase(n.Hash):
			_, bp, _ := a.s.index.find(a.s.index.baseOf(n.Hash))
			where := a.lacking(n.Hash)
			if bp != nil {
				where = bp.name
			}
			lose(n, where)
			return false, nil
		case n.Level > 0 || n.Level == 0 && pl.pieces:
			if _, err := a.s.Node(ctx, n.Hash); err != nil {
				if ctx.Err() != nil {
					return false, err
				}
				lose(n, pack.name)
				return false, nil
			}
			return true, nil
		}
		return false, nil
	})
	if err != nil && !errors.Is(err, ErrMissing) && !errors.Is(err, ErrDamaged) {
		return nil, err
	}
	if h.Where == "" {
		return nil, nil
	}
	return h, nil
}

// isBad says whether a node that the index finds in a pack cannot be had: what
// parity gives back on reading does not count as lost.
func (a *auditor) isBad(h tree.Hash, pack *packInfo) bool {
	if a.bad[h] != pack.name || a.mendedNow(pack.name) {
		return false
	}
	_, err := a.s.Node(context.Background(), h)
	return err != nil
}

// isBase says whether a patch's base cannot be had.
func (a *auditor) isBase(h tree.Hash) bool {
	base := a.s.index.baseOf(h)
	_, pack, ok := a.s.index.find(base)
	return !ok || a.isBad(base, pack)
}

func (a *auditor) mendedNow(object string) bool {
	for _, d := range a.out.Damaged {
		if d.Object == object {
			return d.Mended != ""
		}
	}
	return false
}

// lacking names what may have held a node that no list names.
func (a *auditor) lacking(h tree.Hash) string {
	if where := a.bad[h]; where != "" {
		return where
	}
	for _, d := range a.out.Damaged {
		if strings.HasPrefix(d.Object, "packs/") && d.Mended == "" && d.Nodes == 0 {
			return d.Object // its own list cannot be read
		}
	}
	return "a pack that is missing"
}

// harm notes that the damage of an object costs something.
func (a *auditor) harm(object string) {
	for i := range a.out.Damaged {
		if a.out.Damaged[i].Object == object {
			a.out.Damaged[i].Harm = true
		}
	}
}

// logs finds the stretches of logs that cannot be read: those of damaged
// segments, and those where one is missing.
func (a *auditor) logs(ctx context.Context) error {
	s := a.s
	byChain := map[string][]journal.Header{}
	unread := map[string][]string{} // by folder
	err := s.blob.List(ctx, "journal/", func(i blob.Info) error {
		folder := i.Name[:strings.LastIndex(i.Name, "/")]
		broken := false
		for _, d := range a.out.Damaged {
			if d.Object == i.Name && d.Mended == "" {
				if _, err := s.rescue(ctx, i.Name); err != nil {
					broken = true
				}
			}
		}
		h, err := s.segmentHeader(ctx, i)
		if err == nil && i.Name != s.segmentName(h) {
			err = journal.ErrDamaged
		}
		if errors.Is(err, journal.ErrDamaged) || errors.Is(err, ErrDamaged) {
			unread[folder] = append(unread[folder], i.Name)
			a.harm(i.Name)
			return nil
		}
		if errors.Is(err, blob.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		byChain[folder] = append(byChain[folder], h)
		if broken {
			a.harm(i.Name)
			a.out.Log = append(a.out.Log, HurtLog{Cluster: h.Cluster, Shard: h.Shard, From: h.After.Wall, To: h.Last.Wall, Object: i.Name})
		}
		return nil
	})
	if err != nil {
		return err
	}
	for folder, hs := range byChain {
		c := journal.NewChain(hs[0].Shard, hs)
		if begins, err := s.Begins(ctx, hs[0].Cluster, c); err != nil {
			return err
		} else if !begins && !slices.ContainsFunc(unread[folder], func(n string) bool { return beginOf(n) < c.Segments[0].After.Position.Hex() }) {
			a.out.Log = append(a.out.Log, HurtLog{Cluster: hs[0].Cluster, Shard: hs[0].Shard, To: c.Segments[0].After.Wall, Object: "a segment that is missing"})
		}
		for i := 1; i < len(c.Segments); i++ {
			before, seg := c.Segments[i-1], c.Segments[i]
			if before.Last.Position == seg.After.Position && before.Precedes(&seg) {
				continue
			}
			l := HurtLog{Cluster: seg.Cluster, Shard: seg.Shard, From: before.Last.Wall, To: seg.After.Wall, Object: "a segment that is missing"}
			for k, n := range unread[folder] {
				if at := beginOf(n); at > before.After.Position.Hex() && at < seg.After.Position.Hex() {
					l.Object = n
					unread[folder] = slices.Delete(slices.Clone(unread[folder]), k, k+1)
					break
				}
			}
			a.out.Log = append(a.out.Log, l)
		}
		// The first or the last of the chain: nothing follows that says until when.
		for _, n := range unread[folder] {
			l := HurtLog{Cluster: hs[0].Cluster, Shard: hs[0].Shard, Object: n}
			if first := c.Segments[0]; beginOf(n) < first.After.Position.Hex() {
				l.To = first.After.Wall
			} else {
				l.From = c.Segments[len(c.Segments)-1].Last.Wall
			}
			a.out.Log = append(a.out.Log, l)
		}
		delete(unread, folder)
	}
	for _, list := range unread {
		for _, n := range list {
			a.out.Log = append(a.out.Log, HurtLog{Object: n})
		}
	}
	return nil
}
