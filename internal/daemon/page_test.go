package daemon

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/notify"
	"dexamen/internal/report"
	"dexamen/internal/run"
	"dexamen/internal/servertest"
)

// pageOf serves the page of a daemon that knows so many clusters, each with points of a month.
func pageOf(t testing.TB, clusters int, access PageAccess) (*Daemon, *httptest.Server) {
	c := &config.Config{Stores: map[string]config.Store{"larder": {Location: "mem:"}},
		Clusters: map[string]config.Cluster{}, Policies: map[string]config.Policy{}}
	p := config.Policy{Store: "larder", RPO: config.Duration(time.Hour)}
	for i := range clusters {
		name := fmt.Sprintf("hive-%04d", i)
		c.Clusters[name] = config.Cluster{Address: "etcd://127.0.0.1:1"}
		p.Clusters.Names = append(p.Clusters.Names, name)
	}
	c.Policies["nightly"] = p
	d := &Daemon{Deps: Deps{Config: c, Version: "test"}, Channels: []notify.Channel{}}
	d.prepare()
	t.Cleanup(d.outbox.Close)
	now := time.Now()
	for _, w := range Assignments(c) {
		s := &State{Latest: now, Read: now, Stretches: []moment.Stretch{{From: now.Add(-30 * 24 * time.Hour), To: now}}}
		for i := range 30 {
			at := now.Add(-time.Duration(30-i) * 24 * time.Hour)
			s.Points = append(s.Points, &store.Point{ID: fmt.Sprint("p", i), Cluster: w.Cluster, Engine: "etcd",
				Time:     at,
				Finished: at})
		}
		s.Runs = append(s.Runs, &store.Run{ID: "r", Kind: store.RunSnapshot, Policy: w.Policy, Cluster: w.Cluster,
			Started: now.Add(-time.Hour), Finished: now, To: now, Result: store.RunFailed,
			Error: `<script>alert("` + w.Cluster + "\")</script>\x1b[31m"})
		d.wards[key(w)] = &watched{ward: w, state: s}
	}
	mux := http.NewServeMux()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	d.page(ctx, mux, access)
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	return d, srv
}

// answered is what came back.
type answered struct {
	code    int
	header  http.Header
	cookies []*http.Cookie
}

// TestWhoSeesThePage: on loopback addresses whoever names the machine itself, else whoever knows the token.
func TestWhoSeesThePage(t *testing.T) {
	t.Parallel()
	const token = "a token that nobody guesses"
	ask := func(srv *httptest.Server, method, path, host string, form url.Values,
		cookies ...*http.Cookie) (a answered) {
		r, err := http.NewRequest(method, srv.URL+path, strings.NewReader(form.Encode()))
		require.NoError(t, err)
		r.Host = host
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		for _, c := range cookies {
			r.AddCookie(c)
		}
		cl := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		resp, err := cl.Do(r)
		require.NoError(t, err)
		defer func() { require.NoError(t, resp.Body.Close()) }()
		return answered{resp.StatusCode, resp.Header, resp.Cookies()}
	}
	paths := []string{"/", "/runs/larder/hive-0000", "/run/larder/hive-0000/r", "/going/x", "/events"}
	_, local := pageOf(t, 1, PageAccess{Loopback: true})
	require.Equal(t, 200, ask(local, "GET", "/", "localhost:9310", nil).code)
	require.Equal(t, 200, ask(local, "GET", "/", "[::1]:9310", nil).code)
	_, far := pageOf(t, 1, PageAccess{})
	_, guarded := pageOf(t, 1, PageAccess{Token: token, Loopback: true})
	for _, p := range paths {
		require.Equal(t, 403, ask(local, "GET", p, "127.0.0.1.attacker.example", nil).code, p)
		require.Equal(t, 403, ask(far, "GET", p, "localhost", nil).code, p)
		require.Equal(t, 401, ask(guarded, "GET", p, "localhost", nil).code, p)
		require.Equal(t, 401, ask(guarded, "GET", p, "localhost", nil,
			&http.Cookie{Name: cookieName, Value: "x"}).code, p)
	}
	require.Equal(t, 401, ask(guarded, "POST", "/login", "h", url.Values{"token": {"wrong"}}).code)
	require.Equal(t, 401, ask(local, "POST", "/login", "h", url.Values{"token": {""}}).code)
	in := ask(guarded, "POST", "/login", "h", url.Values{"token": {token}})
	require.Equal(t, 303, in.code)
	require.Len(t, in.cookies, 1)
	require.True(t, in.cookies[0].HttpOnly)
	require.NotContains(t, in.cookies[0].Value, token)
	seen := ask(guarded, "GET", "/", "monitor.lindenholt.example", nil, in.cookies...)
	require.Equal(t, 200, seen.code)
	require.Contains(t, seen.header.Get("Content-Security-Policy"), "default-src 'none'")
}

// TestThePageShowsTexts: what servers and stores say is text, and nothing is loaded from elsewhere.
func TestThePageShowsTexts(t *testing.T) {
	t.Parallel()
	d, srv := pageOf(t, 3, PageAccess{Loopback: true})
	d.going["k"] = &running{ward: Assignment{Cluster: "<img src=x>", Policy: "nightly"}, kind: store.RunDrill,
		begun: time.Now()}
	for _, path := range []string{"/", "/going/" + goingKey("k"), "/page.css", "/page.js"} {
		resp, err := http.Get(srv.URL + path)
		require.NoError(t, err)
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		require.Equal(t, 200, resp.StatusCode, path)
		require.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'none'")
		doc, err := html.Parse(bytes.NewReader(text))
		require.NoError(t, err)
		for n := range doc.Descendants() {
			require.NotEqual(t, "img", n.Data)
			for _, a := range n.Attr {
				require.False(t, strings.HasPrefix(a.Key, "on") || a.Key == "style", a.Key)
				if a.Key == "src" || a.Key == "href" {
					require.True(t, strings.HasPrefix(a.Val, "/") && !strings.HasPrefix(a.Val, "//") ||
						strings.HasPrefix(a.Val, "#"), a.Val)
				}
				if n.Data == "script" {
					require.NotEqual(t, "alert", a.Val)
				}
			}
			if n.Data == "script" {
				require.Nil(t, n.FirstChild, "no script within the page")
			}
		}
	}
}

// TestThePageIsTold: a browser hears that something has changed.
func TestThePageIsTold(t *testing.T) {
	t.Parallel()
	d, srv := pageOf(t, 1, PageAccess{Loopback: true})
	resp, err := http.Get(srv.URL + "/events")
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	d.changes.Add(1)
	in := bufio.NewReader(resp.Body)
	line, err := in.ReadString('\n')
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(line, "data: "), line)
}

func TestTimeLeft(t *testing.T) {
	t.Parallel()
	begun := time.Now()
	require.Equal(t, 3*time.Minute, left(begun, begun.Add(time.Minute), 25, 100))
	require.Zero(t, left(begun, begun.Add(time.Minute), 0, 100))
	require.Zero(t, left(begun, begun.Add(time.Minute), 100, 100))
}

// BenchmarkPage is the overview of a thousand clusters, as a browser gets it.
func BenchmarkPage(b *testing.B) {
	d, _ := pageOf(b, 1000, PageAccess{Loopback: true})
	for b.Loop() {
		var out bytes.Buffer
		l := &report.Live{Title: "x", Data: d.gatherLive(), Going: d.goingOn()}
		require.NoError(b, l.Write(&out, false))
		b.ReportMetric(float64(out.Len()), "bytes")
	}
}

// crowdedPage is the page of a daemon with a thousand clusters, whose store has 100,000 runs of the last days:
// a tenth of them of the cluster that is looked at.
func crowdedPage(b *testing.B) *httptest.Server {
	d, srv := pageOf(b, 1000, PageAccess{Loopback: true})
	ctx := context.Background()
	place := blob.NewDir(servertest.MemoryDir(b))
	_, err := store.Create(ctx, place, store.CreateOptions{Plain: true, Tool: "test"})
	require.NoError(b, err)
	s, err := store.Open(ctx, place, store.Options{Workers: 1})
	require.NoError(b, err)
	b.Cleanup(s.Close)
	began := time.Now().Add(-3 * 24 * time.Hour)
	for i := range 100_000 {
		cluster := "hive-0001"
		if i%10 > 0 {
			cluster = fmt.Sprintf("hive-%04d", 2+i%997)
		}
		at := began.Add(time.Duration(i) * time.Second)
		id := fmt.Sprintf("%s-%06x", at.UTC().Format("20060102-150405.000"), i)
		require.NoError(b, s.EndRun(ctx, &store.Run{ID: id,
			Kind: store.RunCapture, Policy: "nightly", Cluster: cluster, Started: at, Finished: at.Add(time.Second),
			Result: store.RunDone}, nil))
	}
	d.Deps.OpenEnv = func(ctx context.Context, _ *config.Config, _, _ string) (*run.Runner, error) {
		s, err := store.Open(ctx, place, store.Options{Workers: 1})
		return &run.Runner{Store: s, Tool: "test", OnEvent: func(run.Event) {}}, err
	}
	return srv
}

// BenchmarkPageOfManyRuns opens the overview, the runs of a cluster and one run, each as a browser gets it.
func BenchmarkPageOfManyRuns(b *testing.B) {
	srv := crowdedPage(b)
	get := func(b *testing.B, path string) string {
		resp, err := http.Get(srv.URL + path)
		require.NoError(b, err)
		defer func() { _ = resp.Body.Close() }()
		text, err := io.ReadAll(resp.Body)
		require.NoError(b, err)
		require.Equal(b, http.StatusOK, resp.StatusCode)
		return string(text)
	}
	list := get(b, "/runs/larder/hive-0001")
	_, one, found := strings.Cut(list, `href="/run/larder/hive-0001/`)
	require.True(b, found)
	one, _, _ = strings.Cut(one, `"`)
	for name, path := range map[string]string{"overview": "/", "runs": "/runs/larder/hive-0001",
		"run": "/run/larder/hive-0001/" + one} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				require.NotContains(b, get(b, path), "no such run")
			}
		})
	}
}
