package config_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	_ "dexamen/internal/engine/all"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
)

func TestMain(m *testing.M) {
	os.Exit(m.Run())
}

func TestSampleIsValid(t *testing.T) {
	c, err := config.Parse([]byte(config.Sample), "sample")
	require.NoError(t, err)
	require.Equal(t, "file:///srv/dexamen/larder", c.Stores["larder"].Location)
	require.Equal(t, "dexamen", c.Clusters["meadow"].Login.User)
	require.Equal(t, []string{"meadow"}, c.Protected(c.Policies["nightly"]))
}

func TestErrorsNameLineAndColumn(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"unknown field", "clusters:\n  meadow:\n    adress: x\n", "f.yaml:3:5: "},
		{"bad YAML", "clusters: [\n", "f.yaml:"},
		{"no address", "clusters:\n  meadow:\n    prefer: [primary]\n", "has no address"},
		{"unknown scheme", "clusters:\n  meadow:\n    address: mysql://x\n",
			"f.yaml:3:14: clusters.meadow.address: address \"mysql://x\": begins with none of the known schemes"},
		{"an option of another engine", "clusters:\n  m:\n    address: mongodb://h\n    options: { prefix_depth: 1 }\n",
			"f.yaml:4:30: clusters.m.options.prefix_depth: is no option of clusters of this kind; theirs are " +
				"pause_balancer"},
		{"an option that cannot be", "clusters:\n  m:\n    address: redis://h\n    options:\n      prefix_depth: 9\n",
			"f.yaml:5:21: clusters.m.options.prefix_depth: 9 is not a whole number from 0 to 8"},
		{"an option that is no number", "clusters:\n  m:\n    address: etcd://h\n    options: { prefix_depth: deep }\n",
			"deep is not a whole number"},
		{"password in address", "clusters:\n  meadow:\n    address: mongodb://u:p@h/\n",
			"f.yaml:3:14: clusters.meadow.address: holds a password"},
		{
			"two secrets", "clusters:\n  m:\n    address: mongodb://h/\n    login: { user: u, secret: { env: A, " +
				"file: B } }\n", "give one of env, file, command"},
		{"unknown compression", "stores:\n  larder: { location: 'file:///x', compress: tiny }\n",
			"f.yaml:2:46: stores.larder.compress: \"tiny\": write fast, auto or small"},
		{"unknown store", "stores:\n  larder: { location: 'file:///x' }\nclusters:\n  m:\n    address: " +
			"mongodb://h/\n    store: celar\n", "f.yaml:6:12: clusters.m.store: there is no store \"celar\""},
		{
			"unknown scratch server", "clusters:\n  b:\n    address: redis://h/\n    scratch: hegde\n  hedge: { " +
				"address: 'redis://i' }\n", "f.yaml:4:14: clusters.b.scratch: there is no cluster \"hegde\""},
		{"a cluster as its own scratch server",
			"clusters:\n  b:\n    address: redis://h\n    scratch: c\n  c: { address: 'redis://h' }\n",
			"it cannot be the cluster itself"},
		{"a scratch server of another kind",
			"clusters:\n  b:\n    address: redis://h\n    scratch: c\n  c: { address: 'etcd://h' }\n",
			"c is of another kind than b"},
		{"a scratch server for nothing",
			"clusters:\n  b:\n    address: etcd://h\n    scratch: c\n  c: { address: 'redis://i' }\n", "b needs none"},
		{"relative store", "stores:\n  larder:\n    location: file://x\n", "f.yaml:3:15: stores.larder.location"},
		{"bad duration", "clusters:\n  m:\n    address: mongodb://h/\n    max_lag: soon\n", "\"soon\" is no duration"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := config.Parse([]byte(c.text), "f.yaml")
			require.ErrorContains(t, err, c.want)
		})
	}
}

func TestSecretsComeFromElsewhere(t *testing.T) {
	file := filepath.Join(t.TempDir(), "s")
	require.NoError(t, os.WriteFile(file, []byte("from file\n"), 0o600))
	t.Setenv("MEADOW_SECRET", "from env")
	c, err := config.Parse([]byte(`
clusters:
  a: { address: "mongodb://h/", max_lag: 2m, login: { user: u, secret: { env: MEADOW_SECRET } } }
  b: { address: "mongodb://h/", login: { user: u, secret: { file: `+file+` } } }
  c: { address: "mongodb://h/", login: { user: u, secret: { command: [printf, "from command"] } } }
  d: { address: "mongodb://h/", login: { user: u, secret: { env: NOT_THERE } } }
`), "f.yaml")
	require.NoError(t, err)
	for name, want := range map[string]string{"a": "from env", "b": "from file", "c": "from command"} {
		got, err := c.Target(context.Background(), name)
		require.NoError(t, err)
		require.Equal(t, want, got.Secret)
	}
	target, _ := c.Target(context.Background(), "a")
	require.Equal(t, 2*time.Minute, target.MaxLag)
	_, err = c.Target(context.Background(), "d")
	require.ErrorContains(t, err, "clusters.d.login.secret: the environment has no NOT_THERE")
	_, err = c.Target(context.Background(), "aa")
	require.ErrorContains(t, err, "near it: a")
}
