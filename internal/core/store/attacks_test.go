package store_test

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"testing"
	"testing/synctest"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/content"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// What docs/why/security.md says that a thief cannot do is tried here. The thief has a key that
// lets write and not read, and the store's own code; in a plain store, the place alone.

// planted adds a holder that lets write to a store and returns what opens it.
func planted(t *testing.T, s *store.Store) holder {
	thief := newHolder(t)
	who, err := store.HolderOf(thief.secret, "backup host", store.Write)
	require.NoError(t, err)
	_, err = s.AddHolder(ctx, who)
	require.NoError(t, err)
	return thief
}

// garbage makes a content file that says it holds nodes which it does not hold, of a thief's
// making: sealed with all keys that he has.
func garbage(t *testing.T, b blob.Backend, thief *store.Store, nodes []tree.Hash) string {
	key, err := thief.ContentKey(ctx)
	require.NoError(t, err)
	id := sealed.NewID(16)
	raw, err := hex.DecodeString(id)
	require.NoError(t, err)
	file := key.Append([]byte("DXPK\x01\x00\x00\x00"), frame.Leaf, noise(1, 33<<10))
	end := len(file)
	footer := binary.AppendUvarint(raw, uint64(len(nodes)))
	for _, h := range nodes {
		footer = append(footer, h[:]...)
		for _, v := range []int{8, end - 8, 0, 100} {
			footer = binary.AppendUvarint(footer, uint64(v))
		}
		footer = append(footer, 0)
	}
	file = thief.ListKey().Append(file, frame.Footer, footer)
	trailer := binary.BigEndian.AppendUint64(nil, uint64(end))
	trailer = binary.BigEndian.AppendUint32(trailer, uint32(len(file)-end))
	trailer = append(append(trailer, 0, 0, 0, 0), "DXPKEND\x01"...)
	name := "content/" + id[:2] + "/" + id
	require.NoError(t, b.Create(ctx, name, append(file, trailer...)))
	return name
}

func allNodes(s *store.Store) (out []tree.Hash) {
	_ = s.Index.Each(func(h tree.Hash, _ content.Place) error { out = append(out, h); return nil })
	return out
}

// TestGarbageThatClaimsToHoldEverything: reclaim removes nothing for it, also with locks, and
// what comes after does not rely on it.
func TestGarbageThatClaimsToHoldEverything(t *testing.T) {
	for _, kind := range []string{"plain", "encrypted", "locked"} {
		t.Run(kind, func(t *testing.T) {
			b := blob.NewMemory()
			h := newHolder(t)
			o := store.CreateOptions{Tool: "test", Plain: kind == "plain"}
			if kind == "plain" {
				h.opt.Unlock = nil
			} else {
				who, err := store.HolderOf(h.secret, "", store.Read)
				require.NoError(t, err)
				o.Holders = []store.Holder{who}
			}
			if kind == "locked" {
				o.ImmutableFor = time.Hour
			}
			_, err := store.Create(ctx, b, o)
			require.NoError(t, err)
			s := h.open(t, b)
			thief := s
			if kind != "plain" {
				thief = planted(t, s).open(t, b)
			}
			require.NoError(t, version(s, "meadow", 1))
			require.NoError(t, thief.Refresh(ctx))
			file := garbage(t, b, thief, allNodes(thief))
			s.Close()
			for range 3 {
				_, err := h.open(t, b).Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond,
					Dropped: time.Nanosecond})
				require.NoError(t, err)
			}
			s = h.open(t, b)
			points, _, err := s.Points(ctx, "meadow")
			require.NoError(t, err)
			require.NoError(t, check(s, points[0]))

			// The same content again, and other content, of another cluster.
			require.NoError(t, version(s, "orchard", 1))
			require.NoError(t, version(s, "meadow", 2))
			if err := b.Remove(ctx, file); kind != "locked" && err != nil {
				require.ErrorIs(t, err, blob.ErrNotFound, "reclaim has")
			}
			s = h.open(t, b)
			points, _, err = s.Points(ctx, "")
			require.NoError(t, err)
			for _, p := range points {
				require.NoError(t, check(s, p))
			}
		})
	}
}

// TestContentPlantedAheadOfTime: an honest snapshot of what somebody foresaw stores its own.
func TestContentPlantedAheadOfTime(t *testing.T) {
	b := blob.NewMemory()
	h := newHolder(t)
	h.create(t, b, "")
	s := h.open(t, b)
	// What will come, known from another store.
	other := blob.NewMemory()
	h.create(t, other, "")
	foreseen := h.open(t, other)
	require.NoError(t, version(foreseen, "meadow", 1))
	thief := planted(t, s).open(t, b)
	file := garbage(t, b, thief, allNodes(foreseen))

	s = h.open(t, b)
	require.NoError(t, version(s, "meadow", 1))
	require.NoError(t, b.Remove(ctx, file))
	s = h.open(t, b)
	points, _, err := s.Points(ctx, "meadow")
	require.NoError(t, err)
	require.NoError(t, check(s, points[0]))
}

// TestOthersContentIsReliedOnOnceRead: what a host that only writes has stored is not stored
// again by one that reads.
func TestOthersContentIsReliedOnOnceRead(t *testing.T) {
	b := blob.NewMemory()
	h := newHolder(t)
	h.create(t, b, "")
	writer := planted(t, h.open(t, b))
	require.NoError(t, version(writer.open(t, b), "meadow", 1))
	s := h.open(t, b)
	w := s.NewWriter(ctx)
	points, _, err := s.Points(ctx, "meadow")
	require.NoError(t, err)
	tb := tree.NewBuilder(w)
	require.NoError(t, tree.Walk(ctx, s, points[0].Namespaces[0].Root, func(r record.Record) error {
		return tb.Add(ctx, r)
	}))
	_, err = tb.Finish(ctx)
	require.NoError(t, err)
	stats, err := w.Flush(ctx)
	require.NoError(t, err)
	require.Zero(t, stats.New)
	require.NotZero(t, stats.Known)
}

// TestAForgedJoinedSegment wipes no log: in an encrypted store nobody believes it who can
// read, in a plain one its parts stay, as they differ.
func TestAForgedJoinedSegment(t *testing.T) {
	for _, kind := range []string{"plain", "plain, repaired", "encrypted"} {
		t.Run(kind, func(t *testing.T) {
			b := blob.NewMemory()
			h := newHolder(t)
			if kind != "encrypted" {
				h.opt.Unlock = nil
				_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
				require.NoError(t, err)
			} else {
				h.create(t, b, "")
			}
			s := h.open(t, b)
			thief := s
			if kind == "encrypted" {
				thief = planted(t, s).open(t, b)
			}
			for n := 1; n <= 4; n++ {
				require.NoError(t, stretch(s, "meadow", n))
			}
			before, _, err := s.Chains(ctx, "meadow")
			require.NoError(t, err)
			parts := before["yard"].Segments[:3]
			for _, tail := range []tree.Hash{parts[2].ID, {9}} {
				keys, err := thief.SegmentKeys(ctx)
				require.NoError(t, err)
				jb := journal.NewBuilder(keys, "meadow", "yard", parts[0].After)
				jb.CoverTo(parts[2].Last)
				forged := parts[2]
				forged.ID = tail
				j, data, err := jb.Join([]journal.Header{parts[0], parts[1], forged})
				require.NoError(t, err)
				require.NoError(t, b.Create(ctx, thief.SegmentName(j), data))
			}
			for range 2 {
				_, err := h.open(t, b).Join(ctx, "meadow", store.JoinOptions{Settled: time.Nanosecond})
				require.NoError(t, err)
			}
			chains, bad, err := h.open(t, b).Chains(ctx, "meadow")
			require.NoError(t, err)
			require.Equal(t, kind == "encrypted", len(bad) > 0)
			require.Len(t, chains["yard"].Segments, 4)
			require.Empty(t, chains["yard"].Gaps())
			n := 0
			for _, seg := range chains["yard"].Segments {
				require.NoError(t, s.ReadSegment(ctx, seg, func(*record.Change) error { n++; return nil }))
			}
			require.Equal(t, 4, n)
			a, err := h.open(t, b).Scrub(ctx, store.ScrubOptions{})
			require.NoError(t, err)
			require.False(t, a.Sound(), "and it is told")
			require.Empty(t, a.Points)

			if kind == "plain, repaired" {
				a, err := h.open(t, b).Scrub(ctx, store.ScrubOptions{Repair: true})
				require.NoError(t, err)
				require.True(t, a.Sound(), "%+v", a)
				require.Len(t, namesBelow(t, b, "journal/"), 4)
				return
			}

			// Retention that would cut the log within the stretch leaves what is after; in a plain store it waits,
			// as who had put segments together could rely on that.
			s = h.open(t, b)
			require.NoError(t, version(s, "meadow", 3))
			_, err = s.Retire(ctx, "meadow", nil, "v003")
			require.NoError(t, err)
			_, err = h.open(t, b).Reclaim(ctx, store.ReclaimOptions{Dropped: time.Nanosecond})
			require.NoError(t, err)
			if kind == "plain" {
				chains, _, err = h.open(t, b).Chains(ctx, "meadow")
				require.NoError(t, err)
				require.Equal(t, before["yard"].Segments, chains["yard"].Segments)
				a, err := h.open(t, b).Scrub(ctx, store.ScrubOptions{Repair: true})
				require.NoError(t, err)
				require.True(t, a.Sound(), "%+v", a)
				_, err = h.open(t, b).Reclaim(ctx, store.ReclaimOptions{Dropped: time.Nanosecond})
				require.NoError(t, err)
			}
			_, err = h.open(t, b).Join(ctx, "meadow", store.JoinOptions{Settled: time.Nanosecond})
			require.NoError(t, err)
			chains, _, err = h.open(t, b).Chains(ctx, "meadow")
			require.NoError(t, err)
			require.Len(t, chains["yard"].Segments, 2)
			require.Equal(t, before["yard"].Segments[2:], chains["yard"].Segments)
		})
	}
}

// TestTheThiefsDataKey: who can read writes nothing under a key that a host made which can
// only write, however new it is.
func TestTheThiefsDataKey(t *testing.T) {
	b := blob.NewMemory()
	h := newHolder(t)
	h.create(t, b, "")
	s := h.open(t, b)
	thief := planted(t, s).open(t, b)
	theirs, err := thief.ContentKey(ctx)
	require.NoError(t, err)
	mine, err := s.ContentKey(ctx)
	require.NoError(t, err)
	require.NotEqual(t, theirs.ID, mine.ID)
	// Also where it is the newest, and next to one of a reader.
	time.Sleep(1100 * time.Millisecond)
	_, err = planted(t, s).open(t, b).ContentKey(ctx)
	require.NoError(t, err)
	again, err := h.open(t, b).ContentKey(ctx)
	require.NoError(t, err)
	require.Equal(t, mine.ID, again.ID, "a reader's key is used again")
}

// plantHolder adds a holder for somebody that names another content key, as somebody can who
// lets a write-only key be stolen.
func plantHolder(t *testing.T, b blob.Backend, victim *age.X25519Identity, content *age.X25519Identity) {
	for _, n := range namesBelow(t, b, "holders/") {
		data, err := b.Read(ctx, n)
		require.NoError(t, err)
		var k sealed.KeyHolder
		require.NoError(t, sealed.DecodeManifest(nil, data, n, &k))
		r, err := age.Decrypt(bytes.NewReader(k.Sealed), victim)
		if err != nil {
			continue // somebody else's
		}
		var secret map[string]any
		require.NoError(t, json.NewDecoder(r).Decode(&secret))
		secret["public"] = content.Recipient().String()
		raw, err := json.Marshal(secret)
		require.NoError(t, err)
		var out bytes.Buffer
		w, err := age.Encrypt(&out, victim.Recipient())
		require.NoError(t, err)
		_, err = w.Write(raw)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		k.ID, k.Label, k.Sealed = sealed.NewID(4), "planted", out.Bytes()
		raw, err = sealed.EncodeManifest(nil, "holders/"+k.ID, k)
		require.NoError(t, err)
		require.NoError(t, b.Create(ctx, "holders/"+k.ID, raw))
		return
	}
	t.Fatal("the victim opens nothing")
}

// TestAPlantedHolder: a host that only writes is told, and writes nothing for the thief; who
// can read sees that nobody who can has added it.
func TestAPlantedHolder(t *testing.T) {
	b := blob.NewMemory()
	h := newHolder(t)
	h.create(t, b, "")
	s := h.open(t, b)
	victim := planted(t, s)
	writer := victim.open(t, b)

	// Of the same store and list key, whose content the thief can read, for the victim.
	own, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	me, err := age.ParseX25519Identity(victim.secret)
	require.NoError(t, err)
	plantHolder(t, b, me, own)

	_, err = store.Open(ctx, b, victim.opt)
	require.ErrorIs(t, err, store.ErrBadHolder)
	require.ErrorContains(t, err, "planted")
	holders, _, err := h.open(t, b).KeyHolders(ctx)
	require.NoError(t, err)
	var doubted []string
	for _, k := range holders {
		if !k.Vouched {
			doubted = append(doubted, k.Label)
		}
	}
	require.Equal(t, []string{"planted"}, doubted)

	// Where it is the only one left, the store is not the one that is expected.
	identity := writer.Identity()
	require.Equal(t, s.Identity(), identity, "the same for all who can open it")
	for _, k := range holders {
		if k.Label == "backup host" {
			_, err := s.DropHolder(ctx, k.ID)
			require.NoError(t, err)
		}
	}
	o := victim.opt
	o.Identity = identity
	_, err = store.Open(ctx, b, o)
	require.ErrorIs(t, err, store.ErrUnexpectedStore)
}

// TestAnotherStoreInItsPlace is refused: plain where a key is given, or with another
// descriptor, or made anew.
func TestAnotherStoreInItsPlace(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "4+1")
	o := h.opt
	o.Identity = h.open(t, b).Identity()
	_, err := store.Open(ctx, b, o)
	require.NoError(t, err)

	plain := blob.NewMemory()
	_, err = store.Create(ctx, plain, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	_, err = store.Open(ctx, plain, h.opt)
	require.ErrorIs(t, err, store.ErrPlain)

	again := blob.NewMemory()
	h.create(t, again, "4+1")
	_, err = store.Open(ctx, again, o)
	require.ErrorIs(t, err, store.ErrUnexpectedStore)

	// The same descriptor but for its parity and its locks.
	d, err := sealed.ReadDescriptor(ctx, b)
	require.NoError(t, err)
	d.Parity = ""
	raw, err := sealed.EncodeManifest(nil, "dexamen-store", d)
	require.NoError(t, err)
	require.NoError(t, b.Remove(ctx, "dexamen-store"))
	require.NoError(t, b.Create(ctx, "dexamen-store", raw))
	_, err = store.Open(ctx, b, o)
	require.ErrorIs(t, err, store.ErrUnexpectedStore)
}

// TestAManifestUnderAnotherName counts as damaged, also where it would read as one of the
// kind that belongs there.
func TestAManifestUnderAnotherName(t *testing.T) {
	for _, secret := range []bool{false, true} {
		b := blob.NewMemory()
		h := newHolder(t)
		if secret {
			h.create(t, b, "")
		} else {
			h.opt.Unlock = nil
			_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
			require.NoError(t, err)
		}
		s := h.open(t, b)
		require.NoError(t, version(s, "meadow", 1))
		require.NoError(t, s.PutHold(ctx, &store.Hold{Cluster: "meadow", Point: "v001",
			Until: time.Now().Add(time.Hour)}))
		name := namesBelow(t, b, "points/")[0]
		hold, err := b.Read(ctx, namesBelow(t, b, "holds/")[0])
		require.NoError(t, err)
		point, err := b.Read(ctx, name)
		require.NoError(t, err)
		require.NoError(t, b.Create(ctx, name+"a", hold))
		require.NoError(t, b.Create(ctx, name+"b", point))
		points, bad, err := s.Points(ctx, "meadow")
		require.NoError(t, err)
		require.Len(t, points, 1)
		require.Len(t, bad, 2)
		for _, e := range bad {
			require.ErrorContains(t, e, "it is a copy of")
		}
	}
}

// TestLocksAreProlonged: what retention keeps stays locked, also where nothing new comes.
func TestLocksAreProlonged(t *testing.T) {
	for _, access := range []store.Access{store.Read, store.Write} {
		synctest.Test(t, func(t *testing.T) {
			h := newHolder(t)
			who, err := store.HolderOf(h.secret, "", store.Read)
			require.NoError(t, err)
			b := blob.NewMemory()
			_, err = store.Create(ctx, b, store.CreateOptions{Tool: "test", Holders: []store.Holder{who},
				ImmutableFor: 48 * time.Hour})
			require.NoError(t, err)
			s := h.open(t, b)
			for n := 1; n <= 3; n++ {
				require.NoError(t, version(s, "meadow", n))
				require.NoError(t, stretch(s, "meadow", n))
			}
			if access == store.Write {
				s = planted(t, s).open(t, b)
			}
			points, _, err := s.Points(ctx, "meadow")
			require.NoError(t, err)
			for range 4 {
				time.Sleep(24 * time.Hour)
				n, err := s.ProlongLocks(ctx, "meadow", points, 20*time.Hour)
				require.NoError(t, err)
				require.Positive(t, n)
				n, err = s.ProlongLocks(ctx, "meadow", points, 20*time.Hour)
				require.NoError(t, err)
				require.Zero(t, n, "once a day")
			}
			for _, prefix := range []string{"content/", "points/", "journal/"} {
				names := namesBelow(t, b, prefix)
				require.NotEmpty(t, names)
				for _, n := range names {
					require.ErrorIs(t, b.Remove(ctx, n), blob.ErrLocked, n)
				}
			}
			for _, s := range []string{"holders/", "datakeys/", "dexamen-store"} {
				for _, n := range namesBelow(t, b, s) {
					require.ErrorIs(t, b.Remove(ctx, n), blob.ErrLocked, "%s: without it nothing can be read", n)
				}
			}
		})
	}
}
