package store_test

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"math/bits"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/cespare/xxhash/v2"
	"github.com/dchest/siphash"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// reader reads a store as docs/reference/format.md describes it, and shares no code with
// the program: what it cannot read, the document does not tell.
type reader struct {
	t     *testing.T
	dir   string
	where map[string]spot
	base  map[string]string
	zstd  *zstd.Decoder
	// Of an encrypted store: what names are hashed with, and the keys by their
	// names.
	names    []byte
	vouching []byte
	keys     map[string][]byte
	// cutKey is what says where nodes end; nil in stores that say nothing of it.
	cutKey []byte
}

type spot struct {
	pack          []byte
	frame, off, n uint64
}

func newReader(t *testing.T, dir, secret string) *reader {
	z, err := zstd.NewReader(nil)
	require.NoError(t, err)
	r := &reader{t: t, dir: dir, where: map[string]spot{}, base: map[string]string{}, zstd: z}
	var own []byte
	if secret != "" {
		own = r.unlock(secret)
	}
	var d struct{ ID, Cuts string }
	r.manifest("dexamen-store", &d)
	if d.Cuts == "siphash" {
		if own == nil {
			own = []byte(d.ID)
		}
		r.cutKey = make([]byte, 16)
		blake3.DeriveKey("dexamen store cuts", own, r.cutKey)
	} else {
		require.Empty(t, d.Cuts)
	}
	packs, err := filepath.Glob(filepath.Join(dir, "content", "*", "*"))
	require.NoError(t, err)
	for _, p := range packs {
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		require.Equal(t, "DXPK\x01\x00\x00\x00", string(b[:8]))
		require.Equal(t, filepath.Base(p)[:2], filepath.Base(filepath.Dir(p)))
		trailer := b[len(b)-24:]
		require.Equal(t, "DXPKEND\x01", string(trailer[16:]))
		at, n := binary.BigEndian.Uint64(trailer), binary.BigEndian.Uint32(trailer[8:])
		foot := r.frame(b[at:at+uint64(n)], 3)
		whole := foot
		require.Equal(t, filepath.Base(p), hex.EncodeToString(take(&foot, 16)))
		for count := uvarint(&foot); count > 0; count-- {
			name := string(take(&foot, 32))
			s := spot{pack: b, frame: uvarint(&foot)}
			uvarint(&foot)
			s.off, s.n = uvarint(&foot), uvarint(&foot)
			flags := take(&foot, 1)[0]
			require.Zero(t, flags&^3)
			if flags&1 == 1 {
				r.base[name] = string(take(&foot, 32))
			}
			r.where[name] = s
		}
		if r.keys == nil {
			require.Empty(t, foot)
			continue
		}
		h, err := blake3.NewKeyed(r.vouching)
		require.NoError(t, err)
		for _, part := range [][]byte{[]byte("content/" + filepath.Base(p)[:2] + "/" + filepath.Base(p)),
			whole[:len(whole)-32]} {
			_, _ = h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(part))))
			_, _ = h.Write(part)
		}
		require.Equal(t, h.Sum(nil)[:32], foot)
	}
	return r
}

// derivedKey returns the key of one frame under protection 2.
func derivedKey(t *testing.T, key, nonce []byte) (out []byte) {
	block, err := aes.NewCipher(key)
	require.NoError(t, err)
	l := make([]byte, 16)
	block.Encrypt(l, l)
	k := new(big.Int).Lsh(new(big.Int).SetBytes(l), 1)
	if k.Bit(128) == 1 {
		k.SetBit(k, 128, 0)
		k.Xor(k, big.NewInt(0b10000111))
	}
	for i := range byte(2) {
		m := new(big.Int).SetBytes(append([]byte{0, i + 1, 'X', 0}, nonce...))
		part := m.Xor(m, k).FillBytes(make([]byte, 16))
		block.Encrypt(part, part)
		out = append(out, part...)
	}
	return out
}

func uvarint(b *[]byte) uint64 {
	v, n := binary.Uvarint(*b)
	*b = (*b)[n:]
	return v
}

func take(b *[]byte, n uint64) []byte {
	out := (*b)[:n]
	*b = (*b)[n:]
	return out
}

// frame opens the frame at the front of b; kind 0 takes any.
func (r *reader) frame(b []byte, kind byte) []byte {
	raw, _ := r.frameRest(b, kind)
	return raw
}

func (r *reader) frameRest(b []byte, kind byte) (raw, rest []byte) {
	require.EqualValues(r.t, 1, b[3])
	if kind != 0 {
		require.Equal(r.t, kind, b[0])
	}
	content, stored := binary.BigEndian.Uint32(b[4:]), binary.BigEndian.Uint32(b[8:])
	payload := b[28 : 28+stored]
	sum := blake3.Sum256(append(append([]byte{}, b[:12]...), payload...))
	require.Equal(r.t, b[12:28], sum[:16])
	require.Equal(r.t, r.keys != nil, b[2] > 0, "all or nothing is encrypted")
	if b[2] > 0 {
		key, ok := r.keys[string(payload[:8])]
		require.True(r.t, ok)
		with, rest := append(append([]byte{}, b[:12]...), payload[:8]...), payload[8:]
		if b[2] == 2 {
			key, rest = derivedKey(r.t, key, rest[:12]), rest[12:]
		}
		block, err := aes.NewCipher(key)
		require.NoError(r.t, err)
		aead, err := cipher.NewGCM(block)
		require.NoError(r.t, err)
		payload, err = aead.Open(nil, rest[:12], rest[12:], with)
		require.NoError(r.t, err)
	}
	if b[1] == 1 {
		var err error
		payload, err = r.zstd.DecodeAll(payload, nil)
		require.NoError(r.t, err)
	}
	require.Len(r.t, payload, int(content))
	return payload, b[28+stored:]
}

func (r *reader) manifest(name string, v any) {
	b, err := os.ReadFile(filepath.Join(r.dir, name))
	require.NoError(r.t, err)
	require.Equal(r.t, "DXMF\x01\x00\x00\x00", string(b[:8]))
	keys := r.keys
	if open := strings.HasPrefix(name, "holders/") || strings.HasPrefix(name, "datakeys/") ||
		name == "dexamen-store"; open {
		r.keys = nil
	}
	raw := r.frame(b[8:], 5)
	require.Equal(r.t, name, string(take(&raw, uvarint(&raw))))
	require.NoError(r.t, json.Unmarshal(raw, v))
	r.keys = keys
}

// unlock opens the store's keys with an age key, and returns the one that all holders have.
func (r *reader) unlock(secret string) (listKey []byte) {
	id, err := age.ParseX25519Identity(secret)
	require.NoError(r.t, err)
	unseal := func(sealed []byte, id age.Identity) []byte {
		f, err := age.Decrypt(bytes.NewReader(sealed), id)
		require.NoError(r.t, err)
		raw, err := io.ReadAll(f)
		require.NoError(r.t, err)
		return raw
	}
	holders, err := os.ReadDir(filepath.Join(r.dir, "holders"))
	require.NoError(r.t, err)
	require.Len(r.t, holders, 1)
	var holder struct{ Sealed []byte }
	r.manifest("holders/"+holders[0].Name(), &holder)
	var keys struct {
		List    []byte
		Content string
	}
	require.NoError(r.t, json.Unmarshal(unseal(holder.Sealed, id), &keys))
	list := make([]byte, 32)
	r.names = make([]byte, 32)
	blake3.DeriveKey("dexamen store list key", keys.List, list)
	blake3.DeriveKey("dexamen store names", keys.List, r.names)
	r.vouching = make([]byte, 32)
	blake3.DeriveKey("dexamen store vouch", []byte(keys.Content), r.vouching)
	content, err := age.ParseX25519Identity(keys.Content)
	require.NoError(r.t, err)
	found := map[string][]byte{string(make([]byte, 8)): list}
	data, err := os.ReadDir(filepath.Join(r.dir, "datakeys"))
	require.NoError(r.t, err)
	for _, e := range data {
		var d struct {
			ID     string
			Sealed []byte
		}
		r.manifest("datakeys/"+e.Name(), &d)
		name, err := hex.DecodeString(d.ID)
		require.NoError(r.t, err)
		found[string(name)] = unseal(d.Sealed, content)
	}
	r.keys = found
	return keys.List
}

// part is how a cluster's or a shard's name stands in object names.
func (r *reader) part(kind, name string) string {
	if r.keys == nil {
		return name
	}
	h, err := blake3.NewKeyed(r.names)
	require.NoError(r.t, err)
	_, _ = h.Write([]byte(kind + "\x00" + name))
	return hex.EncodeToString(h.Sum(nil)[:15])
}

// entry is a leaf's record as it lies there.
type entry struct {
	key, body []byte
}

func (r *reader) leaf(b []byte) (out []entry) {
	require.EqualValues(r.t, 'L', take(&b, 1)[0])
	var key []byte
	for len(b) > 0 {
		shared := uvarint(&b)
		key = append(append([]byte{}, key[:shared]...), take(&b, uvarint(&b))...)
		whole := b
		v := uvarint(&b)
		n := v >> 1
		if v&1 == 1 {
			n = (n + 131071) / 131072 * 32
		}
		take(&b, n)
		out = append(out, entry{key, whole[:len(whole)-len(b)]})
	}
	return out
}

func encodeLeaf(list []entry) []byte {
	out := []byte{'L'}
	var last []byte
	for _, e := range list {
		n := 0
		for n < len(last) && n < len(e.key) && last[n] == e.key[n] {
			n++
		}
		out = binary.AppendUvarint(out, uint64(n))
		out = binary.AppendUvarint(out, uint64(len(e.key)-n))
		out = append(append(out, e.key[n:]...), e.body...)
		last = e.key
	}
	return out
}

func (r *reader) node(name string) []byte {
	s, ok := r.where[name]
	require.True(r.t, ok, "no node %x", name)
	b := r.frame(s.pack[s.frame:], 0)[s.off : s.off+s.n]
	if base, ok := r.base[name]; ok {
		require.NotContains(r.t, r.base, base, "a base is stored in full")
		old := r.leaf(r.node(base))
		var list []entry
		for len(b) > 0 {
			v := uvarint(&b)
			if v&1 == 0 {
				list = append(list, old[:v>>1]...)
			}
			old = old[v>>1:]
			if v&1 == 1 {
				for m := uvarint(&b); m > 0; m-- {
					k := take(&b, uvarint(&b))
					list = append(list, entry{k, take(&b, uvarint(&b))})
				}
			}
		}
		b = encodeLeaf(list)
	}
	require.Equal(r.t, name, hashName(b), "a node has the name its bytes have")
	return b
}

func hashName(b []byte) string {
	h := blake3.Sum256(b)
	return string(h[:])
}

// hash is what says where nodes end.
func (r *reader) hash(key []byte, level uint64) uint64 {
	if r.cutKey != nil {
		return siphash.Hash(binary.LittleEndian.Uint64(r.cutKey), binary.LittleEndian.Uint64(r.cutKey[8:])^level, key)
	}
	var d xxhash.Digest
	d.ResetWithSeed(level)
	_, _ = d.Write(key)
	return d.Sum64()
}

// walk returns all records below a node, and checks that it ends where the
// document says nodes end; last says that no node of its level comes after.
func (r *reader) walk(name string, last bool, fn func(key, value []byte)) (endKey []byte) {
	b := r.node(name)
	if b[0] == 'L' {
		list := r.leaf(b)
		for i, e := range list {
			v := e.body
			head := uvarint(&v)
			size, value := len(e.key)+len(v), v
			if head&1 == 1 {
				size = len(e.key) + 8 + len(v)
				value = nil
				for len(v) > 0 {
					p := r.node(string(take(&v, 32)))
					require.EqualValues(r.t, 'P', p[0])
					value = append(value, p[1:]...)
				}
				require.EqualValues(r.t, head>>1, len(value))
			}
			n := bits.Len(uint(size - 1))
			cut := size >= 65537 || r.hash(e.key, 0) < 1<<(64-17+n)
			switch {
			case i < len(list)-1:
				require.False(r.t, cut, "a leaf goes on past its end")
			case !last:
				require.True(r.t, cut || len(b) >= 1<<20, "a leaf ends before its end")
			}
			fn(e.key, value)
			endKey = e.key
		}
		return endKey
	}
	require.EqualValues(r.t, 'N', b[0])
	level := uint64(b[1])
	rest := b[2:]
	for n := 0; len(rest) > 0; n++ {
		child := string(take(&rest, 32))
		records, size := uvarint(&rest), uvarint(&rest)
		key := take(&rest, uvarint(&rest))
		if cut := r.hash(key, level) < 1<<58; len(rest) > 0 {
			require.False(r.t, cut || n+1 >= 512, "an inner node goes on past its end")
		} else if !last {
			require.True(r.t, cut || n+1 >= 512, "an inner node ends before its end")
		}
		var gotRecords, gotSize uint64
		end := r.walk(child, last && len(rest) == 0, func(k, v []byte) {
			gotRecords++
			gotSize += uint64(len(k) + len(v))
			fn(k, v)
		})
		require.Equal(r.t, []uint64{records, size}, []uint64{gotRecords, gotSize})
		require.Equal(r.t, key, end)
		endKey = end
	}
	return endKey
}

// TestTheFormatIsAsDocumented writes a store with the program and reads it with
// the reader above.
func TestTheFormatIsAsDocumented(t *testing.T) {
	t.Run("plain", func(t *testing.T) { documented(t, "") })
	t.Run("encrypted", func(t *testing.T) {
		secret, _, err := store.NewSecret()
		require.NoError(t, err)
		documented(t, secret)
	})
}

func documented(t *testing.T, secret string) {
	dir := t.TempDir()
	b := blob.NewDir(dir)
	o := store.CreateOptions{Tool: "test", Plain: true}
	var unlock []age.Identity
	if secret != "" {
		h, err := store.HolderOf(secret, "", store.Read)
		require.NoError(t, err)
		o = store.CreateOptions{Tool: "test", Holders: []store.Holder{h}}
		unlock, err = store.ParseSecret(secret)
		require.NoError(t, err)
	}
	_, err := store.Create(ctx, b, o)
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{FileBytes: 1 << 20, Unlock: unlock})
	require.NoError(t, err)
	defer s.Close()
	want := map[string]map[string]string{}
	near := tree.Root{}
	for version := range 3 {
		w := s.NewWriter(ctx)
		tb := tree.NewBuilder(w).Near(w, near)
		now := map[string]string{}
		for i := range 40_000 {
			k := string(binary.BigEndian.AppendUint64(nil, uint64(i)*977))
			v := fmt.Sprintf(`{"colony":%d,"yard":"heath","weight":%d}`, i, i*7919%1000)
			switch {
			case i%9001 == 5:
				v = strings.Repeat(v, 9000) // longer than a leaf may hold
			case i%5003 == 2:
				v = strings.Repeat(v, 2500)
			case version > 0 && i%(120+version) == 0:
				v += "changed"
			case version == 2 && i%3001 == 0:
				continue
			}
			now[k] = v
			require.NoError(t, tb.Add(ctx, record.Record{Key: []byte(k), Value: []byte(v)}))
		}
		near, err = tb.Finish(ctx)
		require.NoError(t, err)
		_, err = w.Flush(ctx)
		require.NoError(t, err)
		p := &store.Point{ID: store.NewPointID(time.Now()), Cluster: "meadow", Time: time.Now(),
			Namespaces: []store.PointNamespace{
				{Namespace: record.Namespace{Name: "apiary.colonies", Kind: "collection"}, Root: near}}}
		require.NoError(t, s.PutPoint(ctx, p))
		want[p.ID] = now
	}
	seg := putSegment(t, s, "aaaaaaaa", "cccccccc", 300)

	r := newReader(t, dir, secret)
	require.NotEmpty(t, r.base, "some leaves are patches")
	var d struct {
		ID     string
		Format int
	}
	r.manifest("dexamen-store", &d)
	require.Equal(t, 4, d.Format)
	for id, content := range want {
		var p struct {
			Cluster    string
			Namespaces []struct {
				Name string
				Root struct {
					Hash    string
					Records int
				}
			}
		}
		r.manifest("points/"+r.part("cluster", "meadow")+"/"+id, &p)
		require.Equal(t, "meadow", p.Cluster)
		root, err := hex.DecodeString(p.Namespaces[0].Root.Hash)
		require.NoError(t, err)
		n := 0
		r.walk(string(root), true, func(k, v []byte) {
			n++
			require.Equal(t, content[string(k)], string(v))
		})
		require.Equal(t, len(content), n)
		require.Equal(t, len(content), p.Namespaces[0].Root.Records)
	}
	r.segment("journal/"+r.part("cluster", "meadow")+"/"+r.part("shard", "yard")+"/p"+
		hex.EncodeToString([]byte("aaaaaaaa")), seg.ID, 300)
}

func (r *reader) segment(name string, id tree.Hash, changes int) {
	b, err := os.ReadFile(filepath.Join(r.dir, name))
	require.NoError(r.t, err)
	require.Equal(r.t, "DXSG\x01\x00\x00\x00", string(b[:8]))
	head, body := r.frameRest(b[8:], 7)
	require.Equal(r.t, string(id[:]), hashName(head))
	var h struct {
		Cluster, Shard, Body string
		Changes              int
		After, Last          struct{ Position string }
	}
	require.NoError(r.t, json.Unmarshal(head, &h))
	require.Equal(r.t, hex.EncodeToString([]byte(hashName(body))), h.Body)
	require.Equal(r.t, []any{"meadow", "yard", changes}, []any{h.Cluster, h.Shard, h.Changes})
	n := 0
	for len(body) > 0 {
		var raw []byte
		raw, body = r.frameRest(body, 6)
		for len(raw) > 0 {
			require.EqualValues(r.t, 1, take(&raw, 1)[0])
			wall, l := binary.Varint(raw)
			raw = raw[l:]
			require.EqualValues(r.t, n, wall)
			for _, want := range []string{"cccccccc", "apiary.colonies", "", "", string([]byte{byte(n)}), "v"} {
				require.Equal(r.t, want, string(take(&raw, uvarint(&raw))))
			}
			n++
		}
	}
	require.Equal(r.t, changes, n)
}

// TestTheFormatStaysAsItIs holds names that must never change: the same bytes
// have to have the same names in every version.
func TestTheFormatStaysAsItIs(t *testing.T) {
	empty, err := tree.NewBuilder(tree.Nowhere{}).Finish(ctx)
	require.NoError(t, err)
	require.Equal(t, hashName([]byte("L")), string(empty.Hash[:]))
	b := tree.NewBuilder(tree.Nowhere{})
	for i := range 50_000 {
		require.NoError(t, b.Add(ctx, record.Record{
			Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: fmt.Appendf(nil, "colony %d", i)}))
	}
	root, err := b.Finish(ctx)
	require.NoError(t, err)
	require.Equal(t, "c064440c0a55a3ff930685516f83c207f3bf7a823839436cce7774175805e775 1",
		fmt.Sprint(root.Hash, root.Level))

	keyed := tree.NewBuilder(tree.Nowhere(tree.KeyedCuts(0x0706050403020100, 0x0f0e0d0c0b0a0908)))
	for i := range 50_000 {
		require.NoError(t, keyed.Add(ctx, record.Record{
			Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: fmt.Appendf(nil, "colony %d", i)}))
	}
	root, err = keyed.Finish(ctx)
	require.NoError(t, err)
	require.Equal(t, "65f52e1e30173897ae2630d4201bc73267177a858e7fc5c3e8e4d5ccceebe38a 1",
		fmt.Sprint(root.Hash, root.Level))
}
