package integration_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/engine/search/searchtest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/snapshot"
)

// TestSearchHistories has random work done on a cluster of three real nodes, which are
// killed and come back; points between, most of them of what has changed only, must be
// what was written, and so must what is restored of them.
func TestSearchHistories(t *testing.T) {
	t.Parallel()
	// The breaker takes what was not collected yet for used; in a heap as small as these it
	// would refuse everything after some eighty histories.
	c := searchtest.Start(t, searchtest.Options{Nodes: 3,
		Settings: []string{"indices.breaker.total.use_real_memory=false"}})
	n, rounds := long(20, 10), long(2, 3) // make search: 100
	if v, err := strconv.Atoi(os.Getenv("DEXAMEN_SEARCH_HISTORIES")); err == nil {
		n, rounds = v, 5 // make search
	}
	first, _ := strconv.Atoi(os.Getenv("DEXAMEN_SEED"))
	for i := range n {
		t.Run(fmt.Sprint(first+i), func(t *testing.T) { searchHistory(t, c, uint64(first+i), rounds) })
	}
	for _, exact := range []bool{true, false} {
		t.Run(fmt.Sprintf("moments, writes held back %v", exact), func(t *testing.T) { searchMoments(t, c, exact) })
	}
}

func searchHistory(t *testing.T, c *searchtest.Cluster, seed uint64, rounds int) {
	c.Clean(t)
	r := rand.New(rand.NewPCG(seed, 15))
	h := &searchHand{t: t, c: c, r: r, world: searchWorld{}}
	for _, name := range []string{"fieldnotes-2026.11.19", "fieldnotes-2026.11.20", "keepers"} {
		h.makeIndex(name, len(c.Nodes)/2)
	}
	e := newRunner(t)
	options := map[string]any{}
	if seed%2 == 0 {
		options["quiesce"] = "write-block"
	}
	try := func() (*store.Point, error) {
		_, drv, err := engine.ForAddress(c.Address())
		require.NoError(t, err)
		cl, err := drv.Open(ctx, engine.Target{Name: "clover", Address: c.Address(), Options: options})
		if err != nil {
			return nil, err
		}
		defer cl.Close()
		return snapshot.Take(ctx, e, "clover", cl)
	}
	take := func() *store.Point {
		p, err := try()
		require.NoError(t, err)
		require.Empty(t, p.Skipped)
		require.Equal(t, seed%2 == 0, p.Exact)
		return p
	}
	type remembered struct {
		p     *store.Point
		world searchWorld
	}
	var all []remembered
	for round := range rounds {
		for range 20 + r.IntN(long(120, 50)) {
			h.step()
		}
		var back func()
		// A node dies before the point is made or while; it takes long to come back.
		if len(c.Nodes) > 1 && round == 1 && seed%5 == 0 {
			node := 1 + r.IntN(2)
			die := func() { c.Nodes[node].Kill() }
			c.Do(t, http.MethodGet, "/_cluster/health?wait_for_status=green&timeout=60s", "")
			down := true
			back = func() {
				if down {
					down = false
					c.Nodes[node].Begin()
					c.Ready(t)
				}
			}
			defer func() { time.Sleep(350 * time.Millisecond); back() }()
			if r.IntN(2) == 0 {
				die()
				h.settle()
			} else {
				time.AfterFunc(time.Duration(r.IntN(300))*time.Millisecond, die)
			}
		}
		e.FullRead = r.IntN(4) == 0
		var p *store.Point
		if back != nil {
			// With a node that dies meanwhile it may fail, and say so; then it is made when
			// the node is back.
			var err error
			if p, err = try(); err != nil || len(p.Skipped) > 0 {
				t.Logf("seed %d, round %d: a node died: %v %v", seed, round, err, p)
				back()
				p = nil
			}
		}
		if p == nil {
			p = take()
		}
		for _, cv := range p.Caveats {
			require.NotContains(t, cv, "not to be relied on", "a full read proves the points of changes")
		}
		sameTexts(t, h.world.texts(), pointTexts(t, e, p),
			fmt.Sprintf("seed %d, round %d, point %s (%s)", seed, round, p.ID,
				p.Made))
		all = append(all, remembered{p, h.world.clone()})
		if back != nil {
			time.Sleep(350 * time.Millisecond)
			back()
		}
	}
	// Something old comes back, beside and in place.
	m := all[r.IntN(len(all))]
	was := take()
	put := func(opt restore.Options) {
		when := address.When{Kind: address.Point, Text: m.p.ID}
		mom, err := moment.Resolve(ctx, e, "clover", when, restore.OnScratch{})
		require.NoError(t, err)
		plan, err := restore.NewPlan(ctx, e, mom, open(t, "clover", c.Address()), opt)
		require.NoError(t, err)
		defer plan.Close()
		done, err := plan.Run(ctx)
		require.NoError(t, err)
		for _, d := range done {
			require.True(t, d.Verified)
		}
	}
	put(restore.Options{Pattern: "keepers", Conflict: restore.Replace})
	put(restore.Options{Pattern: "fieldnotes-*", Rename: map[string]string{"fieldnotes-*": "restored-*"}})
	h.world["keepers"] = m.world["keepers"]
	for _, n := range []string{"2026.11.19", "2026.11.20"} {
		h.world["restored-"+n] = m.world["fieldnotes-"+n]
	}
	now := take()
	sameTexts(t, h.world.texts(), pointTexts(t, e, now), fmt.Sprintf("seed %d, after restoring %s", seed, m.p.ID))
	sameTexts(t, all[len(all)-1].world.texts(), pointTexts(t, e, was), "what was before is kept")
}

// TestSearchOtherVersions runs histories on an older server, which has no readers that
// hold still, and on a newer one, with an index that has everything, where there is a
// JDK for it.
func TestSearchOtherVersions(t *testing.T) {
	t.Parallel()
	if long(1, 0) == 0 {
		return // three servers to fetch and start: make test-long
	}
	t.Run("1.3", func(t *testing.T) {
		c := searchtest.Start(t, searchtest.Options{Version: "1.3.14"})
		for _, seed := range []uint64{1, 3} {
			searchHistory(t, c, seed, 5)
		}
	})
	t.Run("3", func(t *testing.T) {
		java := searchtest.NewerJava()
		if java == "" {
			t.Log("there is no JDK 21 or later here: only servers up to 2.19 are tested")
			return
		}
		c := searchtest.Start(t, searchtest.Options{Version: "3.8.0", Java: java})
		for seed := range uint64(3) {
			searchHistory(t, c, seed, 5)
		}
		c.Clean(t)
		everything(t, c, everyField)
	})
}

// searchMoments has points made while writes go on. With writes held back for a moment
// each must be the state after some number of writes, over all indices; without, nothing
// that was there before and not touched since may be missing or altered.
func searchMoments(t *testing.T, c *searchtest.Cluster, exact bool) {
	c.Clean(t)
	h := &searchHand{t: t, c: c, r: rand.New(rand.NewPCG(1, 5)), world: searchWorld{}, onBlock: func() {}}
	for _, name := range []string{"fieldnotes-2026.11.19", "fieldnotes-2026.11.20", "keepers"} {
		h.makeIndex(name, 1)
	}
	for i := range 200 {
		h.put("keepers", fmt.Sprint("still ", i), "", fmt.Sprintf(`{"n": %d}`, i)) // never touched again
	}
	// The states after each write, while they may be needed.
	var mu sync.Mutex
	var states []searchWorld
	stop, ended := make(chan bool), make(chan bool)
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			default:
			}
			if h.r.IntN(10) < 8 {
				h.put(h.index(), fmt.Sprint("doc ", h.r.IntN(40)), "", h.source())
			} else {
				h.step1()
			}
			mu.Lock()
			states = append(states, h.world.clone())
			mu.Unlock()
		}
	}()
	defer func() { close(stop); <-ended }() // also where the test fails
	e := newRunner(t)
	options := map[string]any{}
	if exact {
		options["quiesce"] = "write-block"
	}
	for range long(30, 4) {
		mu.Lock()
		if n := len(states); n > 0 {
			states = states[n-1:]
		}
		mu.Unlock()
		p, err := snapshot.Take(ctx, e, "clover", openWith(t, "clover", c.Address(), options))
		require.NoError(t, err)
		got := pointTexts(t, e, p)
		// A write that the point has may not have been heard of yet.
		mu.Lock()
		heard := len(states)
		mu.Unlock()
		var during []searchWorld
		require.Eventually(t, func() bool {
			mu.Lock()
			defer mu.Unlock()
			during = states
			return len(states) > heard+1
		}, time.Minute, 5*time.Millisecond)
		require.Equal(t, exact, p.Exact)
		if exact {
			diff := ""
			for _, s := range during {
				if diff = textsDiffer(s.texts(), got); diff == "" {
					break
				}
			}
			require.Empty(t, diff, "point %s is the state after none of %d writes", p.ID, len(during))
			continue
		}
		require.NotEmpty(t, p.Caveats)
		checkUntouched(t, during, got)
	}
}

// step1 deletes a document.
func (h *searchHand) step1() {
	index, id := h.index(), fmt.Sprint("doc ", h.r.IntN(40))
	h.send(http.MethodDelete, docPath(index, id, "", ""), "")
	delete(h.world[index], h.key(index, id, ""))
}

// checkUntouched checks that what stayed the same through all states is there, and that
// nothing is there that was in none.
func checkUntouched(t *testing.T, during []searchWorld, got map[string][]string) {
	t.Helper()
	for name, docs := range during[0] {
		have := map[string]bool{}
		for _, text := range got[name] {
			have[text] = true
		}
		for key, d := range docs {
			same := true
			for _, s := range during[1:] {
				same = same && s[name][key] == d
			}
			require.True(t, !same || have[d.text()], "%s/%s was there all the time", name, d.id)
		}
		possible := map[string]bool{}
		for _, s := range during {
			for _, d := range s[name] {
				possible[d.text()] = true
			}
		}
		for text := range have {
			require.True(t, possible[text], "%s: never was: %s", name, text)
		}
	}
}
