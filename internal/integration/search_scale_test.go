package integration_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/engine/search/searchtest"
)

// TestSearchScale measures a snapshot beside a bare scroll of the same documents, the
// next one after a hundredth of them has changed and a thousandth is gone, and a restore
// beside a bare bulk load (DEXAMEN_SEARCH_DOCUMENTS).
func TestSearchScale(t *testing.T) {
	t.Parallel()
	if long(1, 0) == 0 {
		return // make test-long
	}
	documents := 4000
	if n, err := strconv.Atoi(os.Getenv("DEXAMEN_SEARCH_DOCUMENTS")); err == nil {
		documents = n
	}
	c := searchtest.Start(t, searchtest.Options{Heap: "1g",
		Settings: []string{"indices.breaker.total.use_real_memory=false"}})
	bodies := noteBodies(documents, 0, documents)
	c.Do(t, http.MethodPut, "/notes", noteIndex)
	loaded := loadNotes(t, c, "notes", bodies)
	c.Do(t, http.MethodPost, "/notes/_forcemerge?max_num_segments=2", "")
	run := measuredProgram(t, c.Address(), c.Address())
	wall, cpu, size := bareScroll(t, c, documents)
	t.Logf("%d documents, %d MiB; a bare scroll: %.1f s wall, %.1f s CPU; a bare bulk load: %.1f s", documents,
		size>>20,
		wall.Seconds(), cpu.Seconds(), loaded.Seconds())
	first := run("snapshot", "from")
	t.Logf("first snapshot: %s (%.2f of the scroll's wall)", first, first.wall.Seconds()/wall.Seconds())

	r := rand.New(rand.NewPCG(1, 2))
	stored := func(u usage) float64 {
		_, n, _ := strings.Cut(u.out, `"stored": `)
		v, err := strconv.ParseFloat(strings.FieldsFunc(n, func(r rune) bool { return r == ',' || r == '\n' })[0], 64)
		require.NoError(t, err)
		return v
	}
	next := func(what string, gone int) usage {
		var changes bytes.Buffer
		for range documents / 100 {
			fmt.Fprintf(&changes, "{\"index\":{\"_id\":\"note-%d\"}}\n{\"text\":\"changed\",\"n\":%d}\n",
				r.IntN(documents),
				r.IntN(99))
		}
		for range gone {
			fmt.Fprintf(&changes, "{\"delete\":{\"_id\":\"note-%d\"}}\n", documents/2+r.IntN(documents/2))
		}
		c.Do(t, http.MethodPost, "/notes/_bulk?refresh=true", changes.String())
		u := run("snapshot", "from")
		t.Logf("%s: %s (%.2f of the first); stored %.2f %% of the first", what, u,
			u.wall.Seconds()/first.wall.Seconds(),
			100*stored(u)/stored(first))
		return u
	}
	changed := next("a hundredth changed", 0)
	second := next("a hundredth changed and a thousandth gone", documents/1000)
	third := run("snapshot", "from")
	t.Logf("third snapshot, nothing changed: %s", third)
	restored := run("restore", "from@latest/notes", "--rename", "notes=notes-again", "--yes")
	t.Logf("restore, read back twice: %s (%.2f of the bulk load)", restored, restored.wall.Seconds()/loaded.Seconds())
	for _, u := range []usage{first, changed, second, third, restored} {
		require.Less(t, u.peak, 400, "memory is bounded")
	}
	a, b := c.Do(t, http.MethodGet, "/notes/_count", ""), c.Do(t, http.MethodGet, "/notes-again/_count", "")
	require.Equal(t, a["count"], b["count"])
}

const noteIndex = `{"settings":{"number_of_shards":2,"number_of_replicas":0,"refresh_interval":"30s"},"mappings":{
	"properties":{"text":{"type":"text"},"keeper":{"type":"keyword"},"n":{"type":"integer"},"at":{"type":"date"}}}}`

// noteBodies makes bulk requests of about two megabytes with notes of about 250 bytes.
func noteBodies(seed, from, to int) (out [][]byte) {
	r := rand.New(rand.NewPCG(uint64(seed), 7))
	words := strings.Fields(
		"brood pattern even queen seen eggs in all stages two frames capped honey calm weather warm " +
			"linden in flower varroa board checked super added entrance busy pollen yellow orange")
	var b bytes.Buffer
	for i := from; i < to; i++ {
		fmt.Fprintf(&b,
			"{\"index\":{\"_id\":\"note-%d\"}}\n{\"n\":%d,\"at\":\"2026-11-%02dT10:00:00Z\",\"keeper\":\"keeper "+
				"%d\",\"text\":\"",
			i, i, 1+i%28, r.IntN(50))
		for range 20 + r.IntN(20) {
			b.WriteString(words[r.IntN(len(words))])
			b.WriteByte(' ')
		}
		b.WriteString("\"}\n")
		if b.Len() > 2<<20 || i == to-1 {
			out = append(out, bytes.Clone(b.Bytes()))
			b.Reset()
		}
	}
	return out
}

// loadNotes writes bulk requests, four at once.
func loadNotes(t testing.TB, c *searchtest.Cluster, index string, bodies [][]byte) time.Duration {
	begin := time.Now()
	var g errgroup.Group
	g.SetLimit(4)
	for _, b := range bodies {
		g.Go(func() error {
			for {
				res, err := http.Post(c.URL+"/"+index+"/_bulk?filter_path=errors", "application/x-ndjson",
					bytes.NewReader(b))
				if err != nil {
					return err
				}
				text, err := io.ReadAll(res.Body)
				_ = res.Body.Close()
				if err != nil || strings.Contains(string(text), "false") {
					return err
				}
				time.Sleep(100 * time.Millisecond)
			}
		})
	}
	require.NoError(t, g.Wait())
	c.Do(t, http.MethodPost, "/"+index+"/_refresh", "")
	return time.Since(begin)
}

// bareScroll reads all documents with a scroll and nothing else.
func bareScroll(t testing.TB, c *searchtest.Cluster, want int) (wall, cpu time.Duration, size int64) {
	used := func() time.Duration {
		var u syscall.Rusage
		require.NoError(t, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
		return time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	begin, before := time.Now(), used()
	path, body := "/notes/_search?scroll=5m", `{"size":5000,"sort":["_doc"]}`
	buf := sync.Pool{New: func() any { return new(bytes.Buffer) }}
	for seen := 0; seen < want; {
		res, err := http.Post(c.URL+path, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		b := buf.Get().(*bytes.Buffer)
		b.Reset()
		_, err = b.ReadFrom(res.Body)
		require.NoError(t, err)
		_ = res.Body.Close()
		require.Equal(t, http.StatusOK, res.StatusCode, "%.300s", b)
		size += int64(b.Len())
		seen += bytes.Count(b.Bytes(), []byte(`"_source":`))
		_, rest, _ := strings.Cut(b.String()[:min(b.Len(), 4096)], `"_scroll_id":"`)
		id, _, _ := strings.Cut(rest, `"`)
		path, body = "/_search/scroll", fmt.Sprintf(`{"scroll":"5m","scroll_id":%q}`, id)
		buf.Put(b)
	}
	return time.Since(begin), used() - before, size
}
