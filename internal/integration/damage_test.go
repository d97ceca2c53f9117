package integration_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/demo"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// harm is one way to spoil a file of a store; sibling is another object of its
// kind, empty where there is none.
type harm struct {
	name string
	do   func(file, sibling string) error
}

// outside returns a place beside the store's folder.
func outside(file string) string {
	root, name, _ := strings.Cut(file, "/larder")
	return filepath.Join(root, "away"+strings.ReplaceAll(name, "/", "_"))
}

var errNoSibling = errors.New("there is no other of its kind")

var harms = []harm{
	{"deleted", func(f, _ string) error { return os.Remove(f) }},
	{"emptied", func(f, _ string) error { return os.Truncate(f, 0) }},
	{"cut short", func(f, _ string) error {
		st, err := os.Stat(f)
		if err != nil {
			return err
		}
		return os.Truncate(f, st.Size()/2)
	}},
	{"another one's bytes", func(f, sibling string) error {
		if sibling == "" {
			return errNoSibling
		}
		data, err := os.ReadFile(sibling)
		if err != nil {
			return err
		}
		return os.WriteFile(f, data, 0o600)
	}},
	{"unreadable", func(f, _ string) error { // a loop of links, which root cannot read either
		return errors.Join(os.Remove(f), os.Symlink(f, f))
	}},
	{"a folder in its place", func(f, _ string) error { return errors.Join(os.Remove(f), os.Mkdir(f, 0o700)) }},
	{"moved and linked", func(f, _ string) error {
		return errors.Join(os.Rename(f, outside(f)), os.Symlink(outside(f), f))
	}},
	{"its kind moved and linked", func(f, _ string) error {
		dir := filepath.Dir(f)
		return errors.Join(os.Rename(dir, outside(dir)), os.Symlink(outside(dir), dir))
	}},
	{"its kind moved away", func(f, _ string) error {
		dir := filepath.Dir(f)
		return os.Rename(dir, outside(dir))
	}},
}

// TestEveryHarmToEveryObject spoils each kind of object of a store in each way,
// one at a time, and then reads the points, scrubs and reclaims. A scrub that
// says sound is right, and nothing that can be restored before a reclaim is lost
// by it. DEXAMEN_HARM=all spoils every object and not one of each kind.
func TestEveryHarmToEveryObject(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"plain", "sealed", "sealed with parity"} {
		if os.Getenv("DEXAMEN_HARM") != "all" && kind != "sealed with parity" {
			continue
		}
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			harmStore(t, kind)
		})
	}
}

func harmStore(t *testing.T, kind string) {
	dir, openAt := storeForHarm(t, kind)
	whole, _ := protectForHarm(t, dir, openAt)
	objects := objectsToHarm(t, dir)
	require.Greater(t, len(objects), 9)
	table := map[string]int{}
	for _, h := range harms {
		for _, name := range objects {
			what := h.name + ": " + name
			broken := filepath.Join(t.TempDir(), "larder")
			require.NoError(t, os.CopyFS(broken, os.DirFS(dir)))
			if err := h.do(filepath.Join(broken, name), siblingOf(broken, name)); errors.Is(err, errNoSibling) {
				continue
			} else {
				require.NoError(t, err, what)
			}
			said := afterHarm(t, what, broken, openAt, whole)
			k, _, _ := strings.Cut(name, "/")
			table[fmt.Sprintf("%-26s %-13s %s", h.name, k, said)]++
			require.NoError(t, os.RemoveAll(filepath.Dir(broken)))
		}
	}
	var rows []string
	for row, n := range table {
		rows = append(rows, fmt.Sprintf("%3d %s", n, row))
	}
	slices.SortFunc(rows, func(a, b string) int { return strings.Compare(a[4:], b[4:]) })
	t.Logf("%s store:\n%s", kind, strings.Join(rows, "\n"))
}

// storeForHarm makes a store in a folder, and gives how it is opened there or in
// a copy of it.
func storeForHarm(t *testing.T, kind string) (dir string, openAt func(string) (*run.Runner, error)) {
	o := store.CreateOptions{Tool: "test", Plain: kind == "plain"}
	var ids []age.Identity
	if !o.Plain {
		secret, _, err := store.NewSecret()
		require.NoError(t, err)
		h, err := store.HolderOf(secret, "annelie", store.Read)
		require.NoError(t, err)
		ids, err = store.ParseSecret(secret)
		require.NoError(t, err)
		o.Holders = []store.Holder{h}
	}
	if strings.HasSuffix(kind, "parity") {
		o.Parity = "3+1"
	}
	dir = filepath.Join(t.TempDir(), "larder")
	_, err := store.Create(ctx, blob.NewDir(dir), o)
	require.NoError(t, err)
	return dir, func(dir string) (*run.Runner, error) {
		s, err := store.Open(ctx, blob.NewDir(dir), store.Options{FileBytes: 256 << 10, Unlock: ids})
		if err != nil {
			return nil, err
		}
		return &run.Runner{Store: s, Tool: "test", Temp: t.TempDir(), Memory: 1 << 20}, nil
	}
}

// protectForHarm fills a store with something of every kind, and gives the roots
// of each point and of the latest moment.
func protectForHarm(t *testing.T, dir string,
	openAt func(string) (*run.Runner, error)) (map[string]string, engine.Cluster) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	data := demo.Apiary{Seed: 7, Documents: 2500}
	require.NoError(t, data.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	var first *store.Point
	for i := range 3 {
		e, err := openAt(dir) // a process of its own each time
		require.NoError(t, err)
		require.NoError(t, e.Record(ctx, &store.Run{Kind: store.RunSnapshot, Cluster: "meadow"},
			run.RecordOptions{Exclusive: true}, func(ctx context.Context, e *run.Runner, r *store.Run) error {
				p, err := snapshot.Take(ctx, e, "meadow", src)
				if err == nil {
					r.Point = p.ID
				}
				if first == nil {
					first = p
				}
				return err
			}))
		require.NoError(t, data.Work(ctx, cl, uint64(i+5), 150))
		note(t, cl)
		require.NoError(t, e.Record(ctx, &store.Run{Kind: store.RunCapture, Cluster: "meadow"},
			run.RecordOptions{Exclusive: true}, func(ctx context.Context, e *run.Runner, r *store.Run) error {
				_, err := capture.Run(ctx, e, "meadow", src, capture.Options{})
				return err
			}))
		e.Store.Close()
	}
	e, err := openAt(dir)
	require.NoError(t, err)
	defer e.Store.Close()
	require.NoError(t, e.Store.PutHold(ctx,
		&store.Hold{Cluster: "meadow", Point: first.ID, Until: time.Now().Add(time.Hour), Reason: "audit"}))
	points, _, err := e.Store.Points(ctx, "meadow")
	require.NoError(t, err)
	_, err = verify.ProveLog(ctx, e, points[1])
	require.NoError(t, err)
	// A point that was retired, so that there is something to reclaim, and records of it.
	_, err = e.Store.Retire(ctx, "meadow", []string{points[1].ID}, "")
	require.NoError(t, err)
	_, err = e.Store.Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	_, err = e.Store.Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
	require.NoError(t, err)
	got, errs := readAll(t, e)
	require.Empty(t, errs)
	require.Len(t, got, 4)
	return got, src
}

// readAll reads every point and the latest moment whole, as a restore does.
func readAll(t *testing.T, e *run.Runner) (roots map[string]string, errs []error) {
	roots = map[string]string{}
	points, bad, err := e.Store.Points(ctx, "meadow")
	if errs = append(errs, bad...); err != nil {
		return roots, append(errs, err)
	}
	for _, p := range points {
		if err := e.Store.CheckPoint(ctx, p, func(string, int64, int64) {}); err != nil {
			errs = append(errs, err)
			continue
		}
		roots[p.ID] = ""
		for _, ns := range p.Namespaces {
			roots[p.ID] += ns.Name + ns.Root.Hash.Short()
		}
	}
	cov, err := moment.Cover(ctx, e, "meadow")
	if err != nil || len(cov) == 0 {
		return roots, append(errs, err)
	}
	roots["coverage"] = fmt.Sprint(cov[0].Stretches)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	if err != nil {
		return roots, append(errs, err)
	}
	x, err := e.Store.NewScratch(t.TempDir())
	if err != nil {
		return roots, append(errs, err)
	}
	defer x.Close()
	spaces, _, err := m.Trees(ctx, x, x, func(string) bool { return true })
	if err != nil {
		return roots, append(errs, err)
	}
	for _, s := range spaces {
		if s.Kind.HasRecords() {
			if err := tree.Walk(ctx, x, s.Root, func(record.Record) error { return nil }); err != nil {
				return roots, append(errs, err)
			}
		}
		roots["latest"] += s.Name + s.Root.Hash.Short()
	}
	return roots, errs
}

// objectsToHarm chooses one object of each kind, or all.
func objectsToHarm(t *testing.T, dir string) (out []string) {
	seen := map[string]int{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		name, _ := filepath.Rel(dir, p)
		if err != nil || d.IsDir() || strings.HasPrefix(name, ".incoming") {
			return err
		}
		kind := strings.Join(strings.SplitN(name, "/", 3)[:min(2, strings.Count(name, "/")+1)], "/")
		if !strings.HasPrefix(kind, "parity/") {
			kind, _, _ = strings.Cut(name, "/")
		}
		most := 1
		if kind == "content" || kind == "journal" || kind == "points" {
			most = 3
		}
		if os.Getenv("DEXAMEN_HARM") == "all" || seen[kind] < most {
			out = append(out, name)
		}
		seen[kind]++
		return nil
	}))
	return out
}

// siblingOf returns another file of a kind that is not the same.
func siblingOf(dir, name string) (out string) {
	kind, _, _ := strings.Cut(name, "/")
	own, _ := os.ReadFile(filepath.Join(dir, name))
	_ = filepath.WalkDir(filepath.Join(dir, kind), func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || out != "" || p == filepath.Join(dir, name) {
			return nil
		}
		if other, err := os.ReadFile(p); err == nil && !bytes.Equal(other, own) {
			out = p
		}
		return nil
	})
	return out
}

// afterHarm sees what the program makes of a spoiled store.
func afterHarm(t *testing.T, what, dir string, openAt func(string) (*run.Runner, error),
	whole map[string]string) string {
	e, err := openAt(dir)
	if err != nil {
		require.NotErrorIs(t, err, store.ErrStoreExists)
		return "refuses to open: " + shortly(err)
	}
	defer e.Store.Close()
	before, errs := readAll(t, e)
	said := "all is there"
	if len(errs) > 0 || len(before) < len(whole) {
		said = fmt.Sprintf("%d of %d readable", len(before), len(whole))
	}
	complete := len(before) == len(whole)
	for id, root := range before {
		complete = complete && whole[id] == root
		if id != "latest" && id != "coverage" {
			require.Equal(t, whole[id], root, "%s: a wrong byte", what)
		}
	}
	a, err := e.Store.Scrub(ctx, store.ScrubOptions{})
	switch {
	case err != nil:
		said += "; scrub refuses"
	case a.Sound():
		require.True(t, complete, "%s: the scrub says sound: %v %v", what, before, errs)
		said += "; sound"
	default:
		said += fmt.Sprintf("; scrub: %d damaged, %d points, %d stretches of log", len(a.Damaged), len(a.Points),
			len(a.Log))
	}
	refused := false
	for range 3 {
		_, err = e.Store.Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond, Dropped: time.Nanosecond})
		refused = refused || err != nil
	}
	if refused {
		said += "; reclaim refuses"
	}
	e.Store.Close()
	again, err := openAt(dir)
	require.NoError(t, err, what)
	defer again.Store.Close()
	after, _ := readAll(t, again)
	for id, root := range before {
		require.Equal(t, root, after[id], "%s: %s was lost by the reclaim", what, id)
	}
	return said
}

func shortly(err error) string {
	text := err.Error()
	for _, e := range []error{blob.ErrLink, store.ErrDamaged, store.ErrNoStore, store.ErrMissing} {
		if errors.Is(err, e) {
			text = e.Error()
		}
	}
	return text[:min(len(text), 60)]
}

// TestWhatAScrubAdvisesHelps: what a scrub advises is followed for each kind of
// object that restoring needs. With a mirror --repair --from brings back what is
// damaged or missing; without one a new snapshot stores anew what is lost, with
// and without a scrub before it.
func TestWhatAScrubAdvisesHelps(t *testing.T) {
	t.Parallel()
	dir, openAt := storeForHarm(t, "sealed")
	whole, src := protectForHarm(t, dir, openAt)
	mirror := filepath.Join(t.TempDir(), "larder")
	e, err := openAt(dir)
	require.NoError(t, err)
	_, err = e.Store.Mirror(ctx, blob.NewDir(mirror), store.MirrorOptions{})
	require.NoError(t, err)
	e.Store.Close()
	for _, h := range harms[:long(5, 2)] {
		for _, name := range objectsToHarm(t, dir) {
			kind, _, _ := strings.Cut(name, "/")
			if !slices.Contains([]string{
				"content", "journal", "points", "datakeys", "holders", "dexamen-store", "listings"}, kind) {
				continue
			}
			what := h.name + ": " + name
			broken := filepath.Join(t.TempDir(), "larder")
			spoil := func() {
				require.NoError(t, os.RemoveAll(broken))
				require.NoError(t, os.CopyFS(broken, os.DirFS(dir)))
				if err := h.do(filepath.Join(broken, name), siblingOf(broken, name)); !errors.Is(err, errNoSibling) {
					require.NoError(t, err, what)
				}
			}
			spoil()
			e, err := openAt(broken)
			require.NoError(t, err, what)
			_, err = e.Store.Scrub(ctx, store.ScrubOptions{Repair: true, From: blob.NewDir(mirror)})
			require.NoError(t, err, what)
			a, err := e.Store.Scrub(ctx, store.ScrubOptions{})
			require.NoError(t, err, what)
			require.True(t, a.Sound(), "%s: %+v", what, a)
			e.Store.Close()
			e, err = openAt(broken)
			require.NoError(t, err, what)
			got, errs := readAll(t, e)
			require.Empty(t, errs, what)
			require.Equal(t, whole, got, what)
			e.Store.Close()
			if kind != "content" {
				continue
			}
			for _, scrub := range []bool{false, true} {
				spoil()
				e, err := openAt(broken)
				require.NoError(t, err, what)
				if scrub {
					_, err = e.Store.Scrub(ctx, store.ScrubOptions{Repair: true})
					require.NoError(t, err, what)
				}
				p, err := snapshot.Take(ctx, e, "meadow", src)
				require.NoError(t, err, "%s, scrub %v", what, scrub)
				e.Store.Close()
				e, err = openAt(broken)
				require.NoError(t, err, what)
				if scrub || slices.Contains([]string{"deleted", "emptied", "cut short", "unreadable"}, h.name) {
					require.NoError(t, e.Store.CheckPoint(ctx, p, func(string, int64, int64) {}), "%s, scrub %v", what,
						scrub)
				}
				e.Store.Close()
			}
		}
	}
}

// TestOneDamagedPartDoesNotStopTheRest: the other namespaces are restored, the
// damaged one is named with the nearest moment that has it whole, and on request
// what can be read of it comes back with a list of what is lost.
func TestOneDamagedPartDoesNotStopTheRest(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	require.NoError(t, demo.Apiary{Seed: 4, Documents: 9000}.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	at := func() *run.Runner {
		s, err := store.Open(ctx, b, store.Options{FileBytes: 64 << 10, CacheBytes: 1})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return &run.Runner{Store: s, Tool: "test", Temp: t.TempDir(), Memory: 1 << 20}
	}
	first, err := snapshot.Take(ctx, at(), "meadow", src)
	require.NoError(t, err)
	// What the second point shares with the first is damaged with it: it shares
	// nothing.
	_, err = cl.Database("apiary").Collection("inspections").UpdateMany(ctx, bson.D{},
		bson.D{{Key: "$set", Value: bson.D{{Key: "again", Value: strings.Repeat("x", 200)}}}})
	require.NoError(t, err)
	note(t, cl)
	second, err := snapshot.Take(ctx, at(), "meadow", src)
	require.NoError(t, err)
	hurt := damageOne(t, b, at, first, "apiary.inspections")
	e := at()
	m := mustResolve(t, e, first)
	plan := func(opt restore.Options) *restore.Plan {
		opt.Rename = map[string]string{"apiary.": "rehearsal."}
		opt.Conflict = restore.Replace
		p, err := restore.NewPlan(ctx, e, m, src, opt)
		require.NoError(t, err)
		t.Cleanup(p.Close)
		return p
	}
	done, err := plan(restore.Options{}).Run(ctx)
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "apiary.inspections")
	failed := slices.IndexFunc(done, func(r restore.Restored) bool { return r.Failed != "" })
	require.Contains(t, done[failed].Failed, "meadow@"+second.ID+"/apiary.inspections",
		"the nearest moment that has it")
	require.Len(t, done, len(first.Parts()))

	done, err = plan(restore.Options{Salvage: true, Pattern: "apiary.inspections"}).Run(ctx)
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.Len(t, done, 1)
	require.NotEmpty(t, done[0].Lost)
	n, err := cl.Database("rehearsal").Collection("inspections").CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	for _, ns := range first.Parts() {
		if ns.Name == "apiary.inspections" {
			require.Less(t, n, ns.Root.Records)
			require.Greater(t, n, ns.Root.Records/2)
			require.True(t, strings.HasPrefix(strings.ReplaceAll(done[0].Lost[0], ",", ""),
				fmt.Sprint(ns.Root.Records-n)) || len(done[0].Lost) > 1, "%v, %d of %d", done[0].Lost, n,
				ns.Root.Records)
		}
	}
	_, err = e.Store.Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	require.Contains(t, m.KnownDamage(), "apiary.inspections")
	t.Logf("%s: %v", hurt, done[0].Lost)
}

// damageOne flips a bit that costs some records of one namespace and nothing else
// of a point.
func damageOne(t *testing.T, b *blob.Memory, at func() *run.Runner, p *store.Point, want string) string {
	var packs []blob.Info
	require.NoError(t, b.List(ctx, "content/", func(i blob.Info) error { packs = append(packs, i); return nil }))
	for _, i := range packs {
		bit := i.Size * 8 / 3
		b.Flip(i.Name, bit)
		e := at()
		var bad []string
		whole := true
		for k := range p.Namespaces {
			ns := &p.Namespaces[k]
			if e.Store.CheckNamespace(ctx, ns, func(string, int64, int64) {}) != nil {
				bad = append(bad, ns.Name)
				_, err := e.Store.Node(ctx, ns.Root.Hash)
				whole = err != nil
			}
		}
		if len(bad) == 1 && bad[0] == want && !whole {
			return i.Name
		}
		b.Flip(i.Name, bit)
	}
	t.Fatal("no bit costs just that")
	return ""
}
