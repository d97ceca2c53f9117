package etcd

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/engine"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/engine/etcd/etcdtest"
)

func fixture(address string, cl *clientv3.Client) *enginetest.Fixture {
	ctx := context.Background()
	key := func(ns string, n int) string { return fmt.Sprintf("%s%06d", ns, n) }
	return &enginetest.Fixture{
		Target: engine.Target{Name: "willow",
			Address: address}, Driver: Driver{}, Namespace: "/gateways/", Other: "/gateways_restored/",
		Log: true, Exact: true, Undated: true, InPlace: true,
		Put: func(t testing.TB, ns string, n int, text string) {
			_, err := cl.Put(ctx, key(ns, n), text)
			require.NoError(t, err)
		},
		Remove: func(t testing.TB, ns string, n int) {
			_, err := cl.Delete(ctx, key(ns, n))
			require.NoError(t, err)
		},
		Drop: func(t testing.TB, ns string) {
			_, err := cl.Delete(ctx, ns, clientv3.WithPrefix())
			require.NoError(t, err)
		},
		Forget: func(t testing.TB) {
			var rev int64
			for i := range 5 {
				p, err := cl.Put(ctx, "/other/key", fmt.Sprint(i))
				require.NoError(t, err)
				rev = p.Header.Revision
			}
			_, err := cl.Compact(ctx, rev, clientv3.WithCompactPhysical())
			require.NoError(t, err)
		},
	}
}

func TestConformance(t *testing.T) {
	s := etcdtest.Start(t, etcdtest.Options{})
	cl := etcdtest.Client(t, s...)
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		clean(t, cl)
		return fixture(etcdtest.Address(s...), cl)
	})
}

// TestConformanceOfThree runs the suite on a cluster of three members with
// users: what is asked goes to a follower, and needs a login.
func TestConformanceOfThree(t *testing.T) {
	s := etcdtest.Start(t, etcdtest.Options{Members: 3})
	ctx := context.Background()
	plain := etcdtest.Client(t, s...)
	_, err := plain.UserAdd(ctx, "root", "made up")
	require.NoError(t, err)
	_, err = plain.RoleAdd(ctx, "root")
	require.NoError(t, err)
	_, err = plain.UserGrantRole(ctx, "root", "root")
	require.NoError(t, err)
	_, err = plain.AuthEnable(ctx)
	require.NoError(t, err)
	var endpoints []string
	for _, m := range s {
		endpoints = append(endpoints, m.Address)
	}
	cl, err := clientv3.New(clientv3.Config{Endpoints: endpoints, Username: "root", Password: "made up"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Close() })
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		clean(t, cl)
		f := fixture(etcdtest.Address(s[1]), cl)
		f.Target.User, f.Target.Secret = "root", "made up"
		wrong := f.Target
		wrong.Secret = "mistyped"
		f.WrongLogin = &wrong
		return f
	})
}

// clean makes a cluster as good as new for the next test.
func clean(t testing.TB, cl *clientv3.Client) {
	_, err := cl.Delete(context.Background(), "", clientv3.WithPrefix())
	require.NoError(t, err)
}
