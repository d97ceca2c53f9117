package search

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine"
	"dexamen/internal/sim/searchsim"
)

// TestLogins reaches a cluster through TLS: with a certificate that is pinned and with
// none, and logs in with a password, with an API key, and with what is refused.
func TestLogins(t *testing.T) {
	c, do := standIn(t, searchsim.Options{Nodes: 1})
	do(t, http.MethodPut, "/notes/_doc/1", `{"n":1}`)
	to, err := url.Parse(c.URL())
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	want := ""
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != want {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(s.Close)
	ctx := context.Background()
	address := "search+" + strings.Replace(s.URL, "https://", "https://", 1)
	certs, err := Driver{}.Certificates(ctx, engine.Target{Address: address, TLS: engine.TLS{On: true}})
	require.NoError(t, err)
	require.Len(t, certs, 1)
	pinned := engine.TLS{On: true, Pins: []string{certs[0].Fingerprint}}
	for _, l := range []struct {
		want, user, secret string
		tls                engine.TLS
		fails              string
	}{
		{"Basic YWRhOm1hZGUgdXA=", "ada", "made up", pinned, ""},
		{"ApiKey bWFkZSB1cA==", "", "bWFkZSB1cA==", pinned, ""},
		{"ApiKey another", "", "bWFkZSB1cA==", pinned, "login refused"},
		{"", "", "", engine.TLS{On: true}, "certificate"},
		{"", "", "", engine.TLS{On: true, Pins: []string{"sha256:00"}}, "not pinned"},
	} {
		want = l.want
		cl, err := Driver{}.Open(ctx, engine.Target{Name: "clover", Address: address, User: l.user, Secret: l.secret,
			TLS: l.tls})
		if l.fails != "" {
			require.ErrorContains(t, err, l.fails)
			require.NotContains(t, err.Error(), "bWFkZSB1cA==")
			continue
		}
		require.NoError(t, err)
		spaces, err := cl.Namespaces(ctx)
		require.NoError(t, err)
		require.Len(t, spaces, 1)
		require.NoError(t, cl.Close())
	}
	for _, bad := range []string{"search+http://ada:pw@h", "search+http://", "search+http://h/path"} {
		_, err := Driver{}.Open(ctx, engine.Target{Address: bad})
		require.Error(t, err)
		require.NotContains(t, err.Error(), "pw")
	}
}
