package integration_test

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/servertest"
	"dexamen/internal/snapshot"
)

// etcdState returns what an etcd cluster holds.
func etcdState(t testing.TB, cl *clientv3.Client) map[string]string {
	out := map[string]string{}
	require.NoError(t, again(func() error {
		tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
		defer cancel()
		got, err := cl.Get(tctx, "", clientv3.WithPrefix())
		if err == nil {
			for _, kv := range got.Kvs {
				out[string(kv.Key)] = string(kv.Value)
			}
		}
		return err
	}))
	delete(out, "ready")
	return out
}

// etcdMoment returns what a moment is, restored beside onto an empty cluster.
func etcdMoment(t testing.TB, e *run.Runner, name string, w address.When, onto *servertest.Process) map[string]string {
	to := etcdtest.Client(t, onto)
	_, err := to.Delete(ctx, "", clientv3.WithPrefix())
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, name, w, nil)
	require.NoError(t, err)
	p, err := restore.NewPlan(ctx, e, m, open(t, "paddock", etcdtest.Address(onto)), restore.Options{})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Run(ctx)
	require.NoError(t, err)
	return etcdState(t, to)
}

// putBack ends a server, has fn change its data folder, and begins it again.
func putBack(t testing.TB, s *servertest.Process, fn func(dir string)) {
	s.Kill()
	fn(s.Arg("--data-dir"))
	s.Begin()
	cl := etcdtest.Client(t, s)
	require.NoError(t, again(func() error {
		tctx, cancel := context.WithTimeout(ctx, time.Second)
		defer cancel()
		_, err := cl.Get(tctx, "ready")
		return err
	}))
}

// TestEtcdHistoryGoesBack: a cluster whose history goes back, to a copy of its data folder or
// to nothing, is noticed whatever was written since: what was captured stays what it was,
// what is lost is a gap, and the next point begins anew.
func TestEtcdHistoryGoesBack(t *testing.T) {
	t.Parallel()
	scratch := etcdtest.Start(t, etcdtest.Options{})[0]
	for _, x := range []struct {
		name   string
		others int  // writes on the history that was put back
		follow bool // while it is followed
		anew   bool // made anew, not put back
		point  bool // a point is taken before anything else notices it
	}{
		{"longer", 15, false, false, false}, {"as long", 10, false, false, false},
		{"shorter", 3, false, false, false}, {"longer, a point", 15, false, false, true},
		{"as long, followed", 10, true, false, false}, {"longer, followed", 15, true, false, false},
		{"shorter, followed", 3, true, false, false}, {"nothing, followed", 0, true, false, false},
		{"anew", 40, false, true, false}, {"anew, followed", 40, true, true, false},
	} {
		if long(1, 0) == 0 && x.name != "longer" && x.name != "longer, a point" && x.name != "shorter, followed" {
			continue
		}
		t.Run(x.name, func(t *testing.T) {
			s := etcdtest.Start(t, etcdtest.Options{})[0]
			cl := etcdtest.Client(t, s)
			put := func(what string, n int) {
				for i := range n {
					require.NoError(t, again(func() error {
						tctx, cancel := context.WithTimeout(ctx, 2*time.Second)
						defer cancel()
						_, err := cl.Put(tctx, fmt.Sprintf("/%s/%d", what, i), what)
						return err
					}))
				}
			}
			put("old", 20)
			s.Kill()
			copied := t.TempDir()
			require.NoError(t, os.CopyFS(copied, os.DirFS(s.Arg("--data-dir"))))
			s.Begin()
			e := newRunner(t)
			_, err := snapshot.Take(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)))
			require.NoError(t, err)
			put("lost", 10)
			before := etcdState(t, cl)
			_, err = capture.Run(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)), capture.Options{})
			require.NoError(t, err)
			list, err := moment.Cover(ctx, e, "willow")
			require.NoError(t, err)
			reached := list[0].Latest
			ended := make(chan error, 1)
			fctx, stop := context.WithCancel(ctx)
			defer stop()
			if x.follow {
				go func() {
					_, err := capture.Run(fctx, e, "willow", open(t, "willow", etcdtest.Address(s)),
						capture.Options{Follow: true, FlushEvery: 100 * time.Millisecond})
					ended <- err
				}()
				time.Sleep(time.Second)
			}
			putBack(t, s, func(dir string) {
				require.NoError(t, os.RemoveAll(dir))
				if !x.anew {
					require.NoError(t, os.CopyFS(dir, os.DirFS(copied)))
				}
			})
			put("other", x.others)
			gap := func() []string {
				list, err := moment.Cover(ctx, e, "willow")
				require.NoError(t, err)
				var out []string
				for _, g := range list[0].Gaps {
					out = append(out, g.Reason)
				}
				return out
			}
			switch {
			case x.follow:
				require.Eventually(t, func() bool { return len(gap()) > 0 }, 30*time.Second, 50*time.Millisecond)
			case !x.point:
				_, err = capture.Run(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)), capture.Options{})
				require.ErrorIs(t, err, run.ErrIncomplete)
			}
			if !x.point {
				require.Contains(t, strings.Join(gap(), "\n"),
					"another history than the one that was read: it went back")
			}
			// What was captured is what it was.
			require.Equal(t, before, etcdMoment(t, e, "willow", address.When{Kind: address.Time, Time: reached},
				scratch))
			// And from the next point on all is what is there.
			_, err = snapshot.Take(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)))
			require.NoError(t, err)
			live := etcdState(t, cl)
			require.Equal(t, live, etcdMoment(t, e, "willow", moment.Latest, scratch))
			put("later", 5)
			if x.follow {
				now := time.Now()
				require.Eventually(t, func() bool {
					list, err := moment.Cover(ctx, e, "willow")
					return err == nil && !list[0].Latest.Before(now)
				}, 30*time.Second, 50*time.Millisecond, "%v", lazily(func() string {
					list, err := moment.Cover(ctx, e, "willow")
					select {
					case err := <-ended:
						return fmt.Sprint("following ended: ", err)
					default:
					}
					return fmt.Sprintf("%+v %v", *list[0], err)
				}))
				stop()
				require.ErrorIs(t, <-ended, context.Canceled)
			} else {
				_, err = capture.Run(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)), capture.Options{})
				if err != nil { // the gap is told by the run that finds it
					require.ErrorContains(t, err, "it goes on at a point taken since")
				}
			}
			live = etcdState(t, cl)
			require.Contains(t, slices.Collect(maps.Keys(live)), "/later/4")
			require.Equal(t, live, etcdMoment(t, e, "willow", moment.Latest, scratch))
		})
	}
}

// TestAnotherEtcdClusterAtTheAddress: following ends when another cluster comes up there, and
// what it holds is no part of the log.
func TestAnotherEtcdClusterAtTheAddress(t *testing.T) {
	t.Parallel()
	s, scratch := etcdtest.Start(t, etcdtest.Options{})[0], etcdtest.Start(t, etcdtest.Options{})[0]
	cl := etcdtest.Client(t, s)
	e := newRunner(t)
	_, err := cl.Put(ctx, "/own", "own")
	require.NoError(t, err)
	_, err = snapshot.Take(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)))
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() {
		_, err := capture.Run(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)),
			capture.Options{Follow: true, FlushEvery: 100 * time.Millisecond})
		ended <- err
	}()
	time.Sleep(time.Second)
	before := etcdState(t, cl)
	s.Kill()
	other := etcdtest.StartAt(t, s, "another")
	for i := range 30 {
		require.NoError(t, again(func() error {
			_, err := etcdtest.Client(t, other).Put(ctx, fmt.Sprint("/other/", i), "")
			return err
		}))
	}
	require.ErrorContains(t, <-ended, "another cluster is at the address")
	require.Equal(t, before, etcdMoment(t, e, "willow", moment.Latest, scratch))
	_, err = capture.Run(ctx, e, "willow", open(t, "willow", etcdtest.Address(s)), capture.Options{})
	require.ErrorIs(t, err, run.ErrRefused)
}

// TestEtcdForgetsALogin: a server that is begun again knows no login of before; what follows
// it logs in anew.
func TestEtcdForgetsALogin(t *testing.T) {
	t.Parallel()
	s := etcdtest.Start(t, etcdtest.Options{})[0]
	plain := etcdtest.Client(t, s)
	for _, do := range []func() error{
		func() error { _, err := plain.UserAdd(ctx, "root", "made up"); return err },
		func() error { _, err := plain.RoleAdd(ctx, "root"); return err },
		func() error { _, err := plain.UserGrantRole(ctx, "root", "root"); return err },
		func() error { _, err := plain.AuthEnable(ctx); return err },
	} {
		require.NoError(t, do())
	}
	put := func(key string) {
		cl, err := clientv3.New(clientv3.Config{Endpoints: []string{s.Address}, Username: "root", Password: "made up"})
		require.NoError(t, err)
		defer cl.Close()
		_, err = cl.Put(ctx, key, key)
		require.NoError(t, err)
	}
	drv, err := engine.ForName("etcd")
	require.NoError(t, err)
	connect := func() engine.Cluster {
		c, err := drv.Open(ctx, engine.Target{Name: "willow", Address: etcdtest.Address(s), User: "root",
			Secret: "made up"})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	e := newRunner(t)
	put("/one")
	_, err = snapshot.Take(ctx, e, "willow", connect())
	require.NoError(t, err)
	fctx, stop := context.WithCancel(ctx)
	defer stop()
	ended := make(chan error, 1)
	go func() {
		_, err := capture.Run(fctx, e, "willow", connect(), capture.Options{Follow: true,
			FlushEvery: 100 * time.Millisecond})
		ended <- err
	}()
	reached := func() {
		now := time.Now()
		require.Eventually(t, func() bool {
			list, err := moment.Cover(ctx, e, "willow")
			return err == nil && !list[0].Latest.Before(now)
		}, 40*time.Second, 50*time.Millisecond)
	}
	reached()
	for i := range 3 {
		s.Kill()
		s.Begin()
		require.Eventually(t, func() bool {
			cl, err := clientv3.New(clientv3.Config{Endpoints: []string{s.Address}, Username: "root",
				Password:    "made up",
				DialTimeout: time.Second})
			if err == nil {
				_ = cl.Close()
			}
			return err == nil
		}, 20*time.Second, 100*time.Millisecond)
		put(fmt.Sprint("/later/", i))
		reached()
	}
	stop()
	require.ErrorIs(t, <-ended, context.Canceled)
	scratch := etcdtest.Start(t, etcdtest.Options{})[0]
	got := etcdMoment(t, e, "willow", moment.Latest, scratch)
	delete(got, "ready")
	require.Len(t, got, 4)
}

// TestAllKeysOfEtcdAreOne: with a depth of zero all keys are one namespace, from the point to
// the restore in place, without what a restore notes beside them.
func TestAllKeysOfEtcdAreOne(t *testing.T) {
	t.Parallel()
	s, to := etcdtest.Start(t, etcdtest.Options{})[0], etcdtest.Start(t, etcdtest.Options{})[0]
	cl, other := etcdtest.Client(t, s), etcdtest.Client(t, to)
	depth := map[string]any{"prefix_depth": 0}
	put := func(keys ...string) {
		for _, k := range keys {
			_, err := cl.Put(ctx, k, k)
			require.NoError(t, err)
		}
	}
	put("/a/1", "b", "c/d", "\x00", "\xff\xff")
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "willow", openWith(t, "willow", etcdtest.Address(s), depth))
	require.NoError(t, err)
	put("later", "/a/2")
	_, err = cl.Delete(ctx, "b")
	require.NoError(t, err)
	_, err = capture.Run(ctx, e, "willow", openWith(t, "willow", etcdtest.Address(s), depth), capture.Options{})
	require.NoError(t, err)
	for range 2 { // onto nothing, and in place
		m, err := moment.Resolve(ctx, e, "willow", moment.Latest, nil)
		require.NoError(t, err)
		p, err := restore.NewPlan(ctx, e, m, openWith(t, "paddock", etcdtest.Address(to), depth),
			restore.Options{Conflict: restore.Replace})
		require.NoError(t, err)
		_, err = p.Run(ctx)
		p.Close()
		require.NoError(t, err)
		require.Equal(t, etcdState(t, cl), etcdState(t, other))
		_, err = other.Put(ctx, "too many", "x")
		require.NoError(t, err)
	}
}

// TestEtcdAsItIsSetUp: a server that takes few operations at once, and says that it is where
// nobody reaches it, is protected and restored onto all the same.
func TestEtcdAsItIsSetUp(t *testing.T) {
	t.Parallel()
	s := etcdtest.Start(t, etcdtest.Options{Args: []string{"--max-txn-ops", "7", "--advertise-client-urls",
		"http://192.0.2.1:2379"}})[0]
	cl := etcdtest.Client(t, s)
	for i := range 500 {
		_, err := cl.Put(ctx, fmt.Sprintf("/gateways/%03d", i), fmt.Sprint(i))
		require.NoError(t, err)
	}
	e := newRunner(t)
	c := open(t, "willow", etcdtest.Address(s))
	_, err := snapshot.Take(ctx, e, "willow", c)
	require.NoError(t, err)
	want := etcdState(t, cl)
	_, err = cl.Delete(ctx, "/gateways/", clientv3.WithPrefix())
	require.NoError(t, err)
	for i := range 300 {
		_, err := cl.Put(ctx, fmt.Sprintf("/gateways/x%03d", i), "too many")
		require.NoError(t, err)
	}
	_, err = capture.Run(ctx, e, "willow", c, capture.Options{})
	require.NoError(t, err)
	points, _, err := e.Store.Points(ctx, "willow")
	require.NoError(t, err)
	p, err := restore.NewPlan(ctx, e, mustResolve(t, e, points[0]), c, restore.Options{Conflict: restore.Replace})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Run(ctx)
	require.NoError(t, err)
	require.Equal(t, want, etcdState(t, cl))
}

// lazily is a text that is made when it is printed.
type lazily func() string

func (l lazily) String() string { return l() }
