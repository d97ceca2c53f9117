package keyprefix_test

import (
	"bytes"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine/keyprefix"
)

func TestPrefixNames(t *testing.T) {
	for _, c := range []struct {
		depth     int
		key, name string
	}{
		{0, "/gateways/north/1", "all"}, {1, "/gateways/north/1", "/gateways/"}, {
			2, "/gateways/north/1", "/gateways/north/"},
		{2, "/gateways/north", "/gateways"}, {3, "/gateways/north/1", "/gateways/north"}, {1, "/gateways", "/"},
		{1, "gateways", "top"},
		{1, "gateways/north", "gateways/"}, {2, "all/x", "%61ll"}, {1, "100%/x", "%31%30%30%25/"}, {1, "//x", "//"},
		{1, "", "top"}, {1, "imker_ä/x", "imker_ä/"},
	} {
		p := keyprefix.Cut{Sep: '/', Depth: c.depth}
		got := p.Name([]byte(c.key))
		if c.name != "%31%30%30%25/" { // how much of it is escaped is free
			require.Equal(t, c.name, got, "%+v", c)
		}
		require.NotContains(t, got, "*")
	}
	_, _, err := keyprefix.Cut{Sep: '/'}.Range("%zz")
	require.ErrorContains(t, err, "no beginning of keys")
}

// FuzzPrefixes: every key lies in the range of its namespace, in no other's, and
// names can be printed.
func FuzzPrefixes(f *testing.F) {
	f.Add([]byte("/gateways/north/1"), []byte("/gateways/"), 2)
	f.Add([]byte("all/x"), []byte("all"), 2)
	f.Add([]byte{0xFF, '/', 0}, []byte{0xFF, '/'}, 1)
	f.Fuzz(func(t *testing.T, key, other []byte, depth int) {
		p := keyprefix.Cut{Sep: '/', Depth: min(max(depth, 0), 6)}
		name, name2 := p.Name(key), p.Name(other)
		require.True(t, utf8.ValidString(name))
		prefix, flat, err := p.Range(name)
		require.NoError(t, err, "%q", name)
		require.True(t, p.Holds(prefix, flat, key), "%q holds %q", name, key)
		require.Equal(t, name == name2, p.Holds(prefix, flat, other), "%q %q", name, name2)
		if end := keyprefix.End(prefix); end != nil {
			require.Negative(t, bytes.Compare(key, end))
		}
	})
}
