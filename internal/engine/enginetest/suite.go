// Package enginetest is the conformance suite of package engine: every adapter
// runs it, on every server it has. What a server cannot do is declared by its
// Fixture and then checked to be refused clearly.
package enginetest

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Fixture is a running cluster and a way to change it that does not go through
// the adapter.
type Fixture struct {
	Target engine.Target
	Driver engine.Driver
	// Namespace is an empty one that the suite may fill; Other is a name that
	// is free.
	Namespace, Other string
	// Put writes a record of this number, Remove takes it away.
	Put    func(t testing.TB, namespace string, number int, text string)
	Remove func(t testing.TB, namespace string, number int)
	// Drop removes a namespace.
	Drop func(t testing.TB, namespace string)
	// Shard is the one that holds Namespace, in clusters of several.
	Shard string
	// Log says that the cluster keeps one; Hides, that drops are not in it.
	Log, Hides bool
	// Forget makes the log lose its beginning; nil where that cannot be done.
	Forget func(t testing.TB)
	// Undated: the servers keep no times, so that changes are dated when they are
	// read.
	Undated bool
	// Exact: it is read as of one position of its log.
	Exact bool
	// InPlace: content is changed in place and comes into view little by little.
	InPlace bool
	// WrongLogin gives a target that must be refused; nil without logins.
	WrongLogin *engine.Target
}

// shard returns the shard whose log tells of the fixture's namespace.
func (f *Fixture) shard(topo *engine.Topology) string {
	if f.Shard != "" {
		return f.Shard
	}
	return topo.Shards[0].Name
}

// Start returns a fixture with a fresh cluster.
type Start func(t *testing.T) *Fixture

// checks are all that an adapter is checked for.
var checks = []struct {
	name string
	run  func(t *testing.T, start Start)
}{
	{"discovery tells what is there", checkDiscovery},
	{"a scan gives every record once", checkScanOnce},
	{"what was changed or removed is found at the next visit, however soon", checkRevisited},
	{"the log tells what happened, in order, and can be taken up anywhere", checkLogInOrder},
	{"a log that lost its beginning is said so", checkLogLost},
	{"a namespace dropped and made again is not taken for the same", checkMadeAnew},
	{"what is written comes into view whole, in one step", checkStaged},
	{"what is written in place is marked until it is all there", checkInPlace},
	{"a wrong login is refused, and shows no secret", checkWrongLogin},
	{"calls at the same time do not disturb each other", checkConcurrent},
	{"connections of several processes read one state", checkShared},
	{"several processes write one namespace", checkSharedWriter},
}

// Run checks an adapter; start gives a fresh cluster each time.
func Run(t *testing.T, start Start) {
	for _, c := range checks {
		t.Run(c.name, func(t *testing.T) { c.run(t, start) })
	}
}

var ctx = context.Background()

func open(t *testing.T, f *Fixture) engine.Cluster {
	c, err := f.Driver.Open(ctx, f.Target)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func find(t *testing.T, c engine.Cluster, name string) engine.Namespace {
	list, err := c.Namespaces(ctx)
	require.NoError(t, err)
	for _, ns := range list {
		if ns.Name == name {
			return ns
		}
	}
	t.Fatalf("%s is not listed", name)
	return engine.Namespace{}
}

// scan reads a namespace, in several stretches, by key.
func scan(t *testing.T, c engine.Cluster, ns engine.Namespace) map[string]string {
	parts, err := c.Partitions(ctx, ns, 3)
	require.NoError(t, err)
	require.NotEmpty(t, parts)
	got := map[string]string{}
	for _, p := range parts {
		require.NoError(t, c.Scan(ctx, ns, p, func(r record.Record) error {
			require.NotContains(t, got, string(r.Key), "a record came twice")
			got[string(r.Key)] = string(r.Value)
			return nil
		}))
	}
	return got
}
