package etcd_test

import (
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd"
	"dexamen/internal/engine/etcd/etcdtest"
)

// slowly passes on to an address what connects to it, and what comes back at a rate, in bytes a second.
func slowly(t *testing.T, to string, bytes int) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	link := rate.NewLimiter(rate.Limit(bytes), 16<<10)
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				_ = in.Close()
				continue
			}
			go func() { _, _ = io.Copy(out, in); _ = out.Close() }()
			go func() {
				defer in.Close()
				b := make([]byte, 16<<10)
				for {
					n, err := out.Read(b)
					if err != nil || link.WaitN(t.Context(), n) != nil {
						return
					}
					if _, err := in.Write(b[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// TestSlowNetworks holds that a server is read over a network that is too slow for a page of the usual size within the
// time that a question may take.
func TestSlowNetworks(t *testing.T) {
	t.Parallel()
	s := etcdtest.Start(t, etcdtest.Options{Members: 1})
	cl := etcdtest.Client(t, s...)
	const keys = 400
	for i := range keys {
		key := "farm/" + string(rune('a'+i%26)) + strings.Repeat("x", i/26)
		_, err := cl.Put(t.Context(), key, strings.Repeat("z", 5000))
		require.NoError(t, err)
	}
	address := strings.TrimPrefix(etcdtest.Address(s...), "etcd://")
	c, err := etcd.Driver{}.Open(t.Context(), engine.Target{Name: "far",
		Address: "etcd://" + slowly(t, address, 150<<10)})
	require.NoError(t, err)
	defer c.Close()
	list, err := c.Namespaces(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	n, begun := 0, time.Now()
	err = c.Scan(t.Context(), list[0], engine.Partition{}, func(record.Record) error { n++; return nil })
	require.NoError(t, err)
	require.Equal(t, keys, n)
	t.Logf("%d keys in %s", n, time.Since(begun).Round(time.Millisecond))
}
