package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/servertest"
)

// client connects to the site's stand-in as an application does.
func (s *site) client() *mongo.Client {
	cl, err := mongo.Connect(options.Client().ApplyURI(fmt.Sprintf("mongodb://127.0.0.1:%d/?replicaSet=meadow",
		s.port)).SetAuth(options.Credential{Username: "dexamen", Password: "made up", AuthSource: "admin"}))
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
	return cl
}

// configure appends to the site's configuration.
func (s *site) configure(more string) {
	s.t.Helper()
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(s.t, err)
	require.NoError(s.t, os.WriteFile(s.path("dexamen.yaml"), append(text, more...), 0o600))
}

// TestWhatIsRenamedToAProtectedNameStaysProtected: after a restore in place, and
// after an application has built a collection and renamed it over a protected
// one. What was there before, and is renamed, is said to be lacking.
func TestWhatIsRenamedToAProtectedNameStaysProtected(t *testing.T) {
	t.Parallel()
	s := newSite(t, 2000)
	ctx := t.Context()
	db := s.client().Database("apiary")
	_, err := db.Collection("old").InsertOne(ctx, bson.M{"kg": 1})
	require.NoError(t, err)
	s.configure("policies:\n  nightly: { clusters: [meadow], namespaces: [\"apiary.h*\"], snapshot: every 24h, " +
		"capture: 1h, keep: { every_moment: 7d } }\n")
	s.run(0, "store", "create", "larder")
	s.run(0, "snapshot", "meadow")
	equal := func() {
		t.Helper()
		out, _ := s.run(0, "compare", "meadow@latest/apiary.harvests", "meadow@live/apiary.harvests")
		require.Contains(t, out, "equal")
	}
	s.run(0, "restore", "meadow@latest/apiary.harvests", "--conflict", "replace", "--yes")
	_, err = db.Collection("harvests").InsertOne(ctx, bson.M{"kg": 41})
	require.NoError(t, err)
	s.run(0, "capture", "meadow")
	equal()
	s.run(0, "snapshot", "meadow", "--from-log")
	equal()
	s.run(0, "verify", "meadow@latest")

	for i := range 20 {
		_, err = db.Collection("being_built").InsertOne(ctx, bson.M{"kg": i})
		require.NoError(t, err)
	}
	rename := func(from string) {
		require.NoError(t, s.client().Database("admin").RunCommand(ctx,
			bson.D{{Key: "renameCollection", Value: "apiary." + from}, {Key: "to", Value: "apiary.harvests"},
				{Key: "dropTarget", Value: true}}).Err())
	}
	rename("being_built")
	s.run(0, "capture", "meadow")
	equal()

	rename("old")
	for range 2 {
		_, errs := s.run(4, "capture", "meadow")
		require.Contains(t, errs, "apiary.harvests: renamed to a protected name")
	}
	out, _ := s.run(0, "coverage", "meadow")
	require.Contains(t, out, "in doubt")
	_, errs := s.run(5, "snapshot", "meadow", "--from-log")
	require.Contains(t, errs, "read the cluster")
	s.run(0, "snapshot", "meadow")
	s.run(0, "capture", "meadow")
	equal()
}

// TestDueTells: who has cron keep the time is told of trouble as by the daemon,
// once, and that it is over.
func TestDueTells(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var told []string
	desk := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var n struct {
			About string `json:"about"`
			Over  bool   `json:"over"`
		}
		body, _ := io.ReadAll(r.Body)
		_ = json.Unmarshal(body, &n)
		mu.Lock()
		defer mu.Unlock()
		if n.About == "unprotected" {
			return // the clusters that no policy protects, which are meant
		}
		told = append(told, fmt.Sprint(n.About, " ", n.Over))
	}))
	defer desk.Close()
	s := newSite(t, 100)
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	policy := fmt.Sprintf("alerts: { webhook: { url: %q } }\npolicies:\n  nightly: { clusters: [gone], snapshot: "+
		"every 1h, retry: { first: 1ms, longest: 1ms } }\n", desk.URL)
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), append(text, policy...), 0o600))
	s.run(0, "store", "create", "larder")
	for range 4 {
		s.run(1, "due", "--run")
		time.Sleep(20 * time.Millisecond)
	}
	mu.Lock()
	require.Equal(t, []string{"failure false"}, told)
	mu.Unlock()
	// The cluster is there again.
	back := strings.ReplaceAll(string(text), `gone: { address: "mongodb://127.0.0.1:1/" }`,
		fmt.Sprintf(
			`gone: { address: "mongodb://127.0.0.1:%d/", login: { user: dexamen, secret: { env: MEADOW_SECRET } } }`,
			s.port))
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), append([]byte(back), policy...), 0o600))
	require.Eventually(t, func() bool {
		_ = s.command("due", "--run").Run()
		mu.Lock()
		defer mu.Unlock()
		return len(told) == 2 && told[1] == "failure true"
	}, time.Minute, 100*time.Millisecond, "it is over")
}

// TestAStoreThatGoesAway while a capture follows ends it, and nothing is made in
// its place.
func TestAStoreThatGoesAway(t *testing.T) {
	t.Parallel()
	s := newSite(t, 200)
	s.run(0, "store", "create", "larder")
	s.run(0, "snapshot", "meadow")
	cmd := s.command("capture", "meadow", "--follow", "--flush", "100ms")
	var said strings.Builder
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill() }()
	_, err := s.client().Database("apiary").Collection("visits").InsertOne(t.Context(), bson.M{"n": 1})
	require.NoError(t, err)
	time.Sleep(time.Second)
	require.NoError(t, os.Rename(s.path("larder"), s.path("unmounted")))
	require.NoError(t, os.Mkdir(s.path("larder"), 0o700)) // the mount point
	stop := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
	defer stop.Stop()
	for range 50 {
		_, err = s.client().Database("apiary").Collection("visits").InsertOne(t.Context(), bson.M{"n": 2})
		require.NoError(t, err)
		time.Sleep(20 * time.Millisecond)
	}
	require.Error(t, cmd.Wait())
	require.Equal(t, 1, cmd.ProcessState.ExitCode(), said.String())
	require.Contains(t, said.String(), "no longer holds the store")
	left, err := os.ReadDir(s.path("larder"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// TestSecretsThatAreNot: a secret that is named in no way is an error with its
// place, and one that is not there makes no good configuration.
func TestSecretsThatAreNot(t *testing.T) {
	t.Parallel()
	s := newSite(t, 1)
	base, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	for more, want := range map[string]string{
		"alerts: { webhook: { url: \"http://127.0.0.1:1/\", token: {} } }\n": "alerts.webhook.token",
		"nonsense: 1\n": "nonsense",
	} {
		require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), append(base[:len(base):len(base)], more...), 0o600))
		_, errs := s.run(2, "config", "check")
		require.Contains(t, errs, want)
	}
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"),
		[]byte(strings.Replace(string(base), "key: { file:", "key: { }, endpoint: x, region: ", 1)), 0o600))
	_, errs := s.run(2, "config", "check")
	require.NotContains(t, errs, "panic")
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"),
		[]byte(strings.Replace(string(base), "WRONG_SECRET", "NOT_SET_ANYWHERE", 1)), 0o600))
	_, errs = s.run(4, "config", "check")
	require.Contains(t, errs, "NOT_SET_ANYWHERE")
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"),
		append(base, "policies:\n  nightly: { clusters: [meadow], snapshot: every 1h }\n"...), 0o600))
	out, _ := s.run(4, "config", "check")
	require.Contains(t, out, "cluster gone is protected by no policy")
}

// TestTheFirstBackupIntoABucket in the least memory that may be configured: as many documents
// as fill several content files while a scan ends. DEXAMEN_LONG=1 has 800,000.
func TestTheFirstBackupIntoABucket(t *testing.T) {
	documents := 60_000
	if os.Getenv("DEXAMEN_LONG") != "" {
		documents = 800_000
	}
	srv := servertest.S3(t)
	s := newSite(t, documents)
	s.configureStore(fmt.Sprintf("{ location: \"s3://%s/dexamen\", endpoint: %q, region: us-east-1, path_style: "+
		"true, login: { user: %q, secret: { env: ATTIC } }, key: { file: %q } }",
		srv.Bucket, srv.Endpoint, srv.Access, s.path("larder.key")))
	t.Setenv("ATTIC", srv.Secret)
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), append(text, "limits: { memory: 64MiB }\n"...), 0o600))
	s.run(0, "store", "create", "larder")
	s.run(0, "snapshot", "meadow")
	out, _ := s.run(0, "verify", "meadow@latest")
	require.Contains(t, out, "all trees built anew have their roots")
}

// configureStore puts another store in the place of larder.
func (s *site) configureStore(store string) {
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(s.t, err)
	_, clusters, _ := strings.Cut(string(text), "clusters:")
	require.NoError(s.t, os.WriteFile(s.path("dexamen.yaml"),
		[]byte("stores:\n  larder: "+store+"\nclusters:"+clusters), 0o600))
}
