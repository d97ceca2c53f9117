package evidence_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/evidence"
)

var ctx = context.Background()

func newStore(t testing.TB) (*store.Store, *blob.Memory) {
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{})
	require.NoError(t, err)
	return s, b
}

func statement(i int) evidence.Statement {
	at := time.Date(2026, 11, 28, 4, i, 0, 0, time.UTC)
	return evidence.Of(&store.Run{ID: fmt.Sprint("run-", i), Kind: store.RunDrill, Cluster: "meadow", Started: at,
		Finished: at.Add(time.Minute), Result: store.RunDone, To: at.Add(-time.Hour), Point: "20261128-031404-k7qx",
		Restored: []store.RunRestored{{From: "apiary.colonies", To: "apiary.colonies", Records: int64(i)}},
		Drill:    &store.Rehearsal{Recovery: 1e9}})
}

// file writes n statements of each of two installations, and the file of them.
func file(t testing.TB, n int) (string, []ed25519.PublicKey) {
	s, _ := newStore(t)
	var keys []ed25519.PublicKey
	var books []*evidence.Book
	for range 2 {
		dir := t.TempDir()
		k, err := evidence.HostKey(dir)
		require.NoError(t, err)
		again, err := evidence.HostKey(dir)
		require.NoError(t, err)
		require.Equal(t, k, again, "it is made once")
		books = append(books, &evidence.Book{Key: k, Folder: dir})
		keys = append(keys, k.Public().(ed25519.PublicKey))
	}
	for i := range n {
		for _, b := range books {
			_, err := b.Append(ctx, s, statement(i))
			require.NoError(t, err)
		}
	}
	lines, bad, err := evidence.Lines(ctx, s)
	require.NoError(t, err)
	require.Empty(t, bad)
	var out bytes.Buffer
	require.NoError(t, evidence.Write(&out, books[0].Key, lines, s.ID, time.Now()))
	return out.String(), keys
}

func check(t testing.TB, text string, keys []ed25519.PublicKey) *evidence.Checked {
	got, err := evidence.Check(strings.NewReader(text), keys)
	require.NoError(t, err)
	return got
}

// TestEveryChangeIsFound: a byte that is changed, a line that is taken away, put in twice or elsewhere, a
// file that is cut off.
func TestEveryChangeIsFound(t *testing.T) {
	t.Parallel()
	const n = 3
	text, keys := file(t, n)
	got := check(t, text, keys)
	require.True(t, got.Sound(), "%v", got.Faults)
	require.Empty(t, got.Unknown())
	require.Len(t, got.Statements, 2*n)
	require.Equal(t, keys[:1], evidencePublic(t, evidence.PublicText(keys[0])))
	require.Len(t, check(t, text, keys[:1]).Unknown(), 1)

	r := rand.New(rand.NewPCG(23, 2))
	for i := range 10_000 {
		bad := []byte(text)
		lines := strings.SplitAfter(text, "\n")
		lines = lines[:len(lines)-1]
		at, to := r.IntN(len(lines)), r.IntN(len(lines))
		what := ""
		switch i % 4 {
		case 0, 1:
			j := r.IntN(len(bad))
			was := bad[j]
			for bad[j] == was {
				bad[j] = byte(r.IntN(256))
			}
			what = fmt.Sprintf("byte %d from %q to %q", j, was, bad[j])
		case 2:
			bad = []byte(strings.Join(append(append([]string{}, lines[:at]...), lines[at+1:]...), ""))
			what = fmt.Sprint("without line ", at)
		case 3:
			at, to = at%n, to%n // of one chain: how chains lie among each other says nothing
			if at == to {
				lines = append(lines[:at+1], lines[at:]...) // twice
			} else {
				lines[at], lines[to] = lines[to], lines[at]
			}
			bad = []byte(strings.Join(lines, ""))
			what = fmt.Sprint("lines ", at, " and ", to)
		}
		require.False(t, check(t, string(bad), keys).Sound(), what)
	}
	for cut := range len(text) {
		if cut%97 == 0 {
			require.False(t, check(t, text[:cut], keys).Sound(), "cut after %d bytes", cut)
		}
	}
}

func evidencePublic(t testing.TB, text string) []ed25519.PublicKey {
	keys, err := evidence.ParsePublic([]byte(text))
	require.NoError(t, err)
	return keys
}

// TestWhoCutsAFileSignsWithAnotherKey: whoever takes statements away and makes a new end has not the key.
func TestWhoCutsAFileSignsWithAnotherKey(t *testing.T) {
	t.Parallel()
	text, keys := file(t, 3)
	lines := strings.Split(strings.TrimSpace(text), "\n")
	_, thief, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, evidence.Write(&out, thief, lines[:2], "store", time.Now()))
	got := check(t, out.String(), keys)
	require.Equal(t, []string{evidence.Thumbprint(thief.Public().(ed25519.PublicKey))}, got.Unknown())
}

// TestStatementsThatAreGone: what somebody takes out of a store is missed at the next statement, and for
// ever after.
func TestStatementsThatAreGone(t *testing.T) {
	t.Parallel()
	s, b := newStore(t)
	dir := t.TempDir()
	k, err := evidence.HostKey(dir)
	require.NoError(t, err)
	book := &evidence.Book{Key: k, Folder: dir}
	for i := range 3 {
		_, err := book.Append(ctx, s, statement(i))
		require.NoError(t, err)
	}
	require.NoError(t, book.Missing(ctx, s))
	var last string
	require.NoError(t, b.List(ctx, "evidence/", func(i blob.Info) error { last = i.Name; return nil }))
	require.NoError(t, b.Remove(ctx, last))
	require.ErrorIs(t, book.Missing(ctx, s), evidence.ErrMissing)
	st, err := book.Append(ctx, s, statement(3))
	require.ErrorIs(t, err, evidence.ErrMissing)
	require.EqualValues(t, 4, st.Number, "it is said all the same")
	_, err = book.Append(ctx, s, statement(4))
	require.NoError(t, err)
	lines, _, err := evidence.Lines(ctx, s)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, evidence.Write(&out, k, lines, s.ID, time.Now()))
	require.Contains(t, check(t, out.String(), nil).Faults[0].What, "1 missing in between")
}

// TestWritersAtTheSameTime: processes of one installation write one chain.
func TestWritersAtTheSameTime(t *testing.T) {
	t.Parallel()
	s, _ := newStore(t)
	dir := t.TempDir()
	var group sync.WaitGroup
	errs := make(chan error, 80)
	for range 8 {
		group.Go(func() {
			k, err := evidence.HostKey(dir)
			errs <- err
			book := &evidence.Book{Key: k, Folder: dir}
			for i := range 9 {
				_, err := book.Append(ctx, s, statement(i))
				errs <- err
			}
		})
	}
	group.Wait()
	close(errs)
	for err := range errs {
		require.NoError(t, err)
	}
	lines, _, err := evidence.Lines(ctx, s)
	require.NoError(t, err)
	k, err := evidence.HostKey(dir)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, evidence.Write(&out, k, lines, s.ID, time.Now()))
	got := check(t, out.String(), []ed25519.PublicKey{k.Public().(ed25519.PublicKey)})
	require.True(t, got.Sound(), "%v", got.Faults)
	require.Len(t, got.Chains, 1)
	require.EqualValues(t, 72, got.Chains[0].Statements)
}

// TestVectors holds the form to docs/reference/evidence.md: the file there is of the key there.
func TestVectors(t *testing.T) {
	t.Parallel()
	public, err := os.ReadFile(filepath.Join("testdata", "public.pem"))
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join("testdata", "two.jws"))
	require.NoError(t, err)
	got := check(t, string(text), evidencePublic(t, string(public)))
	require.True(t, got.Sound(), "%v", got.Faults)
	require.Empty(t, got.Unknown())
	require.Len(t, got.Statements, 2)
	require.EqualValues(t, 1, got.Statements[1].Namespaces[0].Records)
	private, err := os.ReadFile(filepath.Join("testdata", "private.pem"))
	require.NoError(t, err)
	key, err := evidence.ParseKey(private)
	require.NoError(t, err)
	// Ed25519 signatures are the same whoever makes them.
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	for i, s := range got.Statements {
		line, err := evidence.Sign(key, s)
		require.NoError(t, err)
		require.Equal(t, lines[i], line)
	}
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "reference", "evidence.md"))
	require.NoError(t, err)
	for _, part := range append(lines, strings.TrimSpace(string(public)), strings.TrimSpace(string(private))) {
		require.Contains(t, strings.ReplaceAll(string(page), "\n    ", "\n"), part)
	}
}

func FuzzParse(f *testing.F) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(f, err)
	s := statement(1)
	s.Format = evidence.Format
	line, err := evidence.Sign(key, &s)
	require.NoError(f, err)
	f.Add(line)
	f.Add("..")
	f.Fuzz(func(t *testing.T, line string) {
		got, public, err := evidence.Parse(line)
		if err != nil {
			return
		}
		require.Equal(t, evidence.Thumbprint(public), got.Key)
	})
}

// TestMirrorsHaveTheEvidence: a second copy of a store has its statements, and one that is behind is no alarm.
func TestMirrorsHaveTheEvidence(t *testing.T) {
	t.Parallel()
	s, _ := newStore(t)
	dir := t.TempDir()
	k, err := evidence.HostKey(dir)
	require.NoError(t, err)
	book := &evidence.Book{Key: k, Folder: dir}
	_, err = book.Append(ctx, s, statement(1))
	require.NoError(t, err)
	place, err := blob.Open("file://" + t.TempDir() + "/loft")
	require.NoError(t, err)
	_, err = s.Mirror(ctx, place, store.MirrorOptions{})
	require.NoError(t, err)
	_, err = book.Append(ctx, s, statement(2))
	require.NoError(t, err)
	copied, err := store.Open(ctx, place, store.Options{})
	require.NoError(t, err)
	lines, bad, err := evidence.Lines(ctx, copied)
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, lines, 1)
	require.NoError(t, book.Missing(ctx, copied))
}
