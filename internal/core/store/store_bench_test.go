package store_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/servertest"
	"dexamen/internal/sim/s3sim"
)

// benchRecords are documents as clusters hold them: about 320 bytes, of which a
// third does not compress.
func benchRecords(n int) []record.Record {
	rng := rand.New(rand.NewPCG(7, 7))
	out := make([]record.Record, n)
	for i := range out {
		noise := make([]byte, 100)
		for k := range noise {
			noise[k] = byte(rng.UintN(256))
		}
		out[i] = record.Record{Key: binary.BigEndian.AppendUint64(nil, uint64(i)),
			Value: fmt.Appendf(nil,
				`{"colony":"lindenholt-%06d","yard":"north","inspected":"2026-05-%02d","weight":%d,"temper":"calm","queen":{"marked":"blue","year":2025},"note":"weighed, and found well; honey super added on top of the second box","mite":%d,"token":"%s"}`, i, i%28+1, i*7919%90000, i%17, noise)}
	}
	return out
}

// BenchmarkStore writes and reads 256 MiB of documents, on a folder and on a
// real object store; plain, encrypted, with parity. Beside it, in the same run:
// the bare compressor on all cores, a bare copy to the same disk, and a bare
// upload of the stored bytes.
func BenchmarkStore(b *testing.B) {
	const mib = 256
	recs := benchRecords(mib << 20 / 320)
	var size int64
	for _, r := range recs {
		size += int64(len(r.Key) + len(r.Value))
	}
	rate := func(took time.Duration, n int64) string {
		return fmt.Sprintf("%.0f MiB/s", float64(n)/(1<<20)/took.Seconds())
	}
	began := time.Now()
	packed := compressAll(recs)
	say("%d MiB: the bare compressor %s, to %d MiB", size>>20, rate(time.Since(began), size), packed>>20)
	h := newHolder(b)
	who, err := store.HolderOf(h.secret, "", store.Read)
	require.NoError(b, err)
	srv := servertest.S3(b)
	for _, place := range []string{"folder", "object store"} {
		var base [2]time.Duration
		for i, kind := range []string{"plain", "encrypted", "encrypted, parity 8+2"} {
			dir := b.TempDir()
			var back blob.Backend = blob.NewDir(filepath.Join(dir, "larder"))
			if place == "object store" {
				back, err = blob.NewS3(onS3(srv, fmt.Sprint(i)))
				require.NoError(b, err)
			}
			o := store.CreateOptions{Tool: "bench", Plain: i == 0}
			if i > 0 {
				o.Holders = []store.Holder{who}
			}
			if i == 2 {
				o.Parity = "8+2"
			}
			_, err := store.Create(ctx, back, o)
			require.NoError(b, err)
			var opt store.Options
			if i > 0 {
				opt.Unlock = h.opt.Unlock
			}
			s, err := store.Open(ctx, back, opt)
			require.NoError(b, err)
			began := time.Now()
			w := s.NewWriter(ctx)
			tb := tree.NewBuilder(w)
			for _, r := range recs {
				require.NoError(b, tb.Add(ctx, r))
			}
			root, err := tb.Finish(ctx)
			require.NoError(b, err)
			stats, err := w.Flush(ctx)
			require.NoError(b, err)
			wrote := time.Since(began)
			s.Close()
			s, err = store.Open(ctx, back, opt)
			require.NoError(b, err)
			began = time.Now()
			n := 0
			require.NoError(b, tree.Walk(ctx, s, root, func(record.Record) error { n++; return nil }))
			read := time.Since(began)
			require.Equal(b, len(recs), n)
			if i == 0 {
				base = [2]time.Duration{wrote, read}
				floorUp, floorDown := bareCopy(b, back, stats.Stored)
				say("%s: bare writing of the %d MiB stored %s, bare reading %s (of documents)", place,
					stats.Stored>>20, rate(floorUp, size), rate(floorDown, size))
			}
			say("%s, %s: writing %s (%.2f times plain), reading %s (%.2f times)", place, kind, rate(wrote, size),
				wrote.Seconds()/base[0].Seconds(), rate(read, size), read.Seconds()/base[1].Seconds())
			s.Close()
		}
	}
	countRequests(b, recs, size, who, h)
}

// say prints a result; a benchmark's own log is cut after ten lines.
func say(format string, args ...any) { fmt.Printf("    "+format+"\n", args...) }

// compressAll compresses the records in blocks of 128 KiB, on all cores.
func compressAll(recs []record.Record) (out int64) {
	enc, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	blocks := make(chan []byte, 8)
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			var dst []byte
			for b := range blocks {
				dst = enc.EncodeAll(b, dst[:0])
				mu.Lock()
				out += int64(len(dst))
				mu.Unlock()
			}
		})
	}
	var block []byte
	for _, r := range recs {
		block = append(append(block, r.Key...), r.Value...)
		if len(block) > 128<<10 {
			blocks <- block
			block = nil
		}
	}
	blocks <- block
	close(blocks)
	wg.Wait()
	return out
}

// bareCopy writes so many bytes in objects of 16 MiB to a place, one after the
// other as the store does, and reads them back in pieces of 128 KiB.
func bareCopy(b *testing.B, back blob.Backend, n int64) (up, down time.Duration) {
	data := noise(3, 16<<20)
	began := time.Now()
	var names []string
	for at := int64(0); at < n; at += int64(len(data)) {
		name := fmt.Sprintf("check/%d", at)
		names = append(names, name)
		require.NoError(b, back.Create(ctx, name, data))
	}
	up = time.Since(began)
	began = time.Now()
	for _, name := range names {
		for off := int64(0); off < int64(len(data)); off += 45 << 10 {
			_, err := back.ReadAt(ctx, name, off, int(min(45<<10, int64(len(data))-off)))
			require.NoError(b, err)
		}
	}
	down = time.Since(began)
	for _, name := range names {
		require.NoError(b, back.Remove(context.Background(), name))
	}
	return up, down
}

// countRequests counts how many requests a GiB of documents takes.
func countRequests(b *testing.B, recs []record.Record, size int64, who store.Holder, h holder) {
	srv, err := s3sim.Start(s3sim.Options{Access: "lindenholt", Secret: "made up"})
	require.NoError(b, err)
	defer srv.Close()
	srv.MakeBucket("loft")
	back, err := blob.NewS3(blob.S3Options{
		Location: "s3://loft/x", Endpoint: srv.Endpoint(), Region: "us-east-1", PathStyle: true, Access: "lindenholt",
		Secret: "made up"})
	require.NoError(b, err)
	_, err = store.Create(ctx, back, store.CreateOptions{Tool: "bench", Holders: []store.Holder{who}})
	require.NoError(b, err)
	per := func(what string, do func(s *store.Store)) {
		before := srv.Requests()
		s, err := store.Open(ctx, back, store.Options{Unlock: h.opt.Unlock})
		require.NoError(b, err)
		opened := srv.Requests()
		say("to open it before it is %s: GET %d", what, opened["GET"]-before["GET"])
		before = opened
		do(s)
		s.Close()
		text := ""
		for _, m := range []string{"PUT", "GET", "HEAD", "DELETE"} {
			text += fmt.Sprintf(" %s %.0f", m, float64(srv.Requests()[m]-before[m])/(float64(size)/(1<<30)))
		}
		say("requests for each GiB of documents, %s:%s", what, text)
	}
	var root tree.Root
	per("written", func(s *store.Store) {
		w := s.NewWriter(ctx)
		tb := tree.NewBuilder(w)
		for _, r := range recs {
			require.NoError(b, tb.Add(ctx, r))
		}
		root, err = tb.Finish(ctx)
		require.NoError(b, err)
		_, err = w.Flush(ctx)
		require.NoError(b, err)
	})
	per("read", func(s *store.Store) {
		require.NoError(b, tree.Walk(ctx, s, root, func(record.Record) error { return nil }))
	})
	per("scrubbed", func(s *store.Store) {
		_, err := s.Scrub(ctx, store.ScrubOptions{})
		require.NoError(b, err)
	})
}
