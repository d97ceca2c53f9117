// Package blobtest is the conformance suite of package blob: every backend
// runs it.
package blobtest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
)

// Open returns an empty backend each time.
type Open func(t *testing.T) blob.Backend

// checks are all that a backend is checked for.
var checks = []struct {
	name string
	run  func(t *testing.T, open Open)
}{
	{"what is created is read, whole and in part", checkReading},
	{"an object is never replaced", checkNoReplacing},
	{"of many who create one name, one succeeds", checkOneOfManySucceeds},
	{"listing is by prefix and in order", checkListing},
	{"what is not there is said", checkMissing},
	{"bad names are refused", checkNames},
	{"a cancelled context creates nothing", checkCancelled},
}

// Run checks a backend.
func Run(t *testing.T, open Open) {
	for _, c := range checks {
		t.Run(c.name, func(t *testing.T) { c.run(t, open) })
	}
}

var ctx = context.Background()

func checkReading(t *testing.T, open Open) {
	b := open(t)
	data := bytes.Repeat([]byte("linden "), 10_000)
	require.NoError(t, b.Create(ctx, "content/ab/one", data))
	got, err := b.Read(ctx, "content/ab/one")
	require.NoError(t, err)
	require.Equal(t, data, got)
	for _, c := range []struct{ off, n int }{{0, 0}, {0, 7}, {69_993, 7}, {14, 100}, {-7, 7}, {-70_000, 70_000}} {
		got, err := b.ReadAt(ctx, "content/ab/one", int64(c.off), c.n)
		require.NoError(t, err)
		at := c.off
		if at < 0 {
			at += len(data)
		}
		require.Equal(t, data[at:at+c.n], got)
	}
	for _, c := range []struct{ off, n int }{{69_994, 7}, {-70_001, 1}, {80_000, 1}} {
		_, err := b.ReadAt(ctx, "content/ab/one", int64(c.off), c.n)
		require.ErrorIs(t, err, blob.ErrRange)
	}
}

func checkNoReplacing(t *testing.T, open Open) {
	b := open(t)
	require.NoError(t, b.Create(ctx, "a", []byte("first")))
	require.ErrorIs(t, b.Create(ctx, "a", []byte("second")), blob.ErrExists)
	got, err := b.Read(ctx, "a")
	require.NoError(t, err)
	require.Equal(t, "first", string(got))
}

func checkOneOfManySucceeds(t *testing.T, open Open) {
	b := open(t)
	var wg sync.WaitGroup
	won := make(chan string, 16)
	for i := range 16 {
		wg.Go(func() {
			me := strings.Repeat(fmt.Sprint(i%10), 1000+i)
			switch err := b.Create(ctx, "journal/race", []byte(me)); {
			case err == nil:
				won <- me
			case !errors.Is(err, blob.ErrExists):
				t.Error(err)
			}
		})
	}
	wg.Wait()
	close(won)
	winner, ok := <-won
	require.True(t, ok)
	_, more := <-won
	require.False(t, more, "two creators succeeded")
	got, err := b.Read(ctx, "journal/race")
	require.NoError(t, err)
	require.Equal(t, winner, string(got))
}

func checkListing(t *testing.T, open Open) {
	b := open(t)
	for _, n := range []string{"points/meadow/b", "points/meadow/a", "points/meadow-2/a", "points/x", "runs/a"} {
		require.NoError(t, b.Create(ctx, n, []byte(n)))
	}
	list := func(prefix string) (names []string) {
		require.NoError(t, b.List(ctx, prefix, func(i blob.Info) error {
			require.EqualValues(t, len(i.Name), i.Size)
			names = append(names, i.Name)
			return nil
		}))
		return names
	}
	require.Equal(t, []string{"points/meadow/a", "points/meadow/b"}, list("points/meadow/"))
	require.Equal(t, []string{"points/meadow-2/a", "points/meadow/a", "points/meadow/b"}, list("points/meadow"))
	require.Len(t, list(""), 5)
	require.Empty(t, list("nothing/"))
}

func checkMissing(t *testing.T, open Open) {
	b := open(t)
	_, err := b.Read(ctx, "no")
	require.ErrorIs(t, err, blob.ErrNotFound)
	_, err = b.ReadAt(ctx, "no", 0, 1)
	require.ErrorIs(t, err, blob.ErrNotFound)
	require.ErrorIs(t, b.Remove(ctx, "no"), blob.ErrNotFound)
	require.NoError(t, b.Create(ctx, "yes", nil))
	require.NoError(t, b.Remove(ctx, "yes"))
	_, err = b.Read(ctx, "yes")
	require.ErrorIs(t, err, blob.ErrNotFound)
}

func checkNames(t *testing.T, open Open) {
	b := open(t)
	for _, n := range []string{"", "/a", "a/", "a//b", "../a", "a/../b", ".hidden", "a b", "a\x00",
		strings.Repeat("x", 600)} {
		require.ErrorIs(t, b.Create(ctx, n, nil), blob.ErrName, n)
	}
}

func checkCancelled(t *testing.T, open Open) {
	b := open(t)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if err := b.Create(gone, "late", []byte("x")); err != nil {
		_, err := b.Read(ctx, "late")
		require.ErrorIs(t, err, blob.ErrNotFound)
	}
}
