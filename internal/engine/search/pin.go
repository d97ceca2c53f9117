package search

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

// pinned is the cluster as it is when readers of all that was chosen are opened. It
// implements [engine.Incremental].
type pinned struct {
	*cluster
	list  []engine.Namespace
	views map[string]*view
	stop  context.CancelFunc
}

// readersAtOnce is the share of the readers a node may have that a point takes: others
// read too, and all may come to lie on one node.
const readersAtOnce = 0.7

// Pin implements [engine.Pinned]. Definitions are read after the readers were opened,
// so that they have all fields that the documents have.
func (c *cluster) Pin(ctx context.Context, chosen func(string) bool) (*engine.PinnedView, error) {
	v, err := c.pin(ctx, chosen)
	return v, c.fail(err)
}

func (c *cluster) pin(ctx context.Context, chosen func(string) bool) (*engine.PinnedView, error) {
	c.unpin()
	b, err := c.takePrepared(ctx)
	if err != nil {
		return nil, err
	}
	list, s := b.list, b.state
	p := &pinned{cluster: c, views: map[string]*view{}}
	var views []*view
	shards := 0
	exact := c.holdsWrites()
	for _, ns := range list {
		if ns.Skip != "" || !ns.Kind.IsContent() || chosen != nil && !chosen(ns.Name) {
			p.list = append(p.list, ns)
			continue
		}
		v, err := c.newView(s, ns)
		if errors.Is(err, engine.ErrMoved) {
			continue // it went after it was listed
		}
		if err != nil {
			return nil, err
		}
		v.keptOpen, v.exact = true, exact
		p.list = append(p.list, ns)
		p.views[ns.Name] = v
		views = append(views, v)
		shards += len(v.readers)
	}
	out := &engine.PinnedView{Cluster: p, Exact: exact, Release: c.unpin, Mark: record.Mark{Wall: time.Now()}}
	if c.about.readers == scrolls {
		out.Exact = false
		out.Caveat = "the servers have no readers that hold still: each shard is as of when its reading began"
		p.views = map[string]*view{}
		return out, nil
	}
	if most := b.most; most > 0 && float64(shards) > readersAtOnce*float64(most) {
		if exact {
			return nil, fmt.Errorf("%d shards were chosen, and the servers let %d readers be open on a node "+
				"(search.max_open_pit_context): raise it to %d, choose fewer indices, or leave out quiesce", shards,
				most,
				int(float64(shards)/readersAtOnce)+1)
		}
		// Those that fit are of one moment, nearly; the others are opened one by one.
		n := 0
		for i, v := range views {
			if n += len(v.readers); float64(n) > readersAtOnce*float64(most) {
				for _, late := range views[i:] {
					delete(p.views, late.ns.Name)
				}
				out.Caveat = fmt.Sprintf(
					"%d of %d indices were opened one after the other while the point was made: the "+
						"servers let %d readers be open on a node (search.max_open_pit_context)", len(views)-i, len(
						views), most)
				views = views[:i]
				break
			}
		}
	}
	begin := time.Now()
	if err := c.openAll(ctx, views); err != nil {
		return nil, err
	}
	took := time.Since(begin)
	if err := c.redefine(ctx, p, chosen); err != nil {
		c.closeReaders(views...)
		return nil, err
	}
	out.Mark.Wall = time.Now()
	if !exact && out.Caveat == "" && len(views) > 0 {
		out.Caveat = fmt.Sprintf("writes went on: shards and indices are of moments that lie up to %s apart",
			took.Round(time.Millisecond))
	}
	keep, stop := context.WithCancel(context.WithoutCancel(ctx))
	p.stop = stop
	go func() {
		for {
			select {
			case <-keep.Done():
				return
			case <-time.After(touchEvery):
				c.touch(keep, views)
			}
		}
	}()
	c.mu.Lock()
	c.pinned = p
	c.mu.Unlock()
	return out, nil
}

// openAll opens all readers of views, or none.
func (c *cluster) openAll(ctx context.Context, views []*view) error {
	err := c.settle(ctx, views...)
	if err == nil {
		err = c.openReaders(ctx, views...)
	}
	if err == nil {
		return nil
	}
	c.closeReaders(views...)
	if errors.Is(err, engine.ErrMoved) {
		return fmt.Errorf("%w: an index went while readers were opened: %w", engine.ErrStateGone, err)
	}
	return err
}

// redefine takes the definitions as they are now, and checks that what was chosen is
// what there is: all of it held still, where it is to be of one moment.
func (c *cluster) redefine(ctx context.Context, p *pinned, chosen func(string) bool) error {
	s, err := c.readState(ctx)
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for i, ns := range p.list {
		known[ns.Name] = true
		v := p.views[ns.Name]
		if v == nil {
			continue
		}
		for _, r := range v.readers {
			now := s.indices[r.index]
			if now == nil || now.uuid() != r.uuid {
				return fmt.Errorf("%w: %s went while readers were opened", engine.ErrStateGone, r.index)
			}
			if v.exact && !takesNoWrites(now) {
				return fmt.Errorf("%w: writes to %s were not held back while readers were opened", engine.ErrStateGone,
					r.index)
			}
		}
		p.list[i].Namespace = c.namespace(s, ns.Name).Namespace
		v.ns = p.list[i].Namespace
	}
	if !c.holdsWrites() {
		return nil
	}
	for name := range s.indices {
		bears := name
		if st := s.backing[name]; st != "" {
			bears = st
		}
		if !s.own(name) && !known[bears] && (chosen == nil || chosen(bears)) {
			return fmt.Errorf("%w: %s came while readers were opened", engine.ErrStateGone, name)
		}
	}
	return nil
}

// prepared is what is asked before writes are held back, so that it takes none of the
// time in which they are.
type prepared struct {
	list  []engine.Namespace
	state *state
	most  int // readers that may be open on a node; 0 where that is not bounded
}

func (c *cluster) prepare(ctx context.Context) (*prepared, error) {
	b := &prepared{}
	var err error
	if b.list, b.state, err = c.listing(ctx); err != nil {
		return nil, err
	}
	if n, bounded := c.limit(ctx, "search.max_open_pit_context"); bounded {
		b.most = n
	}
	return b, nil
}

// takePrepared returns what was prepared, once.
func (c *cluster) takePrepared(ctx context.Context) (*prepared, error) {
	c.mu.Lock()
	b := c.before
	c.before = nil
	c.mu.Unlock()
	if b != nil {
		return b, nil
	}
	return c.prepare(ctx)
}

// unpin gives up what is pinned.
func (c *cluster) unpin() {
	c.mu.Lock()
	p := c.pinned
	c.pinned = nil
	c.mu.Unlock()
	if p == nil {
		return
	}
	p.stop()
	for _, v := range p.views {
		c.closeReaders(v)
	}
}

// Namespaces returns what was there when the readers were opened.
func (p *pinned) Namespaces(context.Context) ([]engine.Namespace, error) { return p.list, nil }

// Partitions implements [engine.Cluster]. Readers that were given up, where that is
// allowed, are opened anew.
func (p *pinned) Partitions(ctx context.Context, ns engine.Namespace, n int) ([]engine.Partition, error) {
	v := p.views[ns.Name]
	if v == nil {
		return p.cluster.Partitions(ctx, ns, n)
	}
	if err := p.reopen(ctx, v); err != nil {
		return nil, p.fail(err)
	}
	return v.cut(n, nil), nil
}

// reopen opens those readers of a view that were given up.
func (p *pinned) reopen(ctx context.Context, v *view) error {
	for _, r := range v.readers {
		if r.current() != "" {
			continue
		}
		if v.exact {
			return fmt.Errorf("%s: %w", v.ns.Name, engine.ErrStateGone)
		}
		// What was written meanwhile is in it: the mark of before still holds.
		return p.ready(ctx, v)
	}
	return nil
}

// hold is what is held back, as it is kept outside this process.
type hold struct {
	Indices []heldIndex `json:"indices"`
	// Flush: what was written goes to the files of the servers.
	Flush bool `json:"flush,omitempty"`
}

type heldIndex struct {
	Name string `json:"name"`
	UUID string `json:"uuid"`
}

// Quiescible implements [engine.Quiescer]: writes to the indices chosen, but for those
// that take none as it is.
func (c *cluster) Quiescible(ctx context.Context, chosen func(string) bool) (engine.Hold, error) {
	if !c.holdsWrites() || c.about.readers == scrolls {
		return engine.Hold{}, nil
	}
	b, err := c.prepare(ctx)
	if err != nil {
		return engine.Hold{}, c.fail(err)
	}
	c.mu.Lock()
	c.before = b
	c.mu.Unlock()
	s := b.state
	var h hold
	for _, name := range slices.Sorted(maps.Keys(s.indices)) {
		i, bears := s.indices[name], name
		if st := s.backing[name]; st != "" {
			bears = st
		}
		if s.own(name) || chosen != nil && !chosen(bears) || skip(i, "") != "" || takesNoWrites(i) {
			continue
		}
		h.Indices = append(h.Indices, heldIndex{name, i.uuid()})
	}
	if len(h.Indices) == 0 {
		return engine.Hold{}, nil
	}
	what := fmt.Sprintf("writes to %d indices", len(h.Indices))
	if len(h.Indices) == 1 {
		what = "writes to " + h.Indices[0].Name
	}
	detail, err := json.Marshal(h)
	return engine.Hold{What: what, Detail: detail}, err
}

var _ engine.FileQuiescer = (*cluster)(nil)

// QuiescibleFiles implements [engine.FileQuiescer]: writes to all indices are held back, and
// what was written is flushed. Which nodes are copied is of no account.
func (c *cluster) QuiescibleFiles(ctx context.Context, _ []string) (engine.Hold, error) {
	s, err := c.readState(ctx)
	if err != nil {
		return engine.Hold{}, c.fail(err)
	}
	h := hold{Flush: true}
	for _, name := range slices.Sorted(maps.Keys(s.indices)) {
		if i := s.indices[name]; !takesNoWrites(i) && i.State != "close" {
			h.Indices = append(h.Indices, heldIndex{name, i.uuid()})
		}
	}
	detail, err := json.Marshal(h)
	return engine.Hold{What: fmt.Sprintf("writes to %d indices", len(h.Indices)), Detail: detail, Exact: true}, err
}

// StillHeld implements [engine.HoldChecker].
func (c *cluster) StillHeld(ctx context.Context, what engine.Hold) error {
	var h hold
	if err := json.Unmarshal(what.Detail, &h); err != nil {
		return err
	}
	s, err := c.readState(ctx)
	if err != nil {
		return c.fail(fmt.Errorf("%w: %w", engine.ErrHoldLost, err))
	}
	for _, i := range h.Indices {
		if now := s.indices[i.Name]; now != nil && now.uuid() == i.UUID && !now.blocked("write") {
			return c.fail(fmt.Errorf("%w: %s takes writes", engine.ErrHoldLost, i.Name))
		}
	}
	return nil
}

func takesNoWrites(i *indexState) bool {
	return i.blocked("write") || i.blocked("read_only") || i.blocked("read_only_allow_delete")
}

// Quiesce implements [engine.Quiescer]. When it returns, writes that had begun have
// ended, and others are refused.
func (c *cluster) Quiesce(ctx context.Context, what engine.Hold) error {
	var h hold
	if err := json.Unmarshal(what.Detail, &h); err != nil {
		return err
	}
	var names []string
	c.mu.Lock()
	for _, i := range h.Indices {
		names = append(names, i.Name)
		c.held[i.Name] = true
	}
	c.mu.Unlock()
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, list := range paths(names) {
		g.Go(func() error {
			var ans struct {
				Acknowledged bool
				Shards       bool `json:"shards_acknowledged"`
			}
			err := c.repeat(gctx, http.MethodPut, "/"+list+"/_block/write", nil, &ans)
			if err == nil && (!ans.Acknowledged || !ans.Shards) {
				err = fmt.Errorf("%w: not every shard has said that it takes no writes", engine.ErrStateGone)
			}
			if err != nil {
				return c.fail(fmt.Errorf("holding back writes: %w", err))
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	c.mu.Lock()
	c.settled = true
	c.mu.Unlock()
	if !h.Flush || len(names) == 0 {
		return nil
	}
	var ans struct {
		Shards struct{ Failed int } `json:"_shards"`
	}
	if err := c.repeat(ctx, http.MethodPost, "/_flush?wait_if_ongoing=true&force=true", nil, &ans); err != nil {
		return c.fail(fmt.Errorf("flushing: %w", err))
	}
	if ans.Shards.Failed > 0 {
		return c.fail(fmt.Errorf("flushing: %d shards have not", ans.Shards.Failed))
	}
	return nil
}

// Resume implements [engine.Quiescer]. Indices that were made anew since are left as
// they are; those that are gone need nothing.
func (c *cluster) Resume(ctx context.Context, what engine.Hold) error {
	var h hold
	if err := json.Unmarshal(what.Detail, &h); err != nil {
		return err
	}
	c.mu.Lock()
	settled := c.settled
	clear(c.held)
	c.settled = false
	c.mu.Unlock()
	s, err := c.readState(ctx)
	if err != nil {
		return c.fail(err)
	}
	if err := c.lift(ctx, s, h, func(string, *indexState) bool { return true }); err != nil || settled {
		return err
	}
	return c.watchBlocks(ctx, h)
}

// quietFor is for how long no block may come back.
const quietFor = 3 * time.Second

// watchBlocks lifts what comes back: servers add a block in two steps, and one that was
// asked for by a process that is gone may be added after it was lifted.
func (c *cluster) watchBlocks(ctx context.Context, h hold) error {
	began := time.Now() // of a block that nobody is putting there any more
	for last := time.Now(); time.Since(last) < quietFor; {
		if err := wait.For(ctx, 100*time.Millisecond); err != nil {
			return err
		}
		s, err := c.readState(ctx)
		if err != nil {
			return c.fail(err)
		}
		var back []string
		err = c.lift(ctx, s, h, func(name string, i *indexState) bool {
			if i.blocked("write") {
				back = append(back, name)
			}
			return i.blocked("write")
		})
		if err != nil {
			return err
		}
		var going struct{ Tasks map[string]any }
		path := "/_tasks?group_by=parents&actions=indices:admin/block/*"
		busy := c.get(ctx, path, &going) == nil && len(going.Tasks) > 0
		if len(back) > 0 || busy {
			last = time.Now()
		}
		if len(back) == 0 || busy {
			began = time.Now()
		}
		// One that was left half-way is not taken away by its setting: put there as a whole, it is.
		if time.Since(began) > quietFor {
			began = time.Now()
			for _, list := range paths(back) {
				if err := c.repeat(ctx, http.MethodPut, "/"+list+"/_block/write", nil, nil); err != nil {
					return c.fail(err)
				}
			}
		}
	}
	return nil
}

// lift has writes go on to those indices of a hold that are the same ones and of a kind.
func (c *cluster) lift(ctx context.Context, s *state, h hold, which func(string, *indexState) bool) error {
	var names []string
	for _, i := range h.Indices {
		if now := s.indices[i.Name]; now != nil && now.uuid() == i.UUID && which(i.Name, now) {
			names = append(names, i.Name)
		}
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, list := range paths(names) {
		g.Go(func() error {
			err := c.repeat(gctx, http.MethodPut, "/"+list+"/_settings?ignore_unavailable=true",
				map[string]any{"index.blocks.write": nil}, nil)
			if err != nil {
				return c.fail(fmt.Errorf("letting writes go on to %s: %w", strings.ReplaceAll(list, ",", ", "), err))
			}
			return nil
		})
	}
	return g.Wait()
}
