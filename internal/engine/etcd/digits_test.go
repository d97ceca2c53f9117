package etcd

import (
	"bytes"
	"testing"
)

// FuzzCuts holds that a range is cut within its ends, in order, whatever keys look like.
func FuzzCuts(f *testing.F) {
	f.Add([]byte("/yard/000000"), []byte("/yard/095999"), []byte("0123456789"), 256)
	f.Add([]byte("a"), []byte("a\x00"), []byte("ab"), 7)
	f.Add([]byte("/x/\xff\xff"), []byte("/x0"), []byte{0, 255}, 40)
	f.Fuzz(func(t *testing.T, low, high, seen []byte, n int) {
		if bytes.Compare(low, high) >= 0 {
			return
		}
		if mid := middle(low, high); mid != nil && (bytes.Compare(mid, low) <= 0 || bytes.Compare(mid, high) >= 0) {
			t.Fatalf("%q is not between %q and %q", mid, low, high)
		}
		n = min(n, 1000)
		last := low
		cuts := digitsOf(low, high, [][]byte{append(bytes.Clone(low), seen...), high}).between(low, high, n)
		for _, c := range cuts {
			if bytes.Compare(c, last) <= 0 || bytes.Compare(c, high) >= 0 {
				t.Fatalf("%q after %q, within %q and %q", c, last, low, high)
			}
			last = c
		}
		if len(cuts) > max(0, n-1) {
			t.Fatalf("%d cuts for %d parts", len(cuts), n)
		}
	})
}
