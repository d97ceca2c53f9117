package store_test

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// The vectors are stores that lie in the repository, written once and never
// again: testdata/plain, and testdata/sealed, which testdata/sealed.key opens; plain-keyed and
// sealed-keyed have cuts of their own, and frames under keys of their own. Every later version has
// to read them. DEXAMEN_VECTORS=write makes those that are not there.
func TestVectors(t *testing.T) {
	for _, kind := range []string{"plain", "sealed", "plain-keyed", "sealed-keyed"} {
		t.Run(kind, func(t *testing.T) {
			dir := filepath.Join("testdata", kind)
			if _, err := os.Stat(dir); err != nil && os.Getenv("DEXAMEN_VECTORS") == "write" {
				writeVector(t, dir, strings.HasPrefix(kind, "sealed"))
			}
			secret := ""
			o := store.Options{}
			if strings.HasPrefix(kind, "sealed") {
				text, err := os.ReadFile(dir + ".key")
				require.NoError(t, err)
				secret = strings.TrimSpace(string(text))
				o.Unlock, err = store.ParseSecret(secret)
				require.NoError(t, err)
			}
			// What is in the repository must not be written to.
			b := blob.NewMemory()
			src := blob.NewDir(dir)
			require.NoError(t, src.List(ctx, "", func(i blob.Info) error {
				data, err := src.Read(ctx, i.Name)
				require.NoError(t, err)
				return b.Create(ctx, i.Name, data)
			}))
			s, err := store.Open(ctx, b, o)
			require.NoError(t, err)
			points, bad, err := s.Points(ctx, "")
			require.NoError(t, err)
			require.Empty(t, bad)
			require.Len(t, points, 2)
			for v, p := range points {
				require.Equal(t, "meadow", p.Cluster)
				want := vectorRecords(v)
				n := 0
				require.NoError(t, tree.Walk(ctx, s, p.Namespaces[0].Root, func(r record.Record) error {
					require.Equal(t, want[n].Key, r.Key)
					require.Equal(t, want[n].Value, r.Value)
					n++
					return nil
				}))
				require.Len(t, want, n)
				// The same content has the same name, whoever writes it today.
				require.Equal(t, p.Namespaces[0].Root, vectorTree(t, tree.Nowhere(s.Cuts()), v))
			}
			chains, _, err := s.Chains(ctx, "meadow")
			require.NoError(t, err)
			require.Len(t, chains["yard"].Segments, 1)
			n := 0
			require.NoError(t, s.ReadSegment(ctx, chains["yard"].Segments[0], func(c *record.Change) error {
				require.Equal(t, record.Put, c.Op)
				n++
				return nil
			}))
			require.Equal(t, 300, n)
			a, err := s.Scrub(ctx, store.ScrubOptions{})
			require.NoError(t, err)
			require.True(t, a.Sound(), "%+v", a)

			// And the reader written from docs/reference/format.md reads them.
			r := newReader(t, dir, secret)
			for v, p := range points {
				n := 0
				want := vectorRecords(v)
				r.walk(string(p.Namespaces[0].Root.Hash[:]), true, func(k, val []byte) {
					require.Equal(t, want[n].Value, val)
					n++
				})
				require.Len(t, want, n)
			}
			h := chains["yard"].Segments[0]
			r.segment("journal/"+r.part("cluster", "meadow")+"/"+r.part("shard", "yard")+"/p"+h.After.Position.Hex(),
				h.ID, 300)
		})
	}
}

func vectorRecords(version int) (out []record.Record) {
	for i := range 1200 {
		v := fmt.Sprintf(`{"colony":%d,"yard":"heath","weight":%d}`, i, i*7919%1000)
		if i == 600 {
			v = strings.Repeat(v, 4000) // in pieces
		}
		if version == 1 && i%100 == 3 {
			v += " weighed anew"
		}
		out = append(out, record.Record{Key: binary.BigEndian.AppendUint64(nil, uint64(i)*977), Value: []byte(v)})
	}
	return out
}

func vectorTree(t *testing.T, to tree.Sink, version int) tree.Root {
	b := tree.NewBuilder(to)
	for _, r := range vectorRecords(version) {
		require.NoError(t, b.Add(ctx, r))
	}
	root, err := b.Finish(ctx)
	require.NoError(t, err)
	return root
}

func writeVector(t *testing.T, dir string, sealed bool) {
	o := store.CreateOptions{Tool: "vectors", Plain: !sealed, Parity: "3+2"}
	var unlock []age.Identity
	if sealed {
		secret, _, err := store.NewSecret()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(dir+".key", []byte(secret+"\n"), 0o600))
		h, err := store.HolderOf(secret, "test vectors", store.Read)
		require.NoError(t, err)
		o.Holders = []store.Holder{h}
		unlock, err = store.ParseSecret(secret)
		require.NoError(t, err)
	}
	abs, err := filepath.Abs(dir)
	require.NoError(t, err)
	b := blob.NewDir(abs)
	_, err = store.Create(ctx, b, o)
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{Unlock: unlock})
	require.NoError(t, err)
	for v := range 2 {
		w := s.NewWriter(ctx)
		root := vectorTree(t, w, v)
		_, err := w.Flush(ctx)
		require.NoError(t, err)
		at := time.Date(2026, 5, 1+v, 10, 0, 0, 0, time.UTC)
		require.NoError(t, s.PutPoint(ctx,
			&store.Point{ID: fmt.Sprintf("vector-%d", v), Cluster: "meadow", Time: at,
				Namespaces: []store.PointNamespace{
					{Namespace: record.Namespace{Name: "apiary.colonies", Kind: "collection"}, Root: root}}}))
	}
	putSegment(t, s, "aaaaaaaa", "cccccccc", 300)
	s.Close()
	require.NoError(t, os.RemoveAll(filepath.Join(abs, ".incoming")))
}

// TestALaterFormatIsRefused, and not guessed at.
func TestALaterFormatIsRefused(t *testing.T) {
	for _, d := range []store.Descriptor{
		{ID: "x", Format: store.FormatVersion + 1}, {
			ID: "x", Format: store.FormatVersion, Protection: "something new"}} {
		raw, err := json.Marshal(d)
		require.NoError(t, err)
		b := blob.NewMemory()
		named := append([]byte("\x0ddexamen-store"), raw...)
		require.NoError(t, b.Create(ctx, "dexamen-store",
			frame.Append([]byte("DXMF\x01\x00\x00\x00"), frame.Manifest, named)))
		_, err = store.Open(ctx, b, store.Options{})
		require.ErrorIs(t, err, store.ErrTooNew)
		require.ErrorContains(t, err, "use a newer dexamen")
	}
}
