package store_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/servertest"
	"dexamen/internal/sim/s3sim"
)

func TestKeys(t *testing.T) {
	h, second, stranger := newHolder(t), newHolder(t), newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "")
	s := h.open(t, b)
	require.NoError(t, version(s, "meadow", 1))

	_, err := store.Open(ctx, b, store.Options{})
	require.ErrorIs(t, err, store.ErrNoKey)
	_, err = store.Open(ctx, b, stranger.opt)
	require.ErrorIs(t, err, store.ErrWrongKey)

	// A second key and a passphrase open it too; nothing is rewritten.
	before := len(namesBelow(t, b, "content/"))
	who, err := store.HolderOf(second.secret, "second", store.Read)
	require.NoError(t, err)
	holder, err := s.AddHolder(ctx, who)
	require.NoError(t, err)
	phrase, err := store.HolderOf("the heather blooms late", "", store.Read)
	require.NoError(t, err)
	_, err = s.AddHolder(ctx, phrase)
	require.NoError(t, err)
	require.Len(t, namesBelow(t, b, "content/"), before)
	ids, err := store.ParseSecret("the heather blooms late\n")
	require.NoError(t, err)
	for _, o := range []store.Options{second.opt, {Unlock: ids}} {
		s, err := store.Open(ctx, b, o)
		require.NoError(t, err)
		points, _, err := s.Points(ctx, "meadow")
		require.NoError(t, err)
		require.NoError(t, check(s, points[0]))
	}
	_, err = store.ParseSecret("short")
	require.ErrorContains(t, err, "too short")
	for _, weak := range []string{"password1", "heather2026", "aaaaaaaaaaaaaaaaaaaaaaaa", "12345678901234567890"} {
		_, err = store.HolderOf(weak, "", store.Read)
		require.ErrorContains(t, err, "too easy to guess", weak)
		_, err = store.ParseSecret(weak)
		require.NoError(t, err, "what a holder has opens")
	}

	_, err = s.DropHolder(ctx, holder.ID)
	require.NoError(t, err)
	_, err = store.Open(ctx, b, second.opt)
	require.ErrorIs(t, err, store.ErrWrongKey)
	holders, bad, err := s.KeyHolders(ctx)
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, holders, 2)
	for _, sl := range holders {
		_, err = s.DropHolder(ctx, sl.ID)
	}
	require.ErrorContains(t, err, "the last that lets the store be read")

	// A holder that is tampered with is told from a wrong key.
	b = blob.NewMemory()
	h.create(t, b, "")
	other := blob.NewMemory()
	h.create(t, other, "")
	name := namesBelow(t, b, "holders/")[0]
	from := namesBelow(t, other, "holders/")[0]
	foreign, err := other.Read(ctx, from)
	require.NoError(t, err)
	require.NoError(t, b.Remove(ctx, name))
	require.NoError(t, b.Remove(ctx, "parity/"+name))
	require.NoError(t, b.Create(ctx, name, foreign))
	_, err = store.Open(ctx, b, h.opt)
	require.ErrorIs(t, err, store.ErrBadHolder)
	require.ErrorContains(t, err, "it is a copy of")
	require.NoError(t, b.Remove(ctx, name))
	require.NoError(t, b.Create(ctx, from, foreign))
	_, err = store.Open(ctx, b, h.opt)
	require.ErrorIs(t, err, store.ErrBadHolder)
	require.ErrorContains(t, err, "of another store")
}

// TestTheOutsideTellsNothing looks at an encrypted store's names and bytes for
// anything of what is in it.
func TestTheOutsideTellsNothing(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "4+2")
	s := h.open(t, b)
	require.NoError(t, version(s, "meadow", 1))
	require.NoError(t, stretch(s, "meadow", 1))
	for _, n := range namesBelow(t, b, "") {
		data, err := b.Read(ctx, n)
		require.NoError(t, err)
		for _, secret := range []string{"meadow", "yard", "apiary", "colon", h.secret} {
			require.NotContains(t, n, secret)
			require.False(t, strings.Contains(string(data), secret), "%s holds %q", n, secret)
		}
	}
	// What was not sealed with the store's keys is not taken for its own.
	plain := blob.NewMemory()
	_, err := store.Create(ctx, plain, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	ps := open(t, plain)
	require.NoError(t, version(ps, "meadow", 2))
	forged, err := plain.Read(ctx, namesBelow(t, plain, "points/")[0])
	require.NoError(t, err)
	mine := namesBelow(t, b, "points/")[0]
	require.NoError(t, b.Create(ctx, mine+"x", forged))
	points, bad, err := s.Points(ctx, "")
	require.NoError(t, err)
	require.Len(t, points, 1)
	require.Len(t, bad, 1)
}

// TestLockedObjects keeps what points need from being removed, also content files that
// an older point brought, and lets reclaim wait.
func TestLockedObjects(t *testing.T) {
	srv, err := s3sim.Start(s3sim.Options{Access: "lindenholt", Secret: "made up", Locks: true})
	require.NoError(t, err)
	t.Cleanup(srv.Close)
	srv.MakeBucket("loft")
	s3, err := blob.NewS3(blob.S3Options{
		Location: "s3://loft/x", Endpoint: srv.Endpoint(), Region: "us-east-1", PathStyle: true, Access: "lindenholt",
		Secret: "made up"})
	require.NoError(t, err)
	real := servertest.S3(t)
	real.Bucket = real.Locked
	vault, err := blob.NewS3(onS3(real, "x"))
	require.NoError(t, err)
	for _, b := range []blob.Backend{blob.NewMemory(), blob.NewDir(t.TempDir()), s3, vault} {
		h := newHolder(t)
		who, err := store.HolderOf(h.secret, "", store.Read)
		require.NoError(t, err)
		_, err = store.Create(ctx, b, store.CreateOptions{
			Tool: "test", Holders: []store.Holder{who}, ImmutableFor: time.Hour})
		require.NoError(t, err)
		s := h.open(t, b)
		require.NoError(t, version(s, "meadow", 1))
		require.NoError(t, stretch(s, "meadow", 1))
		require.NoError(t, version(s, "meadow", 2))
		for _, prefix := range []string{"content/", "points/", "journal/", "holders/", "datakeys/", "dexamen-store"} {
			for _, n := range namesBelow(t, b, prefix) {
				require.ErrorIs(t, b.Remove(ctx, n), blob.ErrLocked, "%s %s", b, n)
			}
		}
		gone, err := s.Retire(ctx, "meadow", []string{"v001"}, "")
		require.NoError(t, err)
		require.Equal(t, []string{"v001"}, gone.Locked, "it waits")
		points, _, err := s.Points(ctx, "meadow")
		require.NoError(t, err)
		require.Len(t, points, 2)
	}
	for _, o := range []blob.S3Options{{
		Location: "s3://loft/thief", Endpoint: srv.Endpoint(), Region: "us-east-1", PathStyle: true,
		Access: "lindenholt", Secret: "made up"}, onS3(real, "thief")} {
		b, err := blob.NewS3(o)
		require.NoError(t, err)
		thief(t, b, o)
	}
	_, err = store.Create(ctx, struct{ blob.Backend }{blob.NewMemory()},
		store.CreateOptions{Tool: "test", Plain: true, ImmutableFor: time.Hour})
	require.ErrorContains(t, err, "cannot be locked")
}

// elsewhen is a place whose clock is an hour behind.
type elsewhen struct{ *blob.Memory }

func (e elsewhen) List(ctx context.Context, prefix string, fn func(blob.Info) error) error {
	return e.Memory.List(ctx, prefix, func(i blob.Info) error {
		i.Made = i.Made.Add(-time.Hour)
		return fn(i)
	})
}

// TestAClockThatIsAnHourOff is found before anything is written that rests on
// it.
func TestAClockThatIsAnHourOff(t *testing.T) {
	h := newHolder(t)
	b := elsewhen{blob.NewMemory()}
	h.create(t, b, "")
	err := version(h.open(t, b), "meadow", 1)
	require.ErrorContains(t, err, "clock is 1h0m0s ahead of the store's")
	require.Empty(t, namesBelow(t, b, "content/"))
	require.Empty(t, namesBelow(t, b, "points/"))
}

func TestCreateWantsToKnow(t *testing.T) {
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true, Parity: "eight"})
	require.ErrorContains(t, err, "such as 8+2")
	_, err = store.Create(ctx, b, store.CreateOptions{Tool: "test"})
	require.ErrorContains(t, err, "say which")
}
