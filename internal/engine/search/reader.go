package search

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

const (
	// keepAlive is how long servers keep a reader that nothing is asked of. It
	// bounds what a process that was killed leaves behind.
	keepAlive = "10m"
	// touchEvery is how often readers that wait for their turn are asked something.
	touchEvery = 3 * time.Minute
	// atOnce bounds the requests that open readers.
	atOnce = 16
	// openFor is how long the opening of a reader is tried, while a copy of the shard
	// takes the place of one that is gone, say.
	openFor = time.Minute
)

// shardReader reads one shard of one index as of one moment.
type shardReader struct {
	index, uuid string
	number      int
	generation  int64
	onPrimary   bool // replicas show less than the primary
	mostHits    int  // that a page may have
	mark        shardMark

	mu     sync.Mutex
	id     string // of the point in time; empty when there is none
	opened time.Time
}

// shardMark is how far a shard has come: every write up to the sequence number is in
// what is read. It is part of a [namespaceCursor].
type shardMark struct {
	Index      string `json:"index"`
	UUID       string `json:"uuid"`
	Shard      int    `json:"shard"`
	Checkpoint int64  `json:"checkpoint"`
	Term       int64  `json:"term"`
	History    string `json:"history,omitempty"`
	newest     int64  // sequence number given out
}

// view is a namespace as it can be read: its shards, each with a reader.
type view struct {
	c        *cluster
	ns       record.Namespace
	readers  []*shardReader
	docs     int64 // about
	bytes    int64
	exact    bool // all readers were opened while nothing was written
	keptOpen bool // belongs to what is pinned

	mu    sync.Mutex
	left  int // stretches that are not read yet
	ended bool
}

// newView returns a view of an index or data stream, with no readers open.
func (c *cluster) newView(s *state, ns engine.Namespace) (*view, error) {
	v := &view{c: c, ns: ns.Namespace, docs: ns.Records, bytes: ns.Bytes}
	add := func(name string, gen int64) error {
		i := s.indices[name]
		if i == nil {
			return fmt.Errorf("%s: %w", name, engine.ErrMoved)
		}
		most := pageHits
		if n, err := strconv.Atoi(settingText(i.Settings, "index.max_result_window")); err == nil {
			most = min(most, max(1, n))
		}
		for n := range i.shards() {
			v.readers = append(v.readers, &shardReader{index: name, uuid: i.uuid(), number: n, generation: gen,
				onPrimary: settingText(i.Settings, "index.replication.type") == "SEGMENT", mostHits: most,
				mark: shardMark{Index: name, UUID: i.uuid(), Shard: n, Checkpoint: -1,
					Term: i.PrimaryTerms[strconv.Itoa(n)]}})
		}
		return nil
	}
	if st := s.streams[ns.Name]; st != nil {
		for _, i := range st.Indices {
			if err := add(i.Name, generation(i.Name)); err != nil {
				return nil, err
			}
		}
		return v, nil
	}
	i := s.indices[ns.Name]
	if i == nil || len(ns.Ident) > 0 && i.uuid() != string(ns.Ident) {
		return nil, fmt.Errorf("%s: %w", ns.Name, engine.ErrMoved)
	}
	return v, add(ns.Name, 0)
}

// indicesOf returns the indices of views.
func indicesOf(views ...*view) (out []string) {
	last := ""
	for _, v := range views {
		for _, r := range v.readers {
			if r.index != last {
				last = r.index
				out = append(out, last)
			}
		}
	}
	return out
}

// settle asks how far each shard has come and then has what was written so far shown:
// all of it is in readers that are opened afterwards, on whichever copy.
func (c *cluster) settle(ctx context.Context, views ...*view) error {
	byShard := map[string]*shardReader{}
	for _, v := range views {
		for _, r := range v.readers {
			byShard[fmt.Sprint(r.index, "/", r.number)] = r
		}
	}
	for _, list := range paths(indicesOf(views...)) {
		var st struct {
			Indices map[string]struct {
				Shards map[string][]struct {
					Routing struct{ Primary bool }
					Seq     struct {
						Newest     int64 `json:"max_seq_no"`
						Checkpoint int64 `json:"global_checkpoint"`
					} `json:"seq_no"`
					Commit struct {
						Data struct {
							History string `json:"history_uuid"`
						} `json:"user_data"`
					}
				}
			}
		}
		const parts = "indices.*.shards.*"
		err := c.get(ctx, "/"+list+"/_stats/docs?level=shards&filter_path="+parts+".routing,"+parts+".seq_no,"+parts+
			".commit.user_data.history_uuid", &st)
		if err != nil {
			return c.gone(err)
		}
		for name, i := range st.Indices {
			for n, copies := range i.Shards {
				r := byShard[name+"/"+n]
				for _, cp := range copies {
					if r == nil {
						break
					}
					r.mark.newest = max(r.mark.newest, cp.Seq.Newest)
					if cp.Routing.Primary {
						r.mark.Checkpoint, r.mark.History = cp.Seq.Checkpoint, cp.Commit.Data.History
					}
				}
			}
		}
		var shown struct {
			Shards *shardCounts `json:"_shards"`
		}
		err = c.repeat(ctx, http.MethodPost, "/"+list+"/_refresh", nil, &shown)
		if err == nil {
			err = shown.Shards.whole("showing what was written")
		}
		if err != nil {
			return c.gone(err)
		}
	}
	return nil
}

// gone returns an error that says that an index is not there any more as one of
// package engine.
func (c *cluster) gone(err error) error {
	if is(err, 0, "index_not_found_exception") {
		return fmt.Errorf("%w: %w", engine.ErrMoved, err)
	}
	return err
}

// openReaders opens readers of the shards that have none.
func (c *cluster) openReaders(ctx context.Context, views ...*view) error {
	if c.about.readers == scrolls {
		return nil // each is opened when it is read
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, v := range views {
		for _, r := range v.readers {
			g.Go(func() error { return c.openReader(gctx, r) })
		}
	}
	return g.Wait()
}

func (c *cluster) openReader(ctx context.Context, r *shardReader) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.id != "" {
		return nil
	}
	where := fmt.Sprintf("_shards:%d", r.number)
	if r.onPrimary {
		where += "|_primary"
	}
	q := url.Values{"keep_alive": {keepAlive}, "preference": {where}}
	path := "/_pit?"
	if c.about.readers == pointsInTime {
		path = "/_search/point_in_time?"
		q.Set("allow_partial_pit_creation", "false")
	}
	path = "/" + url.PathEscape(r.index) + path + q.Encode()
	until := time.Now().Add(openFor)
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		var ans struct {
			ID     string       `json:"id"`
			PitID  string       `json:"pit_id"`
			Shards *shardCounts `json:"_shards"`
		}
		err := c.call(ctx, c.ask, http.MethodPost, path, nil, &ans)
		if err == nil && (ans.Shards != nil || c.about.readers == pointsInTime) {
			err = ans.Shards.whole("opening a reader")
		}
		if err == nil {
			if r.id = ans.PitID; r.id == "" {
				r.id = ans.ID
			}
			r.opened = time.Now()
			return nil
		}
		if is(err, 0, "index_not_found_exception") || ctx.Err() != nil || time.Now().After(until) ||
			is(err, http.StatusForbidden) {
			err = fmt.Errorf("a reader of %s, shard %d, could not be opened: %w", r.index, r.number, err)
			if is(err, http.StatusTooManyRequests) {
				err = fmt.Errorf("%w; the servers bound how many may be open (search.max_open_pit_context)", err)
			}
			return c.gone(err)
		}
		if err := wait.For(ctx, pause); err != nil {
			return err
		}
	}
}

// lose forgets a reader that the servers do not have any more.
func (r *shardReader) lose(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.id == id {
		r.id = ""
	}
}

// current returns the id of the reader, empty when it is gone.
func (r *shardReader) current() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.id
}

// closeReaders has the servers let go of what readers hold.
func (c *cluster) closeReaders(views ...*view) {
	var ids []string
	for _, v := range views {
		for _, r := range v.readers {
			r.mu.Lock()
			if r.id != "" {
				ids = append(ids, r.id)
				r.id = ""
			}
			r.mu.Unlock()
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), askTime)
	defer cancel()
	// What fails here ends by itself when nothing has been asked of it for a while.
	if c.about.readers == pointsInTime7 {
		for _, id := range ids {
			_ = c.do(ctx, http.MethodDelete, "/_pit", map[string]any{"id": id}, nil)
		}
		return
	}
	for len(ids) > 0 {
		n := min(len(ids), 200)
		_ = c.do(ctx, http.MethodDelete, "/_search/point_in_time", map[string]any{"pit_id": ids[:n]}, nil)
		ids = ids[n:]
	}
}

// touch asks something of each reader, so that the servers keep it.
func (c *cluster) touch(ctx context.Context, views []*view) {
	for _, v := range views {
		for _, r := range v.readers {
			id := r.current()
			if id == "" || ctx.Err() != nil {
				continue
			}
			_ = c.post(ctx, "/_search", map[string]any{"size": 0, "track_total_hits": false,
				"pit": map[string]any{"id": id, "keep_alive": keepAlive}}, nil)
		}
	}
}

// close gives up the readers of a view that belongs to itself.
func (v *view) close() {
	v.mu.Lock()
	was := v.ended
	v.ended = true
	v.mu.Unlock()
	if was {
		return
	}
	v.c.mu.Lock()
	delete(v.c.open, v)
	v.c.mu.Unlock()
	v.c.closeReaders(v)
}

// part notes that a stretch of the view was read; after the last one it is closed.
func (v *view) part() {
	v.mu.Lock()
	v.left--
	last := v.left == 0 && !v.keptOpen
	v.mu.Unlock()
	if last {
		v.close()
	}
}

// ready opens a view: its readers are open when it returns.
func (c *cluster) ready(ctx context.Context, v *view) error {
	err := c.settle(ctx, v)
	if err == nil {
		err = c.openReaders(ctx, v)
	}
	if err != nil {
		c.closeReaders(v)
	}
	return err
}

// openView opens a view of a namespace as it is now.
func (c *cluster) openView(ctx context.Context, ns engine.Namespace) (*view, error) {
	names := []string{ns.Name}
	if ns.Kind == streamKind {
		names = nil // the state of one stream alone lacks it
	}
	s, err := c.readState(ctx, names...)
	if err != nil {
		return nil, c.fail(err)
	}
	v, err := c.newView(s, ns)
	if err == nil {
		err = c.ready(ctx, v)
	}
	if err != nil {
		return nil, c.fail(err)
	}
	c.mu.Lock()
	c.open[v] = true
	c.mu.Unlock()
	return v, nil
}

// errReaderGone is returned when the servers have given up a reader.
var errReaderGone = errors.New("the servers have given up the reader of a shard")
