package search

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"github.com/elastic/elastic-transport-go/v8/elastictransport"

	"dexamen/internal/core/record"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

const (
	// pageBytes is what an answer should have, pageMost what is read of one.
	pageBytes = 6 << 20
	pageMost  = 24 << 20
	pageHits  = 10000 // what servers allow
	// stretchDocs is how many documents make it worth reading a part of a shard
	// beside the rest of it.
	stretchDocs = 20000
)

// stretch is what is read of one shard: the documents whose last write has a sequence
// number above one, up to another.
type stretch struct {
	v       *view
	r       *shardReader
	id      string // of the reader that was there when the view was cut
	after   int64
	upTo    int64 // -1: to the end
	keys    bool  // without the documents' content
	perPage int   // to begin with
}

// Partitions implements [engine.Cluster]: each shard, and stretches of large ones.
func (c *cluster) Partitions(ctx context.Context, ns engine.Namespace, n int) ([]engine.Partition, error) {
	if ns.Kind == record.KindSettings {
		return []engine.Partition{{}}, nil
	}
	v, err := c.openView(ctx, ns)
	if err != nil {
		return nil, err
	}
	return v.cut(n, nil), nil
}

// cut cuts a view into about n stretches; since, where given, is what a point before
// has of each shard.
func (v *view) cut(n int, since map[*shardReader]int64) (out []engine.Partition) {
	each := max(1, n/max(1, len(v.readers)))
	size := int64(400)
	if v.docs > 0 && v.bytes > 0 {
		size = 1 + v.bytes/v.docs*2 // they are compressed there
	}
	perPage := int(min(pageHits, max(1, pageBytes/size)))
	for _, r := range v.readers {
		s := stretch{v: v, r: r, id: r.current(), after: -1, upTo: -1, perPage: min(perPage, r.mostHits)}
		if seq, ok := since[r]; ok {
			if s.after = seq; seq == nothingSince {
				continue
			}
		}
		wide := r.mark.newest - s.after
		for k := range int64(each) {
			if v.c.about.readers == scrolls || wide < 2*stretchDocs || k == int64(each)-1 {
				out = append(out, engine.Partition{From: s})
				break
			}
			part := s
			part.upTo = s.after + wide/int64(each)
			out = append(out, engine.Partition{From: part})
			s.after = part.upTo
		}
	}
	v.mu.Lock()
	v.left = len(out)
	v.mu.Unlock()
	if len(out) == 0 {
		v.close()
		return []engine.Partition{{From: stretch{}}} // an index of no shards has no documents
	}
	return out
}

// Scan implements [engine.Cluster].
func (c *cluster) Scan(ctx context.Context, ns engine.Namespace, p engine.Partition,
	fn func(record.Record) error) error {
	if ns.Kind == record.KindSettings {
		return c.fail(c.scanClusterWide(ctx, ns.Name, fn))
	}
	if s, ok := p.From.(stretch); ok {
		if s.v == nil {
			return nil
		}
		defer s.v.part()
		return c.fail(c.scanStretch(ctx, s, fn))
	}
	v, err := c.openView(ctx, ns)
	if err != nil {
		return err
	}
	defer v.close()
	for _, p := range v.cut(1, nil) {
		if s := p.From.(stretch); s.v != nil {
			if err := c.scanStretch(ctx, s, fn); err != nil {
				return c.fail(err)
			}
		}
	}
	return nil
}

// scanStretch reads a stretch and calls fn with each document as a record.
func (c *cluster) scanStretch(ctx context.Context, s stretch, fn func(record.Record) error) error {
	var key, value []byte
	emit := func(h *hit) error {
		d := document{ID: h.id, Routing: h.routing, Version: h.version, Generation: s.r.generation, source: h.source}
		key = d.key(key[:0])
		if s.keys {
			return fn(record.Record{Key: key})
		}
		if h.source == nil || h.version < 0 || h.id == "" {
			return fmt.Errorf("%s: the servers gave the document %q without its _id, version or source", s.r.index,
				h.id)
		}
		value = d.appendValue(value[:0])
		return fn(record.Record{Key: key, Value: value})
	}
	var err error
	if c.about.readers == scrolls {
		err = c.scroll(ctx, s, emit)
	} else if s.id == "" || s.r.current() != s.id {
		err = errReaderGone
	} else {
		err = c.pages(ctx, s, emit)
	}
	if errors.Is(err, errReaderGone) {
		return s.v.lost(s.r, s.id, err)
	}
	return err
}

// lost notes that a reader is gone. Another one would show another moment: what was read
// of the namespace does not go with it, nor, where all is of one moment, anything else.
func (v *view) lost(r *shardReader, id string, err error) error {
	r.lose(id)
	kind := engine.ErrReadAgain
	if v.exact {
		kind = engine.ErrStateGone
	}
	return fmt.Errorf("%s, shard %d: %w: %w", r.index, r.number, kind, err)
}

// bySequence sorts documents by sequence number, of an index without any too.
var bySequence = []any{map[string]any{"_seq_no": map[string]any{"order": "asc", "unmapped_type": "long"}}}

// pages reads a stretch by ranges of sequence numbers: of one shard they are unique,
// and finding a range costs what it holds. Pages are as large as bytes allow, not
// documents.
func (c *cluster) pages(ctx context.Context, s stretch, emit func(*hit) error) error {
	size, window := s.perPage, int64(s.perPage)
	var failed failures
	for after := s.after; ; {
		upTo, open := after+window, false
		if s.upTo >= 0 {
			upTo = min(upTo, s.upTo)
		} else if after >= s.r.mark.newest {
			open = true // what was written since that was asked
		}
		bounds := map[string]any{"gt": after}
		if !open {
			bounds["lte"] = upTo
		}
		q := map[string]any{"size": size, "track_total_hits": false, "version": true,
			"pit": map[string]any{"id": s.id, "keep_alive": keepAlive}, "sort": bySequence,
			"query": map[string]any{"range": map[string]any{"_seq_no": bounds}}}
		if s.keys {
			q["_source"], q["version"] = false, false
		}
		last, bytes := after, 0
		page, err := c.search(ctx, c.ask, "/_search?allow_partial_search_results=false", q, func(h *hit) error {
			if h.seq <= last {
				return fmt.Errorf("%s: documents do not come in the order that was asked for (%d after %d)", s.r.index,
					h.seq, last)
			}
			// The first one counts whatever its size.
			if bytes += len(h.source) + len(h.id) + 64; bytes > pageMost && last > after {
				return errEnough
			}
			if err := emit(h); err != nil {
				return emitted{err}
			}
			last = h.seq
			return nil
		})
		var own emitted
		switch {
		case errors.As(err, &own):
			return own.error
		case errors.Is(err, errEnough):
			after, size = last, max(1, page.hits/2)
			window = int64(size)
			continue
		case err != nil:
			// What came before is right: it goes on after the last one.
			again, slower, werr := failed.again(ctx, err)
			if werr != nil || !again {
				return errors.Join(werr, s.gone(err))
			}
			if after = last; slower && size > 1 {
				size /= 2
				window = int64(size)
			}
			continue
		}
		failed = failures{}
		n := page.hits
		switch {
		case n == size:
			after, window = last, max(int64(size), window/2)
		case open || s.upTo >= 0 && upTo == s.upTo:
			return nil
		default:
			if after = upTo; n < size/2 {
				window *= 2
			}
		}
		if n > 0 {
			fit := pageBytes / (1 + bytes/n)
			size = min(s.r.mostHits, max(1, min(fit, 2*size)))
		}
	}
}

// emitted is an error of the caller's.
type emitted struct{ error }

func (e emitted) Unwrap() error { return e.error }

// gone returns an error that tells of a reader that the servers have given up.
func (s *stretch) gone(err error) error {
	switch {
	case is(err, 0, "index_not_found_exception"):
		return fmt.Errorf("%s: %w: %w", s.r.index, engine.ErrMoved, err)
	case is(err, http.StatusNotFound), serverFailed(err):
		// The node that had it is gone, or the shard has moved on: servers say so in many
		// ways.
		return fmt.Errorf("%w: %w", errReaderGone, err)
	}
	return fmt.Errorf("%s, shard %d: %w", s.r.index, s.r.number, err)
}

// serverFailed reports whether a server answered that something failed on its side.
func serverFailed(err error) bool {
	var a *apiError
	return errors.As(err, &a) && a.Status >= 500
}

// failures are those of one question in a row.
type failures struct {
	n     int
	since time.Time
}

// again decides whether a question is asked again, and waits before that: for as long
// as a server says that it has too much to do, but not longer than busyFor, and a few
// times where the connection was cut.
func (f *failures) again(ctx context.Context, err error) (again, slower bool, _ error) {
	if f.n++; f.n == 1 {
		f.since = time.Now()
	}
	busy := is(err, http.StatusTooManyRequests, "circuit_breaking_exception")
	cut := errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, engine.ErrUnreachable)
	if ctx.Err() != nil || !busy && !cut || busy && time.Since(f.since) > busyFor || cut && f.n > 4 {
		return false, false, ctx.Err()
	}
	return true, busy, wait.For(ctx, min(5*time.Second, time.Duration(f.n)*200*time.Millisecond))
}

// search asks for a page and calls fn with its documents; a page that lacks a shard is
// an error.
func (c *cluster) search(ctx context.Context, by *elastictransport.Client, path string, q any,
	fn func(*hit) error) (*page, error) {
	body, err := encodeJSON(q)
	if err != nil {
		return &page{}, err
	}
	res, err := c.send(ctx, by, http.MethodPost, path, body)
	if err != nil {
		return &page{}, err
	}
	defer res.Body.Close()
	p, err := readPage(res.Body, fn)
	switch {
	case err != nil && ctx.Err() != nil:
		return p, ctx.Err()
	case err != nil:
		return p, err
	case p.timedOut:
		return p, &apiError{Status: http.StatusServiceUnavailable, Type: "partial answer",
			Reason: "the search timed out"}
	}
	return p, p.shards.whole("reading documents")
}

// scroll reads a shard in one pass, in the order in which it keeps documents. A pass
// that breaks off cannot be gone on with.
func (c *cluster) scroll(ctx context.Context, s stretch, emit func(*hit) error) (err error) {
	size := min(s.perPage, 2000)
	q := map[string]any{"size": size, "version": true, "sort": []string{"_doc"}, "track_total_hits": true,
		"seq_no_primary_term": true}
	if s.keys {
		q["_source"] = false
	}
	path := "/" + url.PathEscape(s.r.index) + "/_search?allow_partial_search_results=false&scroll=" + keepAlive +
		"&preference=" + url.QueryEscape(fmt.Sprintf("_shards:%d", s.r.number))
	id := ""
	defer func() {
		if id != "" {
			end, cancel := context.WithTimeout(context.WithoutCancel(ctx), askTime)
			defer cancel()
			_ = c.do(end, http.MethodDelete, "/_search/scroll", map[string]any{"scroll_id": []string{id}}, nil)
		}
	}()
	for {
		var page *page
		// Asked once more, a scroll goes on behind what was lost: each is asked once.
		page, err = c.search(ctx, c.change, path, q, func(h *hit) error {
			if err := emit(h); err != nil {
				return emitted{err}
			}
			return nil
		})
		if page.scroll != "" {
			id = page.scroll
		}
		var own emitted
		if errors.As(err, &own) {
			return own.error
		}
		if err != nil {
			if ctx.Err() != nil || id == "" {
				return s.gone(err)
			}
			return fmt.Errorf("%w: %w", errReaderGone, err)
		}
		if page.hits == 0 {
			return nil
		}
		path, q = "/_search/scroll", map[string]any{"scroll_id": id, "scroll": keepAlive}
	}
}
