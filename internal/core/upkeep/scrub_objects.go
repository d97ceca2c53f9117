package upkeep

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
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/content"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// theirTurn reports whether a content file is of the part to be read.
func (a *scrubber) theirTurn(name string) bool {
	h := fnv.New32a()
	_, _ = h.Write([]byte(name))
	return int(h.Sum32()%uint32(a.o.Parts)) == a.o.Part
}

// readAll reads and checks objects one by one, and repairs them where asked.
func (a *scrubber) readAll(ctx context.Context) error {
	s := a.s
	if err := a.hidden(ctx); err != nil {
		return err
	}
	var infos []blob.Info
	if err := s.Blob.List(ctx, "", func(i blob.Info) error { infos = append(infos, i); return nil }); err != nil {
		return err
	}
	there := map[string]bool{}
	for _, i := range infos {
		there[i.Name] = true
	}
	if !there[sealed.DescriptorName] && !there[sealed.ParityPrefix+sealed.DescriptorName] {
		return fmt.Errorf(
			"%s: %w: what is listed there does not show the store that was opened (%d objects); nothing was checked",
			s.Blob, sealed.ErrMissing, len(infos))
	}
	if err := a.secondCopies(ctx, infos, there); err != nil {
		return err
	}
	right, err := a.byOthers(ctx, infos)
	if err != nil {
		return err
	}
	for _, i := range infos {
		if err := ctx.Err(); err != nil {
			return err
		}
		if right[strings.TrimPrefix(i.Name, sealed.ParityPrefix)] {
			continue
		}
		file := strings.HasPrefix(strings.TrimPrefix(i.Name, sealed.ParityPrefix), sealed.ContentPrefix)
		if file && !a.theirTurn(strings.TrimPrefix(i.Name, sealed.ParityPrefix)) ||
			strings.HasPrefix(i.Name, sealed.CheckPrefix) {
			continue
		}
		data, err := s.Blob.Read(ctx, i.Name)
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
			nodes, what = a.check(ctx, i.Name, data)
		}
		a.out.Objects++
		a.out.Bytes += int64(len(data))
		a.o.Emit(i.Name, a.out.Objects, a.out.Bytes)
		if what == nil {
			if stale := a.staleParity(i.Name, data); stale != nil {
				if err := a.tell(ctx, *stale, data); err != nil {
					return err
				}
			}
			if _, more := s.ParityOf(i.Name); more > 0 && !there[sealed.ParityPrefix+i.Name] {
				what = errors.New("its parity is missing")
			} else {
				continue
			}
		}
		d := Damage{Object: i.Name, What: strings.TrimPrefix(plainly(what), i.Name+": "), Nodes: nodes}
		if err := a.tell(ctx, d, data); err != nil {
			return err
		}
	}
	return nil
}

// tell notes what is damaged, and repairs it where that was asked for; data is what was read of it.
func (a *scrubber) tell(ctx context.Context, d Damage, data []byte) (err error) {
	if a.o.Repair {
		if d.Repaired, err = a.repair(ctx, d.Object, data); err != nil {
			return err
		}
	}
	a.out.Damaged = append(a.out.Damaged, d)
	return nil
}

// staleParity compares what was read, an object or parity, with what of the two was read before:
// parity that is whole by itself and of other bytes makes nothing whole again.
func (a *scrubber) staleParity(name string, data []byte) *Damage {
	of, isParity := strings.CutPrefix(name, sealed.ParityPrefix)
	pieces, more := a.s.ParityOf(of)
	if more == 0 {
		return nil
	}
	var print sealed.Fingerprint
	if isParity {
		var err error
		if print, err = sealed.FingerprintIn(data); err != nil {
			return nil // told
		}
	} else {
		print = sealed.FingerprintOf(data, pieces)
	}
	other, known := a.prints[of]
	if !known {
		a.prints[of] = print
		return nil
	}
	delete(a.prints, of)
	if other == print {
		return nil
	}
	return &Damage{Object: sealed.ParityPrefix + of, What: "it is parity of other bytes than those of its object"}
}

// secondCopies finds objects of which only the second copy is there.
func (a *scrubber) secondCopies(ctx context.Context, infos []blob.Info, there map[string]bool) error {
	for _, i := range infos {
		name, ok := strings.CutPrefix(i.Name, sealed.ParityPrefix)
		if !ok || !sealed.HasSecondCopy(name) || there[name] {
			continue
		}
		if _, err := a.s.Blob.ReadAt(ctx, name, 0, 1); err == nil {
			continue // made since it was listed
		}
		d := Damage{Object: name, What: "it is missing; its second copy is there"}
		if a.o.Repair {
			whole, err := sealed.RebuildFromParity(ctx, a.s.Blob, name)
			if err == nil && a.s.right(ctx, name, whole) {
				err := a.s.Blob.Create(ctx, name, whole)
				if errors.Is(err, blob.ErrExists) {
					d.What += "; something else lies in its place: move that away"
				} else if err != nil {
					return err
				} else {
					d.Repaired = "its second copy"
				}
			}
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	return nil
}

// listings compares the copies of content files' lists with the files' own.
func (a *scrubber) listings(ctx context.Context) error {
	s := a.s
	wrong := map[string]string{}
	own := map[string][]byte{}
	var names []string
	if err := s.Blob.List(ctx, sealed.ListingsPrefix,
		func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil {
		return err
	}
	for _, n := range names {
		data, err := s.Blob.Read(ctx, n)
		if err != nil {
			continue // told, or gone meanwhile
		}
		lists, err := content.DecodeIndex(s.Ring(ctx), data)
		if err != nil {
			continue
		}
		for _, l := range lists {
			if _, known := own[l.Name]; !known {
				footer, err := s.ReadFooter(ctx, l.Name)
				if err != nil {
					footer = nil // gone, or told
				}
				own[l.Name] = footer
			}
			if f := own[l.Name]; f != nil && !bytes.Equal(f, l.Footer) {
				wrong[n] = l.Name
			}
		}
	}
	for n, file := range wrong {
		d := Damage{Object: n, What: "it does not list what " + file + " holds"}
		if a.o.Repair {
			if _, _, _, err := s.RebuildListings(ctx); err != nil {
				return err
			}
			d.Repaired = "the content files' own lists"
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	return nil
}

// hidden finds what somebody deleted although it was locked, and its lock has
// kept; repairing brings it back.
func (a *scrubber) hidden(ctx context.Context) error {
	v, ok := a.s.Blob.(blob.Versioned)
	if !ok || a.s.ImmutableFor == 0 {
		return nil
	}
	var names []string
	keep := time.Duration(a.s.ImmutableFor) * time.Second
	err := v.Hidden(ctx, "", func(name string, made, until time.Time) error {
		// What retention and reclaim removed is no longer locked.
		locked := time.Now().Before(until) || time.Since(made) < keep
		if sealed.Lockable(name) && locked {
			names = append(names, name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range names {
		d := Damage{Object: n, What: "it was deleted, though it was locked"}
		if a.o.Repair {
			if err := v.Unhide(ctx, n); err != nil {
				return err
			}
			d.Repaired = "a version that its lock has kept"
		}
		a.out.Damaged = append(a.out.Damaged, d)
	}
	if a.o.Repair && len(names) > 0 {
		return a.s.Refresh(ctx)
	}
	return nil
}

// older returns the newest right version below what is there, or nil.
func (a *scrubber) older(ctx context.Context, v blob.Versioned, name string) (whole []byte, err error) {
	err = v.Older(ctx, name, func(b []byte) bool {
		if a.s.right(ctx, name, b) {
			whole = b
		}
		return whole != nil
	})
	return whole, err
}

// plainly reports what is wrong without saying of each error that it is one.
func plainly(err error) string {
	text := strings.ReplaceAll(err.Error(), "\n", "; ")
	for _, e := range []error{sealed.ErrDamaged, frame.ErrDamaged, journal.ErrDamaged} {
		text = strings.ReplaceAll(text, e.Error()+": ", "")
	}
	return text
}

// right reports whether these are an object's right bytes.
func (s *Upkeep) right(ctx context.Context, name string, data []byte) bool {
	a := &scrubber{s: s, out: &ScrubReport{}, bad: map[tree.Hash]string{}}
	_, err := a.check(ctx, name, data)
	return err == nil
}

// check sees that an object's bytes are what was written; of a content file it also
// notes each node that is not.
func (a *scrubber) check(ctx context.Context, name string, data []byte) (nodes int, err error) {
	s := a.s
	kind, _, _ := strings.Cut(name, "/")
	switch kind {
	case "content":
		return a.checkFile(ctx, name, data)
	case "listings":
		_, err = content.DecodeIndex(s.Ring(ctx), data)
	case "journal":
		var h journal.Header
		if h, err = journal.Read(ctx, s.Ring(ctx), data,
			func(*record.Change) error { return nil }); err == nil {
			err = sealed.CheckOwnName(name, s.SegmentName(h))
		}
	case "parity":
		err = sealed.CheckParity(strings.TrimPrefix(name, sealed.ParityPrefix), data, nil)
	case sealed.DescriptorName:
		var d sealed.Descriptor
		if err = sealed.DecodeManifest(nil, data, name, &d); err == nil && d.ID != s.ID {
			err = fmt.Errorf("%w: it is of store %s", sealed.ErrDamaged, d.ID)
		}
	case "holders":
		var slot sealed.KeyHolder
		if err = sealed.DecodeManifest(nil, data, name, &slot); err == nil {
			err = sealed.CheckOwnName(name, sealed.HoldersPrefix+slot.ID)
		}
	case "refused":
		var r sealed.Refused
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, &r); err == nil {
			err = sealed.CheckOwnName(name, sealed.RefusedPrefix+r.Holder)
		}
	case "datakeys":
		var d sealed.DataKey
		if err = sealed.DecodeManifest(nil, data, name, &d); err == nil && s.Keyring != nil {
			_, _, err = s.Keyring.OpenData(name, &d)
		}
		if err == nil && !strings.HasSuffix(name, "-"+d.ID) {
			err = fmt.Errorf("%w: it is key %s", sealed.ErrDamaged, d.ID)
		}
	case "points", "dropped":
		p := new(catalog.Point)
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, p); err == nil && kind == "points" {
			err = sealed.CheckOwnName(name, s.PointName(p.Cluster, p.ID))
		}
	case "runs", "running":
		r := new(catalog.Run)
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, r); err == nil {
			err = sealed.CheckOwnName(name, s.RunFolder(kind+"/", r.Cluster, r.Kind)+r.ID)
		}
	case "holds":
		h := new(catalog.Hold)
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, h); err == nil {
			err = sealed.CheckOwnName(name, s.HoldFolder(h.Cluster)+h.ID)
		}
	case "proofs":
		m := new(catalog.ProofMark)
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, m); err == nil {
			err = sealed.CheckOwnName(name, s.ProofFolder(m.Cluster)+m.Point)
		}
	case "evidence":
		e := new(catalog.SignedStatement)
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, e); err == nil {
			err = sealed.CheckOwnName(name, s.EvidenceName(e.Key, e.Number))
		}
	case "heads":
		h := new(catalog.Head)
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, h); err == nil {
			err = sealed.CheckOwnName(name, fmt.Sprintf("%s%010d", s.HeadFolder(h.Cluster), h.Number))
		}
	case "claims":
		e := new(sealed.ClaimEntry)
		if err = sealed.DecodeManifest(s.Ring(ctx), data, name, e); err == nil {
			err = sealed.CheckOwnName(name, e.Name)
		}
	case "marks", "pending_delete", "active_writers", "suspect", "scrubs", "retired":
		var v json.RawMessage
		err = sealed.DecodeManifest(s.Ring(ctx), data, name, &v)
	case "repaired":
		return 0, errors.New("left by a repair that was interrupted; a new one ends it")
	default:
		return 0, errors.New("it is nothing that belongs into a store")
	}
	return 0, err
}

func (a *scrubber) checkFile(ctx context.Context, name string, data []byte) (bad int, err error) {
	objects, err := a.s.entriesOf(ctx, name, data)
	if err != nil {
		return 0, err
	}
	if string(data[:min(len(data), len(content.FileMagic))]) != content.FileMagic {
		err = fmt.Errorf("%w: does not begin as a content file", sealed.ErrDamaged)
	}
	// Every byte belongs to a frame.
	end := uint64(len(content.FileMagic))
	frames := map[uint32][]byte{}
	for i := range objects {
		o := &objects[i]
		raw, ok := frames[o.FrameOff]
		if !ok {
			if uint64(o.FrameOff) != end {
				err = errors.Join(err, fmt.Errorf("%w: a hole before byte %d", sealed.ErrDamaged, o.FrameOff))
			}
			end = uint64(o.FrameOff) + uint64(o.FrameLen)
			if end <= uint64(len(data)) {
				var ferr error
				if raw, ferr = a.s.OpenNodes(ctx, data[o.FrameOff:end]); ferr != nil {
					err = errors.Join(err, fmt.Errorf("frame at byte %d: %w", o.FrameOff, ferr))
				}
			}
			frames = map[uint32][]byte{o.FrameOff: raw} // objects of a frame follow each other
		}
		if raw == nil || uint64(o.Off)+uint64(o.Len) > uint64(len(raw)) {
			a.bad[o.Name] = name
			bad++
			continue
		}
		is, known := a.isNode(ctx, raw[o.Off:o.Off+o.Len], o.Base, o.Name)
		if ctx.Err() != nil {
			return bad, context.Cause(ctx)
		}
		if known && !is {
			err = errors.Join(err, fmt.Errorf("%w: node %s is not what its name says", sealed.ErrDamaged,
				o.Name.Short()))
			a.bad[o.Name] = name
			bad++
		}
	}
	if ferr := a.checkTail(data, end); ferr != nil {
		err = errors.Join(err, ferr)
	}
	return bad, err
}

// isNode reports whether stored bytes give the node of a name; known is false where what
// they are a patch of cannot be had, which is told of that.
func (a *scrubber) isNode(ctx context.Context, stored []byte, base, name tree.Hash) (is, known bool) {
	if base.IsZero() {
		return tree.HashOf(stored) == name, true
	}
	whole, err := a.s.Node(ctx, base)
	if err != nil {
		return false, false
	}
	node, err := tree.ApplyPatch(whole, stored)
	return err == nil && tree.HashOf(node) == name, true
}

// checkTail sees that the footer's frame is between the last frame and the
// trailer.
func (a *scrubber) checkTail(data []byte, end uint64) error {
	at, n, err := content.ReadTrailer(data[len(data)-content.TrailerSize:])
	if err == nil && (uint64(at) != end || int(at)+n+content.TrailerSize != len(data)) {
		err = fmt.Errorf("%w: bytes that belong to nothing", sealed.ErrDamaged)
	}
	return err
}

// packObjects reads the list at the end of a content file's bytes.
func (s *Upkeep) entriesOf(ctx context.Context, name string, data []byte) ([]content.Entry, error) {
	footer, err := s.FooterOf(ctx, name, data)
	if err != nil {
		return nil, err
	}
	f, err := content.DecodeFooter(name, footer)
	if err != nil {
		return nil, err
	}
	return f.Entries, nil
}
