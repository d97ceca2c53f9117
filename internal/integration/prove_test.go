package integration_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/explain"
	"dexamen/internal/prove"
	"dexamen/internal/run"
	"dexamen/internal/servertest"
	"dexamen/internal/sim/docsim"
)

// proven runs all trials on a cluster, and returns what was found.
func proven(t *testing.T, uri string) ([]prove.Finding, error) {
	c := open(t, "meadow", uri)
	p, ok := c.(engine.Prover)
	require.True(t, ok)
	trials, err := p.Trials(ctx, "t1")
	require.NoError(t, err)
	var out []prove.Finding
	e := &run.Runner{Tool: "test", Temp: t.TempDir(), Explain: explain.Error}
	err = prove.Run(ctx, e, "meadow", c, trials, func(f prove.Finding) { out = append(out, f) })
	require.Len(t, out, len(trials.All()))
	left, lerr := connect(t, uri).Database("dexamen_trials").ListCollectionNames(ctx, map[string]any{})
	require.NoError(t, lerr)
	require.Empty(t, left, "what was made is removed")
	return out, err
}

// TestAssumptionsHold tries what is assumed on healthy stand-ins: nothing does not hold there, and what is not known is
// what a version does not offer.
func TestAssumptionsHold(t *testing.T) {
	t.Parallel()
	unknown := func(t *testing.T, list []prove.Finding, err error, fails ...string) (ids []string) {
		for _, f := range list {
			require.Equal(t, slices.Contains(fails, f.ID), f.Verdict == prove.Fails, "%s: %s", f.ID, f.Seen)
			if f.Verdict == prove.NotKnown {
				ids = append(ids, f.ID)
			}
		}
		if len(fails) == 0 {
			require.NoError(t, err)
		}
		return ids
	}
	versions := []string{"7.0"} // all in make test-long
	if os.Getenv("DEXAMEN_LONG") != "" {
		versions = docsim.ServerVersions
	}
	for _, v := range versions {
		t.Run(v, func(t *testing.T) {
			t.Parallel()
			list, err := proven(t, startSim(t, docsim.Options{Version: v, NoopEvery: fastNoops,
				ExpireEvery: 10 * time.Millisecond}).URI())
			var fails []string
			if v == "4.4" {
				fails = []string{"create.capped"} // what is forgotten is not logged there
			}
			ids := unknown(t, list, err, fails...)
			want := []string{"update.pipeline", "convert-to-capped"} // the stand-in does not do these
			if v == "4.4" {
				want = append(want, "create.series", "modify.series", "modify.series-expiry", "drop.series")
			}
			require.ElementsMatch(t, want, ids)
		})
	}
	t.Run("sharded", func(t *testing.T) {
		t.Parallel()
		c, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, Set: docsim.Options{NoopEvery: fastNoops}})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		list, err := proven(t, c.URI())
		unknown(t, list, err)
	})
}

// TestAssumptionsHoldOfEtcd tries what is assumed of etcd on real servers.
func TestAssumptionsHoldOfEtcd(t *testing.T) {
	t.Parallel()
	servers := etcdtest.Start(t, etcdtest.Options{})
	c := open(t, "orchard", etcdtest.Address(servers...))
	p, ok := c.(engine.Prover)
	require.True(t, ok)
	e := &run.Runner{Tool: "test", Temp: t.TempDir(), Explain: explain.Error}
	for try := 1; ; try++ { // a machine that stands still makes that something is not known
		trials, err := p.Trials(ctx, fmt.Sprint("t", try))
		require.NoError(t, err)
		var found []prove.Finding
		err = prove.Run(ctx, e, "orchard", c, trials, func(f prove.Finding) { found = append(found, f) })
		if try < 3 && (err != nil && !errors.Is(err, run.ErrDiffers) || slices.ContainsFunc(found,
			func(f prove.Finding) bool { return f.Verdict == prove.NotKnown })) {
			continue
		}
		require.NoError(t, err)
		require.Len(t, found, len(trials.All()))
		for _, f := range found {
			require.Equal(t, prove.Holds, f.Verdict, "%s: %s", f.ID, f.Seen)
		}
		break
	}
	cl := etcdtest.Client(t, servers[0])
	left, err := cl.Get(ctx, "", clientv3.WithPrefix())
	require.NoError(t, err)
	for _, kv := range left.Kvs {
		require.NotContains(t, string(kv.Key), "trials", "what was made is removed")
	}
	leases, err := cl.Leases(ctx)
	require.NoError(t, err)
	require.Empty(t, leases.Leases)
}

// withPrefixes has namespaces be what keys begin with.
var withPrefixes = map[string]any{"prefix_depth": 1}

// redisProven runs all trials on a Redis cluster, with a server of the same version to carry out its log on.
func redisProven(t *testing.T, c engine.Cluster, scratch string) (found []prove.Finding, err error) {
	trials, err := c.(engine.Prover).Trials(ctx, "t1")
	require.NoError(t, err)
	e := &run.Runner{Tool: "test", Temp: t.TempDir(), Explain: explain.Error,
		ScratchServer: func(ctx context.Context, _ string) (engine.Cluster, error) {
			return redis.Driver{}.Open(ctx, engine.Target{Name: "hedge", Address: scratch, Options: withPrefixes})
		}}
	err = prove.Run(ctx, e, "bramble", c, trials, func(f prove.Finding) { found = append(found, f) })
	require.Len(t, found, len(trials.All()), "%v", err)
	return found, err
}

// TestAssumptionsHoldOfRedis tries what is assumed of Redis on real servers, beside what others have and write there.
func TestAssumptionsHoldOfRedis(t *testing.T) {
	t.Parallel()
	type server struct {
		name, file, unknown string
		fails               []string
	}
	list := []server{{name: "packaged", unknown: "hash.expiry"}}
	if dir := os.Getenv("DEXAMEN_OTHER_REDIS"); dir != "" { // all in make test-long
		// 6.2 tells expiries as distances.
		list = append(list, server{"6.2", filepath.Join(dir, "redis-6.2"),
			"hash.expiry,expire.options,list.many,sorted-set.many", []string{"set", "rename", "expire"}},
			server{"valkey", filepath.Join(dir, "valkey-9.1"), "", []string{"hash.expiry"}})
	}
	start := func(t *testing.T, s server) *servertest.Process {
		if s.file == "" {
			return redistest.Start(t)
		}
		return redistest.StartVersion(t, s.file)
	}
	withDepth := func(t *testing.T, uri string) engine.Cluster {
		return openWith(t, "bramble", uri, withPrefixes)
	}
	check := func(t *testing.T, found []prove.Finding, unknown string, fails []string) {
		var ids, not []string
		for _, f := range found {
			switch f.Verdict {
			case prove.NotKnown:
				ids = append(ids, f.ID)
			case prove.Fails:
				not = append(not, f.ID)
			}
		}
		require.ElementsMatch(t, strings.FieldsFunc(unknown, func(r rune) bool { return r == ',' }), ids)
		require.Equal(t, fails, not, "%v", found)
	}
	for _, s := range list {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			p, bench := start(t, s), start(t, s)
			cl := redistest.Client(t, p)
			require.NoError(t, cl.Set(ctx, "others:1", "theirs", 0).Err())
			stop, stopped := make(chan struct{}), make(chan struct{})
			go func() {
				defer close(stopped)
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					case <-time.After(5 * time.Millisecond):
						_ = cl.Do(ctx, "XADD", "others:log", "*", "n", i).Err()
					}
				}
			}()
			found, err := redisProven(t, withDepth(t, redistest.Address(p)), redistest.Address(bench))
			close(stop)
			<-stopped
			check(t, found, s.unknown, s.fails)
			if s.fails == nil {
				require.NoError(t, err)
			}
			require.ElementsMatch(t, []string{"others:1", "others:log"}, redisKeys(t, cl, "*"),
				"what was made is removed")
		})
	}
	t.Run("cluster", func(t *testing.T) {
		t.Parallel()
		servers := redistest.StartCluster(t, 3)
		found, err := redisProven(t, withDepth(t, redistest.Address(servers...)), redistest.Address(redistest.Start(t)))
		require.NoError(t, err)
		check(t, found, "hash.expiry", nil)
	})
	t.Run("one that hides something", func(t *testing.T) {
		t.Parallel()
		c := withDepth(t, redistest.Address(redistest.Start(t)))
		found, err := redisProven(t, hidesFromTrials{c.(engine.Prover), "HDEL"}, redistest.Address(redistest.Start(t)))
		require.ErrorIs(t, err, run.ErrDiffers)
		check(t, found, "hash.expiry", []string{"hash"})
	})
}

// hidesFromTrials is a cluster that does not tell of a command.
type hidesFromTrials struct {
	engine.Prover
	verb string
}

func (h hidesFromTrials) Trials(ctx context.Context, name string) (*engine.Trials, error) {
	t, err := h.Prover.Trials(ctx, name)
	if err == nil {
		t.View = hidesCommands{t.View.(engine.Streamed), h.verb}
	}
	return t, err
}

type hidesCommands struct {
	engine.Streamed
	verb string
}

func (h hidesCommands) Follow(ctx context.Context, shard string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	return h.Streamed.Follow(ctx, shard, after, func(list []record.Change, p engine.Progress) error {
		return fn(slices.DeleteFunc(list, func(c record.Change) bool {
			return strings.Contains(string(c.Value), h.verb)
		}), p)
	})
}

// TestBrokenAssumptionsAreFound tries them on stand-ins that break one each.
func TestBrokenAssumptionsAreFound(t *testing.T) {
	t.Parallel()
	type broken struct {
		name  string
		odd   docsim.Odd
		finds string // the trial that finds it
	}
	list := []broken{
		{"deletes are not logged", docsim.Odd{Hides: "d:"}, "delete"},
		{"collMod is not logged", docsim.Odd{Hides: "c:collMod"}, "modify.hidden"},
		{"operators are logged as they were asked for", docsim.Odd{RawOperators: true}, "update.inc"},
		{"the commit of an index build is not logged", docsim.Odd{Hides: "c:commitIndexBuild"}, "index.populated"},
		{"what system.views forgets is not logged", docsim.Odd{Hides: "d:system.views"}, "drop.view"},
		{"views are changed without a word", docsim.Odd{Hides: "u:system.views"}, "modify.view"},
		{"buckets are written without a word", docsim.Odd{Hides: "i:system.buckets."}, "create.series"},
		{"all collections have one identity", docsim.Odd{OneIdent: true}, "index.empty"},
		{"nothing about namespaces is logged", docsim.Odd{Silent: true}, "drop"},
		{"a transaction's entries share a position", docsim.Odd{SharedPositions: true}, "transaction"},
		{"renaming loses options", docsim.Odd{RenameLoses: true}, "restore.beside"},
		{"dropped indexes are not logged", docsim.Odd{Hides: "c:dropIndexes"}, "index.dropped"},
	}
	if os.Getenv("DEXAMEN_LONG") == "" {
		list = list[:1] // all in make test-long
	}
	for _, b := range list {
		t.Run(b.name, func(t *testing.T) {
			t.Parallel()
			found, err := proven(t, startSim(t, docsim.Options{Odd: b.odd, NoopEvery: fastNoops}).URI())
			require.ErrorIs(t, err, run.ErrDiffers)
			var fails []string
			for _, f := range found {
				if f.Verdict == prove.Fails {
					fails = append(fails, f.ID)
				}
			}
			require.Contains(t, fails, b.finds)
		})
	}
}

// TestProvingARealServer finds out what the document server does its own way, without having been told.
func TestProvingARealServer(t *testing.T) {
	if os.Getenv("DEXAMEN_LONG") == "" {
		t.Skip("it takes minutes; make test-long")
	}
	t.Parallel()
	uri := documenttest.Start(t, "meadow")
	documenttest.KeepLog(t, documenttest.Connect(t, uri))
	list, err := proven(t, uri)
	require.ErrorIs(t, err, run.ErrDiffers)
	verdicts, ids := map[string]string{}, map[string][]string{}
	for _, f := range list {
		verdicts[f.ID] = f.Verdict
		ids[f.Verdict] = append(ids[f.Verdict], f.ID)
	}
	t.Logf("of %d: %v", len(list), ids)
	for _, id := range []string{"insert", "replace", "delete", "update.set-nested", "update.push", "drop",
		"restore.in-place"} {
		require.Equal(t, prove.Holds, verdicts[id], id)
	}
	for _, id := range []string{"index.populated", "rename", "drop.anew"} {
		require.Equal(t, prove.Fails, verdicts[id], "%s: its log tells of records alone", id)
	}
	require.Equal(t, prove.NotKnown, verdicts["transaction"])
}

// TestAssumptionsAreListed holds docs/reference/assumptions.md equal to the trials (DEXAMEN_UPDATE=1 writes it anew).
func TestAssumptionsAreListed(t *testing.T) {
	const file, begin, end = "../../docs/reference/assumptions.md", "| --- | --- | --- |\n", "\n## "
	for title, c := range map[string]engine.Cluster{
		"## The assumptions\n":          open(t, "meadow", startSim(t, docsim.Options{}).URI()),
		"## The assumptions of etcd\n":  open(t, "orchard", etcdtest.Address(etcdtest.Start(t, etcdtest.Options{})...)),
		"## The assumptions of Redis\n": openWith(t, "bramble", redistest.Address(redistest.Start(t)), withPrefixes),
	} {
		p, ok := c.(engine.Prover)
		require.True(t, ok)
		trials, err := p.Trials(ctx, "t1")
		require.NoError(t, err)
		var rows strings.Builder
		for _, tr := range trials.All() {
			fmt.Fprintf(&rows, "| %s | %s | %s |\n", tr.ID, tr.Says, tr.Source)
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		above, rest, ok := strings.Cut(string(text), title)
		require.True(t, ok)
		head, rest, ok := strings.Cut(rest, begin)
		require.True(t, ok)
		list, tail, ok := strings.Cut(rest, end)
		require.True(t, ok)
		if os.Getenv("DEXAMEN_UPDATE") != "" {
			require.NoError(t, os.WriteFile(file, []byte(above+title+head+begin+rows.String()+end+tail), 0o644))
			continue
		}
		require.Equal(t, rows.String(), list)
	}
}

// TestWhatWasProvedIsShown by cluster inspect, until the servers have another version.
func TestWhatWasProvedIsShown(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	server := etcdtest.Start(t, etcdtest.Options{})[0]
	config := filepath.Join(dir, "dexamen.yaml")
	require.NoError(t, os.WriteFile(config,
		fmt.Appendf(nil, "clusters:\n  orchard: { address: %q }\n", etcdtest.Address(server)), 0o600))
	bin := builtBinary(t)
	dexamen := func(args ...string) string {
		cmd := exec.Command(bin, append([]string{"--config", config}, args...)...)
		cmd.Env = append(os.Environ(), "STATE_DIRECTORY=", "XDG_STATE_HOME="+dir)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	require.NotContains(t, dexamen("cluster", "inspect", "orchard"), "assumptions")
	require.Contains(t, dexamen("cluster", "check", "orchard", "--prove", "--yes"), "none does not")
	out := dexamen("cluster", "inspect", "orchard")
	require.Contains(t, out, "assumptions none was found not to hold")
	require.NotContains(t, out, "another version")
	kept := filepath.Join(dir, "dexamen", "proved", "orchard.json")
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	changed := regexp.MustCompile(`"version":\s*"[^"]*"`).ReplaceAllString(string(text), `"version":"3.0.0"`)
	changed = strings.Replace(changed, `"verdict":"holds"`, `"verdict":"does not hold"`, 1)
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(kept, []byte(changed), 0o600))
	out = dexamen("cluster", "inspect", "orchard")
	require.Contains(t, out, "1 of 18 assumptions do not hold: put")
	require.Contains(t, out, "another version since")
}
