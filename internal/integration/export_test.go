package integration_test

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/export"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// everyBSON is a document with a value of every type, and values at their edges.
func everyBSON(t testing.TB) bson.D {
	dec := func(s string) bson.Decimal128 {
		d, err := bson.ParseDecimal128(s)
		require.NoError(t, err)
		return d
	}
	return bson.D{{Key: "_id", Value: bson.ObjectID{1, 2, 3}}, {Key: "double", Value: math.Inf(1)},
		{Key: "nan", Value: math.NaN()}, {Key: "negative zero", Value: math.Copysign(0, -1)},
		{Key: "tiny", Value: 5e-324},
		{Key: "string", Value: "Löwenzahn \x00 und 蜂蜜"}, {Key: "", Value: "an empty name"},
		{Key: "document", Value: bson.D{{Key: "$date", Value: "not one"}, {Key: "a.b", Value: bson.D{}}}},
		{Key: "array", Value: bson.A{bson.A{}, nil, int32(1), int64(1), 1.0}},
		{Key: "binary", Value: bson.Binary{Subtype: 4, Data: bytes.Repeat([]byte{7}, 16)}},
		{Key: "old binary", Value: bson.Binary{Subtype: 0x80, Data: []byte{}}},
		{Key: "true", Value: true}, {Key: "date", Value: bson.DateTime(-62135596800000)},
		{Key: "far date", Value: bson.DateTime(math.MaxInt64)}, {Key: "null", Value: nil},
		{Key: "regex", Value: bson.Regex{Pattern: `^a/"\\`, Options: "im"}},
		{Key: "script", Value: bson.JavaScript("x => 1")},
		{Key: "scoped", Value: bson.CodeWithScope{Code: "y", Scope: bson.D{{Key: "y", Value: int32(2)}}}},
		{Key: "symbol", Value: bson.Symbol("old")}, {Key: "undefined", Value: bson.Undefined{}},
		{Key: "pointer", Value: bson.DBPointer{DB: "apiary.colonies", Pointer: bson.ObjectID{9}}},
		{Key: "int32", Value: int32(math.MinInt32)}, {Key: "int64", Value: int64(math.MinInt64)},
		{Key: "timestamp", Value: bson.Timestamp{T: math.MaxUint32, I: math.MaxUint32}},
		{Key: "decimal", Value: dec("-1.2300E+6144")}, {Key: "decimal nan", Value: dec("NaN")},
		{Key: "least", Value: bson.MinKey{}}, {Key: "most", Value: bson.MaxKey{}}}
}

// TestExporting: what is exported in any form, as a folder or an archive, and read back is what
// was there, also documents of 16 MiB; any byte that is flipped is found.
func TestExporting(t *testing.T) {
	t.Parallel()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	db := cl.Database("apiary")
	_, err := db.Collection("every").InsertOne(ctx, everyBSON(t))
	require.NoError(t, err)
	noise := make([]byte, 15<<20)
	_, _ = rand.NewChaCha8([32]byte{17}).Read(noise)
	_, err = db.Collection("large").InsertMany(ctx, []any{
		bson.D{{Key: "_id", Value: 1}, {Key: "photo", Value: noise}},
		bson.D{{Key: "_id", Value: 2}, {Key: "text", Value: strings.Repeat("calm ", 3<<20)}}})
	require.NoError(t, err)
	for n := range 500 {
		_, err := db.Collection("colonies").InsertOne(ctx, bson.D{{Key: "_id", Value: n}, {Key: "n", Value: n % 7}})
		require.NoError(t, err)
	}
	_, err = db.Collection("colonies").Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "n", Value: -1}}})
	require.NoError(t, err)
	was := readWorld(t, cl)
	require.NoError(t, db.CreateView(ctx, "sevens", "colonies", mongo.Pipeline{}))
	c, e := open(t, "meadow", rs.URI()), newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", c)
	require.NoError(t, err)
	want := map[string]tree.Hash{}
	for _, ns := range p.Namespaces {
		if ns.Kind.IsContent() && ns.Kind.HasRecords() {
			want[ns.Name] = ns.Root.Hash
		}
	}
	dir := t.TempDir()
	for _, form := range []string{"bson", "jsonl"} {
		for _, name := range []string{"folder", "plain.tar", "small.tar.zst"} {
			to := filepath.Join(dir, form+"-"+name)
			exportTo(t, e, mustResolve(t, e, p), to, form)
			m, err := readExport(t, e, to, false)
			require.NoError(t, err, to)
			got := map[string]tree.Hash{}
			for _, ns := range m.Point.Namespaces {
				if ns.Kind.HasRecords() {
					got[ns.Name] = ns.Root.Hash
				}
			}
			require.Equal(t, want, got, to)
		}
	}
	_, err = export.Create(filepath.Join(dir, "bson-plain.tar"), nil, false)
	require.ErrorContains(t, err, "there already")
	_, err = export.Create(filepath.Join(dir, "bson-folder"), nil, false)
	require.ErrorContains(t, err, "there already")

	// Onto another cluster, with all that belongs to it.
	other := startSim(t, docsim.Options{Name: "paddock", NoopEvery: fastNoops})
	oc := connect(t, other.URI())
	x, err := e.Store.NewScratch(e.Temp)
	require.NoError(t, err)
	m, _, err := export.Open(ctx, e, x, filepath.Join(dir, "jsonl-small.tar.zst"), nil, false)
	require.NoError(t, err)
	plan, err := restore.NewPlanFrom(ctx, e, m, x, open(t, "paddock", other.URI()), restore.Options{})
	require.NoError(t, err)
	_, err = plan.Run(ctx)
	plan.Close()
	require.NoError(t, err)
	views, err := oc.Database("apiary").ListCollectionNames(ctx, bson.D{{Key: "type", Value: "view"}})
	require.NoError(t, err)
	require.Equal(t, []string{"sevens"}, views)
	require.NoError(t, oc.Database("apiary").Collection("sevens").Drop(ctx))
	was.equal(t, readWorld(t, oc), "imported")

	// A small one, flipped at any byte.
	small := filepath.Join(dir, "one.tar.zst")
	exportTo(t, e, mustResolve(t, e, p), small, "bson", "apiary.colonies")
	whole, err := os.ReadFile(small)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(17, 6))
	bad := filepath.Join(dir, "bad.tar.zst")
	for range long(300, 60) {
		b := bytes.Clone(whole)
		b[r.IntN(len(b))] ^= 1 << r.IntN(8)
		require.NoError(t, os.WriteFile(bad, b, 0o600))
		if _, err := readExport(t, e, bad, false); err == nil {
			// The form has a few bits that mean nothing, whatever they are.
			require.Equal(t, decompressed(t, whole), decompressed(t, b))
		}
	}
	for range 20 {
		require.NoError(t, os.WriteFile(bad, whole[:r.IntN(len(whole))], 0o600))
		_, err := readExport(t, e, bad, true)
		require.Error(t, err, "cut short, it is not the whole, whatever is taken")
	}
	// Of files without checksums of their own, the records are compared.
	for _, name := range []string{"bson-folder", "jsonl-folder"} {
		for range long(60, 15) {
			var files []string
			require.NoError(t, filepath.WalkDir(filepath.Join(dir, name, "apiary.colonies"),
				func(p string, d fs.DirEntry, err error) error {
					if strings.Contains(p, "records.") {
						files = append(files, p)
					}
					return err
				}))
			f := files[r.IntN(len(files))]
			was, err := os.ReadFile(f)
			require.NoError(t, err)
			b := bytes.Clone(was)
			b[r.IntN(len(b))] ^= 1 << r.IntN(8)
			require.NoError(t, os.WriteFile(f, b, 0o600))
			_, err = readExport(t, e, filepath.Join(dir, name), false)
			if err == nil { // of JSON the same may be written in two ways
				require.Equal(t, "jsonl-folder", name)
			}
			require.NoError(t, os.WriteFile(f, was, 0o600))
		}
	}
	// Edited by hand it is taken when told so.
	f := filepath.Join(dir, "jsonl-folder", "apiary.colonies", "records.jsonl")
	text, err := os.ReadFile(f)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f, append(text, `{"_id": 9999, "by hand": true}`...), 0o600))
	_, err = readExport(t, e, filepath.Join(dir, "jsonl-folder"), false)
	require.ErrorIs(t, err, run.ErrDiffers)
	require.ErrorContains(t, err, "--unverified")
	m, err = readExport(t, e, filepath.Join(dir, "jsonl-folder"), true)
	require.NoError(t, err)
	require.EqualValues(t, 501, records(m, "apiary.colonies"))
}

func records(m *moment.Moment, name string) int64 {
	for _, ns := range m.Point.Namespaces {
		if ns.Name == name {
			return ns.Root.Records
		}
	}
	return -1
}

func exportTo(t testing.TB, e *run.Runner, m *moment.Moment, to, form string, names ...string) {
	out, err := export.Create(to, nil, false)
	require.NoError(t, err)
	_, err = export.Write(ctx, e, m, out, export.Options{Form: form, Choose: func(n string) bool {
		return len(names) == 0 || n == names[0]
	}})
	require.NoError(t, err)
	require.NoError(t, out.Close(nil))
}

func readExport(t testing.TB, e *run.Runner, from string, unverified bool) (*moment.Moment, error) {
	x, err := e.Store.NewScratch(e.Temp)
	require.NoError(t, err)
	defer x.Close()
	m, _, err := export.Open(ctx, e, x, from, nil, unverified)
	return m, err
}

// decompressed returns what a compressed archive holds.
func decompressed(t testing.TB, packed []byte) []byte {
	z, err := zstd.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	defer z.Close()
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	return b
}

// TestExportingKeys: keys of all types of Redis, large ones and binary names among them, and
// of etcd, come back as they were; a server takes the commands as they are.
func TestExportingKeys(t *testing.T) {
	t.Parallel()
	s := redistest.Start(t, "--repl-diskless-sync-delay", "0", "--repl-backlog-size", "1mb")
	cl := redistest.Client(t, s)
	r := rand.New(rand.NewPCG(17, 7))
	for range 400 {
		require.NoError(t, again(func() error { return notNil(redisStep(cl, r)) }))
	}
	for n := range 40_000 {
		require.NoError(t, cl.RPush(ctx, "large", fmt.Sprint("element ", n)).Err())
	}
	require.NoError(t, cl.Set(ctx, "odd\x00\r\n\xff", "\x00\r\n\xff", time.Hour).Err())
	target := engine.Target{Name: "bramble", Address: redistest.Address(s)}
	_, drv, err := engine.ForAddress(target.Address)
	require.NoError(t, err)
	c, err := drv.Open(ctx, target)
	require.NoError(t, err)
	defer c.Close()
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "bramble", c)
	require.NoError(t, err)
	to := filepath.Join(t.TempDir(), "keys")
	exportTo(t, e, mustResolve(t, e, p), to, "")
	m, err := readExport(t, e, to, false)
	require.NoError(t, err)
	require.NotEmpty(t, m.Point.Namespaces)

	empty := redistest.Start(t)
	ec := redistest.Client(t, empty)
	files, err := filepath.Glob(filepath.Join(to, "db0*", "records.resp"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	host, port, _ := strings.Cut(strings.TrimPrefix(redistest.Address(empty), "redis://"), ":")
	for _, f := range files {
		in, err := os.Open(f)
		require.NoError(t, err)
		cmd := exec.Command("redis-cli", "-h", host, "-p", strings.TrimSuffix(port, "/"), "--pipe")
		cmd.Stdin = in
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		require.NoError(t, in.Close())
	}
	for _, k := range redisKeys(t, cl, "*") {
		require.Equal(t, redisValue(t, cl, k), redisValue(t, ec, k), "%q", k)
	}

	b := etcdFixture(t)
	for n := range 300 {
		b.put(t, b.one, n, fmt.Sprint("value ", n, "\xff\x00"))
	}
	_, drv, err = engine.ForAddress(b.target.Address)
	require.NoError(t, err)
	ecl, err := drv.Open(ctx, b.target)
	require.NoError(t, err)
	defer ecl.Close()
	if p, err = snapshot.Take(ctx, e, "willow", ecl); err != nil {
		require.NoError(t, err)
	}
	to = filepath.Join(t.TempDir(), "willow.tar.zst")
	exportTo(t, e, mustResolve(t, e, p), to, "")
	_, err = readExport(t, e, to, false)
	require.NoError(t, err)
}

// TestExportingThroughPipes: the program's output is what another one reads; nothing is written
// over, and nothing half done is left.
func TestExportingThroughPipes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	other := startSim(t, docsim.Options{Name: "paddock", NoopEvery: fastNoops})
	cl, oc := connect(t, rs.URI()), connect(t, other.URI())
	for n := range 300 {
		_, err := cl.Database("apiary").Collection("colonies").InsertOne(ctx,
			bson.D{{Key: "_id", Value: n}, {Key: "n", Value: n % 3}})
		require.NoError(t, err)
	}
	tool := newTool(t, dir, fmt.Sprintf("  meadow: { address: %q }\n  paddock: { address: %q }\n", rs.URI(),
		other.URI()))
	tool.run(t, 0, "snapshot", "meadow")
	from := exec.Command(tool.bin, "--config", tool.config, "--quiet", "export", tool.point(t, "meadow"), "--to", "-")
	to := exec.Command(tool.bin, "--config", tool.config, "--quiet", "restore", "-", "--to", "paddock", "--yes")
	var err error
	to.Stdin, err = from.StdoutPipe()
	require.NoError(t, err)
	var said bytes.Buffer
	to.Stdout, to.Stderr, from.Stderr = &said, &said, &said
	require.NoError(t, from.Start())
	require.NoError(t, to.Run(), said.String())
	require.NoError(t, from.Wait(), said.String())
	readWorld(t, cl).equal(t, readWorld(t, oc), "piped")

	file := filepath.Join(dir, "some.tar.zst")
	export := func(code int, more ...string) string {
		return tool.run(t, code, append([]string{"export", tool.point(t, "meadow") + "/apiary.colonies", "--to", file},
			more...)...)
	}
	export(0, "--where", "n == 1")
	require.Contains(t, export(5), "--overwrite")
	require.Contains(t, export(1, "--overwrite", "--where", "nn == 1"), "no record")
	export(2, "--overwrite", "--where", "n ==")
	tool.run(t, 0, "restore", file, "--to", "paddock", "--rename", "apiary.colonies=apiary.some", "--yes")
	n, err := oc.Database("apiary").Collection("some").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 100, n)
	tool.run(t, 2, "restore", file, "--yes")
	tool.run(t, 2, "restore", filepath.Join(dir, "nothing.tar"), "--to", "paddock", "--yes")
	tool.run(t, 0, "undo", tool.lastRun(t, "restore"), "--yes")
	tool.run(t, 5, "restore", file, "--to", "paddock", "--yes")
	tool.run(t, 5, "undo", tool.lastRun(t, "restore"), "--yes") // it was refused, and changed nothing
	list, err := filepath.Glob(filepath.Join(dir, ".export-*"))
	require.NoError(t, err)
	require.Empty(t, list)
}
