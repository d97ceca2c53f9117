package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// theirTurn reports whether a pack is of the part to be read.
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
		pack := strings.HasPrefix(strings.TrimPrefix(i.Name, parityPrefix), contentPrefix)
		if pack && !a.theirTurn(strings.TrimPrefix(i.Name, parityPrefix)) || strings.HasPrefix(i.Name, checkPrefix) {
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
	if err := s.blob.List(ctx, listingsPrefix, func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil {
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

// older returns the newest right version below what is there, or nil.
func (a *auditor) older(ctx context.Context, v blob.Versioned, name string) (whole []byte, err error) {
	err = v.Older(ctx, name, func(b []byte) bool {
		if a.s.right(name, b) {
			whole = b
		}
		return whole != nil
	})
	return whole, err
}

// plainly reports what is wrong without saying of each error that it is one.
func plainly(err error) string {
	text := strings.ReplaceAll(err.Error(), "\n", "; ")
	for _, e := range []error{ErrDamaged, frame.ErrDamaged, journal.ErrDamaged} {
		text = strings.ReplaceAll(text, e.Error()+": ", "")
	}
	return text
}

// right reports whether these are an object's right bytes.
func (s *Upkeep) right(name string, data []byte) bool {
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
	case "content":
		return a.checkPack(name, data)
	case "listings":
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
	case "holders":
		var slot Slot
		if err = decodeManifest(nil, data, name, &slot); err == nil {
			err = named(name, holdersPrefix+slot.ID)
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
	case "claims":
		e := new(leaseEntry)
		if err = decodeManifest(s.ring(), data, name, e); err == nil {
			err = named(name, e.Name)
		}
	case "marks", "pending_delete", "active_writers", "suspect", "scrubs", "retired":
		var v json.RawMessage
		err = decodeManifest(s.ring(), data, name, &v)
	case "repaired":
		return 0, errors.New("left by a repair that was interrupted; a new one ends it")
	default:
		return 0, errors.New("it is nothing that belongs into a store")
	}
	return 0, err
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
func (s *Upkeep) packObjects(name string, data []byte) ([]object, error) {
	footer, err := s.footerOf(name, data)
	if err != nil {
		return nil, err
	}
	return readFooter(footer)
}
