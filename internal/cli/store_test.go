package cli_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/store"
	"dexamen/internal/servertest"
)

// largest returns the largest file below a folder.
func largest(t *testing.T, dir string) (name string) {
	var size int64
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if st, serr := os.Stat(p); err == nil && serr == nil && !e.IsDir() && st.Size() > size {
			name, size = p, st.Size()
		}
		return err
	}))
	return name
}

func flip(t *testing.T, name string) {
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	st, err := os.Stat(name)
	require.NoError(t, err)
	b[len(b)/3] ^= 4
	require.NoError(t, os.WriteFile(name, b, 0o600))
	require.NoError(t, os.Chtimes(name, st.ModTime(), st.ModTime())) // as rot does
}

// TestStores makes stores of every kind, lets others open them, damages one,
// heals it from its mirror, loses it, and goes on from the mirror on what is a
// new machine.
func TestStores(t *testing.T) {
	s := newSite(t, 3000)
	srv := servertest.S3(t)
	configure := func(name, more string) {
		require.NoError(t, os.WriteFile(s.path(name), fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: "%[1]s/keys/larder.key" }, immutable_for: 1h }
  open: { location: "file://%[1]s/open" }
  loft:
    location: "s3://%[2]s/loft"
    endpoint: %[3]q
    path_style: true
    region: us-east-1
    login: { user: %[4]s, secret: { env: ATTIC_SECRET } }
    key: { file: "%[1]s/keys/larder.key" }
%[5]s`, s.dir, srv.Bucket, srv.Endpoint, srv.Access, more), 0o600))
	}
	t.Setenv("ATTIC_SECRET", srv.Secret)
	configure("dexamen.yaml", fmt.Sprintf("clusters:\n  meadow: { address: \"mongodb://127.0.0.1:%d/\", login: { "+
		"user: dexamen, secret: { env: MEADOW_SECRET } }, store: larder }\n", s.port))

	_, errs := s.run(2, "store", "create", "open")
	require.Contains(t, errs, "encrypted unless --plain")
	out, _ := s.run(0, "store", "create", "open", "--plain")
	require.Contains(t, out, "whoever can read that place")
	s.run(2, "store", "create", "larder", "--plain")
	_, errs = s.run(1, "points", "--store", "larder")
	require.Contains(t, errs, "make one with: dexamen store create larder")
	out, _ = s.run(0, "store", "create", "larder")
	require.Contains(t, out, "keep a copy of it elsewhere")
	st, err := os.Stat(s.path("keys/larder.key"))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, st.Mode().Perm())
	s.run(0, "store", "check", "larder")
	s.run(0, "snapshot", "meadow")
	s.run(0, "capture", "meadow")

	// Keys.
	var key struct{ Public string }
	s.json(&key, "store", "keys", "new", s.path("keys/night.key"))
	_, errs = s.run(5, "store", "keys", "new", s.path("keys/night.key"))
	require.Contains(t, errs, "never replaced")
	s.run(0, "store", "keys", "add", "larder", "--recipient", key.Public, "--write-only", "--label", "the night run")
	s.run(2, "store", "keys", "add", "larder", "--recipient", "age1nobody")
	out, _ = s.run(0, "store", "keys", "list", "larder")
	require.Contains(t, out, "the night run")
	require.Contains(t, out, "write only")
	mine, err := os.ReadFile(s.path("keys/larder.key"))
	require.NoError(t, err)
	night, err := os.ReadFile(s.path("keys/night.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.path("keys/larder.key"), night, 0o600))
	s.run(0, "snapshot", "meadow")
	_, errs = s.run(1, "verify", "meadow@latest")
	require.Contains(t, errs, "can write to the store, and not read its content")
	require.NoError(t, os.Remove(s.path("keys/larder.key")))
	_, errs = s.run(2, "points", "--store", "larder")
	require.Contains(t, errs, "without its key nothing can be read")
	s.run(0, "store", "keys", "new", s.path("keys/larder.key"))
	_, errs = s.run(1, "points", "--store", "larder")
	require.Contains(t, errs, "is of none of the store's holders")
	require.NoError(t, os.WriteFile(s.path("keys/larder.key"), mine, 0o600))

	// A mirror on an object store; damage; healing.
	s.run(0, "store", "mirror", "larder", "loft")
	out, _ = s.run(0, "store", "mirror", "larder", "loft")
	require.Contains(t, out, "there already")
	_, errs = s.run(5, "store", "mirror", "larder", "open")
	require.Contains(t, errs, "another store")
	out, _ = s.run(0, "store", "scrub", "larder")
	require.Contains(t, out, "sound")
	require.NoError(t, os.Chmod(largest(t, s.path("larder/content")), 0o600))
	flip(t, largest(t, s.path("larder/content")))
	out, errs = s.run(4, "store", "scrub", "larder")
	require.Contains(t, out, "apiary.")
	require.Contains(t, errs, "take a new snapshot")
	out, _ = s.run(0, "store", "scrub", "larder", "--repair", "--from", "loft")
	require.Contains(t, out, "s3://")
	s.run(0, "verify", "meadow@latest")
	out, _ = s.run(3, "store", "scrub", "larder")
	require.Contains(t, out, "nothing that is protected", "the damaged one is locked, and stays until then")
	out, _ = s.run(0, "store", "reclaim", "larder", "--preview")
	require.Contains(t, out, "no point needs")
	s.run(0, "store", "reclaim", "larder")
	var in struct {
		Encrypted bool
		Clusters  []struct{ Logical, Unique, Stored, Log, Grown int64 }
	}
	s.json(&in, "store", "inspect", "larder")
	require.True(t, in.Encrypted)
	require.Greater(t, in.Clusters[0].Logical, in.Clusters[0].Unique)
	require.Greater(t, in.Clusters[0].Unique, in.Clusters[0].Stored)
	require.Positive(t, in.Clusters[0].Grown)

	// What was found is kept with the runs, as fields.
	var runs []struct {
		ID       string
		Verdicts []store.RunVerdict
	}
	s.json(&runs, "runs", "--kind", "scrub", "--store", "larder")
	found := func(of, verdict string) func(v store.RunVerdict) bool {
		return func(v store.RunVerdict) bool { return strings.HasPrefix(v.Of, of) && v.Found == verdict }
	}
	require.Len(t, runs, 4, "oldest first")
	require.True(t, slices.ContainsFunc(runs[0].Verdicts, found("points of meadow", store.FoundSound)))
	require.True(t, found("point meadow/", store.FoundDamaged)(runs[1].Verdicts[0]), "what is bad comes first")
	require.True(t, slices.ContainsFunc(runs[2].Verdicts, func(v store.RunVerdict) bool {
		return strings.HasPrefix(v.Of, "object content/") && strings.Contains(v.Detail, "healed from s3://")
	}))
	require.True(t, found("object content/", store.FoundDamaged)(runs[3].Verdicts[0]))
	runs = nil
	s.json(&runs, "runs", "--kind", "verify", "--store", "larder")
	require.True(t, found("content", store.FoundNotProven)(runs[0].Verdicts[0]), "by a key that only writes")
	require.True(t, slices.ContainsFunc(runs[1].Verdicts, found("content", store.FoundSound)))
	out, _ = s.run(0, "runs", "show", runs[1].ID)
	require.Contains(t, out, "found        content: sound")

	// A run is found whatever store has it, also where another cannot be read.
	s.json(&runs, "runs", "meadow", "--kind", "snapshot", "--store", "larder")
	out, _ = s.run(0, "runs", "show", runs[0].ID)
	require.Contains(t, out, runs[0].ID)

	// The larder burns; what is left is the mirror, the key, and a new machine.
	var before, after json.RawMessage
	s.json(&before, "points", "meadow", "--store", "larder")
	require.NoError(t, os.RemoveAll(s.path("larder")))
	out, _ = s.run(0, "runs", "show", runs[0].ID)
	require.Contains(t, out, runs[0].ID)
	configure("dexamen.yaml", "")
	s.json(&after, "points", "meadow", "--store", "loft")
	require.JSONEq(t, string(before), string(after))
	s.run(0, "coverage", "--store", "loft")
	s.run(0, "browse", "meadow@latest", "--store", "loft")
	s.run(0, "verify", "meadow@latest", "--store", "loft")
	s.run(0, "store", "scrub", "loft", "--one-in", "2")
	s.run(0, "store", "scrub", "loft", "--one-in", "2")
}
