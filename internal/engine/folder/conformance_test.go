package folder_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/engine/folder"
)

func TestConformance(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		home := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(home, "photos"), 0o750))
		return fixture(engine.Target{Name: "comb", Address: "file://" + home + "/"}, home)
	})
}

func fixture(t engine.Target, home string) *enginetest.Fixture {
	file := func(ns string, n int) string { return filepath.Join(home, ns, fmt.Sprintf("%06d", n)) }
	return &enginetest.Fixture{
		Target: t, Driver: folder.Driver{}, Namespace: "photos", Other: "photos-restored",
		Put: func(t testing.TB, ns string, n int, text string) {
			require.NoError(t, os.MkdirAll(filepath.Join(home, ns), 0o750))
			require.NoError(t, os.WriteFile(file(ns, n), []byte(text), 0o600))
		},
		Remove: func(t testing.TB, ns string, n int) { require.NoError(t, os.Remove(file(ns, n))) },
		Drop:   func(t testing.TB, ns string) { require.NoError(t, os.RemoveAll(filepath.Join(home, ns))) },
	}
}
